// Package carry carries a plan out. It proves first that nothing has moved since
// the plan was drafted, and reckons anew what is due today. Then it takes step by
// step: what can come next (core/course), what was decided about it by then
// (decisions), what must hold at every step, a note in the ledger, the step
// itself, and a look at what the application shows of it.
//
// A run that was cut off is settled before anything else is done (Settle), and
// continued by running the plan again.
package carry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/fact"
	"pravet/internal/desired"

	"pravet/internal/connect"
	"pravet/internal/core/account"
	"pravet/internal/core/course"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/filter"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// A Job is a plan that is about to be carried out.
type Job struct {
	Plan     *plan.Plan
	Standing *decide.PlanDecisions
	States   []decide.State       // of each change
	Why      map[string]plan.Hold // what holds a change now and is not in the plan, by id
	Today    day.Day

	state  *prepare.State
	ledger ledger.Ledger
	apps   map[string]*application
	now    *course.Now
	course *course.Course
	among  map[string]bool         // where it is not nil, nothing else is carried out
	every  bool                    // see All
	ruled  map[string]bool         // see ByRule
	whole  bool                    // all that is not rejected is meant, though nobody said so yet
	due    map[string]*plan.Change // what a draft of today holds, by id
	tried  map[string]bool         // carried out by this run and not settled

	lease  ledger.Lease // under which it is; nil where nobody else can be at work
	others *others      // applications that others carry out; nil for none

	held     map[string]*HeldUp // applications in which nothing is carried out
	ended    map[string]error   // applications in which this run has stopped, and why
	outcomes map[string]bool    // of changes that were carried out: whether they were settled then
}

// An application is what a job knows of one.
type application struct {
	number  int
	reached connect.Application
	live    connect.Live      // the same, where it is asked while it is in use; else nil
	later   connect.Later     // the same, where somebody else carries changes out; else nil
	waits   map[string]string // of such a one: changes that wait, and under which mark they were left
	fetched *model.Accounts   // of a live one: as it was fetched before the plan
	seen    *account.Accounts // as it is by now, to be looked up
	mark    string            // as this job left it, or found it
	renamed map[string]string // old user names of accounts → new ones, of changes that are settled
}

// maxMoved is how many changed files a message names.
const maxMoved = 5

// New prepares a job from a repository that was read with the applications of
// the plan. It returns an *OutOfDate when the desired state or an export has
// moved, unless it was this very plan that moved the export.
func New(ctx context.Context, s *prepare.State, p *plan.Plan, l ledger.Ledger, today day.Day) (*Job, error) {
	if s.Repo.Organization != p.Organization {
		return nil, fmt.Errorf("the plan is for %q, and this repository is for %q", p.Organization, s.Repo.Organization)
	}
	j := &Job{
		Plan:   p,
		Today:  today,
		state:  s,
		ledger: l,
		apps:   map[string]*application{},
		course: course.New(p),
		tried:  map[string]bool{},
	}
	if err := j.fits(); err != nil {
		return nil, err
	}
	if err := j.refresh(ctx); err != nil {
		return nil, err
	}
	if err := j.waiting(); err != nil {
		return nil, err
	}
	j.look()
	if err := j.decided(ctx); err != nil {
		return nil, err
	}
	if err := j.redraft(); err != nil {
		return nil, err
	}
	return j, j.Decide(ctx)
}

// look takes what was read for how things are.
func (j *Job) look() {
	repo := j.state.Repo
	j.now = &course.Now{People: repo.People, Apps: repo.Apps, Accounts: make([]*model.Accounts, len(repo.Apps)),
		Separations: repo.Separations, Exceptions: repo.Exceptions, Today: j.Today}
	for a, e := range j.state.Exports {
		if e != nil {
			j.now.Accounts[a] = e.Accounts
		}
	}
	j.match()
}

// match finds whose each account is.
func (j *Job) match() {
	j.now.PersonOf = diff.Match(diff.Input{People: j.now.People, Apps: j.now.Apps, Accounts: j.now.Accounts}).PersonOf
}

// redraft reckons what is due today, from the same files and from what the
// applications show now. A change of the plan that is not in it is no longer
// due, unless it is settled.
func (j *Job) redraft() error {
	if j.Plan.Undoes != "" {
		j.undue()
		return nil
	}
	var only *filter.Filter
	if s := j.Plan.Selection; s != nil && s.Only != "" {
		var err error
		if only, err = filter.OfPeople(s.Only); err != nil {
			return fmt.Errorf("the plan was limited by a filter that cannot be read: %w", err)
		}
	}
	var lifts []decide.Lift // for this plan, of which the redraft is another
	for _, l := range j.Standing.Lifts {
		if l.Plan == j.Plan.ID && l.Change == "" {
			l.Plan = ""
			lifts = append(lifts, l)
		}
	}
	today, err := prepare.Draft(j.state, j.ledger, j.Today, j.Today, only, lifts...)
	if err != nil {
		return err
	}
	j.due = make(map[string]*plan.Change, len(today.Changes))
	for i := range today.Changes {
		j.due[today.Changes[i].ID] = &today.Changes[i]
	}
	for i := range today.SetAside {
		j.due[today.SetAside[i].Change.ID] = &today.SetAside[i].Change
	}
	return nil
}

