package course_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/course"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// TestStepsFollowNeeds is a table of plans and the steps in which they are
// carried out; changes that fail are marked with an x, and what needs them is
// left.
func TestStepsFollowNeeds(t *testing.T) {
	type ch struct {
		id, app string
		effect  model.Effect
		needs   []string
	}
	const n, w, k = model.Narrows, model.Widens, model.Keeps
	for _, c := range []struct {
		name    string
		changes []ch
		fails   string
		want    [][]string
		lacking []string
	}{
		{
			"narrowing first, in all applications",
			[]ch{{"1", "a", n, nil}, {"2", "b", n, nil}, {"3", "a", w, nil}, {"4", "b", k, nil}}, "",
			[][]string{{"1"}, {"2"}, {"3"}, {"4"}}, nil,
		},
		{
			"what narrows late comes last", []ch{{"1", "a", w, nil}, {"2", "a", n, nil}, {"3", "b", n, nil}}, "",
			[][]string{{"3"}, {"1"}, {"2"}}, nil,
		},
		{
			"a need counts more than the phase",
			[]ch{{"1", "a", w, nil}, {"2", "b", n, []string{"1"}}, {"3", "a", w, []string{"2"}}}, "",
			[][]string{{"1"}, {"2"}, {"3"}}, nil,
		},
		{
			"a need of another application",
			[]ch{{"1", "a", n, nil}, {"2", "b", w, []string{"1"}}, {"3", "b", w, nil}}, "",
			[][]string{{"1"}, {"2", "3"}}, nil,
		},
		{
			"one after the other",
			[]ch{{"1", "a", w, nil}, {"2", "a", w, []string{"1"}}, {"3", "a", w, []string{"2"}}}, "",
			[][]string{{"1"}, {"2"}, {"3"}}, nil,
		},
		{
			"what needs a failure is left",
			[]ch{{"1", "a", w, nil}, {"2", "a", w, []string{"1"}}, {"3", "a", w, []string{"2"}}, {"4", "a", w, nil}},
			"1", [][]string{{"1", "4"}}, []string{"2", "3"},
		},
		{
			"a need outside of the plan is never met", []ch{{"1", "a", w, []string{"gone"}}, {"2", "a", w, nil}}, "",
			[][]string{{"2"}}, []string{"1"},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := &plan.Plan{}
			states := make([]decide.State, len(c.changes))
			for i, x := range c.changes {
				p.Changes = append(p.Changes, plan.Change{ID: x.id, App: x.app, Effect: x.effect, Needs: x.needs})
				states[i] = decide.Ready
			}
			co := course.New(p)
			var got [][]string
			for step := co.Next(states); step != nil; step = co.Next(states) {
				var ids []string
				for _, i := range step {
					ids = append(ids, p.Changes[i].ID)
					states[i] = decide.Completed
					if p.Changes[i].ID == c.fails {
						states[i] = decide.Tried
					}
				}
				got = append(got, ids)
			}
			require.Equal(t, c.want, got)
			var lacking []string
			for _, i := range co.Lack(states) {
				lacking = append(lacking, p.Changes[i].ID)
				require.NotNil(t, co.Missing(i, states) != nil || len(p.Changes[i].Needs) > 0)
			}
			require.Equal(t, c.lacking, lacking)
		})
	}
}

