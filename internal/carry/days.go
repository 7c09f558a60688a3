// A rehearsal of days lives through them on copies of the applications, with a copy of the ledger: every day a plan is drafted and
// carried out as far as it would be with nobody there. It is the code that drafts and carries out, with another clock.

package carry

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// Living is what days are rehearsed of. The State is used up: its applications are replaced.
type Living struct {
	State  *prepare.State // with its applications read
	Ledger ledger.Ledger  // a copy, whose clock Clock sets
	From   day.Day
	To     day.Day
	Clock  func(day.Day)
	// Accepts are the changes of a plan that would be accepted on its day, of those that nothing holds but that it waits to be
	// accepted individually.
	Accepts func(p *plan.Plan, now *decide.PlanDecisions, today day.Day) (map[string]bool, error)
	// Told hears of each day that is over; may be nil.
	Told func(day.Day)
}

// A Happened is a change that would be carried out.
type Happened struct {
	Person  string       `json:"person,omitempty"`
	Name    string       `json:"name,omitempty"`
	App     string       `json:"app"`
	Account string       `json:"account,omitempty"`
	Effect  model.Effect `json:"effect"`
	Says    string       `json:"says"`
	ForGood bool         `json:"forGood,omitempty"`
	Because string       `json:"because"` // the cause, in words
}

// A Lived is what would happen on a day on which something does.
type Lived struct {
	On   string     `json:"on"` // YYYY-MM-DD
	Done []Happened `json:"done"`
}

// A Pending is a change that would wait for somebody, and since which day it does.
type Pending struct {
	Since string `json:"since"` // YYYY-MM-DD
	Until string `json:"until"` // the last day on which it was still wanted
	Says  string `json:"says"`
	Why   string `json:"why"`             // a decision, or a guard and its words
	Guard string `json:"guard,omitempty"` // "" where nothing holds it
}

// An Ending is how an application stands at the end: its accounts by state.
type Ending struct {
	App      string         `json:"app"`
	Accounts map[string]int `json:"accounts"`
	Before   map[string]int `json:"before"`
}

// Days is what came of a rehearsal of days.
type Days struct {
	From    string    `json:"from"`
	To      string    `json:"to"`
	Lived   []Lived   `json:"days"`    // those on which something happens
	Pending []Pending `json:"pending"` // what would wait at some time, those that wait first first
	Seats   []Pending `json:"seats"`   // of those, what no seat is left for
	Endings []Ending  `json:"endings"`
	Done    int       `json:"done"`
}

// Live lives through days. O(days · a draft).
func Live(ctx context.Context, in Living) (*Days, error) {
	x := &Days{From: in.From.String(), To: in.To.String(), Lived: []Lived{}, Pending: []Pending{}, Seats: []Pending{}, Endings: []Ending{}}
	mirrors := map[int]*prepare.Mirror{}
	s := in.State
	numbers := map[string]int{}
	for a, app := range s.Repo.Apps {
		numbers[app.ID] = a
	}
	err := s.Mirror(func(app *model.App, m *prepare.Mirror) connect.Application {
		mirrors[numbers[app.ID]] = m
		return m
	})
	if err != nil {
		return nil, err
	}
	if err := s.Freeze(); err != nil {
		return nil, err
	}
	start := states(mirrors)
	waits := map[string]*Pending{}
	var order []string
	for today := in.From; today <= in.To; today++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		in.Clock(today)
		for _, m := range mirrors {
			m.State.TakenAt, m.State.Says = today.Time(), true // it is exported every morning
		}
		lived, left, err := in.day(ctx, today)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", today, err)
		}
		if len(lived) > 0 {
			x.Lived = append(x.Lived, Lived{today.String(), lived})
			x.Done += len(lived)
		}
		for _, p := range left {
			key := p.Says + "\x00" + p.Guard
			if waits[key] == nil {
				waits[key] = &p
				order = append(order, key)
			}
			waits[key].Until = today.String()
		}
		if in.Told != nil {
			in.Told(today)
		}
	}
	for _, key := range order {
		x.Pending = append(x.Pending, *waits[key])
		if waits[key].Guard == guard.Seats {
			x.Seats = append(x.Seats, *waits[key])
		}
	}
	end := states(mirrors)
	for a, app := range s.Repo.Apps {
		if mirrors[a] != nil {
			x.Endings = append(x.Endings, Ending{app.ID, end[a], start[a]})
		}
	}
	return x, nil
}

