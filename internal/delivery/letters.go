// Letters tell people what was carried out and what falls due: it finds what is
// new to each reader, sends that, and keeps in the ledger what each was told.
//
// Nobody is told the same thing twice, whatever is killed: that a letter is about to be
// sent is on record before it is, and one of which nobody knows what became is not sent
// again, but named by Unsure. A letter that was refused goes with the next.

package delivery

import (
	"context"
	"errors"
	"net/mail"
	"slices"
	"strings"
	"time"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/letter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// lookBack is how many days a run is told of that was not told of before: a reader who is
// new is not told of the whole past.
const lookBack = 7

// Items are what can be told on a day: the runs of the last days, and of what falls due
// the removals and all that expires.
func Items(l ledger.Ledger, falling []access.Falling, today day.Day) ([]letter.Item, error) {
	out, err := runs(l, today)
	if err != nil {
		return nil, err
	}
	for i := range falling {
		f := &falling[i]
		if tells(&f.Facts) {
			out = append(out, letter.Item{Key: key(f), On: f.On, App: f.App, Person: f.Person, Says: f.Says})
		}
	}
	return out, nil
}

// tells reports whether something that falls due is told of.
func tells(f *fact.Fact) bool {
	switch f.Kind {
	case fact.FallsStep:
		return f.Value == model.DoRemove.String() || f.Value == model.DoSuspend.String()
	case fact.FallsEnd, fact.FallsAway: // whose accounts are suspended then
		return true
	case fact.FallsInvited, fact.FallsLinger, fact.FallsKit, fact.FallsExcept, fact.FallsRejection, fact.FallsLift,
		fact.FallsException, fact.FallsKept:
		return true
	}
	return false
}

// key tells what falls due from all else, whatever day it is seen on.
func key(f *access.Falling) string {
	x := &f.Facts
	on := x.Until
	if on == "" {
		on = f.On
	}
	return "due/" + plan.Name(string(x.Kind), x.App, x.Account, x.Kit, x.Thing, x.Other, x.Value, f.Person, on)
}

// runs are those that ended in the last days, with what became of each change.
func runs(l ledger.Ledger, today day.Day) (out []letter.Item, err error) {
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunEnded}, Newest: true}, func(e *ledger.Entry) error {
		at, err := time.Parse(time.RFC3339, e.At)
		if err != nil {
			return err
		}
		if l.Zone().Day(at) < today-lookBack {
			return ledger.ErrStop
		}
		end, err := ledger.Decode[ledger.RunEnd](e)
		if err != nil {
			return err
		}
		on := l.Zone().Minute(at)
		items := []letter.Item{{
			Key: "run/" + end.Run, On: on, Run: end.Run, Whole: true,
			Says: letter.Ended(end.Settled, end.NotSettled, end.Held, end.Error),
		}}
		q := ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}, Subject: end.Run}
		err = l.Scan(q, func(e *ledger.Entry) error {
			o, err := ledger.Decode[ledger.ChangeOutcome](e)
			says := o.What
			if !o.Settled {
				says = "not settled: " + says + "; " + o.Says
			}
			items = append(items, letter.Item{
				Key: "run/" + end.Run, On: on, Run: end.Run, App: o.App, Person: o.Person, Says: says,
			})
			return err
		})
		out = append(out, items...)
		return err
	})
	return out, err
}