// undue takes for due, of a back-out, what still finds what it starts from: the files ask
// for none of it.
func (j *Job) undue() {
	j.due = map[string]*plan.Change{}
	seen := map[string]*account.Accounts{}
	for i := range j.Plan.Changes {
		c := &j.Plan.Changes[i]
		a := j.apps[c.App].number
		app, accounts := j.state.Repo.Apps[a], j.state.Exports[a].Accounts
		if seen[c.App] == nil {
			seen[c.App] = account.In(app, accounts)
		}
		fits := false
		if c.Verb.OfThing() {
			fits, _ = account.DefinitionFits(app, accounts.Definitions, c)
		} else {
			fits, _ = account.Fits(app, seen[c.App].Find, c)
		}
		if fits {
			j.due[c.ID] = c
		}
	}
}

// dueNow finds a change in what is due today: by its id, or, where the account
// was renamed by the plan, by the id that it has under the new name.
func (j *Job) dueNow(c *plan.Change) *plan.Change {
	if d := j.due[c.ID]; d != nil {
		return d
	}
	if now := j.apps[c.App].named(c); now != c {
		return j.due[plan.ChangeID(now)]
	}
	return nil
}

// named is a change with the user name that its account has by now.
func (a *application) named(c *plan.Change) *plan.Change {
	name, ok := a.renamed[c.Account]
	if !ok {
		return c
	}
	out := *c
	out.Account = name
	return &out
}

// Whole says that all is meant that was not rejected, where nothing was accepted
// by itself.
func (j *Job) Whole(ctx context.Context) error {
	j.whole = true
	return j.Decide(ctx)
}

// All says that all is meant that was not rejected, whatever was accepted by itself: a
// rehearsal is of the whole plan.
func (j *Job) All(ctx context.Context) error {
	j.every = true
	return j.Decide(ctx)
}

// Among limits the job to some changes of the plan, by id: what else is accepted waits.
func (j *Job) Among(ctx context.Context, ids map[string]bool) error {
	j.among = ids
	return j.Decide(ctx)
}

// ByRule says which changes are accepted by a rule of the files, whether or not somebody's word for it is on record.
func (j *Job) ByRule(ids map[string]bool) { j.ruled = maps.Clone(ids) }

// HoldUp makes sure that nothing is carried out in applications of which nobody can tell what a run has left there.
func (j *Job) HoldUp(ctx context.Context, held map[string]*HeldUp) error {
	j.held = held
	return j.Decide(ctx)
}

// open are the runs whose books are open, by the record: those that were cut off and are held up, and those of others.
func (j *Job) open() (out []string, err error) {
	runs, err := openRuns(j.ledger)
	for _, r := range runs {
		out = append(out, r.Run)
	}
	return out, err
}

// Repo is the repository that the job is of.
func (j *Job) Repo() *desired.Repo { return j.state.Repo }

// Accepted reports whether something was accepted, the plan or a change of it.
func (j *Job) Accepted() bool { return j.Standing.All || j.Standing.AnyAccepted() }

// decided reads what is decided by now, and what others have done.
func (j *Job) decided(ctx context.Context) error {
	if err := j.follow(); err != nil {
		return err
	}
	stood, err := decisions.Now(ctx, j.state.Repo)
	if err != nil {
		return err
	}
	j.Standing, err = decisions.Read(j.ledger, stood, j.Plan, j.Today, j.outcomes)
	for id, is := range j.ruled {
		if err == nil && is && j.Standing.Verdicts[id] == decide.Undecided {
			j.Standing.Verdicts[id], j.Standing.Named[id] = decide.Accepted, true
		}
	}
	if err == nil && j.outcomes == nil {
		j.outcomes = maps.Clone(j.Standing.Done)
	}
	return err
}

// Decide reads what is decided by now and reckons the states anew.
func (j *Job) Decide(ctx context.Context) error {
	if err := j.decided(ctx); err != nil {
		return err
	}
	if j.every || j.whole && !j.Standing.AnyAccepted() {
		j.Standing.All = true
	}
	j.settle()
	j.States = j.Standing.Ready(j.Plan, j.Today)
	for i := range j.States {
		outside := j.among != nil && !j.among[j.Plan.Changes[i].ID] || j.elsewhere(j.Plan.Changes[i].App)
		if outside && (j.States[i] == decide.Ready || j.States[i] == decide.Held) {
			j.States[i] = decide.NotAccepted
		}
	}
	j.Why = map[string]plan.Hold{}
	for i := range j.States {
		j.judge(i)
		c := &j.Plan.Changes[i]
		if h := j.held[c.App]; h != nil && j.States[i] == decide.Ready {
			j.States[i], j.Why[c.ID] = decide.Held, impossible(
				fmt.Sprintf("%s was cut off in %s, and what it left there cannot be told", h.Run, c.App),
			)
		}
	}
	j.course.Lack(j.States)
	return nil
}

