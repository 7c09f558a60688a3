package outline_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
)

// past is a history of a few people and lines.
type past struct {
	was, is map[string]string // person → department
	edits   map[int]*outline.Edit
}

func (h past) Was(person, _ string) (string, bool) { v, ok := h.was[person]; return v, ok }
func (h past) Is(person, _ string) string          { return h.is[person] }
func (h past) Attributes() []string                { return []string{"department"} }

func (h past) Gives(string, string, *plan.Thing) (string, int) { return "", 0 }
func (h past) Gave(string, *plan.Thing) (string, int)          { return "", 0 }

func (h past) Edited(_ string, line int) (*outline.Edit, bool) { return h.edits[line], true }

// drawPlan draws a plan of changes by a few lines and values, and what was decided.
func drawPlan(t *rapid.T) (p *plan.Plan, states map[string]string, h past) {
	p = &plan.Plan{People: map[string]string{}, Exports: []plan.Export{{App: "berths"}, {App: "till"}}}
	h = past{map[string]string{}, map[string]string{}, map[int]*outline.Edit{2: {By: "Idris"}}}
	states = map[string]string{}
	departments := []string{"Deck", "Desk", ""}
	for i := range 6 {
		id := fmt.Sprint("E", i)
		p.People[id] = fmt.Sprint("Name ", i)
		if rapid.Bool().Draw(t, "known") {
			h.was[id] = rapid.SampledFrom(departments).Draw(t, "was")
		}
		h.is[id] = rapid.SampledFrom(departments).Draw(t, "is")
	}
	kinds := []fact.Kind{
		fact.KitRule, fact.KitLacks, fact.NoKit, fact.Ended, fact.Away, fact.HasValue, fact.KitHolder, fact.Stray,
	}
	for line := 1; line <= 4; line++ {
		for _, kind := range kinds {
			p.Reasons = append(p.Reasons, plan.Reason{File: "kits/a.yaml", Line: line, Says: "so", Facts: &fact.Fact{
				Kind: kind, Kit: fmt.Sprint("kit", line), Rule: `department eq "Deck"`, Attribute: "department",
			}})
		}
	}
	verbs := model.Verbs()
	for i := range rapid.IntRange(0, 40).Draw(t, "changes") {
		c := plan.Change{
			ID: fmt.Sprintf("change%06d", i),
			App: rapid.SampledFrom([]string{"berths", "till"}).
				Draw(t, "app"),
			Verb:    rapid.SampledFrom(verbs).Draw(t, "verb"),
			ForGood: rapid.IntRange(0, 9).Draw(t, "for good") == 0,
		}
		c.Effect = c.Verb.Effect()
		if n := rapid.IntRange(-1, 5).Draw(t, "person"); n >= 0 {
			c.Person, c.Account = fmt.Sprint("E", n), fmt.Sprint("user", n)
		} else if !c.Verb.OfThing() {
			c.Account = "stray"
		}
		switch c.Verb {
		case model.Assign, model.Release, model.Join, model.Leave, model.Grant, model.Revoke, model.Redefine:
			c.Thing = &plan.Thing{Kind: model.Role, Name: rapid.SampledFrom([]string{"lead", "clerk"}).Draw(t, "thing")}
		case model.Update:
			c.Attribute = rapid.SampledFrom([]string{"department", "email"}).Draw(t, "attribute")
		}
		for range rapid.IntRange(0, 2).Draw(t, "reasons") {
			c.Reasons = append(c.Reasons, rapid.IntRange(0, len(p.Reasons)-1).Draw(t, "reason"))
		}
		for range rapid.IntRange(0, 2).Draw(t, "holds") {
			guard := rapid.SampledFrom([]string{"seats", "narrowing"}).Draw(t, "guard")
			c.Holds = append(
				c.Holds,
				plan.Hold{Guard: guard, Says: rapid.SampledFrom([]string{"one", "two"}).Draw(t, "says")},
			)
		}
		if s := rapid.SampledFrom([]string{"", "accepted", "rejected"}).Draw(t, "state"); s != "" {
			states[c.ID] = s
		}
		p.Changes = append(p.Changes, c)
	}
	return p, states, h
}

func idsOf(p *plan.Plan) (out []string) {
	for i := range p.Changes {
		out = append(out, p.Changes[i].ID)
	}
	slices.Sort(out)
	return out
}

func sorted(ids []string) []string {
	out := slices.Clone(ids)
	slices.Sort(out)
	return out
}

