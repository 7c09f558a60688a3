package desk

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// LogKinds are the kinds of entries that can be asked for.
var LogKinds = []string{"export", "stood", "plan", "decision", "run", "step", "outcome", "run-end", "letter"}

// A Logging is which entries of the ledger are wanted: all that fit each part of it.
type Logging struct {
	Subject              string // a run or a plan, or the beginning of a plan's id
	Kind                 string // "" for an overview
	Person               string // by id or user name
	Thing                string // or account, as APPLICATION/KIND/NAME
	App                  string
	By                   string // a part of a name
	SinceText, UntilText string

	since, until day.Day
	zone         day.Zone
}

// Narrow reports whether only what concerns someone or something is wanted.
func (w *Logging) Narrow() bool { return w.Person != "" || w.Thing != "" || w.App != "" }

// A Logged is an entry and, of an outcome that was asked for narrowly, who decided it.
type Logged struct {
	*ledger.Entry
	Decider, Because string
	Who              string // who made a decision; "" for whoever put the entry on record
}

// Log reads entries of the ledger. A name that neither the files nor the ledger know is an error.
func (d *Desk) Log(w Logging) ([]Logged, error) {
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	if err := w.read(d); err != nil {
		return nil, err
	}
	entries, err := w.entries(l)
	if err != nil {
		return nil, err
	}
	if len(entries) == 0 {
		if w.Subject != "" {
			return nil, sayNotOnRecord(w.Subject)
		}
		if err := w.missing(d, l); err != nil {
			return nil, err
		}
	}
	out := make([]Logged, len(entries))
	for i, e := range entries {
		out[i].Entry = e
		if e.Kind == ledger.Decided {
			out[i].Who = d.maker(e)
		}
		if !w.Narrow() || e.Kind != ledger.Outcome {
			continue
		}
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err != nil {
			return nil, err
		}
		if out[i].Decider, out[i].Because, err = past.Decider(l, o.Plan, o.Change); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// maker is who made a decision that somebody else has put on record, by name where the files know them; "" of any other entry.
func (d *Desk) maker(e *ledger.Entry) string {
	x, err := ledger.Decode[ledger.Decision](e)
	if err != nil || x.Maker(e.By) == e.By {
		return ""
	}
	by := x.Maker(e.By)
	repo, err := d.Repo()
	if err != nil {
		return by
	}
	people := repo.Only(by).People
	if at := people.Named(by); at >= 0 {
		return people.Called(at)
	}
	return ledger.Who(by)
}

// read reads the days, and finds the id of a person who is named otherwise.
func (w *Logging) read(d *Desk) (err error) {
	if w.Kind != "" && !slices.Contains(LogKinds, w.Kind) {
		return wrong(SayNotOneOf("kind", w.Kind, LogKinds))
	}
	w.zone = d.zone
	if w.since, err = dayIn("since", w.SinceText, day.None); err != nil {
		return err
	}
	if w.until, err = dayIn("until", w.UntilText, day.None); err != nil {
		return err
	}
	if w.Thing != "" {
		if _, err := model.ParseAddress(w.Thing); err != nil {
			return wrongIn("thing", err)
		}
	}
	if w.Person == "" {
		return nil
	}
	repo, err := d.Repo()
	if err != nil {
		return err
	}
	people := repo.Only(w.Person).People
	if at := people.Named(w.Person); at >= 0 { // else it may be someone who is not in the files any more
		w.Person = people.Get(at, "id")
	}
	return nil
}

// overview is what the log shows of everything: not the single steps and outcomes of runs.
var overview = []ledger.Kind{ledger.ExportSeen, ledger.PlanDrafted, ledger.Decided, ledger.RunStarted, ledger.RunEnded}

// entries reads the entries of a kind, or those that concern a run or a plan.
func (w *Logging) entries(l ledger.Ledger) (entries []*ledger.Entry, err error) {
	add := func(e *ledger.Entry) error {
		fits, err := w.fits(e)
		if fits {
			entries = append(entries, e)
		}
		return err
	}
	if w.Subject == "" {
		kinds := overview
		switch {
		case w.Kind != "":
			kinds = []ledger.Kind{ledger.Kind(w.Kind)}
		case w.Narrow():
			kinds = []ledger.Kind{ledger.Decided, ledger.Outcome}
		}
		err := l.Scan(ledger.Query{Kinds: kinds, Person: w.Person}, add)
		return entries, err
	}
	subjects := map[string]bool{}
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted, ledger.Decided, ledger.RunStarted}},
		func(e *ledger.Entry) error {
			var about struct{ Run, Plan string }
			if err := json.Unmarshal(e.Body, &about); err != nil {
				return sayBadEntry(e.Seq, err)
			}
			if about.Run == w.Subject || about.Plan != "" && strings.HasPrefix(about.Plan, w.Subject) {
				subjects[e.Subject] = true
			}
			return nil
		},
	)
	for _, s := range slices.Sorted(maps.Keys(subjects)) {
		if err != nil {
			break
		}
		err = l.Scan(ledger.Query{Subject: s}, func(e *ledger.Entry) error {
			if w.Kind == "" || string(e.Kind) == w.Kind {
				return add(e)
			}
			return nil
		})
	}
	slices.SortFunc(entries, func(a, b *ledger.Entry) int { return cmp.Compare(a.Seq, b.Seq) })
	return entries, err
}