// settle leaves of what earlier runs have settled what the applications still
// show.
func (j *Job) settle() {
	seen := map[string]*readBack{}
	done := map[string][]*plan.Change{}
	for i := range j.Plan.Changes {
		if c := &j.Plan.Changes[i]; j.Standing.Done[c.ID] {
			done[c.App] = append(done[c.App], c)
		}
	}
	for app, a := range j.apps {
		if a.renamed = nil; j.elsewhere(app) {
			continue // the record has what was settled there
		}
		if len(done[app]) > 0 {
			seen[app] = newReadBack(j.now.Apps[a.number], j.now.Accounts[a.number])
			a.renamed = seen[app].renames(done[app])
		}
		for _, c := range done[app] {
			named := a.named(c)
			ok, _ := seen[app].settled(named)
			if j.Standing.Done[c.ID] = ok || seen[app].untold(named); j.Standing.Done[c.ID] {
				seen[app].keep(named)
			}
		}
	}
}

// judge looks at one change by what is due today.
func (j *Job) judge(i int) {
	c, s := &j.Plan.Changes[i], &j.States[i]
	if *s == decide.Completed || *s == decide.StateRejected {
		return
	}
	if j.tried[c.ID] {
		*s = decide.Tried
		return
	}
	if a := j.apps[c.App]; a.later != nil && a.waits[c.ID] == a.mark && a.mark != "" {
		*s = decide.AwaitingPerson
		return
	}
	now := j.dueNow(c)
	if now == nil || !c.After.Equal(now.After) {
		if !j.crossed(c) {
			*s = decide.NoLongerDue
		}
		return
	}
	for _, h := range j.Standing.Holding(j.Plan, now, j.Today) {
		if slices.ContainsFunc(c.Holds, func(x plan.Hold) bool { return x.Guard == h.Guard }) {
			continue // it was decided about
		}
		j.Why[c.ID] = h
		if *s == decide.Ready {
			*s = decide.Held
		}
	}
}

// crossed reports whether somebody has changed in a live application what a change is about: then it is not that the change
// is due no longer. It is left to the application, which says what is there instead.
func (j *Job) crossed(c *plan.Change) bool {
	a := j.apps[c.App]
	if a.live == nil || c.Verb.OfThing() || j.Plan.Undoes != "" {
		return false
	}
	app, accounts := j.now.Apps[a.number], j.now.Accounts[a.number]
	if a.seen == nil || a.seen.Of != accounts {
		a.seen = account.In(app, accounts)
	}
	named := a.named(c)
	fits, _ := account.Fits(app, a.seen.Find, named)
	shows, _ := account.Shows(app, a.seen.Find, named)
	return !fits && !shows
}

// Preview marks as held what a run would refuse on its way, as things are.
func (j *Job) Preview() {
	for id, h := range j.now.Preview(j.Plan, j.States, j.lifted) {
		j.Why[id] = h
	}
	for i := range j.States {
		if _, held := j.Why[j.Plan.Changes[i].ID]; held && j.States[i] == decide.Ready {
			j.States[i] = decide.Held
		}
	}
	j.course.Lack(j.States)
}

// lifted reports whether a guard is lifted for a change.
func (j *Job) lifted(guard string, c *plan.Change) bool {
	return slices.ContainsFunc(
		j.Standing.Lifts,
		func(l decide.Lift) bool { return l.Covers(guard, c.App, j.Plan.ID, c.ID, j.Today) },
	)
}

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
		if x == decide.Held && j.Standing.Accepts(&j.Plan.Changes[i]) {
			n++
		}
	}
	return n
}

// Holding lists the guards that hold what is wanted, each once.
func (j *Job) Holding() (guards []string) {
	for i, x := range j.States {
		c := &j.Plan.Changes[i]
		if x != decide.Held || !j.Standing.Accepts(c) {
			continue
		}
		holds := j.Standing.Holding(j.Plan, c, j.Today)
		if h, ok := j.Why[c.ID]; ok {
			holds = append(holds, h)
		}
		for _, h := range holds {
			if !slices.Contains(guards, h.Guard) {
				guards = append(guards, h.Guard)
			}
		}
	}
	slices.Sort(guards)
	return guards
}

// impossible is the hold of what an application refuses beforehand.
func impossible(says string) plan.Hold {
	return guard.Hold(guard.Impossible, fact.Fact{Kind: fact.Refused, Because: says})
}

// errStopped ends a run between two steps.
var errStopped = errors.New("it was interrupted")