// TestEachChangeIsInOneFoldOfEachGrouping: opening all folds gives the plan, no more
// and no less, and what is counted adds up.
func TestEachChangeIsInOneFoldOfEachGrouping(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, states, h := drawPlan(t)
		in := outline.Input{Plan: p, Changes: outline.All(p), States: states}
		if rapid.Bool().Draw(t, "history") {
			in.History = h
		}
		o := outline.Make(in)
		want := idsOf(p)
		var ofCauses, ofFolds []string
		names := map[string]bool{}
		for n, folds := range o.ByCause() {
			var inCause []string
			for _, f := range folds {
				require.False(t, names[f.ID], "two folds have one name")
				names[f.ID] = true
				inCause, ofFolds = append(inCause, f.Changes...), append(ofFolds, f.Changes...)
			}
			ofCauses = append(ofCauses, o.Causes[n].Changes...)
			require.Equal(t, sorted(o.Causes[n].Changes), sorted(inCause))
		}
		require.Equal(t, want, sorted(ofCauses))
		require.Equal(t, want, sorted(ofFolds))
		for _, key := range []func(*plan.Change) string{
			func(c *plan.Change) string { return c.Person },
			func(c *plan.Change) string { return c.App },
			func(c *plan.Change) string { return c.Verb.String() },
			func(c *plan.Change) string { return outline.Kit(p, c) },
			func(c *plan.Change) string { return o.CauseOf(c.ID).ID },
		} {
			var all []string
			for _, g := range o.By(key) {
				var inGroup []string
				for _, f := range g.Folds {
					inGroup = append(inGroup, f.Changes...)
				}
				require.Equal(t, sorted(g.Changes), sorted(inGroup))
				all = append(all, inGroup...)
			}
			require.Equal(t, want, sorted(all))
		}
		total, held := 0, 0
		for _, c := range o.Counts {
			total, held = total+c.Totals.Changes, held+c.Totals.Held
			require.Equal(t, c.Totals.Changes, c.Totals.Widens+c.Totals.Narrows+c.Totals.Keeps)
		}
		require.Equal(t, len(p.Changes), total)
		require.Equal(t, plan.Count(p.Changes).Held, held)
		for i := range p.Changes {
			require.Contains(t, want, p.Changes[i].ID)
			require.Positive(t, o.Number(p.Changes[i].ID))
		}
	})
}

// TestAPartHasTheNamesOfTheWhole: the number of a change and the names of causes are
// the same whatever part of a plan is shown, so that they can be decided by.
func TestAPartHasTheNamesOfTheWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, states, _ := drawPlan(t)
		all := outline.All(p)
		whole := outline.Make(outline.Input{Plan: p, Changes: all, States: states})
		some := slices.DeleteFunc(
			slices.Clone(all), func(*plan.Change) bool { return rapid.Bool().Draw(t, "out") },
		)
		part := outline.Make(outline.Input{Plan: p, States: states, Changes: some})
		ids := map[string]bool{}
		for i := range whole.Causes {
			ids[whole.Causes[i].ID] = true
		}
		for i := range part.Causes {
			require.True(t, ids[part.Causes[i].ID])
		}
		for i, c := range outline.Listed(p, all) {
			require.Equal(t, i+1, whole.Number(c.ID))
		}
		for _, c := range some {
			require.Equal(t, whole.Number(c.ID), part.Number(c.ID))
		}
	})
}

