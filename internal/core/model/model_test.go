package model_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
)

func TestALimitIsACountOrAShareRoundedDown(t *testing.T) {
	for _, c := range []struct {
		limit model.Limit
		whole int
		want  int
	}{
		{model.Limit{Count: 3}, 100, 3},
		{model.Limit{Percent: 10, IsPct: true}, 100, 10},
		{model.Limit{Percent: 10, IsPct: true}, 1, 1},
		{model.Limit{Percent: 10, IsPct: true}, 0, 1},
		{model.Limit{Percent: 0, IsPct: true}, 100, 0},
		{model.Limit{Percent: 100, IsPct: true}, 7, 7},
		{model.Limit{Percent: 0.1, IsPct: true}, 1000, 1},
		{model.Limit{Percent: 0.1, IsPct: true}, 1999, 1},
		{model.Limit{Percent: 1.1, IsPct: true}, 3000, 33},
		{model.Limit{Percent: 10, IsPct: true}, 19, 1},
		{model.Limit{Percent: 25, IsPct: true}, 3, 1},
	} {
		require.Equal(t, c.want, c.limit.Of(c.whole), "%v of %d", c.limit, c.whole)
	}
	org := model.Guards{Removals: model.Limit{Count: 7, Set: true}}
	app := model.Guards{Removals: model.Limit{Count: 0, Set: true}}
	require.Equal(t, 0, app.Or(org).Removals.Count, "a limit of nothing is a limit")
	require.Equal(t, 7, model.Guards{}.Or(org).Removals.Count)
	require.Equal(t, 2, model.Guards{}.Or(model.Guards{}).Or(model.DefaultGuards()).Removals.Count)
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]model.Address{
		"tickets/role/seller":        {App: "tickets", Kind: "role", Name: "seller"},
		"tickets/account/a/b":        {App: "tickets", Kind: "account", Name: "a/b"},
		"berths/license/planning":    {App: "berths", Kind: "license", Name: "planning"},
		"rosters/group/north quay/2": {App: "rosters", Kind: "group", Name: "north quay/2"},
	} {
		got, err := model.ParseAddress(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
		require.Equal(t, text, got.String())
	}
	for _, text := range []string{
		"", "seller", "tickets/seller", "tickets/right/seller", "/role/seller", "tickets/role/",
	} {
		_, err := model.ParseAddress(text)
		require.Error(t, err, text)
	}
}

func TestNumbersAreReadable(t *testing.T) {
	for n, want := range map[int]string{
		0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000", -12: "-12",
	} {
		require.Equal(t, want, model.Thousands(n))
	}
	require.Equal(t, "1 person", model.Count(1, "person", "people"))
	require.Equal(t, "2,000 people", model.Count(2000, "person", "people"))
}

// TestSetsAreSets: numbers stand for what they should, whatever the order.
func TestSetsAreSets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := model.NewSets()
		list := rapid.SliceOfN(rapid.Int32Range(0, 9), 0, 6)
		a, b := list.Draw(t, "a"), list.Draw(t, "b")
		sorted := func(x []int32) []int32 {
			x = slices.Clone(x)
			slices.Sort(x)
			return append([]int32(nil), slices.Compact(x)...)
		}
		na, nb := s.Of(a), s.Of(b)
		require.Equal(t, slices.Equal(sorted(a), sorted(b)), na == nb)
		require.Equal(t, sorted(append(slices.Clone(a), b...)), append([]int32(nil), s.Members(s.Union(na, nb))...))
		require.Equal(t, s.Union(na, nb), s.Union(nb, na))
		require.Zero(t, s.Of(nil))
		thing := rapid.Int32Range(0, 9).Draw(t, "thing")
		require.Equal(t, slices.Contains(a, thing), s.Has(na, thing))
		require.True(t, s.Has(s.With(na, thing), thing))
		require.False(t, s.Has(s.Without(na, thing), thing))
		if slices.Contains(a, thing) {
			require.Equal(t, na, s.With(s.Without(na, thing), thing))
		}
	})
}

// TestPeopleOfSeveralFilesHaveOneSetOfColumns.
func TestPeopleOfSeveralFilesHaveOneSetOfColumns(t *testing.T) {
	p := model.NewPeople()
	first, second := p.File("a.csv"), p.File("b.csv")
	id, name := p.Attribute("id"), p.Attribute("userName")
	require.True(t, p.Add(first, 2, []int{id, name}, []string{"1", "maren"}))
	title := p.Attribute("title")
	require.Equal(t, title, p.Attribute("TITLE"))
	require.True(t, p.Add(second, 7, []int{title, id, name}, []string{"Mate", "2", "ines"}))
	require.True(t, p.Add(second, 8, []int{id, name}, []string{"3", "Maren"}))
	p.Close()
	require.Equal(t, 3, p.Len())
	require.Equal(t, []string{"", "Mate", ""}, []string{p.Get(0, "title"), p.Get(1, "Title"), p.Get(2, "title")})
	require.Equal(t, "b.csv:7", p.Pos(1).String())
	require.Empty(t, p.Get(1, "nothing"))
	index, clashes := p.Index("username")
	require.Equal(t, 1, index.Find("INES"))
	require.Equal(t, []model.Clash{{First: 0, Second: 2}}, clashes)
	none, _ := p.Index("nothing")
	require.Nil(t, none)
}
