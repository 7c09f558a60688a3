package past_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/past"
)

func keptApp() *model.App {
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

// keptTold is what accounts say, whatever their order.
func keptTold(a *model.App, x *model.Accounts) (out []string) {
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
		a := keptApp()
		want := draw(t, a)
		text, err := past.Write(a, want)
		require.NoError(t, err)
		got, err := past.Read(text, a)
		require.NoError(t, err)
		require.Equal(t, keptTold(a, want), keptTold(a, got))
	})
}

// TestADifferenceLeadsFromOneToTheOther, and the text of a state does not depend on
// the order of its accounts.
func TestADifferenceLeadsFromOneToTheOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := keptApp()
		x, err := past.Write(a, draw(t, a))
		require.NoError(t, err)
		y, err := past.Write(a, draw(t, a))
		require.NoError(t, err)
		got, err := past.Apply(x, past.Delta(x, y))
		require.NoError(t, err)
		require.Equal(t, string(y), string(got))
		require.Empty(t, past.Delta(x, x))
	})
}

// TestWhatIsDamagedIsRefused.
func TestWhatIsDamagedIsRefused(t *testing.T) {
	a := keptApp()
	for _, text := range []string{"", "{", `{"format":"pravet.held/9"}`, `{"format":"pravet.held/1"}` + "\nann\topen\t7\n",
		`{"format":"pravet.held/1"}` + "\nann\topen\n", `{"format":"pravet.held/1","things":["role seller"]}` + "\nann\topen\tx\n"} {
		_, err := past.Read([]byte(text), a)
		require.Error(t, err, text)
	}
	for _, delta := range []string{"?", "-0", "-9", "-x", "-1\n-1", "\n"} {
		_, err := past.Apply([]byte("head\nann\n"), []byte(delta))
		require.ErrorIs(t, err, past.ErrDelta, delta)
	}
}

// TestThingsThatWentAreLeftOut: a catalog may list less today than it did.
func TestThingsThatWentAreLeftOut(t *testing.T) {
	a := keptApp()
	x := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Attrs: make([]*table.Column, 3), States: []model.State{model.Open}}
	x.Key.Append("ann")
	x.Held = []uint32{x.Sets.Of([]int32{0, 1, 2, 3})}
	text, err := past.Write(a, x)
	require.NoError(t, err)
	less := keptApp()
	less.Things = slices.DeleteFunc(less.Things, func(t model.Thing) bool { return strings.Contains(t.Name, "l") })
	less.Index()
	got, err := past.Read(text, less)
	require.NoError(t, err)
	require.Equal(t, []string{`"ann" open "" [group crew license seat]`, "[]"}, keptTold(less, got))
}
