// Package carry carries a plan out. It proves first that nothing has moved
// since the plan was drafted, writes into the ledger what it is about to do
// before it does it, and reads back every change afterwards. A run that was
// interrupted is continued by running the plan again.
package carry

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/export"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// A Job is a plan that is about to be carried out.
type Job struct {
	Plan     *plan.Plan
	Standing *decide.Standing
	States   []decide.State    // of each change
	Why      map[string]string // why a change is held now that was not in the plan, by id
	Today    day.Day

	dir    string
	repo   *desired.Repo
	ledger *ledger.Ledger
	steps  []ledger.Step                  // of earlier runs of this plan, and of this one
	known  map[string][]export.FileDigest // what each application's files hold, as far as this plan knows
}

// OutOfDate says that a plan no longer fits what it was drafted from.
type OutOfDate struct{ Moved []string }

func (e *OutOfDate) Error() string {
	return "the plan is out of date, and nothing was changed: " + strings.Join(e.Moved, "; ") + ". Draft again"
}

// maxMoved is how many changed files a message names.
const maxMoved = 5

// New prepares a job. It returns an *OutOfDate when the desired state or an
// export has moved, unless it was this very plan that moved the export.
func New(dir string, p *plan.Plan, l *ledger.Ledger, today day.Day) (*Job, error) {
	j := &Job{Plan: p, Today: today, dir: dir, ledger: l, known: map[string][]export.FileDigest{}}
	j.repo = desired.Rules(dir)
	j.repo.ReadPeople()
	if j.repo.Organization != p.Organization {
		return nil, fmt.Errorf("the plan is for %q, and this repository is for %q", p.Organization, j.repo.Organization)
	}
	if j.repo.Problems.Errors() > 0 {
		return nil, errors.New("the files have problems since the plan was drafted; see them with: pravet check")
	}
	err := l.Each("", func(e *ledger.Entry) error {
		s, err := ledger.Decode[ledger.Step](e)
		if err == nil && s.Plan == p.ID {
			j.steps = append(j.steps, s)
		}
		return err
	}, ledger.StepTaken)
	if err != nil {
		return nil, err
	}
	var moved []string
	if got := j.repo.Digest(); got != p.Desired.Digest {
		says := "the files of the desired state have changed"
		if p.Desired.Clean {
			if files := gitrepo.Changed(dir, p.Desired.Revision); len(files) > 0 {
				says += ": " + strings.Join(files[:min(len(files), maxMoved)], ", ")
			}
		}
		moved = append(moved, says)
	}
	for i := range p.Exports {
		e := &p.Exports[i]
		if j.repo.App(e.App) < 0 {
			moved = append(moved, "there is no application "+e.App+" any more")
			continue
		}
		says, err := j.moved(e)
		if err != nil {
			return nil, err
		}
		if says != "" {
			moved = append(moved, says)
		}
	}
	if len(moved) > 0 {
		return nil, &OutOfDate{moved}
	}
	if j.Standing, err = prepare.Standing(l, p, today); err != nil {
		return nil, err
	}
	for _, r := range j.repo.Rejections {
		if r.On(today) {
			j.Standing.Verdicts[r.Change] = decide.Rejected
		}
	}
	j.Refresh()
	return j, nil
}

// Refresh computes the states again after Standing was changed.
func (j *Job) Refresh() { j.States = j.Standing.Ready(j.Plan, j.Today) }

// Count counts the changes in a state.
func (j *Job) Count(s decide.State) int {
	n := 0
	for _, x := range j.States {
		if x == s {
			n++
		}
	}
	return n
}

// Held counts the changes that are wanted, by the whole plan or by themselves,
// and that a guard holds.
func (j *Job) Held() int {
	n := 0
	for i, x := range j.States {
		if x == decide.Held && (j.Standing.All || j.Standing.Verdicts[j.Plan.Changes[i].ID] == decide.Accepted) {
			n++
		}
	}
	return n
}

// Pending tells whether an interrupted step waits to be finished or read back.
func (j *Job) Pending() bool {
	for _, s := range j.steps {
		for _, id := range s.Changes {
			if _, ok := j.Standing.Done[id]; !ok {
				return true
			}
		}
	}
	return false
}

// moved says how an export differs from the one that the plan was drafted
// from, "" when it is the same or as this plan itself has left it.
func (j *Job) moved(e *plan.Export) (string, error) {
	now, err := j.digests(e.App)
	if err != nil {
		return "", err
	}
	j.known[e.App] = now
	if combined(now) == e.Digest || j.left(e.App, now) {
		return "", nil
	}
	return fmt.Sprintf("the exported state of %s has changed since", e.App), nil
}

