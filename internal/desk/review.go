package desk

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"

	"pravet/internal/core/course"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/edit"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/source"
)

// A Review is a plan while somebody goes through it: what is on record about it, and what the reviewer has decided so far.
// Nothing of that is recorded before Confirm. It is kept in a file meanwhile, so that a review can be taken up again.
type Review struct {
	*Selection
	Plan    *plan.Plan
	Called  string // how the reviewer calls the plan: its id, or its file
	Outline *outline.Outline
	Today   day.Day

	Now    *decide.PlanDecisions // as things would be, were the review confirmed
	Ready  []decide.State        // of each change of the plan, likewise
	Saved  savedReview
	docket *decisions.Docket

	recorded *decide.PlanDecisions // as it is on record
	ready    []decide.State        // likewise
	maker    *decisions.Maker
	at       map[string]int // change → number in the plan
	waiting  []*Waiting     // for whom the rest waits, as things would be, where it was asked for since
	waited   bool
	file     string
	lock     *flock.Flock
}

// A savedReview is a review as its file keeps it.
type savedReview struct {
	Format  string           `json:"format"`
	Plan    string           `json:"plan"`
	Digest  string           `json:"digest"`
	By      string           `json:"by"`
	Marks   map[string]*Mark `json:"marks"` // change → what the reviewer has decided about it
	Lifts   []LiftMark       `json:"lifts,omitempty"`
	Reasons []string         `json:"reasons,omitempty"` // that were given, the latest first
}

// A Mark is what a reviewer has decided about one change.
type Mark struct {
	Reject   bool    `json:"reject,omitempty"`
	Because  string  `json:"because"`
	Until    day.Day `json:"until,omitempty"`    // of a rejection, day.None for good
	Standing bool    `json:"standing,omitempty"` // the rejection is to be written to standing.yaml
	Was      string  `json:"was,omitempty"`      // what was on record about it by then, in a word
}

// A LiftMark is a guard that the reviewer has lifted for the plan, or for one change.
type LiftMark struct {
	Guard   string `json:"guard"`
	Change  string `json:"change,omitempty"`
	Because string `json:"because"`
}

// reviewFormat names the format of a saved review, and reviewFolder is where reviews are kept.
const (
	reviewFormat = "pravet.review/1"
	reviewFolder = ".pravet/reviews"
	maxReview    = 64 << 20
	maxReasons   = 9
)

// Review takes a plan up to be gone through. It must be one that can still be decided about.
func (d *Desk) Review(p *plan.Plan) (*Review, error) {
	x, err := d.Decide(p, nil, Choice{}, "")
	if err != nil {
		return nil, err
	}
	r := &Review{Selection: x.Selection, Plan: p, Called: p.ID, Today: d.today, maker: x.maker, at: make(map[string]int, len(p.Changes))}
	for i := range p.Changes {
		r.at[p.Changes[i].ID] = i
	}
	changes, _, err := r.Changes()
	if err != nil {
		return nil, err
	}
	r.Outline = r.Selection.Outline(changes)
	if r.docket, err = decisions.Open(x.maker.Ledger, decisions.Of(d.state.Repo), p, d.today, nil); err != nil {
		return nil, err
	}
	if err := r.open(d); err != nil {
		return nil, err
	}
	r.recorded = r.docket.If("", nil)
	r.ready = r.recorded.Ready(p, d.today)
	r.judge()
	return r, nil
}

