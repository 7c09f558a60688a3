package table_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/table"
)

// TestAColumnGivesBackWhatWasAppended, whether its values repeat, differ, or
// begin to differ late.
func TestAColumnGivesBackWhatWasAppended(t *testing.T) {
	for name, value := range map[string]func(int) string{
		"repeating": func(i int) string { return fmt.Sprint(i % 7) },
		"different": func(i int) string { return fmt.Sprint("user ", i) },
		"late": func(i int) string {
			if i < 10000 {
				return ""
			}
			return fmt.Sprint(i)
		},
	} {
		var c table.Column
		for i := range 30000 {
			require.True(t, c.Append(value(i)))
			if i == 8000 {
				c.Reserve(22000)
			}
		}
		c.Pad(30002)
		for i := range 30000 {
			require.Equal(t, value(i), c.At(i), name)
		}
		require.Equal(t, 30002, c.Len())
		require.Empty(t, c.At(30001))
		_, _, coded := c.Codes()
		require.Equal(t, name == "repeating", coded, name)
	}
}

func TestFoldAgreesWithEqualFold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.String().Draw(t, "a")
		b := rapid.OneOf(rapid.String(), rapid.Just(strings.ToUpper(a)), rapid.Just(strings.ToLower(a))).Draw(t, "b")
		require.Equal(t, strings.EqualFold(a, b), table.Fold(a) == table.Fold(b), "%q %q", a, b)
	})
}

func TestAnIndexFindsTheFirstAndTellsOfTheOthers(t *testing.T) {
	var c table.Column
	for _, v := range []string{"maren.holt", "", "Ines.Calder", "ines.calder", "SØREN", "", "INES.CALDER"} {
		c.Append(v)
	}
	var clashes []string
	x := table.NewIndex(&c, func(first, row int) { clashes = append(clashes, fmt.Sprint(first, " ", row)) })
	require.Equal(t, 0, x.Find("Maren.Holt"))
	require.Equal(t, 2, x.Find("ines.calder"))
	require.Equal(t, 4, x.Find("søren"))
	require.Equal(t, -1, x.Find("nobody"))
	require.Equal(t, -1, x.Find(""))
	require.Equal(t, []string{"2 3", "2 6"}, clashes)
	for v, row := range map[string]int{
		"Ines.Calder": 2, "ines.calder": 3, "INES.CALDER": 6, "INES.calder": 2, "søren": 4, "nobody": -1,
	} {
		require.Equal(t, row, x.Spelled(v), v)
	}
}

// TestASeekerFindsWhatAnIndexFinds, whatever the order and whether or not the
// column rises.
func TestASeekerFindsWhatAnIndexFinds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "B", "c", "d", "é", "f1", "f2", "f3", "g", "", "zz"}), 0, 12).
			Draw(t, "values")
		if rapid.Bool().Draw(t, "sorted") {
			slices.SortFunc(values, func(x, y string) int { return strings.Compare(table.Fold(x), table.Fold(y)) })
			values = slices.Compact(values)
		}
		col := &table.Column{}
		for _, v := range values {
			col.Append(v)
		}
		index := table.NewIndex(col, nil)
		s := table.NewSeeker(col, col.Rising(), func() *table.Index { return index })
		for range rapid.IntRange(0, 30).Draw(t, "look-ups") {
			v := rapid.SampledFrom([]string{"A", "b", "c", "D", "É", "f1", "F2", "f3", "g", "", "zz", "none"}).
				Draw(t, "v")
			require.Equal(t, index.Find(v), s.Find(v), "%q in %q", v, values)
		}
	})
}

func TestNamesThatLookAlike(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		alike bool
	}{
		{"maren.holt", "Maren.Holt ", true},
		{"maren.holt", "maren.hølt", true},
		{"maren.holt", "MAREN-HOLT", true},
		{"zoë", "zoe", true},
		{"łukasz", "Lukasz", true},
		{"maren.holt", "maren.halt", false},
		{"maren.holt", "maren.holt2", false},
		{"straße", "strasse", true},
		{"ﬁn", "fin", true},
	} {
		require.Equal(t, c.alike, table.Likeness(c.a) == table.Likeness(c.b), "%q %q", c.a, c.b)
	}
	require.Empty(t, table.Likeness(" .-"))
}

func TestNearestIsWhatWasMeant(t *testing.T) {
	names := []string{"department", "displayName", "title", "seller", "refund-approver", "till-lead"}
	for name, want := range map[string]string{
		"departmnt": "department", "Titel": "title", "displayname": "displayName", "refund-aprover": "refund-approver",
		"selelr": "seller", "kitchen": "", "x": "", "till-leads": "till-lead",
	} {
		require.Equal(t, want, table.Nearest(name, names), name)
	}
}