// left tells whether an application's files are as the last step of this plan
// left them, or half-way through it.
func (j *Job) left(app string, now []export.FileDigest) bool {
	last := j.lastStep(app)
	if last == nil || len(last.Files) != len(now) {
		return false
	}
	for i, f := range last.Files {
		if now[i].Path != f.Path || now[i].Digest != f.Before && now[i].Digest != f.After {
			return false
		}
	}
	return true
}

func (j *Job) lastStep(app string) *ledger.Step {
	for i := len(j.steps) - 1; i >= 0; i-- {
		if j.steps[i].App == app {
			return &j.steps[i]
		}
	}
	return nil
}

func (j *Job) digests(app string) ([]export.FileDigest, error) {
	return export.Digests(j.dir, j.repo.Exports[j.repo.App(app)])
}

func combined(files []export.FileDigest) string {
	var sums []string
	for _, f := range files {
		sums = append(sums, f.Digest)
	}
	return export.Combine(sums)
}

// A Result is what a run came to.
type Result struct {
	ledger.RunEnd
	Failures []ledger.ChangeOutcome // what is not settled
}

// A batch is changes of one application that are carried out together.
type batch struct {
	app     string
	changes []*plan.Change
}

// batches cuts the ready changes into batches that keep the plan's order: all
// that narrows, application by application, and then the rest, so that what
// one application takes away is gone before another one gives; and last what
// narrows and has to wait for that.
func (j *Job) batches() []batch {
	var out []batch
	for phase := range 3 {
		at, widened := map[string]int{}, map[string]bool{}
		for i := range j.Plan.Changes {
			c := &j.Plan.Changes[i]
			widened[c.App] = widened[c.App] || c.Effect == "widens"
			of := 1
			switch {
			case c.Effect == "narrows" && widened[c.App]:
				of = 2
			case c.Effect == "narrows":
				of = 0
			}
			if j.States[i] != decide.Ready || of != phase {
				continue
			}
			n, ok := at[c.App]
			if !ok {
				n = len(out)
				at[c.App] = n
				out = append(out, batch{app: c.App})
			}
			out[n].changes = append(out[n].changes, c)
		}
	}
	return out
}

// Run carries out what is ready and returns what it came to. progress is told
// what happens. An error ends the run; what was done before it is recorded and
// reported in the result.
func (j *Job) Run(progress func(string)) (*Result, error) {
	number, err := j.ledger.Count(ledger.RunStarted)
	if err != nil {
		return nil, err
	}
	run := fmt.Sprintf("run-%d", number+1)
	res := &Result{RunEnd: ledger.RunEnd{Run: run, Plan: j.Plan.ID, Held: j.Held()}}
	res.Left = len(j.States) - j.Count(decide.Ready) - j.Count(decide.Completed) - res.Held
	err = j.ledger.Append(ledger.Record{Kind: ledger.RunStarted, Subject: run,
		Body: ledger.Run{Run: run, Plan: j.Plan.ID, Digest: j.Plan.Digest, People: j.repo.People.Len(), Changes: j.Count(decide.Ready)}})
	if err != nil {
		return nil, err
	}
	if err = j.sweep(); err == nil {
		err = j.finishEarlier(res, progress)
	}
	for _, b := range j.batches() {
		if err != nil {
			break
		}
		err = j.batch(res, b, progress)
	}
	if err != nil {
		res.Error = err.Error()
	}
	if end := j.ledger.Append(ledger.Record{Kind: ledger.RunEnded, Subject: run, Body: res.RunEnd}); err == nil {
		err = end
	}
	return res, err
}

// sweep removes what runs that were killed have left beside the files.
func (j *Job) sweep() error {
	for i := range j.Plan.Exports {
		for _, path := range j.repo.Exports[j.repo.App(j.Plan.Exports[i].App)].Files() {
			if err := source.Sweep(export.Locate(j.dir, path.Text)); err != nil {
				return err
			}
		}
	}
	return nil
}

