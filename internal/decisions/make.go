package decisions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// A Maker makes decisions about one plan.
type Maker struct {
	Ledger ledger.Ledger
	Repo   *desired.Repo
	Plan   *plan.Plan
	Today  day.Day
	By     string
	Signer *Signer // nil where nobody signs
	// Sheet takes decisions as a text that travels, instead of the ledger; nil where they are recorded.
	Sheet *bytes.Buffer
	// Trial is what is on record already, where decisions are only tried: they tell what they are about, and not in words.
	Trial *Docket

	byID map[string]*plan.Change
}

// A Choice is what a decision is about.
type Choice struct {
	All     bool            // the whole plan
	ForGood bool            // also accept, without naming each one, changes that cannot be undone
	Changes map[string]bool // changes of the plan
	AtRun   bool            // asked for when just this part is carried out
	Nobody  bool            // nobody has looked at them: a rule accepts them, for this plan only
	Aside   []string        // changes that the plan sets aside, as they were rejected before
	Left    []string        // what a selection meets, and was rejected by itself: nothing is accepted of it
}

// Lifts are guards that are lifted for some changes of a plan, or for all of them.
type Lifts struct {
	Guards  []string
	Changes []string // ids; none for the whole plan
}

// Made is a decision and what follows from it.
type Made struct {
	Changes  []string // what was decided, in the plan's order
	Along    []string // what goes along: an accepted change's needs, or what needs a rejected one
	Done     []string // what was carried out already and cannot be rejected any more
	Stands   []string // what standing.yaml rejected already
	Standing *decide.PlanDecisions
	States   []decide.State
	Running  *ledger.Holder // who carries out a plan at the moment, or nil
}

// ErrLeft is a choice of nothing but what was rejected before.
var ErrLeft = errors.New("nothing but what was rejected")

// A Part is one of several decisions that are made together.
type Part struct {
	Choice
	Lift     Lifts // for an acceptance; with no change chosen, guards are lifted and nothing is accepted
	Reject   bool
	Until    day.Day // of a rejection, day.None for good
	Standing bool    // it is written to standing.yaml as well
	Because  string
}

// Accept accepts what was chosen, with all that it needs, and lifts guards for
// the plan. To lift a guard of a whole plan does not accept all of it. What
// standing.yaml rejects can be accepted only by taking it out of there.
func (m *Maker) Accept(ctx context.Context, c Choice, lift Lifts, because string) (*Made, error) {
	return m.Make(ctx, []Part{{Choice: c, Lift: lift, Because: because}})
}

// Reject rejects what was chosen, with all that needs it. What a run has carried
// out already cannot be rejected any more. With standing, the decision is
// written to standing.yaml as well: first into the ledger, then into the file;
// where the file cannot be written, the ledger's entry is made to count by
// itself, and the error says so.
func (m *Maker) Reject(ctx context.Context, c Choice, until day.Day, standing bool, because string) (*Made, error) {
	return m.Make(ctx, []Part{{Choice: c, Reject: true, Until: until, Standing: standing, Because: because}})
}

// Make makes decisions together: all or none are recorded, in one entry under one signature.
func (m *Maker) Make(ctx context.Context, parts []Part) (*Made, error) {
	made, all, err := m.Decide(ctx, parts)
	if err == nil {
		err = m.record(ctx, made, all)
	}
	if err != nil {
		return made, err
	}
	stood, err := m.stood(ctx)
	if err != nil {
		return made, err
	}
	return made, m.follows(made, stood)
}

// Decide says what Make would record.
func (m *Maker) Decide(ctx context.Context, parts []Part) (*Made, []ledger.Decision, error) {
	stood, err := Stood{}, error(nil)
	if m.Trial != nil {
		stood = m.Trial.stood
	} else if stood, err = m.stood(ctx); err != nil {
		return nil, nil, err
	}
	made := &Made{Running: m.Ledger.Holder()}
	var all []ledger.Decision
	for i := range parts {
		decide := m.accepting
		if parts[i].Reject {
			decide = m.rejecting
		}
		some, err := decide(made, stood, &parts[i])
		if err != nil {
			return made, nil, err
		}
		all = append(all, some...)
	}
	return made, all, nil
}