// Readers are who gets letters today, sorted by their addresses, and who should and
// cannot, in words. deciders are the ids of those whom something waits for.
func Readers(repo *desired.Repo, stages []entitle.Stage, deciders []string) (out []letter.Reader, without []string) {
	by := map[string]*letter.Reader{}
	reader := func(name, address, because string) *letter.Reader {
		x := by[address]
		if x == nil {
			x = &letter.Reader{Name: name, Address: address, Apps: map[string]bool{}, People: map[string]bool{}}
			by[address] = x
		}
		if !slices.Contains(x.Because, because) {
			x.Because = append(x.Because, because)
		}
		return x
	}
	ids, _ := repo.People.Index("id")
	person := func(id, because string) *letter.Reader {
		p := -1
		if ids != nil {
			p = ids.Find(id)
		}
		switch {
		case p < 0:
			without = append(without, id+" gets no letter: the people files do not name them")
		case stages[p] == entitle.NotYet:
			without = append(without, id+" gets no letter: they have not started yet")
		case stages[p] == entitle.Gone:
			without = append(without, id+" gets no letter: they have left")
		case repo.People.Get(p, "email") == "":
			without = append(without, id+" gets no letter: they have no email")
		default:
			return reader(repo.People.Called(p), repo.People.Get(p, "email"), because)
		}
		return nil
	}
	for _, r := range repo.Letters.Readers {
		switch r.Who {
		case "administrators":
			for _, to := range r.To {
				x := (*letter.Reader)(nil)
				if a, err := mail.ParseAddress(to.Text); err == nil {
					name := a.Name
					if name == "" {
						name, _, _ = strings.Cut(a.Address, "@")
					}
					x = reader(name, a.Address, "pravet.yaml names you as an administrator")
				} else {
					x = person(to.Text, "pravet.yaml names you as an administrator")
				}
				if x != nil {
					x.All = true
				}
			}
		case "owners":
			for _, app := range repo.Apps {
				if app.Owner == "" {
					continue
				}
				if x := person(app.Owner, "you answer for "+app.ID); x != nil {
					x.Apps[app.ID] = true
				}
			}
		case "deciders":
			for _, id := range deciders {
				if x := person(id, "you decide about changes"); x != nil {
					x.Decides = id
				}
			}
		case "managers":
			managers(repo, stages, person)
		}
	}
	for _, x := range by {
		out = append(out, *x)
	}
	slices.SortFunc(out, func(x, y letter.Reader) int { return strings.Compare(x.Address, y.Address) })
	slices.Sort(without)
	return out, slices.Compact(without)
}

// managers makes those readers who manage somebody. O(people).
func managers(repo *desired.Repo, stages []entitle.Stage, person func(id, because string) *letter.Reader) {
	column := repo.People.Column("manager")
	if column == nil {
		return
	}
	known := map[string]*letter.Reader{}
	for p := range stages {
		id := column.At(p)
		if id == "" {
			continue
		}
		x, ok := known[id]
		if !ok {
			id = strings.Clone(id)
			x = person(id, "you manage people")
			known[id] = x
		}
		if x != nil {
			x.People[repo.People.Get(p, "id")] = true
		}
	}
}

// A Parcel is a letter and the way that it goes.
type Parcel struct {
	Way    Way
	Letter letter.Letter
}

// Unsure is a letter of which nobody knows whether it arrived.
type Unsure struct{ ID, To, Way, At, Says string }

// Told is what readers were told before.
type Told struct {
	keys   map[string]map[[2]string]bool // way → address, key
	Unsure []Unsure
	cut    []cut
}

// A cut is a letter to a folder of which is on record that it was to be sent, and not what became of it. What became
// of it can be seen.
type cut struct {
	letter ledger.Letter
	there  bool // its file is in its place, or was
}

// Before is what the ledger has of letters. Of one to a folder whose end is not on record, the folder tells.
func Before(l ledger.Ledger, ways []Way) (*Told, error) {
	last := map[[2]string]*ledger.Letter{}
	at := map[[2]string]string{}
	var order [][2]string
	err := l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.LetterSent}}, func(e *ledger.Entry) error {
		x, err := ledger.Decode[ledger.Letter](e)
		if err != nil {
			return err
		}
		k := [2]string{x.Way, x.ID}
		if last[k] == nil {
			order = append(order, k)
		} else if x.Keys == nil {
			x.Keys = last[k].Keys
		}
		if x.State == ledger.LetterBegun {
			at[k] = e.At
		}
		last[k] = &x
		return nil
	})
	t := &Told{keys: map[string]map[[2]string]bool{}}
	if err != nil {
		return t, err
	}
	folders := map[string]*Folder{}
	for _, w := range ways {
		if f, ok := w.(*Folder); ok {
			folders[f.Name()] = f
		}
	}
	for _, k := range order {
		x := last[k]
		if f := folders[x.Way]; f != nil && x.State == ledger.LetterBegun {
			there, err := f.there(x, at[k])
			if err != nil {
				return t, err
			}
			t.cut = append(t.cut, cut{*x, there})
			if x.State = ledger.LetterRefused; there {
				x.State = ledger.LetterArrived
			}
		}
		if x.State == ledger.LetterRefused {
			continue
		}
		if t.keys[x.Way] == nil {
			t.keys[x.Way] = map[[2]string]bool{}
		}
		for _, key := range x.Keys {
			t.keys[x.Way][[2]string{x.To, key}] = true
			if strings.HasPrefix(x.Way, webhook) {
				t.keys[x.Way][[2]string{"", key}] = true
			}
		}
		if x.State != ledger.LetterArrived {
			t.Unsure = append(t.Unsure, Unsure{x.ID, x.To, x.Way, at[k], x.Says})
		}
	}
	return t, nil
}

