package desk

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/filter"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// Plan finds a plan by its file, or by its id or the beginning of it, and reads it. Of a record that others share, it may be
// one that was drafted on another machine.
func (d *Desk) Plan(name string) (*plan.Plan, error) {
	file, err := prepare.FindPlan(d.Dir, d.Folder, name)
	if no := (*prepare.NoPlan)(nil); errors.As(err, &no) {
		if p, there := d.colleagues(name); p != nil || there != nil {
			return p, there
		}
		return nil, wrong(err)
	}
	if err != nil {
		return nil, err
	}
	return prepare.ReadPlan(file, name)
}

// colleagues finds a plan in a record that others share, by its id or the beginning of it; nil where there is none.
func (d *Desk) colleagues(name string) (*plan.Plan, error) {
	if d.early.Record == nil || strings.ContainsAny(name, "/.") {
		return nil, nil
	}
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	ids := map[string]bool{}
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}}, func(e *ledger.Entry) error {
		if strings.HasPrefix(e.Subject, name) {
			ids[e.Subject] = true
		}
		return nil
	})
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	if len(ids) > 1 {
		return nil, wrong(saySeveralPlans(len(ids), name))
	}
	for id := range ids {
		name = id
	}
	return prepare.KeptPlan(l, name)
}

// load finds a plan by its id: its file, or what a record that others share keeps of it.
func (d *Desk) load(l ledger.Ledger, id string) (*plan.Plan, error) {
	p, err := prepare.LoadPlan(d.Dir, id)
	if err != nil && l.Shared() {
		if kept, there := prepare.KeptPlan(l, id); kept != nil || there != nil {
			return kept, there
		}
	}
	return p, err
}

// Newest is the id of the plan that was drafted last and is still there.
func (d *Desk) Newest() (id string, err error) {
	l, err := d.needed()
	if err != nil {
		return "", err
	}
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Newest: true},
		func(e *ledger.Entry) error {
			_, err := prepare.FindPlan(d.Dir, d.Dir, e.Subject)
			if no := (*prepare.NoPlan)(nil); errors.As(err, &no) && !l.Shared() {
				return nil
			} else if errors.As(err, &no) {
				err = nil
			}
			if err != nil {
				return err
			}
			id = e.Subject
			return ledger.ErrStop
		},
	)
	if err == nil && id == "" {
		err = sayNoPlanYet()
	}
	return id, err
}

// A Drafting is what a plan is wanted of.
type Drafting struct {
	Apps  []string // all when none is named
	Only  string   // a filter over people; "" for all
	On    day.Day
	Fetch bool   // live applications are fetched first
	Out   string // the file that it goes to; "" for its place in the repository
	// To takes the bytes of the plan instead, where it is not nil.
	To io.Writer
}

// A Drafted is a plan and where it is.
type Drafted struct {
	Plan *plan.Plan
	File string // as it is spoken of; "" where it was written elsewhere
}

// Draft drafts a plan and puts it on record.
func (d *Desk) Draft(x Drafting) (*Drafted, error) {
	out, err := d.draft(x)
	return out, d.failed(err)
}

func (d *Desk) draft(x Drafting) (*Drafted, error) {
	only, err := peopleFilter(x.Only)
	if err != nil {
		return nil, err
	}
	l, s, err := d.opened()
	if err != nil {
		return nil, err
	}
	if err := d.closeBooks(s, l); err != nil {
		return nil, err
	}
	if x.Apps, err = d.free(s, x.Apps); err != nil {
		return nil, err
	}
	if x.Fetch {
		if err := d.fetchFirst(s, l, x.Apps); err != nil {
			return nil, err
		}
	}
	var p *plan.Plan
	err = d.still(func() (err error) {
		p, err = d.drafted(x.Apps, only, x.On, l)
		return err
	})
	if err != nil {
		return nil, err
	}
	return d.keep(l, p, x)
}

// Dry is what Draft would draft. Nothing is written.
func (d *Desk) Dry(x Drafting) (*plan.Plan, error) {
	only, err := peopleFilter(x.Only)
	if err != nil {
		return nil, err
	}
	l, err := d.needed()
	if err != nil {
		return nil, err
	}
	var p *plan.Plan
	err = d.still(func() (err error) {
		if p, err = d.drafted(x.Apps, only, x.On, l); err == nil {
			_, err = p.Seal()
		}
		return err
	})
	return p, err
}

