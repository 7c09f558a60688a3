package desk

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"pravet/internal/core/decide"
	"pravet/internal/core/letter"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// A Waiting is changes of a plan that wait for the same people's decision.
type Waiting struct {
	Plan    string
	Of      *plan.Plan
	Since   string       // when the plan was drafted, RFC 3339
	Rule    *decide.Rule // nil where anybody may decide
	App     string       // of which they are; "" where that is the same
	Left    int          // how many more it takes
	By      []string     // who has accepted them
	Changes []*plan.Change
}

// Who are whom it waits for, in words.
func (w *Waiting) Who() string {
	if w.Rule == nil {
		return words.Deciders(false, "", "", "")
	}
	return w.Rule.Who(w.App, w.Left)
}

// Waits are whom the changes of a plan wait for that are neither decided nor done, those with the most first.
func (s *Selection) Waits() (out []*Waiting) {
	if s.standing == nil {
		return nil
	}
	type key struct {
		rule *decide.Rule
		app  string
		left int
		by   string
	}
	groups := map[key]*Waiting{}
	add := func(k key, by []string, c *plan.Change) {
		w := groups[k]
		if w == nil {
			w = &Waiting{Plan: s.plan.ID, Of: s.plan, Rule: k.rule, App: k.app, Left: k.left, By: by}
			groups[k] = w
			out = append(out, w)
		}
		w.Changes = append(w.Changes, c)
	}
	for i := range s.plan.Changes {
		c := &s.plan.Changes[i]
		if s.States[c.ID] != "" {
			continue
		}
		waits := s.standing.Waits[c.ID]
		for n := range waits {
			k := key{rule: waits[n].Rule, left: waits[n].Left(), by: strings.Join(waits[n].By, " ")}
			if k.rule.Owner {
				k.app = c.App
			}
			add(k, waits[n].By, c)
		}
		if len(waits) == 0 {
			add(key{}, nil, c)
		}
	}
	slices.SortStableFunc(out, func(x, y *Waiting) int { return cmp.Compare(len(y.Changes), len(x.Changes)) })
	return out
}

// Waiting tells what waits for whose decision: of a plan, of the newest where none is named.
func (d *Desk) Waiting(name string) ([]*Waiting, error) {
	var err error
	if name == "" {
		if name, err = d.Newest(); err != nil {
			return nil, err
		}
	}
	p, err := d.Plan(name)
	if err != nil {
		return nil, err
	}
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	s, err := d.Select(p, Choice{})
	if err != nil {
		return nil, err
	}
	out := s.Waits()
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Subject: p.ID}, func(e *ledger.Entry) error {
		for _, w := range out {
			w.Since = e.At
		}
		return ledger.ErrStop
	})
	return out, err
}

// Ignored are the decisions about a plan that are on record and count for nothing.
func (s *Selection) Ignored() []decide.Ignored {
	if s.standing == nil {
		return nil
	}
	return s.standing.Ignored
}

// waitKey begins the keys of what waits for deciders.
const waitKey = "wait/"

// waitItems are what deciders are to be told: what waits for them, once, and again after as long as pravet.yaml says; and who
// they are.
func (d *Desk) waitItems(l ledger.Ledger) (items []letter.Item, ids []string, err error) {
	repo := d.state.Repo
	if len(repo.Deciders) == 0 || !slices.ContainsFunc(repo.Letters.Readers, func(r desired.Readers) bool { return r.Who == "deciders" }) {
		return nil, nil, nil
	}
	name, err := d.Newest()
	if err != nil {
		return nil, nil, nil // there is no plan that anything could wait of
	}
	list, err := d.Waiting(name)
	if err != nil {
		return nil, nil, err
	}
	drafter, err := decisions.DrafterOf(l, repo, name)
	if err != nil {
		return nil, nil, err
	}
	all := map[string]bool{}
	for _, w := range list {
		if w.Rule == nil {
			continue
		}
		since, err := d.zone.DayOf(w.Since)
		if err != nil {
			return nil, nil, err
		}
		turn := 0 // how often it was time to remind
		for next := since.Add(repo.Letters.Remind); next <= d.today && next > since; next = next.Add(repo.Letters.Remind) {
			turn++
		}
		x := letter.Item{
			Key: waitKey + plan.Name(w.Plan, w.Rule.Pos.String(), w.App, fmt.Sprint(turn)), On: d.today.String(), App: w.App,
			Says: sayWaitsForYou(len(w.Changes), w.Plan, words.Sentence(w.Of, w.Changes[0])), For: map[string]bool{},
		}
		for _, id := range decisions.Deciders(repo, w.Rule, w.Changes[0], drafter, d.today) {
			if !slices.Contains(w.By, id) {
				x.For[id], all[id] = true, true
			}
		}
		items = append(items, x)
	}
	return items, slices.Sorted(maps.Keys(all)), nil
}

// sayWaitsForYou is what waits for whoever reads it.
func sayWaitsForYou(n int, plan, example string) string {
	if n == 1 {
		return fmt.Sprintf("1 change of plan %s waits for your decision: %s", plan, example)
	}
	return fmt.Sprintf("%d changes of plan %s wait for your decision, for example: %s", n, plan, example)
}