// open reads what was saved of the review, and keeps others from taking it up.
func (r *Review) open(d *Desk) error {
	name := r.Plan.ID + "-" + plan.Name(d.Actor()) + ".json"
	r.file = filepath.Join(d.Dir, reviewFolder, name)
	if err := os.MkdirAll(filepath.Dir(r.file), 0o700); err != nil {
		return err
	}
	r.lock = flock.New(strings.TrimSuffix(r.file, ".json") + ".lock")
	if ok, err := r.lock.TryLock(); err != nil {
		return err
	} else if !ok {
		return sayReviewIsOpen(r.Plan.ID)
	}
	r.Saved = savedReview{Format: reviewFormat, Plan: r.Plan.ID, Digest: r.Plan.Digest, By: d.Actor(), Marks: map[string]*Mark{}}
	if _, err := os.Lstat(r.file); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	data, err := source.ReadFile(r.file, reviewFolder+"/"+name, maxReview)
	if err == nil {
		was := savedReview{}
		if err = json.Unmarshal(data, &was); err == nil && was.Format == reviewFormat && was.Digest == r.Plan.Digest {
			for id, m := range was.Marks {
				if _, known := r.at[id]; !known || m == nil {
					delete(was.Marks, id)
				}
			}
			if r.Saved = was; was.Marks == nil {
				r.Saved.Marks = map[string]*Mark{}
			}
			return nil
		}
	}
	return errors.Join(sayReviewUnreadable(reviewFolder+"/"+name), err, r.lock.Unlock())
}

// Close lets others take the review up. What was decided stays in its file.
func (r *Review) Close() error {
	err := r.lock.Unlock()
	return errors.Join(err, os.Remove(r.lock.Path()))
}