// accepting is an acceptance.
func (m *Maker) accepting(made *Made, stood Stood, x *Part) (all []ledger.Decision, err error) {
	c := x.Choice
	chosen := append(slices.Collect(maps.Keys(c.Changes)), c.Aside...)
	nothing := !c.All && len(chosen) == 0 && len(c.Left) > 0
	if nothing {
		chosen = c.Left
	}
	picked := map[string]bool{}
	for _, id := range chosen {
		picked[id] = true
	}
	var stands []string
	for _, r := range stood.Rejections {
		if r.On(m.Today) && picked[r.Change] {
			stands = append(stands, r.Change)
		}
	}
	if made.Stands = append(made.Stands, stands...); len(stands) > 0 && !c.All {
		return nil, fmt.Errorf(
			"standing.yaml rejects %s; take the entry out of that file to accept the change",
			stands[0],
		)
	}
	if nothing {
		return nil, ErrLeft
	}
	along := decide.WithNeeds(m.Plan, c.Changes)
	changes := m.inOrder(c.Changes, along)
	made.Along, made.Changes = append(made.Along, along...), append(made.Changes, changes...)
	if len(x.Lift.Guards) > 0 {
		all = append(all, ledger.Decision{
			Plan:    m.Plan.ID,
			Digest:  m.Plan.Digest,
			Verdict: "lift",
			Guards:  x.Lift.Guards,
			Changes: x.Lift.Changes,
			Because: x.Because,
		})
		if c.All || len(changes)+len(c.Aside) == 0 {
			return all, nil
		}
	}
	rec := ledger.Decision{
		Plan:    m.Plan.ID,
		Digest:  m.Plan.Digest,
		Verdict: "accept",
		All:     c.All,
		ForGood: c.All && c.ForGood,
		Because: x.Because,
		Along:   along,

		Unattended: c.Nobody, AtRun: c.AtRun,
	}
	if !c.All {
		m.about(&rec, append(slices.Clone(changes), c.Aside...))
		for _, id := range c.Aside { // it may have been rejected by the id that it had once
			rec.Changes = append(rec.Changes, plan.FormerID(m.change(id)))
		}
	}
	return append(all, rec), nil
}

// rejecting is a rejection.
func (m *Maker) rejecting(made *Made, stood Stood, x *Part) ([]ledger.Decision, error) {
	c := x.Choice
	s, err := m.recorded(stood)
	if err != nil {
		return nil, err
	}
	for i := range m.Plan.Changes {
		if id := m.Plan.Changes[i].ID; c.Changes[id] && s.Done[id] {
			made.Done = append(made.Done, id)
			delete(c.Changes, id)
		}
	}
	if len(c.Changes) == 0 && len(c.Aside) == 0 {
		return nil, errors.New(
			"nothing was rejected: all of these changes have already been carried out; to reverse them, change " +
				"the files, or use backout",
		)
	}
	along := decide.WithNeeding(m.Plan, c.Changes)
	changes := append(m.inOrder(c.Changes, along), c.Aside...)
	made.Along, made.Changes = append(made.Along, along...), append(made.Changes, changes...)
	rec := ledger.Decision{
		Plan:     m.Plan.ID,
		Digest:   m.Plan.Digest,
		Verdict:  "reject",
		All:      c.All,
		Until:    x.Until.String(),
		Because:  x.Because,
		Along:    along,
		Standing: x.Standing,
	}
	m.about(&rec, changes)
	return []ledger.Decision{rec}, nil
}

// recorded is what is on record.
func (m *Maker) recorded(stood Stood) (*decide.PlanDecisions, error) {
	if m.Trial != nil {
		return m.Trial.s, nil
	}
	return Read(m.Ledger, stood, m.Plan, m.Today, nil)
}

// record puts decisions on record as one, and those that stand into standing.yaml.
func (m *Maker) record(ctx context.Context, made *Made, all []ledger.Decision) error {
	if !slices.ContainsFunc(all, func(d ledger.Decision) bool { return d.Standing }) {
		return m.append(ctx, all...)
	}
	return m.Ledger.Exclusive(func() error { return m.standing(ctx, made, all) })
}