// TestCausesAreTheLineOrTheRowThatChanged is a table of one change each.
func TestCausesAreTheLineOrTheRowThatChanged(t *testing.T) {
	edit := &outline.Edit{By: "Idris", On: "2026-11-23"}
	h := past{
		was: map[string]string{"moved": "Desk", "same": "Deck", "none": ""},
		is: map[string]string{
			"moved": "Deck",
			"same":  "Deck",
			"none":  "Deck",
			"new":   "Deck",
		}, edits: map[int]*outline.Edit{4: edit},
	}
	rule := func(line int) plan.Reason {
		return plan.Reason{
			File:  "kits/a.yaml",
			Line:  line,
			Facts: &fact.Fact{Kind: fact.KitRule, Rule: `department eq "Deck"`},
		}
	}
	noKit := plan.Reason{File: "people/a.csv", Line: 7, Facts: &fact.Fact{Kind: fact.NoKit}}
	for _, c := range []struct {
		name, person string
		history      bool
		reasons      []plan.Reason
		want         outline.Cause
	}{
		{"a row that moved", "moved", true, []plan.Reason{rule(4)},
			outline.Cause{Kind: outline.Moved, Attribute: "department", Was: "Desk", Is: "Deck"}},
		{"a value that was empty", "none", true, []plan.Reason{rule(4)},
			outline.Cause{Kind: outline.Moved, Attribute: "department", Is: "Deck"}},
		{"a new person", "new", true, []plan.Reason{rule(4)}, outline.Cause{Kind: outline.Joined}},
		{"a line that was changed", "same", true, []plan.Reason{rule(4)},
			outline.Cause{Kind: outline.Lined, File: "kits/a.yaml", Line: 4, Edit: edit}},
		{"a line that was not", "same", true, []plan.Reason{rule(5)},
			outline.Cause{Kind: outline.Lined, File: "kits/a.yaml", Line: 5, Unchanged: true}},
		{"nothing known of before", "moved", false, []plan.Reason{rule(4)},
			outline.Cause{Kind: outline.Lined, File: "kits/a.yaml", Line: 4}},
		{"no kit any more", "moved", true, []plan.Reason{noKit},
			outline.Cause{Kind: outline.Moved, Attribute: "department", Was: "Desk", Is: "Deck"}},
		{"what a kit asks for counts before that no kit gives it", "same", true, []plan.Reason{noKit, rule(4)},
			outline.Cause{Kind: outline.Lined, File: "kits/a.yaml", Line: 4, Edit: edit}},
	} {
		p := &plan.Plan{
			Exports: []plan.Export{{App: "till"}}, Reasons: c.reasons,
			Changes: []plan.Change{{ID: "x", App: "till", Person: c.person, Account: c.person, Verb: model.Create}},
		}
		for i := range c.reasons {
			p.Changes[0].Reasons = append(p.Changes[0].Reasons, i)
		}
		in := outline.Input{Plan: p, Changes: outline.All(p)}
		if c.history {
			in.History = h
		}
		got := outline.Make(in).Causes[0]
		got.ID, got.Facts, got.Says, got.Persons, got.Changes = "", nil, "", 0, nil
		require.Equal(t, c.want, got, c.name)
	}
}

// TestManyValuesOfOneAttributeAreOneCause: forty new emails are one thing to know.
func TestManyValuesOfOneAttributeAreOneCause(t *testing.T) {
	h := past{was: map[string]string{}, is: map[string]string{}}
	p := &plan.Plan{Exports: []plan.Export{{App: "till"}}, Reasons: []plan.Reason{
		{Facts: &fact.Fact{Kind: fact.HasValue, Attribute: "email"}},
	}}
	for i := range 40 {
		id := fmt.Sprint("E", i)
		h.was[id], h.is[id] = "old"+id, "new"+id
		p.Changes = append(p.Changes, plan.Change{
			ID: id, App: "till", Person: id, Account: id, Verb: model.Update, Attribute: "email", Reasons: []int{0},
		})
	}
	o := outline.Make(outline.Input{Plan: p, Changes: outline.All(p), History: h})
	require.Len(t, o.Causes, 1)
	require.Equal(t, "email", o.Causes[0].Attribute)
	require.Empty(t, o.Causes[0].Was)
	require.Len(t, o.Folds, 1)
	require.Equal(t, 40, o.Folds[0].Persons)
}

// TestWhatDeservesALookIsMarked is a table of one change each.
func TestWhatDeservesALookIsMarked(t *testing.T) {
	thing := func(sensitive bool) *plan.Thing {
		return &plan.Thing{Kind: model.Role, Name: "seller", Sensitive: sensitive}
	}
	for want, c := range map[outline.Mark]plan.Change{
		outline.ForGood:   {Verb: model.Remove, ForGood: true},
		outline.Sensitive: {Verb: model.Grant, Effect: model.Widens, Person: "E1", Thing: thing(true)},
		outline.First:     {Verb: model.Grant, Effect: model.Widens, Person: "E1", Thing: thing(false), First: true},
		outline.Nobodys:   {Verb: model.Suspend, Account: "kiosk"},
		outline.Defined:   {Verb: model.Redefine, Thing: thing(false), Reach: &plan.Reach{Accounts: 2}},
		outline.Far:       {Verb: model.Grant, Effect: model.Widens, Person: "E1", Thing: thing(false), Reasons: []int{0}},
		"":                {Verb: model.Redefine, Thing: thing(false)}, // nobody has it
	} {
		c.ID, c.App = "only", "till"
		p := &plan.Plan{
			Exports: []plan.Export{{App: "till"}}, Changes: []plan.Change{c},
			Reasons: []plan.Reason{{Facts: &fact.Fact{Kind: fact.KitWith, Kit: "afloat", Other: "crew"}}},
		}
		o := outline.Make(outline.Input{Plan: p, Changes: outline.All(p)})
		if want == "" {
			require.Empty(t, o.Unusual)
			continue
		}
		require.Equal(t, []outline.Unusual{{Mark: want, Changes: []string{"only"}}}, o.Unusual)
	}
}