// Settle puts on record what became of letters that were cut off, and clears what they left behind. The caller is the
// only one that sends letters.
func (t *Told) Settle(l ledger.Ledger, ways []Way) error {
	for _, c := range t.cut {
		note := c.letter
		note.Keys, note.State, note.Says = nil, ledger.LetterArrived, "its file is there"
		if !c.there {
			note.State, note.Says = ledger.LetterRefused, "this ended before its file was there"
		}
		if err := l.Append(ledger.Record{Kind: ledger.LetterSent, Subject: note.To, Body: note}); err != nil {
			return err
		}
	}
	for _, w := range ways {
		if f, ok := w.(*Folder); ok {
			if err := f.sweep(); err != nil {
				return err
			}
		}
	}
	return nil
}

// has reports whether a reader was told something by a way, or by one that pravet.yaml has no more: a folder that
// is called otherwise now, or a server that is elsewhere, tells nobody anew what the other has told.
func (t *Told) has(ways []Way, w Way, address, key string) bool {
	if t.keys[w.Name()][[2]string{address, key}] {
		return true
	}
	_, hook := w.(*Webhook)
	for name, keys := range t.keys {
		if slices.ContainsFunc(ways, func(w Way) bool { return w.Name() == name }) {
			continue
		}
		to := address
		if hook && strings.HasPrefix(name, webhook) {
			to = "" // one address for everybody
		}
		if keys[[2]string{to, key}] {
			return true
		}
	}
	return false
}

// Pack makes the letters that are due, for each way. A web address is one reader, who may
// see everything.
func (t *Told) Pack(
	repo *desired.Repo,
	ways []Way,
	readers []letter.Reader,
	items []letter.Item,
	today day.Day,
) (out []Parcel) {
	for _, w := range ways {
		to := readers
		if hook, ok := w.(*Webhook); ok {
			to = []letter.Reader{{
				Name: repo.Organization, Address: hook.Host(), All: true, Because: []string{"pravet.yaml names this address"},
			}}
		}
		told := func(address, key string) bool { return t.has(ways, w, address, key) }
		for _, l := range letter.Write(repo.Organization, today.String(), repo.Letters.Text, to, items, told) {
			if here := repo.Here(); here != desired.Usual {
				l.Subject = "[" + here + "] " + l.Subject
			}
			out = append(out, Parcel{w, l})
		}
	}
	return out
}

// A Result is what became of a letter.
type Result struct {
	Parcel
	Err error // nil where it arrived
}

// Send sends letters, each on record before it is sent, for no longer than Longest. What is left then, or when the
// context ends, goes with the next.
func Send(
	ctx context.Context, l ledger.Ledger, parcels []Parcel, at time.Time, clean func(string) string,
) (out []Result, left int, err error) {
	within, stop := context.WithTimeout(ctx, Longest)
	defer stop()
	for i, p := range parcels {
		if within.Err() != nil {
			return out, len(parcels) - i, nil
		}
		note := ledger.Letter{
			ID:    p.Letter.ID,
			To:    p.Letter.Address,
			Way:   p.Way.Name(),
			Keys:  p.Letter.Keys,
			State: ledger.LetterBegun,
		}
		record := func() error {
			return l.Append(ledger.Record{Kind: ledger.LetterSent, Subject: p.Letter.Address, Body: note})
		}
		send, drop, err := p.Way.Ready(&p.Letter, at)
		if err != nil {
			sent := saidCleanly(&Refused{err}, clean)
			out = append(out, Result{p, sent})
			note.State, note.Says = ledger.LetterRefused, sent.Error()
			if err := record(); err != nil {
				return out, len(parcels) - i - 1, err
			}
			continue
		}
		if f, ok := p.Way.(*Folder); ok {
			note.File = f.file(note.ID, at)
		}
		if err := record(); err != nil {
			drop()
			return out, len(parcels) - i, err
		}
		sent := saidCleanly(send(within), clean)
		note.Keys = nil // they are on record
		switch {
		case sent == nil:
			note.State = ledger.LetterArrived
		case Arrived(sent):
			note.State, note.Says = ledger.LetterUnknown, sent.Error()
		default:
			note.State, note.Says = ledger.LetterRefused, sent.Error()
		}
		out = append(out, Result{p, sent})
		if err := record(); err != nil {
			return out, len(parcels) - i - 1, errors.Join(sent, err)
		}
	}
	return out, 0, nil
}

// saidCleanly is what a way said, as it may be shown and recorded: without secrets, and not too long.
func saidCleanly(err error, clean func(string) string) error {
	if err == nil {
		return nil
	}
	said := errors.New(words.Clean(clean(err.Error())))
	if Arrived(err) {
		return said
	}
	return &Refused{said}
}