// readings is how often files are read that change meanwhile.
const readings = 5

// still does something that follows from the files, and does it again, with the files read anew, where they changed
// while they were read.
func (d *Desk) still(do func() error) error {
	for n := 1; ; n++ {
		err := do()
		var moved *prepare.Moved
		if !errors.As(err, &moved) || n == readings {
			return err
		}
		d.reread()
		time.Sleep(time.Duration(n) * 100 * time.Millisecond)
	}
}

// reread forgets the files as they were read.
func (d *Desk) reread() {
	if d.state != nil {
		d.state.Close()
	}
	d.state = nil
	d.tree.Forget()
}

// opened opens the ledger while the files are read.
func (d *Desk) opened() (l ledger.Ledger, s *prepare.State, err error) {
	var reading sync.WaitGroup
	var wrong error
	reading.Go(func() { s, wrong = d.State() })
	l, err = d.entering()
	reading.Wait()
	return l, s, errors.Join(err, wrong)
}

// fetchFirst fetches the live ones of some applications before a plan is drafted of them.
func (d *Desk) fetchFirst(s *prepare.State, l ledger.Ledger, apps []string) error {
	if len(s.Errors()) > 0 {
		return nil
	}
	live, _, err := s.Live(apps)
	if err != nil || len(live) == 0 {
		return err
	}
	lease, err := l.Lease(named(s, live), "fetch")
	if err != nil {
		return err
	}
	fetched, err := s.Fetch(d.ctx, l, live, d.Ear.Counting)
	if err == nil {
		d.Ear.Fetched(fetched)
		err = failedOf(fetched)
	}
	return errors.Join(err, lease.Release())
}

func peopleFilter(text string) (*filter.Filter, error) {
	if text == "" {
		return nil, nil
	}
	f, err := filter.OfPeople(text)
	if err != nil {
		return nil, wrongIn("only", err)
	}
	return f, nil
}

// drafted reads what a plan follows from and drafts it.
func (d *Desk) drafted(apps []string, only *filter.Filter, on day.Day, l ledger.Ledger) (*plan.Plan, error) {
	s, err := d.read(apps)
	if err != nil {
		return nil, err
	}
	if err := s.Repo.CheckFilter(only, "--only"); err != nil {
		return nil, wrong(err)
	}
	return prepare.Draft(s, l, on, d.today, only)
}

// keep writes a plan to where it is wanted, and puts it on record.
func (d *Desk) keep(l ledger.Ledger, p *plan.Plan, x Drafting) (*Drafted, error) {
	data, err := p.Seal()
	if err != nil {
		return nil, err
	}
	out := &Drafted{Plan: p, File: x.Out}
	onRecord := x.Out
	switch {
	case x.To != nil:
		onRecord = "-"
		_, err = data.WriteTo(x.To)
	case x.Out == "":
		out.File, err = prepare.WritePlan(l, d.Dir, p, data)
		onRecord = out.File
	default:
		if err = d.spare(d.path(x.Out)); err == nil {
			err = source.WriteFile(d.path(x.Out), data, 0o600)
		}
	}
	if err != nil {
		return nil, err
	}
	if l.Shared() {
		if err := prepare.KeepPlan(l, p, data); err != nil {
			return nil, err
		}
	}
	if err := prepare.Record(l, d.state, p, onRecord, d.today); err != nil {
		return out, err
	}
	if x.Out == "" && x.To == nil {
		d.noteLast(lastDraft{Plan: p.ID})
	}
	return out, nil
}

// spare refuses a file of the repository that something else is kept in.
func (d *Desk) spare(file string) error {
	real := file
	if resolved, err := filepath.EvalSymlinks(file); err == nil {
		real = resolved
	}
	home, err := filepath.EvalSymlinks(d.Dir)
	if err != nil {
		return err
	}
	rel, err := filepath.Rel(home, real)
	if err != nil || !filepath.IsLocal(rel) {
		return nil
	}
	if info, err := os.Stat(real); errors.Is(err, os.ErrNotExist) || err == nil && !info.Mode().IsRegular() {
		return nil // writing says what is wrong with a folder
	}
	data, err := source.ReadFile(real, real, prepare.MaxPlan)
	if err == nil {
		if _, err = plan.Read(data); err == nil {
			return nil // a plan may be written over
		}
	}
	return sayOutIsTaken(rel)
}