// TestAPartIsCheckedByTheDefinitionsThatItLeaves: what a redefinition takes, or
// gives, counts where it is among what is carried out, and not where it is not.
func TestAPartIsCheckedByTheDefinitionsThatItLeaves(t *testing.T) {
	app := &model.App{ID: "till", Match: "userName", Things: []model.Thing{
		{
			Kind:    model.Role,
			Name:    "boss",
			Define:  true,
			Seats:   -1,
			AtLeast: 0,
		}, {Kind: model.Role, Name: "key", AtLeast: 1, Seats: -1}, {Kind: model.Role, Name: "other", Seats: -1},
	}}
	app.Index()
	accounts := &model.Accounts{
		Attrs:  nil,
		Sets:   model.NewSets(),
		Key:    &table.Column{},
		States: []model.State{model.Open, model.Open},
		Definitions: &model.Definitions{
			Of: []*model.Definition{
				{Kind: model.Role, Name: "boss", Brings: []string{"role key"}, Along: []int32{1}}, nil, nil,
			},
			Brings: true,
		},
	}
	accounts.Key.Append("ada")
	accounts.Key.Append("bo")
	accounts.Held = []uint32{accounts.Sets.Of([]int32{0}), accounts.Sets.Of([]int32{2})}
	less := &plan.Change{
		ID:        "less",
		App:       "till",
		Verb:      model.Redefine,
		Attribute: "brings",
		Before:    plan.List([]string{"role key"}),
		After:     plan.List(nil),
		Thing:     &plan.Thing{Kind: model.Role, Name: "boss"},
		Effect:    model.Narrows,
	}
	leave := &plan.Change{
		ID:      "leave",
		App:     "till",
		Verb:    model.Revoke,
		Account: "ada",
		Thing:   &plan.Thing{Kind: model.Role, Name: "boss"},
		Effect:  model.Narrows,
	}
	grant := &plan.Change{
		ID:      "grant",
		App:     "till",
		Verb:    model.Grant,
		Account: "bo",
		Thing:   &plan.Thing{Kind: model.Role, Name: "key"},
		Effect:  model.Widens,
	}
	suspend := &plan.Change{ID: "suspend", App: "till", Verb: model.Suspend, Account: "ada", Effect: model.Narrows}
	for _, c := range []struct {
		changes []*plan.Change
		held    []string
	}{
		{nil, nil},
		{[]*plan.Change{less}, []string{"less"}},
		{[]*plan.Change{leave}, []string{"leave"}},
		{[]*plan.Change{suspend}, []string{"suspend"}},
		{[]*plan.Change{less, grant}, []string{"less"}},
		{[]*plan.Change{grant, less}, nil},
		{[]*plan.Change{grant, leave}, nil},
		{[]*plan.Change{grant, less, leave, suspend}, nil},
		{[]*plan.Change{less, leave}, []string{"leave", "less"}},
	} {
		now := &course.Now{
			People:   model.NewPeople(),
			Apps:     []*model.App{app},
			Accounts: []*model.Accounts{accounts},
			PersonOf: [][]int32{{diff.None, diff.None}},
		}
		got := now.Try(func(string, *plan.Change) bool { return false }).Refuse(0, c.changes)
		require.Len(t, got, len(c.held), "%v", got)
		for _, id := range c.held {
			require.Contains(t, got[id].Says, "no active holder of role key would be left; at least 1 must", id)
		}
	}
}

// TestBrokenCountsWhatMustHold in accounts as they are, whatever came of them.
func TestBrokenCountsWhatMustHold(t *testing.T) {
	app := &model.App{
		ID: "till", Match: "userName", Attrs: []model.Attr{{Name: "userName"}},
		Things: []model.Thing{
			{Kind: model.Role, Name: "key", Seats: -1, AtLeast: 2}, {Kind: model.Role, Name: "pay", Seats: -1},
			{Kind: model.License, Name: "desk", Seats: 1},
		},
	}
	app.Index()
	key, pay, desk := app.Thing(model.Role, "key"), app.Thing(model.Role, "pay"), app.Thing(model.License, "desk")
	people := model.NewPeople()
	file, id := people.File("people/all.csv"), people.Attribute("id")
	for i, p := range []string{"1", "2"} {
		require.True(t, people.Add(file, i+2, []int{id}, []string{p}))
	}
	with := func(held ...[]int32) *model.Accounts {
		accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}}
		for i, h := range held {
			accounts.Key.Append(string(rune('a' + i)))
			accounts.States = append(accounts.States, model.Open)
			accounts.Held = append(accounts.Held, accounts.Sets.Of(h))
		}
		return accounts
	}
	for _, c := range []struct {
		what     string
		accounts *model.Accounts
		want     map[string]int
	}{
		{"all is well", with([]int32{key, desk}, []int32{key}), map[string]int{}},
		{"a seat too many", with([]int32{key, desk}, []int32{key, desk}), map[string]int{"till: seats of license desk": 1}},
		{"a holder too few", with([]int32{key}, nil), map[string]int{"till: holders of role key who must stay": 1}},
		{"apart", with([]int32{key, pay}, []int32{key}), map[string]int{"separation cash: 1": 1}},
	} {
		now := &course.Now{
			People: people, Apps: []*model.App{app}, Accounts: []*model.Accounts{c.accounts},
			PersonOf:    [][]int32{{0, 1}},
			Separations: []model.Separation{{Name: "cash", Apart: []model.AppThing{{Thing: key}, {Thing: pay}}}},
		}
		require.Equal(t, c.want, now.Broken(), c.what)
	}
}