// save writes the review to its file, as a whole or not at all; one in which nothing is decided has none.
func (r *Review) save() error {
	if r.Empty() {
		if err := os.Remove(r.file); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	data, err := json.Marshal(&r.Saved)
	if err != nil {
		return err
	}
	return source.WriteFile(r.file, bytes.NewReader(data), 0o600)
}

// Empty reports whether nothing is decided yet that would be recorded.
func (r *Review) Empty() bool { return len(r.Saved.Marks)+len(r.Saved.Lifts) == 0 }

// Discard forgets what was decided.
func (r *Review) Discard() error {
	r.Saved.Marks, r.Saved.Lifts = map[string]*Mark{}, nil
	r.judge()
	return r.save()
}

// Told is what came of deciding about some changes.
type Told struct {
	Marked   int // decided
	ForGood  int // left out of an acceptance: they cannot be undone, and need a decision of their own
	Rejected int // left out of an acceptance: they were rejected before
	Stands   int // left out of an acceptance: standing.yaml rejects them
	Done     int // left out: they were carried out already
	Along    int // decided along with them: what they need, or what needs them
	Over     int // decided otherwise in this review before
}

// Accept decides that changes may be carried out. What cannot be undone or was rejected before is left out, unless it is the
// only one: such a change is accepted individually.
func (r *Review) Accept(ids []string, because string) (t Told, err error) {
	stands := map[string]bool{}
	for _, x := range r.docketRejections() {
		stands[x] = true
	}
	chosen := make(map[string]bool, len(ids))
	for _, id := range ids {
		c := r.change(id)
		switch {
		case c == nil:
		case r.States[id] == "done":
			t.Done++
		case stands[id]:
			t.Stands++
		case c.ForGood && len(ids) > 1:
			t.ForGood++
		case r.States[id] == "rejected" && len(ids) > 1:
			t.Rejected++
		default:
			chosen[id] = true
		}
	}
	for _, id := range decide.WithNeeds(r.Plan, chosen) {
		delete(chosen, id)
		t.Along++
		t.Over += r.drop(id, true)
	}
	return t, r.mark(&t, chosen, Mark{Because: because, Until: day.None})
}

// Reject decides that changes stay undone until a day, day.None for good; standing has the decision written to standing.yaml.
func (r *Review) Reject(ids []string, because string, until day.Day, standing bool) (t Told, err error) {
	if asOf, err := day.Parse(r.Plan.AsOf); err == nil && until != day.None && until < asOf {
		return t, wrong(sayUntilIsOver(until, asOf))
	}
	chosen := map[string]bool{}
	for _, id := range ids {
		switch {
		case r.change(id) == nil:
		case r.States[id] == "done":
			t.Done++
		default:
			chosen[id] = true
		}
	}
	for _, id := range decide.WithNeeding(r.Plan, chosen) {
		delete(chosen, id)
		t.Along++
		t.Over += r.drop(id, false)
	}
	return t, r.mark(&t, chosen, Mark{Reject: true, Because: because, Until: until, Standing: standing})
}

// drop takes back what was decided about a change, where it was a rejection, or an acceptance.
func (r *Review) drop(id string, rejection bool) int {
	if m := r.Saved.Marks[id]; m != nil && m.Reject == rejection {
		delete(r.Saved.Marks, id)
		return 1
	}
	return 0
}

// mark decides about changes.
func (r *Review) mark(t *Told, chosen map[string]bool, m Mark) error {
	own := make([]Mark, len(chosen))
	for id := range chosen {
		if was := r.Saved.Marks[id]; was != nil && was.Reject != m.Reject {
			t.Over++
		}
		own[t.Marked] = m
		own[t.Marked].Was = r.States[id]
		r.Saved.Marks[id] = &own[t.Marked]
		t.Marked++
	}
	if t.Marked == 0 {
		return nil
	}
	r.Remember(m.Because)
	r.judge()
	return r.save()
}

// Remember remembers a reason, so that it can be given again.
func (r *Review) Remember(because string) {
	list := append([]string{because}, slices.DeleteFunc(r.Saved.Reasons, func(s string) bool { return s == because })...)
	r.Saved.Reasons = list[:min(len(list), maxReasons)]
}

// Leave takes back what was decided about changes in this review, and returns about how many. What is on record stays.
func (r *Review) Leave(ids []string) (n int, err error) {
	for _, id := range ids {
		if r.Saved.Marks[id] != nil {
			delete(r.Saved.Marks, id)
			n++
		}
	}
	left := make(map[string]bool, len(ids))
	for _, id := range ids {
		left[id] = true
	}
	was := len(r.Saved.Lifts)
	r.Saved.Lifts = slices.DeleteFunc(r.Saved.Lifts, func(l LiftMark) bool { return left[l.Change] })
	if n += was - len(r.Saved.Lifts); n == 0 {
		return 0, nil
	}
	r.judge()
	return n, r.save()
}

// Guards are those that hold some of the changes as things would be, and the number of changes that each holds.
func (r *Review) Guards(ids []string) (names []string, held map[string]int) {
	held = map[string]int{}
	for _, id := range ids {
		if c := r.change(id); c != nil {
			for _, h := range r.Now.Holding(r.Plan, c, r.Today) {
				if held[h.Guard]++; held[h.Guard] == 1 {
					names = append(names, h.Guard)
				}
			}
		}
	}
	return names, held
}

// Lift lifts a guard: for the plan, or for the one change where it may be lifted for single changes only.
func (r *Review) Lift(name string, ids []string, because string) (one bool, err error) {
	entry, known := guard.Named(name)
	mark := LiftMark{Guard: name, Because: because}
	switch {
	case name == guard.Keeping:
		return false, wrong(sayCannotLiftKept())
	case !known || entry.Lift == guard.Never:
		return false, wrong(sayCannotLift(name))
	case entry.Lift == guard.ForChange && len(ids) != 1:
		return false, wrong(sayLiftInReview(name))
	case entry.Lift == guard.ForChange:
		mark.Change = ids[0]
	}
	r.Saved.Lifts = slices.DeleteFunc(r.Saved.Lifts, func(l LiftMark) bool { return l.Guard == name && l.Change == mark.Change })
	r.Saved.Lifts = append(r.Saved.Lifts, mark)
	r.Remember(because)
	r.judge()
	return mark.Change != "", r.save()
}

// LiftsOf are the guards that this review has lifted and that would hold some of the changes otherwise.
func (r *Review) LiftsOf(ids []string) (names []string) {
	for _, id := range ids {
		c := r.change(id)
		if c == nil {
			continue
		}
		for _, h := range c.Holds {
			if slices.ContainsFunc(r.Saved.Lifts, func(l LiftMark) bool { return l.Guard == h.Guard && (l.Change == "" || l.Change == id) }) &&
				!slices.Contains(names, h.Guard) {
				names = append(names, h.Guard)
			}
		}
	}
	return names
}

// LiftedNow is the decision by which a guard would not hold a change, or nil.
func (r *Review) LiftedNow(c *plan.Change, name string) *decide.Lift {
	return r.Now.Lifted(r.Plan, c, name, r.Today)
}

// Unlift takes back that a guard was lifted in this review; it reports whether it was.
func (r *Review) Unlift(name string) (bool, error) {
	was := len(r.Saved.Lifts)
	r.Saved.Lifts = slices.DeleteFunc(r.Saved.Lifts, func(l LiftMark) bool { return l.Guard == name })
	if len(r.Saved.Lifts) == was {
		return false, nil
	}
	r.judge()
	return true, r.save()
}

// change finds a change of the plan.
func (r *Review) change(id string) *plan.Change {
	if i, ok := r.at[id]; ok {
		return &r.Plan.Changes[i]
	}
	return nil
}

// Change finds a change of the plan, nil where it has none of that id.
func (r *Review) Change(id string) *plan.Change { return r.change(id) }

// State is what is decided about a change as things would be: done, accepted, rejected, held, waiting (accepted, and by the
// rules for deciders not by enough), or undecided. fresh reports whether that is by this review.
func (r *Review) State(id string) (state string, fresh bool) {
	i, ok := r.at[id]
	if !ok {
		return "", false
	}
	c := &r.Plan.Changes[i]
	state = stateOf(r.Now, r.Ready[i], c)
	if state == "held" {
		return state, r.Saved.Marks[id] != nil
	}
	return state, state != "undecided" && state != stateOf(r.recorded, r.ready[i], c)
}

// stateOf is what is decided about a change, in a word.
func stateOf(s *decide.PlanDecisions, ready decide.State, c *plan.Change) string {
	switch {
	case ready == decide.Completed:
		return "done"
	case ready == decide.StateRejected:
		return "rejected"
	case ready == decide.Held:
		return "held"
	case len(s.Waits[c.ID]) > 0 && s.Wanted(c):
		return "waiting"
	case ready == decide.Ready, ready == decide.Lacking:
		return "accepted"
	}
	return "undecided"
}

// judge works out what would follow.
func (r *Review) judge() {
	all, err := r.decided()
	if err != nil { // what would be refused once it is confirmed counts for nothing until then
		all = nil
	}
	r.Now = r.docket.If(r.Saved.By, all)
	r.Ready = r.Now.Ready(r.Plan, r.Today)
	r.waited = false
}

// decided is what would be put on record.
func (r *Review) decided() ([]ledger.Decision, error) {
	trial := *r.maker
	trial.Trial = r.docket
	_, all, err := trial.Decide(r.desk.ctx, r.Parts())
	return all, err
}

// Parts are the decisions that the review comes to: rejections first, then lifted guards, then acceptances; changes that are
// decided alike, for the same reason, are one.
func (r *Review) Parts() (parts []decisions.Part) {
	index := map[Mark]int{}
	for i := range r.Plan.Changes {
		id := r.Plan.Changes[i].ID
		m := r.Saved.Marks[id]
		if m == nil {
			continue
		}
		key := *m
		key.Was = ""
		n, ok := index[key]
		if !ok {
			n = len(parts)
			index[key] = n
			parts = append(parts, decisions.Part{
				Choice: decisions.Choice{Changes: map[string]bool{}}, Reject: m.Reject, Until: m.Until, Standing: m.Standing, Because: m.Because,
			})
		}
		parts[n].Choice.Changes[id] = true
	}
	for _, l := range r.Saved.Lifts {
		x := decisions.Part{Lift: decisions.Lifts{Guards: []string{l.Guard}}, Because: l.Because}
		if l.Change != "" {
			x.Lift.Changes = []string{l.Change}
		}
		parts = append(parts, x)
	}
	rank := func(x *decisions.Part) int {
		switch {
		case x.Reject:
			return 0
		case len(x.Lift.Guards) > 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(parts, func(x, y decisions.Part) int { return rank(&x) - rank(&y) })
	return parts
}

// Overtaken are the changes about which others have decided since the reviewer did.
func (r *Review) Overtaken() (ids []string) {
	for i := range r.Plan.Changes {
		id := r.Plan.Changes[i].ID
		if m := r.Saved.Marks[id]; m != nil && m.Was != r.States[id] {
			ids = append(ids, id)
		}
	}
	return ids
}

// Confirm records what was decided: all of it, in one entry under one signature, or nothing. Changes about which others have
// decided meanwhile are undecided in the review again, and nothing is recorded.
func (r *Review) Confirm() (*decisions.Made, error) {
	if r.Empty() {
		return nil, wrong(errors.New(SayNothingDecided()))
	}
	if ids := r.Overtaken(); len(ids) > 0 {
		for _, id := range ids {
			delete(r.Saved.Marks, id)
		}
		r.judge()
		return nil, errors.Join(sayOvertaken(r.Called, ids), r.save())
	}
	made, err := r.maker.Make(r.desk.ctx, r.Parts())
	if err != nil {
		return made, err
	}
	if r.maker.Sheet == nil {
		err = r.desk.note(r.maker.Ledger)
	}
	return made, errors.Join(err, r.Discard())
}

// Hand writes what was decided to a file that travels, and records nothing here.
func (r *Review) Hand(file string) (*decisions.Made, error) {
	x := &Decision{Selection: r.Selection, Plan: r.Plan, maker: r.maker}
	return x.Hand(file, r.Confirm)
}

// Sums are how many changes there are in each state, as things would be.
func (r *Review) Sums() map[string]int {
	out := map[string]int{}
	for i := range r.Plan.Changes {
		state, _ := r.State(r.Plan.Changes[i].ID)
		out[state]++
	}
	return out
}

// Waiting are whom the changes wait for that are not decided, as things would be.
func (r *Review) Waiting() []*Waiting {
	if !r.waited { // it is asked for with every picture
		s := *r.Selection
		s.standing, s.States = r.Now, statesOf(r.Now, r.Plan, r.Ready)
		r.waiting, r.waited = s.Waits(), true
	}
	return r.waiting
}

// A Seating is how the seats of a license are used before and after what was decided so far is carried out.
type Seating struct {
	App, License  string
	Bought        int // -1 without a number of seats
	Before, After int
}

// Costs of what is used, by currency; see plan.Cost.
type Seatings struct {
	Seats []Seating // of those that change, or of which there are too few
	Costs []plan.Cost
}

// A Bureau counts seats for a review; it is made once, as the exports are read for it.
type Bureau struct {
	now *course.Now
	p   *plan.Plan
}

// Bureau reads what is needed to count seats.
func (r *Review) Bureau() (*Bureau, error) {
	s, err := r.desk.read(appsThere(r.desk.state, r.Plan))
	if err != nil {
		return nil, err
	}
	n := &course.Now{People: s.Repo.People, Apps: s.Repo.Apps, Accounts: make([]*model.Accounts, len(s.Repo.Apps)), Today: r.Today}
	for a, e := range s.Exports {
		if e != nil {
			n.Accounts[a] = e.Accounts
		}
	}
	n.PersonOf = diff.Match(diff.Input{People: n.People, Apps: n.Apps, Accounts: n.Accounts}).PersonOf
	return &Bureau{now: n, p: r.Plan}, nil
}

// Count counts the seats in use were the changes carried out that are ready.
func (b *Bureau) Count(ready []decide.State) (out Seatings) {
	before, after := model.Sum{}, model.Sum{}
	for _, u := range b.now.Seats(b.p, ready) {
		app := b.now.Apps[u.App]
		thing := &app.Things[u.Thing]
		before.Add(thing.Price, u.Before)
		after.Add(thing.Price, u.After)
		if u.Before != u.After || thing.Seats >= 0 && u.After > thing.Seats {
			out.Seats = append(out.Seats, Seating{app.ID, thing.Name, thing.Seats, u.Before, u.After})
		}
	}
	for _, currency := range after.Currencies() {
		out.Costs = append(out.Costs, plan.Cost{Currency: currency, Before: before.Of(currency), After: after.Of(currency)})
	}
	return out
}

// An Origin is a commit that has changed a line that a change follows from.
type Origin struct {
	outline.Edit
	File  string
	Hunks []edit.Hunk // the lines of that file that the commit has changed
}

// mostOrigins is of how many commits a change tells.
const mostOrigins = 3

// Origins are the commits that changed the lines last that a change follows from, each once, the nearest cause first.
func (d *Desk) Origins(p *plan.Plan, c *plan.Change) (out []Origin) {
	if d.Dir == "" || p.Desired.Revision == "" {
		return nil
	}
	for _, r := range p.Because(c) {
		if r.File == "" || len(out) == mostOrigins {
			continue
		}
		x, ok := gitrepo.Lines(d.Dir, p.Desired.Revision, r.File, r.Line)[r.Line]
		if !ok || x.By == "" || slices.ContainsFunc(out, func(o Origin) bool { return o.Commit == x.Commit && o.File == r.File }) {
			continue
		}
		out = append(out, Origin{
			outline.Edit{By: x.By, On: d.zone.Day(x.On).String(), Commit: x.Commit, Subject: x.Subject},
			r.File, edit.Unified(gitrepo.Difference(d.Dir, x.Commit, r.File), r.Line),
		})
	}
	return out
}

// statesOf says in a word what is decided about each change, where something is.
func statesOf(s *decide.PlanDecisions, p *plan.Plan, ready []decide.State) map[string]string {
	out := make(map[string]string, len(ready))
	for i, state := range ready {
		c := &p.Changes[i]
		switch {
		case state == decide.Completed:
			out[c.ID] = "done"
		case state == decide.StateRejected:
			out[c.ID] = "rejected"
		case s.Accepts(c):
			out[c.ID] = "accepted"
		}
	}
	return out
}

// docketRejections are the changes that standing.yaml rejects.
func (r *Review) docketRejections() (ids []string) {
	for _, x := range r.desk.state.Repo.Rejections {
		if x.On(r.Today) {
			ids = append(ids, x.Change)
		}
	}
	return ids
}

// sayReviewIsOpen is a review that somebody goes through elsewhere.
func sayReviewIsOpen(plan string) error {
	return fmt.Errorf("your review of plan %s is open in another terminal; finish it there, or leave it with q", plan)
}

// sayReviewUnreadable is a saved review that cannot be taken up.
func sayReviewUnreadable(file string) error {
	return fmt.Errorf("%s is not a review that this program has saved; remove it to begin again", file)
}

// sayLiftInReview is a guard that is lifted for one change at a time.
func sayLiftInReview(guard string) error {
	return fmt.Errorf("the guard %s can be lifted only for one change at a time; open the fold, and choose the change", guard)
}

// SayNothingDecided is a review in which nothing is decided.
func SayNothingDecided() string {
	return "nothing has been decided in this review, so there is nothing to record"
}

// sayOvertaken is what others have decided about meanwhile.
func sayOvertaken(plan string, ids []string) error {
	return fmt.Errorf(
		"nothing was recorded: others have decided about %s since you did (%s); "+
			"%s undecided in your review again. Go on with: pravet review %s",
		model.Count(len(ids), "change", "changes"), strings.Join(ids[:min(len(ids), 3)], ", "),
		model.Plural(len(ids), "it is", "they are"), plan,
	)
}
