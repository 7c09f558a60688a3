package access_test

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

const today = day.Day(20000)

func parse(t require.TestingT, text string) *filter.Filter {
	f, err := filter.Parse(text)
	require.NoError(t, err)
	return f
}

// large is a world of n people in a hundred departments, one application, and
// kits for each department.
func large(t require.TestingT, n int) access.Input {
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("department")}
	file := people.File("people.csv")
	app := &model.App{ID: "till", Match: "userName", Attrs: []model.Attr{{Name: "userName", Person: "userName"}}}
	app.Things = []model.Thing{
		{Kind: model.License, Name: "seat", Seats: n},
		{Kind: model.Role, Name: "reader", Seats: -1},
	}
	for d := range 100 {
		app.Things = append(app.Things, model.Thing{Kind: model.Group, Name: fmt.Sprintf("team %02d", d), Seats: -1})
	}
	app.Index()
	seat, reader := app.Thing(model.License, "seat"), app.Thing(model.Role, "reader")
	accounts := &model.Accounts{Attrs: []*table.Column{{}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	in := access.Input{People: people, Apps: []*model.App{app}, Accounts: []*model.Accounts{accounts}, Today: today}
	for d := range 100 {
		team := app.Thing(model.Group, fmt.Sprintf("team %02d", d))
		app.Things[team].Implies = []int32{seat, reader}
		in.Kits = append(
			in.Kits,
			&model.Kit{Name: fmt.Sprintf("kit %02d", d), For: parse(t, fmt.Sprintf("department eq \"%02d\"", d)),
				Gives: []model.Give{{App: 0, Things: []int32{team}, Pos: []model.Pos{{}}}}},
		)
	}
	for i := range n {
		name := fmt.Sprintf("user.%07d", i)
		people.Add(file, i+2, attrs, []string{fmt.Sprint("P", i), name, fmt.Sprintf("%02d", i%100)})
		accounts.Key.Append(name)
		accounts.States = append(accounts.States, model.StateOf(i%50 != 0))
		accounts.Held = append(
			accounts.Held,
			accounts.Sets.Of([]int32{app.Thing(model.Group, fmt.Sprintf("team %02d", i%100))}),
		)
	}
	people.Close()
	return in
}

func TestCountsAgreeWithTheHolders(t *testing.T) {
	v := access.Look(large(t, 1000))
	reader := model.AppThing{App: 0, Thing: v.Apps[0].Thing(model.Role, "reader")}
	require.Empty(t, v.Holders(reader, false), "nobody holds it directly")
	all := v.Holders(reader, true)
	require.Len(t, all, 1000)
	for _, h := range all {
		require.Len(t, h.Through, 1)
		require.Equal(t, access.Has, h.State)
	}
	seats := v.Seats()
	require.Len(t, seats, 1)
	require.Equal(
		t,
		[5]int{1000, 1000, 20, 0, 1000},
		[5]int{seats[0].Bought, seats[0].Used, seats[0].Blocked, seats[0].Nobodys, seats[0].Needed},
	)
	require.Zero(t, seats[0].Free())
	things := v.Rows("things")
	at := things.Select(parse(t, `name eq "reader"`), today)
	require.Len(t, at, 1)
	require.Equal(
		t,
		[]string{"1000", "980", "1000"},
		[]string{things.Text(at[0], "holders"), things.Text(at[0], "active"), things.Text(at[0], "due")},
	)
	kits := v.Rows("kits")
	require.Equal(t, "10", kits.Text(0, "people"))
	require.Nil(t, v.Rows("persons"))
	for _, subject := range access.Subjects {
		r := v.Rows(subject)
		require.Subset(t, r.Columns, r.Default, subject)
		for _, c := range r.Columns {
			require.Equal(t, c, r.Column(strings.ToUpper(c)), "columns are found whatever their case")
			for i := range min(r.Len, 3) {
				r.Values(i, c)
				require.True(t, r.Several[c] || len(r.Values(i, c)) < 2, "%s %s", subject, c)
			}
		}
	}
	require.Equal(t, -1, v.People.Named("nobody"))
	require.Equal(t, 7, v.People.Named("P7"))
	require.Equal(t, 7, v.People.Named("USER.0000007"))
}

// TestAComparisonWithItselfIsEmpty, and one the other way round has the opposite
// effects.
func TestAComparisonWithItselfIsEmpty(t *testing.T) {
	in := large(t, 300)
	in.Accounts = []*model.Accounts{nil}
	before := access.Look(in)
	require.Empty(t, access.Compare(before, before))
	in.Kits = in.Kits[1:]
	after := access.Look(in)
	there, back := access.Compare(before, after), access.Compare(after, before)
	require.Len(t, there, 3*4, "three people lose an account, a group, a role and a license")
	require.Len(t, back, len(there))
	for i := range there {
		require.Equal(t, model.Narrows, there[i].Effect)
		require.Equal(t, model.Widens, back[i].Effect)
		require.Equal(
			t,
			[4]string{there[i].Person, there[i].App, there[i].Kind, there[i].Thing},
			[4]string{back[i].Person, back[i].App, back[i].Kind, back[i].Thing},
		)
		require.Contains(t, there[i].Because.Says, "the kit kit 00 is no longer in the files")
		require.Contains(t, back[i].Because.Says, "the kit is new in the files")
	}
}

// TestRowsAreSelectedSortedAndCounted as a plain reading of them would.
func TestRowsAreSelectedSortedAndCounted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		type row struct {
			size  string
			names []string
		}
		list := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) row {
			return row{rapid.SampledFrom([]string{"", "2", "10", "9", "x", "Y", "1.5"}).Draw(t, "size"),
				rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a", "b", "c"}), 0, 3, rapid.ID[string]).
					Draw(t, "names"),
			}
		}), 0, 12).Draw(t, "rows")
		r := &access.Rows{
			Columns: []string{"size", "names"},
			Len:     len(list),
			Values: func(i int, column string) []string {
				switch {
				case column == "names":
					return list[i].names
				case list[i].size == "":
					return nil
				}
				return []string{list[i].size}
			},
		}
		all := r.Select(nil, today)
		require.Len(t, all, len(list))
		var want []int
		for i := range list {
			if slices.Contains(list[i].names, "b") {
				want = append(want, i)
			}
		}
		require.Equal(t, append([]int{}, want...), r.Select(parse(t, `NAMES eq "B"`), today))

		counts := map[string]int{}
		for _, x := range list {
			for _, n := range x.names {
				counts[n]++
			}
			if len(x.names) == 0 {
				counts[""]++
			}
		}
		groups := r.Group(all, "names")
		require.Len(t, groups, len(counts))
		for i, g := range groups {
			require.Equal(t, counts[g.Value], g.Rows)
			require.True(t, i == 0 || groups[i-1].Rows >= g.Rows)
		}
		r.Sort(all, []access.SortBy{{Column: "size"}})
		rank := func(s string) int { return slices.Index([]string{"1.5", "2", "9", "10", "", "x", "Y"}, s) }
		require.True(
			t,
			slices.IsSortedFunc(all, func(i, j int) int { return cmp.Compare(rank(list[i].size), rank(list[j].size)) }),
			"%v",
			all,
		)
		r.Sort(all, []access.SortBy{{Column: "size", Down: true}})
		require.True(
			t,
			slices.IsSortedFunc(all, func(i, j int) int { return cmp.Compare(rank(list[j].size), rank(list[i].size)) }),
			"%v",
			all,
		)
	})
}

func BenchmarkLook(b *testing.B) {
	in := large(b, 100_000)
	for b.Loop() {
		access.Look(in)
	}
}

func BenchmarkWhy(b *testing.B) {
	v := access.Look(large(b, 100_000))
	for b.Loop() {
		v.Why(77_777, nil)
	}
}

func BenchmarkSeatsAhead(b *testing.B) {
	v := access.Look(large(b, 100_000))
	for b.Loop() {
		v.Seats()
		v.Ahead(today + 365)
	}
}

func BenchmarkCompare(b *testing.B) {
	in := large(b, 100_000)
	in.Accounts = []*model.Accounts{nil}
	before := access.Look(in)
	in.Kits = in.Kits[1:]
	after := access.Look(in)
	for b.Loop() {
		access.Compare(before, after)
	}
}