// append puts decisions on record as one, signed where that is asked for, or writes them to a sheet.
func (m *Maker) append(ctx context.Context, all ...ledger.Decision) error {
	d := ledger.Together(all)
	if !d.Unattended {
		if err := m.Signer.Sign(ctx, d); err != nil {
			return fmt.Errorf("nothing was decided: %w", err)
		}
	}
	if m.Sheet != nil {
		return m.sheet(m.Sheet, *d)
	}
	if err := m.Ledger.Append(ledger.Record{Kind: ledger.Decided, Subject: m.Plan.ID, Body: *d}); err != nil {
		return fmt.Errorf("the decision was not recorded: %w", err)
	}
	return nil
}

// standing writes decisions into the ledger, and what of them stands into standing.yaml.
func (m *Maker) standing(ctx context.Context, made *Made, all []ledger.Decision) error {
	stood, err := m.stood(ctx) // as it is now that nobody else writes it
	if err != nil {
		return err
	}
	var add []desired.StandingRejection
	var again []ledger.Decision // what counts by the ledger alone where the file cannot be written
	for i := range all {
		rec := &all[i]
		if !rec.Standing {
			continue
		}
		last, err := until(*rec)
		if err != nil {
			return err
		}
		alone := *rec
		alone.Standing = false
		again = append(again, alone)
		for _, id := range rec.Changes {
			same := func(r decide.Rejection) bool { return r.Change == id && r.Until == last && r.Because == rec.Because }
			if slices.ContainsFunc(stood.Rejections, same) {
				made.Stands = append(made.Stands, id)
				continue
			}
			add = append(add, desired.StandingRejection{
				Change:  id,
				What:    words.Sentence(m.Plan, m.change(id)),
				Because: rec.Because,
				By:      m.By,
				Until:   last,
			})
		}
	}
	write, err := m.Repo.StandingWith(ctx, add)
	if err != nil {
		return err
	}
	if err := m.append(ctx, all...); err != nil {
		return fmt.Errorf("standing.yaml is as it was: %w", err)
	}
	if len(add) == 0 {
		return nil
	}
	if err := write(); err != nil {
		if twice := m.append(ctx, again...); twice != nil {
			return fmt.Errorf(
				"standing.yaml was not written (%w), and the ledger says it was: %w; reject again",
				err,
				twice,
			)
		}
		return fmt.Errorf(
			"standing.yaml was not written: %w; the rejection is in the ledger, and counts here, but not for "+
				"others who have the files",
			err,
		)
	}
	return nil
}

func (m *Maker) stood(ctx context.Context) (Stood, error) {
	return Now(ctx, m.Repo)
}

// follows reads back what the decision comes to.
func (m *Maker) follows(made *Made, stood Stood) (err error) {
	if made.Standing, err = Read(m.Ledger, stood, m.Plan, m.Today, nil); err != nil {
		return err
	}
	made.States = made.Standing.Ready(m.Plan, m.Today)
	return nil
}

// about notes what a decision is about.
func (m *Maker) about(d *ledger.Decision, ids []string) {
	if d.Changes = ids; m.Trial != nil {
		return
	}
	seen := map[string]bool{}
	for _, id := range ids {
		c := m.change(id)
		if c == nil {
			d.What, d.Marks = append(d.What, ""), append(d.Marks, "")
			continue
		}
		d.What, d.Marks = append(d.What, words.Sentence(m.Plan, c)), append(d.Marks, m.Plan.Meaning(c))
		if at := c.Address().String(); !seen[at] {
			seen[at] = true
			d.Things = append(d.Things, at)
		}
		if c.Person != "" && !seen[c.Person] {
			seen[c.Person] = true
			d.People = append(d.People, c.Person)
		}
	}
}

// change finds a change of the plan, or one that it sets aside.
func (m *Maker) change(id string) *plan.Change {
	if m.byID == nil {
		m.byID = map[string]*plan.Change{}
		for i := range m.Plan.SetAside {
			m.byID[m.Plan.SetAside[i].Change.ID] = &m.Plan.SetAside[i].Change
		}
		for i := range m.Plan.Changes {
			m.byID[m.Plan.Changes[i].ID] = &m.Plan.Changes[i]
		}
	}
	return m.byID[id]
}

// inOrder lists the chosen changes in the plan's order, without those that only
// go along.
func (m *Maker) inOrder(chosen map[string]bool, along []string) []string {
	also := map[string]bool{}
	for _, id := range along {
		also[id] = true
	}
	var out []string
	for i := range m.Plan.Changes {
		if id := m.Plan.Changes[i].ID; chosen[id] && !also[id] {
			out = append(out, id)
		}
	}
	return out
}