// missing is what is wrong with a question that has no answer: a name that neither the files nor
// the ledger know. Whoever and whatever is gone from the files may be on record.
func (w *Logging) missing(d *Desk, l ledger.Ledger) error {
	if !w.Narrow() {
		return nil
	}
	repo, err := d.Repo()
	if err != nil || repo.Problems.Errors() > 0 {
		return err // the files cannot tell
	}
	known := func(q ledger.Query) (found bool, err error) {
		err = l.Scan(q, func(*ledger.Entry) error {
			found = true
			return ledger.ErrStop
		})
		return found, err
	}
	if w.Person != "" {
		if repo.Only(w.Person).People.Named(w.Person) >= 0 {
			return nil
		}
		if found, err := known(ledger.Query{Person: w.Person}); err != nil || found {
			return err
		}
		repo.ReadPeople()
		return wrong(sayNothingOnRecord("the person", w.Person, repo.NearestPerson(w.Person)))
	}
	app := w.App
	if w.Thing != "" {
		address, err := model.ParseAddress(w.Thing)
		if err != nil {
			return wrongIn("thing", err)
		}
		if app = address.App; repo.App(app) >= 0 && address.Kind != "account" {
			if _, err := Thing(repo, w.Thing); err != nil {
				return err
			}
		}
	}
	if repo.App(app) >= 0 {
		return nil
	}
	if found, err := known(ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app}); err != nil || found {
		return err
	}
	return wrong(sayNothingOnRecord("the application", app, table.Nearest(app, repo.AppIDs())))
}

// fits reports whether an entry is wanted; of a person the ledger's index knows.
func (w *Logging) fits(e *ledger.Entry) (bool, error) {
	if w.since != day.None || w.until != day.None {
		on, err := w.zone.DayOf(e.At)
		if err != nil {
			return false, err
		}
		if w.since != day.None && on < w.since || w.until != day.None && on > w.until {
			return false, nil
		}
	}
	if w.By != "" && !strings.Contains(table.Fold(e.By), table.Fold(w.By)) {
		return false, nil
	}
	if w.Thing == "" && w.App == "" {
		return true, nil
	}
	switch e.Kind {
	case ledger.Outcome:
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		return (w.Thing == "" || o.Thing == w.Thing || o.App+"/account/"+o.Account == w.Thing) &&
			(w.App == "" || o.App == w.App), err
	case ledger.Decided:
		d, err := ledger.Decode[ledger.Decision](e)
		return slices.ContainsFunc(d.Parts(), func(d ledger.Decision) bool {
			return (w.Thing == "" || slices.Contains(d.Things, w.Thing)) &&
				(w.App == "" || slices.ContainsFunc(d.Things, func(t string) bool {
					return strings.HasPrefix(t, w.App+"/")
				}))
		}), err
	case ledger.ExportSeen:
		return w.Thing == "" && e.Subject == w.App, nil
	case ledger.StepTaken:
		s, err := ledger.Decode[ledger.Step](e)
		return w.Thing == "" && s.App == w.App, err
	}
	return false, nil
}

// Verify proves the chain of the ledger, and that it still holds a head that was noted before,
// where one is given.
func (d *Desk) Verify(head string) (*ledger.Verdict, error) {
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	v, err := proof(l)
	if err != nil {
		return nil, err
	}
	if err := l.Cut(); err != nil {
		return nil, err
	}
	if err := d.noted(l); err != nil {
		return nil, err
	}
	if head == "" {
		return v, nil
	}
	found := false
	err = l.Scan(ledger.Query{}, func(e *ledger.Entry) error { found = found || e.Hash == head; return nil })
	if err == nil && !found {
		err = sayNoSuchHead(head)
	}
	return v, err
}

// proof proves the chain of a ledger.
func proof(l ledger.Ledger) (*ledger.Verdict, error) {
	v, err := l.Verify()
	if err == nil && v.Broken != 0 {
		err = sayLedgerBroken(v.Says)
	}
	return v, err
}

// Trust goes on with a ledger whose newest entries are missing, and records why. It returns the
// number of the entry that says so, 0 where nothing is missing.
func (d *Desk) Trust(because string) (entry int64, err error) {
	l, err := d.Writing()
	if err != nil {
		return 0, err
	}
	v, err := proof(l)
	if err != nil || l.Cut() == nil {
		return 0, err
	}
	said := ledger.Decision{Verdict: "trust", Because: because}
	if _, err := d.State(); err != nil {
		return 0, err
	}
	if err := d.signer().Sign(d.ctx, &said); err != nil {
		return 0, err
	}
	return v.Entries + 1, l.Trust(said)
}

// sayNotOnRecord is a run or a plan that the ledger does not know.
func sayNotOnRecord(name string) error {
	return fmt.Errorf("the ledger has no run or plan %q; see: pravet log", name)
}

// sayNothingOnRecord is a name of what neither the files nor the ledger know; near is the
// nearest in the files, or "".
func sayNothingOnRecord(what, name, near string) error {
	return fmt.Errorf(
		"neither the files nor the ledger knows %s %q%s",
		what,
		name,
		meant("; ", near, "see: pravet log"),
	)
}

// sayLedgerBroken is a ledger that does not hold all that was written.
func sayLedgerBroken(says string) error {
	return fmt.Errorf("the ledger is not whole: %s; put the whole ledger back", says)
}

// sayBadEntry is an entry of the ledger that is not what it should be.
func sayBadEntry(entry int64, err error) error {
	return fmt.Errorf("entry %d of the ledger cannot be read: %w; check it with: pravet log verify", entry, err)
}

// sayNoSuchHead is a noted head that the ledger does not have.
func sayNoSuchHead(head string) error {
	return fmt.Errorf(
		"the ledger is whole, and has no entry with the hash %s: it is not the one that was noted", head,
	)
}