// Backout drafts the plan that undoes a run, and puts it on record.
func (d *Desk) Backout(run string, x Drafting) (*Drafted, error) {
	s, err := d.State()
	if err != nil {
		return nil, err
	}
	l, err := d.proven()
	if err != nil {
		return nil, err
	}
	if err := d.closeBooks(s, l); err != nil {
		return nil, err
	}
	id, done, err := prepare.RunOf(l, run)
	if err != nil {
		return nil, wrong(err)
	}
	p, err := d.load(l, id)
	if err != nil {
		return nil, err
	}
	apps, err := d.free(s, appsThere(s, p))
	if err != nil {
		return nil, err
	}
	if x.Fetch {
		if err := d.fetchFirst(s, l, apps); err != nil {
			return nil, err
		}
	}
	var back *plan.Plan
	err = d.still(func() (err error) {
		if s, err = d.read(apps); err == nil {
			back, err = prepare.Undo(s, l, draft.UndoneRun{ID: run, Plan: p, Done: done}, d.today)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return d.keep(l, back, x)
}

// appsThere are the applications of a plan that the files still name.
func appsThere(s *prepare.State, p *plan.Plan) (apps []string) {
	for i := range p.Exports {
		if s.Repo.App(p.Exports[i].App) >= 0 {
			apps = append(apps, p.Exports[i].App)
		}
	}
	return apps
}

// Rehearse carries a plan out on copies, with a copy of the ledger. faults is how many of the
// steps are interrupted, between 0 and 1.
func (d *Desk) Rehearse(p *plan.Plan, faults float64, seed uint64) (report *carry.Rehearsed, err error) {
	s, err := d.Sound()
	if err != nil {
		return nil, err
	}
	if s, err = d.read(appsThere(s, p)); err != nil {
		return nil, err
	}
	err = d.onCopy(d.Now, func(copied ledger.Ledger) (err error) {
		report, err = carry.Rehearse(d.ctx, carry.Rehearsing{
			State: s, Plan: p, Ledger: copied, Today: d.today, Faults: faults, Seed: seed,
		})
		return err
	})
	return report, err
}

// onCopy works with a copy of the ledger that goes by a clock of its own, and is removed afterwards.
func (d *Desk) onCopy(now func() time.Time, work func(copied ledger.Ledger) error) (err error) {
	folder, err := os.MkdirTemp("", "pravet-rehearsal-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	l, err := d.needed()
	if err != nil {
		return err
	}
	if err := ledger.Copy(l, folder); err != nil {
		return err
	}
	copied, err := ledger.Open(folder, ledger.Options{By: "rehearsal", Now: now, Zone: d.zone})
	if err != nil {
		return err
	}
	defer copied.Close()
	return work(copied)
}

// ofHere makes sure that a plan is of this environment.
func (d *Desk) ofHere(p *plan.Plan) error {
	if p.Desired.Environment != d.Environment {
		return sayOtherEnvironment(p.ID, p.Desired.Environment, d.Environment)
	}
	return nil
}

// register makes sure that a plan was drafted here, or is what would be.
func (d *Desk) register(l ledger.Ledger, p *plan.Plan) error {
	if err := d.ofHere(p); err != nil {
		return err
	}
	known, err := prepare.Registered(l, p)
	if err != nil || known {
		return err
	}
	s, err := d.State()
	if err != nil {
		return err
	}
	return prepare.Register(d.ctx, l, s, p, prepare.PlanFolder+"/"+p.ID+".json", d.today)
}

// sayOtherEnvironment is a plan of one environment in another.
func sayOtherEnvironment(plan, of, here string) error {
	called := func(name string) string {
		if name == "" {
			return "live"
		}
		return name
	}
	return fmt.Errorf(
		"plan %s is for the environment %s, and this is %s; it runs nowhere else: --env %s",
		plan,
		called(of),
		called(here),
		called(of),
	)
}

// saySeveralPlans is the beginning of several plans' ids.
func saySeveralPlans(n int, name string) error {
	return fmt.Errorf("%d plans begin with %q; write more of the id", n, name)
}

// sayOutIsTaken is an --out that would write over something else.
func sayOutIsTaken(file string) error {
	return fmt.Errorf(
		"--out: %s is a file of this repository, and no plan; nothing was written. Name another file",
		file,
	)
}

// sayNoPlanYet is said where the newest plan is wanted and there is none.
func sayNoPlanYet() error { return errors.New("there is no plan yet; draft one with: pravet draft") }
