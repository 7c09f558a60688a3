package guard_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/filter"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

const today = day.Day(20000)

// A desk is an application of ten clerks who should all be sellers, and whom
// something is the matter with.
type desk struct {
	app    model.App
	org    model.Guards
	gone   int // clerks who are no longer in the files
	left   int // clerks whose last day is over
	moved  int // clerks who have a role that they should not have
	strays string
	before int // accounts in the export before, or 0 for not known
	people int // people in the plan before, or 0 for not known
	age    int // days since the export was taken
}

func (d *desk) plan(t *testing.T) *plan.Plan {
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("ends")}
	file := people.File("people.csv")
	accounts := &model.Accounts{Attrs: []*table.Column{{}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	for i := range 10 {
		name, ends := fmt.Sprintf("clerk.%d", i), ""
		if i >= d.gone && i < d.gone+d.left {
			ends = (today - 1).String()
		}
		if i >= d.gone {
			people.Add(file, i+2, attrs, []string{name, name, ends})
		}
		held := []int32{1}
		if i >= 10-d.moved {
			held = []int32{0, 1}
		}
		accounts.Key.Append(name)
		accounts.States = append(accounts.States, model.StateOf(d.strays != "remove" || i >= d.gone))
		accounts.Held = append(accounts.Held, accounts.Sets.Of(held))
	}
	people.Close()
	app := d.app
	app.ID, app.Match, app.Strays = "till", "userName", d.strays
	app.Attrs = []model.Attr{{Name: "userName", Person: "userName"}}
	app.Things = []model.Thing{
		{Kind: model.Role, Name: "lead", Seats: -1},
		{Kind: model.Role, Name: "seller", Seats: -1},
	}
	app.Index()
	unknown := func(n int) int {
		if n == 0 {
			return -1
		}
		return n
	}
	kit := &model.Kit{
		Name:     "all",
		Everyone: true,
		Gives:    []model.Give{{App: 0, Things: []int32{1}, Pos: []model.Pos{{}}}},
	}
	p, err := draft.Draft(draft.Input{
		People:       people,
		Apps:         []*model.App{&app},
		Kits:         []*model.Kit{kit},
		Guards:       d.org,
		Today:        today,
		Clock:        today,
		PeopleBefore: unknown(d.people),
		Exports:      []*draft.Export{{Accounts: accounts, Day: today - day.Day(d.age), Before: unknown(d.before)}},
	})
	require.NoError(t, err)
	return p
}

// held are the guards that hold something, with what they say.
func held(p *plan.Plan) map[string]string {
	out := map[string]string{}
	for i := range p.Changes {
		for _, h := range p.Changes[i].Holds {
			out[h.Guard] = h.Says
		}
	}
	return out
}

func count(n int) model.Limit { return model.Limit{Count: n, Set: true} }

func percent(n float64) model.Limit { return model.Limit{Percent: n, IsPct: true, Set: true} }

// TestEachLimitHoldsBeyondItAndNotAtIt, as a number and as a percentage, of the
// application before the organization's, and says what was seen and what the
// limit is.
func TestEachLimitHoldsBeyondItAndNotAtIt(t *testing.T) {
	wide := model.Guards{
		Removals:     count(99),
		Suspensions:  percent(100),
		Narrowing:    percent(100),
		ExportShrink: percent(100),
		RosterShrink: percent(100),
		ExportAge:    day.Duration{Days: 99},
		ExportAgeSet: true,
		WaitSet:      true,
	}
	for _, c := range []struct {
		guard string
		desk  desk
		limit func(*model.Guards, model.Limit)
		at    int // how many there are
		says  string
	}{
		{
			guard.Removals, desk{gone: 3, strays: "remove"}, func(g *model.Guards, l model.Limit) { g.Removals = l },
			3, "3 accounts would be removed; the limit is %s",
		},
		{
			guard.Suspensions, desk{left: 3}, func(g *model.Guards, l model.Limit) { g.Suspensions = l }, 3,
			"3 accounts would be suspended; the limit is %s",
		},
		{
			guard.Narrowing, desk{moved: 3}, func(g *model.Guards, l model.Limit) { g.Narrowing = l }, 3,
			"3 accounts would lose something; the limit is %s",
		},
		{
			guard.ExportShrink, desk{moved: 1, before: 12},
			func(g *model.Guards, l model.Limit) { g.ExportShrink = l }, 2,
			"the export has 10 accounts, down from 12 in the last export that was not suspect; at most %s",
		},
		{
			guard.RosterShrink, desk{moved: 1, people: 12},
			func(g *model.Guards, l model.Limit) { g.RosterShrink = l }, 2,
			"the files list 10 people, down from 12 at the last plan or run that was not suspect; at most %s",
		},
	} {
		for _, limit := range []struct {
			l     model.Limit
			holds bool
		}{
			{count(c.at), false}, {count(c.at - 1), true}, {count(0), true}, {percent(float64(c.at) * 10), false},
			{percent(float64(c.at-1) * 8), true}, {percent(0), true},
		} {
			for _, own := range []bool{true, false} {
				if own && c.guard == guard.RosterShrink {
					continue // it is the organization's alone
				}
				d := c.desk
				d.org = wide
				if own {
					c.limit(&d.org, percent(50)) // which the application's own comes before
					if !limit.holds {
						c.limit(&d.org, count(0))
					}
					c.limit(&d.app.Guards, limit.l)
				} else {
					c.limit(&d.org, limit.l)
				}
				says, ok := held(d.plan(t))[c.guard]
				require.Equal(t, limit.holds, ok, "%s with %s, own %v", c.guard, limit.l, own)
				if ok {
					require.True(t, strings.HasPrefix(says, fmt.Sprintf(c.says, limit.l)), "%s: %s", c.guard, says)
				}
			}
		}
	}
}

func TestAnExportIsTooOldTheDayAfterItsAge(t *testing.T) {
	for _, c := range []struct {
		age      int
		org, app string
		holds    bool
	}{
		{1, "", "", false}, {2, "", "", true}, {7, "P1W", "", false}, {8, "P1W", "", true}, {8, "P1W", "P2W", false},
		{2, "P1W", "P1D", true}, {0, "P0D", "", false}, {1, "P0D", "", true},
	} {
		d := desk{moved: 1, age: c.age}
		set := func(g *model.Guards, text string) {
			if text != "" {
				age, err := day.ParseDuration(text)
				require.NoError(t, err)
				g.ExportAge, g.ExportAgeSet = age, true
			}
		}
		set(&d.org, c.org)
		set(&d.app.Guards, c.app)
		d.org.Narrowing = percent(100)
		_, ok := held(d.plan(t))[guard.ExportAge]
		require.Equal(t, c.holds, ok, "%+v", c)
	}
}

// TestEveryGuardHasADistinctName, by which it is lifted.
func TestEveryGuardHasADistinctName(t *testing.T) {
	seen := map[string]bool{}
	for _, g := range guard.All() {
		require.False(t, seen[g.Name], g.Name)
		require.Regexp(t, `^[a-z]+(-[a-z]+)*$`, g.Name)
		require.NotEmpty(t, g.Raises, g.Name)
		require.NotEmpty(t, g.Holds, g.Name)
		seen[g.Name] = true
	}
	require.GreaterOrEqual(t, len(seen), 19)
}

// TestSeatsGoByRankStartAndId: who goes without is the same whatever the order
// in which people stand in the files.
func TestSeatsGoByRankStartAndId(t *testing.T) {
	type person struct{ id, team, starts string }
	all := []person{
		{"1", "late", "2026-01-01"},
		{"2", "early", "2020-01-01"},
		{"3", "early", "2019-01-01"},
		{"4", "none", "2010-01-01"},
		{"5", "early", "2020-01-01"},
		{"6", "late", "2025-01-01"},
	}
	first := []string{"3", "2", "5", "6", "1", "4"} // rank, then start, then id; no rank last
	for seats := range 7 {
		for turn := range all {
			people := model.NewPeople()
			attrs := []int{
				people.Attribute("id"),
				people.Attribute("userName"),
				people.Attribute("team"),
				people.Attribute("starts"),
			}
			file := people.File("p")
			for i := range all {
				p := all[(i+turn)%len(all)]
				people.Add(file, i, attrs, []string{p.id, "u" + p.id, p.team, p.starts})
			}
			people.Close()
			app := &model.App{
				ID:     "till",
				Match:  "userName",
				Attrs:  []model.Attr{{Name: "userName", Person: "userName"}},
				Things: []model.Thing{{Kind: model.License, Name: "seat", Seats: seats}},
			}
			app.Index()
			accounts := &model.Accounts{
				Attrs:  []*table.Column{{}},
				Sets:   model.NewSets(),
				States: []model.State{model.Open},
				Held:   []uint32{0},
			}
			accounts.Key = accounts.Attrs[0]
			accounts.Key.Append("root")
			kit := func(name string, rank int) *model.Kit {
				f, err := filter.Parse(fmt.Sprintf("team eq %q", name))
				require.NoError(t, err)
				return &model.Kit{
					Name:  name,
					For:   f,
					Rank:  rank,
					Gives: []model.Give{{App: 0, Things: []int32{0}, Pos: []model.Pos{{}}}},
				}
			}
			p, err := draft.Draft(draft.Input{
				People:       people,
				Apps:         []*model.App{app},
				Kits:         []*model.Kit{kit("early", 1), kit("late", 2), kit("none", 0)},
				Today:        today + 3000,
				Clock:        today + 3000,
				PeopleBefore: -1,
				Exports:      []*draft.Export{{Accounts: accounts, Day: today + 3000, Before: -1}},
			})
			require.NoError(t, err)
			var served []string
			for _, want := range first {
				for i := range p.Changes {
					if c := &p.Changes[i]; c.Verb == model.Assign && c.Person == want && len(c.Holds) == 0 {
						served = append(served, want)
					}
				}
			}
			require.Equal(t, first[:seats], append([]string{}, served...), "%d seats", seats)
		}
	}
}
