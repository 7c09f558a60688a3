package draft_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/diff"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

func people(n int) *model.People {
	p := model.NewPeople()
	id := p.Attribute("id")
	for i := range n {
		p.Add(p.File("p"), i, []int{id}, []string{string(rune('a' + i))})
	}
	p.Close()
	return p
}

func of(verb model.Verb, person, thing int32) diff.Change {
	c := diff.Change{
		Person:  person,
		Account: person,
		Thing:   thing,
		Attr:    diff.None,
		Verb:    verb,
		Slot:    person,
		Key:     "stray",
	}
	if person >= 0 {
		c.Key = string(rune('a' + person))
	}
	return c
}

// TestTheOrderOfAPlan, whatever the order in which differences come: definitions,
// what narrows, what is redefined with more, what widens, doubles, and the end of
// definitions.
func TestTheOrderOfAPlan(t *testing.T) {
	redefine := func(s diff.Sense) diff.Change {
		c := of(model.Redefine, diff.None, 0)
		c.Key, c.Sense, c.Def = "", s, &diff.Definition{Field: diff.Permissions}
		return c
	}
	define := func(thing int32, depth int) diff.Change {
		c := of(model.Define, diff.None, thing)
		c.Key, c.Def = "", &diff.Definition{Depth: depth}
		return c
	}
	double, late := of(model.Revoke, 0, 2), of(model.Revoke, 1, 3)
	double.Why, late.Late = diff.IsDouble, true
	want := []diff.Change{
		define(
			2,
			0,
		), define(1, 1), redefine(diff.Less), of(model.Suspend, 0, diff.None), of(model.Suspend, 1, diff.None), of(model.Release, 0, 4), of(model.Leave, 0, 5), of(model.Revoke, 0, 6),
		of(
			model.Remove,
			diff.None,
			diff.None,
		), redefine(diff.More), of(model.Create, 2, diff.None), of(model.Restore, 0, diff.None), of(model.Update, 0, diff.None), of(model.Assign, 2, 4),
		of(
			model.Join,
			2,
			5,
		), of(model.Grant, 2, 6), of(model.Grant, 2, 7), double, late, of(model.Retire, diff.None, 8),
	}
	rapid.Check(t, func(t *rapid.T) {
		got := rapid.Permutation(want).Draw(t, "order")
		draft.Sort(got, people(3))
		require.Equal(t, want, got)
	})
}

// TestTheLastHolderGoesAfterTheNextHasCome is a table of who holds a role of which
// some must stay, before and after.
func TestTheLastHolderGoesAfterTheNextHasCome(t *testing.T) {
	for name, c := range map[string]struct {
		least  int
		holds  []bool // a, b, c
		gone   []int32
		come   []int32
		late   bool
		closed bool // those who go are suspended
	}{
		"one for one":           {1, []bool{true, false, false}, []int32{0}, []int32{1}, true, false},
		"one for one, closed":   {1, []bool{true, false, false}, []int32{0}, []int32{1}, true, true},
		"two for two":           {2, []bool{true, true, false}, []int32{0}, []int32{2}, true, false},
		"enough stay all along": {1, []bool{true, true, false}, []int32{0}, []int32{2}, false, false},
		"nobody goes":           {1, []bool{true, false, false}, nil, []int32{2}, false, false},
		"nothing is guarded":    {0, []bool{true, false, false}, []int32{0}, []int32{1}, false, false},
	} {
		app := &model.App{
			ID:    "till",
			Match: "userName",
			Things: []model.Thing{
				{Kind: model.Role, Name: "boss", AtLeast: c.least},
				{Kind: model.Role, Name: "other"},
			},
		}
		app.Index()
		accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}}
		for i, holds := range c.holds {
			accounts.Key.Append(string(rune('a' + i)))
			held := []int32{1}
			if holds {
				held = []int32{0, 1}
			}
			accounts.States, accounts.Held = append(
				accounts.States,
				model.StateOf(true),
			), append(accounts.Held, accounts.Sets.Of(held))
		}
		var changes []diff.Change
		for _, p := range c.gone {
			if c.closed {
				changes = append(changes, of(model.Suspend, p, diff.None))
			}
			changes = append(changes, of(model.Revoke, p, 0), of(model.Revoke, p, 1))
		}
		changes = append(changes, of(model.Revoke, 2, 1)) // nothing to do with it
		for _, p := range c.come {
			changes = append(changes, of(model.Grant, p, 0))
		}
		draft.Sort(changes, people(3))
		draft.Defer(
			[]*model.App{app},
			[]*model.Accounts{accounts},
			diff.Follow([]*model.App{app}, []*model.Accounts{accounts}, nil, changes),
			changes,
			people(3),
		)
		widened := false
		for i := range changes {
			ch := &changes[i]
			widened = widened || ch.Verb == model.Grant
			goes := len(c.gone) > 0 && ch.Person == c.gone[0] && ch.Thing != 1 // what else they lose does not wait
			require.Equal(t, c.late && goes, widened && ch.Verb != model.Grant, "%s: %s %s", name, ch.Verb, ch.Key)
		}
	}
}