// finishEarlier completes the last step of each application that an earlier
// run began and never read back.
func (j *Job) finishEarlier(res *Result, progress func(string)) error {
	byID := map[string]*plan.Change{}
	for i := range j.Plan.Changes {
		byID[j.Plan.Changes[i].ID] = &j.Plan.Changes[i]
	}
	for i := range j.steps {
		s := &j.steps[i]
		if s != j.lastStep(s.App) {
			continue
		}
		b := batch{app: s.App}
		for _, id := range s.Changes {
			if _, seen := j.Standing.Done[id]; !seen && byID[id] != nil {
				b.changes = append(b.changes, byID[id])
			}
		}
		if len(b.changes) == 0 {
			continue
		}
		progress(fmt.Sprintf("%s: finishing %s that %s began", s.App, model.Count(len(b.changes), "change", "changes"), s.Run))
		done := true
		for k, f := range s.Files {
			done = done && j.known[s.App][k].Digest == f.After
		}
		if !done {
			if err := j.write(res.Run, b); err != nil {
				return err
			}
		}
		if err := j.readBack(res, b, progress); err != nil {
			return err
		}
		j.Refresh()
		if err := j.Recheck(); err != nil {
			return err
		}
	}
	return nil
}

func (j *Job) batch(res *Result, b batch, progress func(string)) error {
	progress(fmt.Sprintf("%s: writing %s", b.app, model.Count(len(b.changes), "change", "changes")))
	if err := j.write(res.Run, b); err != nil {
		return err
	}
	return j.readBack(res, b, progress)
}

// write carries a batch to its application.
func (j *Job) write(run string, b batch) error {
	a := j.repo.App(b.app)
	files := connect.Files{Dir: j.dir, Spec: j.repo.Exports[a], App: j.repo.Apps[a]}
	return files.Apply(b.changes, j.record(run, b))
}

// record returns what writes a step into the ledger before it is taken, and
// stops it when a file is not what it was.
func (j *Job) record(run string, b batch) func([]connect.FileStep) error {
	return func(steps []connect.FileStep) error {
		s := ledger.Step{Run: run, Plan: j.Plan.ID, App: b.app}
		var after []export.FileDigest
		for i, f := range steps {
			if f.Before != j.known[b.app][i].Digest {
				return fmt.Errorf("%s: %s was changed by someone else just now; nothing was changed. Draft again", b.app, f.Path)
			}
			s.Files = append(s.Files, ledger.StepFile(f))
			after = append(after, export.FileDigest{Path: f.Path, Digest: f.After})
		}
		for _, c := range b.changes {
			s.Changes = append(s.Changes, c.ID)
		}
		if err := j.ledger.Append(ledger.Record{Kind: ledger.StepTaken, Subject: run, Body: s}); err != nil {
			return err
		}
		j.steps = append(j.steps, s)
		j.known[b.app] = after
		return nil
	}
}

// readBack reads the application again and records what became of each change
// of a batch.
func (j *Job) readBack(res *Result, b batch, progress func(string)) error {
	a := j.repo.App(b.app)
	accounts, info, err := export.Read(j.dir, j.repo.Exports[a], j.repo.Apps[a])
	if err != nil {
		return fmt.Errorf("%s: the changes were written and cannot be read back: %w", b.app, err)
	}
	seen := newReadBack(j.repo.Apps[a], accounts)
	var records []ledger.Record
	bad := 0
	for _, c := range b.changes {
		o := ledger.ChangeOutcome{Run: res.Run, Plan: j.Plan.ID, App: b.app, Change: c.ID, What: what(j.Plan, c)}
		o.Settled, o.Says = seen.settled(c)
		j.Standing.Done[c.ID] = o.Settled
		if o.Settled {
			res.Settled++
		} else {
			bad++
			res.NotSettled++
			res.Failures = append(res.Failures, o)
		}
		records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: res.Run, Body: o})
	}
	records = append(records, ledger.Record{Kind: ledger.ExportSeen, Subject: b.app, Body: ledger.Export{App: b.app, Digest: info.Digest,
		TakenAt: info.TakenAt.UTC().Format(time.RFC3339), Accounts: accounts.Len()}})
	if err := j.ledger.Append(records...); err != nil {
		return err
	}
	says := fmt.Sprintf("%s: read back, %s settled", b.app, model.Count(len(b.changes)-bad, "change is", "changes are"))
	if bad > 0 {
		says += fmt.Sprintf(", %d not settled", bad)
	}
	progress(says)
	return nil
}

// what says in words what a change does, for the ledger.
func what(p *plan.Plan, c *plan.Change) string {
	s := c.Verb + " " + c.Address().String()
	if c.Thing != nil && c.Account != "" {
		s += " for " + c.Account
	}
	if c.Attribute != "" {
		s += " " + c.Attribute
	}
	if name := p.People[c.Person]; name != "" {
		s += ", " + name + " (" + c.Person + ")"
	}
	return s
}