// states counts the accounts of applications by state.
func states(mirrors map[int]*prepare.Mirror) map[int]map[string]int {
	out := map[int]map[string]int{}
	for a, m := range mirrors {
		out[a] = map[string]int{}
		for _, state := range m.State.Accounts.States {
			out[a][state.String()]++
		}
	}
	return out
}

// mostRounds is how often a plan is drafted on one day: what one carries out may make room for more.
const mostRounds = 4

// day lives through one day: what is carried out, and what waits at its end.
func (in *Living) day(ctx context.Context, today day.Day) (lived []Happened, left []Pending, err error) {
	for range mostRounds {
		done, still, err := in.round(ctx, today)
		if err != nil {
			return nil, nil, err
		}
		lived, left = append(lived, done...), still
		if len(done) == 0 {
			break
		}
	}
	return lived, left, nil
}

// round drafts a plan and carries out what is accepted of it.
func (in *Living) round(ctx context.Context, today day.Day) (lived []Happened, left []Pending, err error) {
	s := in.State
	if err := s.Reread(ctx); err != nil {
		return nil, nil, err
	}
	p, err := prepare.Draft(s, in.Ledger, today, today, nil)
	if err != nil {
		return nil, nil, err
	}
	if _, err := p.Seal(); err != nil {
		return nil, nil, err
	}
	if err := prepare.Record(in.Ledger, s, p, prepare.PlanFolder+"/"+p.ID+".json", today); err != nil {
		return nil, nil, err
	}
	if len(p.Changes) == 0 {
		return nil, nil, nil
	}
	job, err := New(ctx, s, p, in.Ledger, today)
	if err != nil {
		return nil, nil, err
	}
	accepts, err := in.Accepts(p, job.Standing, today)
	if err != nil {
		return nil, nil, err
	}
	before := maps.Clone(job.Standing.Done)
	if len(accepts) > 0 {
		job.ByRule(accepts)
		if err := job.Among(ctx, accepts); err != nil {
			return nil, nil, err
		}
		job.Preview()
		if job.Count(decide.Ready) > 0 {
			if _, err := job.Run(ctx, func(Progress) {}); err != nil {
				return nil, nil, err
			}
		}
	}
	for i := range p.Changes {
		c := &p.Changes[i]
		if job.Standing.Done[c.ID] && !before[c.ID] {
			lived = append(lived, Happened{
				Person: c.Person, Name: p.People[c.Person], App: c.App, Account: c.Account, Effect: c.Effect,
				Says: words.Sentence(p, c), ForGood: c.ForGood, Because: why(p, c),
			})
			continue
		}
		if job.Standing.Done[c.ID] || job.Standing.Verdicts[c.ID] == decide.Rejected {
			continue
		}
		left = append(left, pending(job, p, c, i, today))
	}
	return lived, left, nil
}

// why is the first reason of a change, in words.
func why(p *plan.Plan, c *plan.Change) string {
	reasons := p.Because(c)
	switch {
	case len(reasons) == 0:
		return ""
	case reasons[0].File == "":
		return reasons[0].Says
	}
	return fmt.Sprintf("%s:%d %s", reasons[0].File, reasons[0].Line, reasons[0].Says)
}

// pending is a change that nobody would carry out, and why.
func pending(job *Job, p *plan.Plan, c *plan.Change, i int, today day.Day) Pending {
	x := Pending{Since: today.String(), Says: words.Sentence(p, c), Why: "a decision"}
	holds := job.Standing.Holding(p, c, today)
	at := slices.IndexFunc(holds, func(h plan.Hold) bool { return !guard.Asks(h.Guard) })
	switch h, now := job.Why[c.ID]; {
	case at >= 0:
		x.Guard, x.Why = holds[at].Guard, holds[at].Guard+": "+holds[at].Says
	case now:
		x.Guard, x.Why = h.Guard, h.Guard+": "+h.Says
	case len(holds) > 0:
		x.Why = "a decision about it individually: " + holds[0].Guard
	case job.States[i] == decide.Lacking:
		x.Why = "something that it needs"
	}
	x.Why = strings.TrimSuffix(x.Why, ": ")
	return x
}
