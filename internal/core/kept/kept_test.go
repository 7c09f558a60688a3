package kept_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/kept"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

func app() *model.App {
	a := &model.App{ID: "till", Match: "userName", Attrs: []model.Attr{{Name: "userName"}, {Name: "title"}, {Name: "email"}}}
	a.Things = []model.Thing{
		{Kind: model.Group, Name: "crew"}, {Kind: model.Role, Name: "seller"}, {Kind: model.Role, Name: "lead"},
		{Kind: model.License, Name: "seat"},
	}
	a.Index()
	return a
}

// draw draws accounts with names that no format likes.
func draw(t *rapid.T, a *model.App) *model.Accounts {
	out := &model.Accounts{
		Sets: model.NewSets(), Key: &table.Column{}, Attrs: make([]*table.Column, len(a.Attrs)),
		Unmanaged: map[model.UnmanagedThing]int{},
	}
	out.Attrs[0], out.Attrs[1] = out.Key, &table.Column{}
	texts := []string{"", "a", "tab\tand", "line\nend", `back\slash`, `\t`, "Søren", "+1", "-1"}
	for i := range rapid.IntRange(0, 12).Draw(t, "accounts") {
		out.Key.Append(fmt.Sprint(rapid.SampledFrom(texts).Draw(t, "name"), rapid.IntRange(0, 9).Draw(t, "number"), i%7))
		out.Attrs[1].Append(rapid.SampledFrom(texts).Draw(t, "title"))
		out.States = append(out.States, model.StateOf(rapid.Bool().Draw(t, "open")))
		var held []int32
		for thing := range a.Things {
			if rapid.Bool().Draw(t, "held") {
				held = append(held, int32(thing))
			}
		}
		out.Held = append(out.Held, out.Sets.Of(held))
	}
	if rapid.Bool().Draw(t, "nested") {
		out.Nested = make([][]int32, len(a.Things))
		out.Nested[0] = []int32{1}
	}
	return out
}

// told is what accounts say, whatever their order.
func told(a *model.App, x *model.Accounts) (out []string) {
	for i := range x.Len() {
		var held []string
		for _, t := range x.Sets.Members(x.Held[i]) {
			held = append(held, a.Things[t].String())
		}
		slices.Sort(held)
		out = append(out, fmt.Sprintf("%q %v %q %v", x.Key.At(i), x.States[i], x.Attr(1, i), held))
	}
	slices.Sort(out)
	return append(out, fmt.Sprint(x.Nested))
}

// TestWhatIsKeptIsReadAgain: names, states, attributes, holdings and nesting.
func TestWhatIsKeptIsReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := app()
		want := draw(t, a)
		text, err := kept.Write(a, want)
		require.NoError(t, err)
		got, err := kept.Read(text, a)
		require.NoError(t, err)
		require.Equal(t, told(a, want), told(a, got))
	})
}

// TestADifferenceLeadsFromOneToTheOther, and the text of a state does not depend on
// the order of its accounts.
func TestADifferenceLeadsFromOneToTheOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := app()
		x, err := kept.Write(a, draw(t, a))
		require.NoError(t, err)
		y, err := kept.Write(a, draw(t, a))
		require.NoError(t, err)
		got, err := kept.Apply(x, kept.Delta(x, y))
		require.NoError(t, err)
		require.Equal(t, string(y), string(got))
		require.Empty(t, kept.Delta(x, x))
	})
}

// TestWhatIsDamagedIsRefused.
func TestWhatIsDamagedIsRefused(t *testing.T) {
	a := app()
	for _, text := range []string{"", "{", `{"format":"pravet.held/9"}`, `{"format":"pravet.held/1"}` + "\nann\topen\t7\n",
		`{"format":"pravet.held/1"}` + "\nann\topen\n", `{"format":"pravet.held/1","things":["role seller"]}` + "\nann\topen\tx\n"} {
		_, err := kept.Read([]byte(text), a)
		require.Error(t, err, text)
	}
	for _, delta := range []string{"?", "-0", "-9", "-x", "-1\n-1", "\n"} {
		_, err := kept.Apply([]byte("head\nann\n"), []byte(delta))
		require.ErrorIs(t, err, kept.ErrDelta, delta)
	}
}

// TestThingsThatWentAreLeftOut: a catalog may list less today than it did.
func TestThingsThatWentAreLeftOut(t *testing.T) {
	a := app()
	x := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Attrs: make([]*table.Column, 3), States: []model.State{model.Open}}
	x.Key.Append("ann")
	x.Held = []uint32{x.Sets.Of([]int32{0, 1, 2, 3})}
	text, err := kept.Write(a, x)
	require.NoError(t, err)
	less := app()
	less.Things = slices.DeleteFunc(less.Things, func(t model.Thing) bool { return strings.Contains(t.Name, "l") })
	less.Index()
	got, err := kept.Read(text, less)
	require.NoError(t, err)
	require.Equal(t, []string{`"ann" open "" [group crew license seat]`, "[]"}, told(less, got))
}
