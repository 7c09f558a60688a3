package entitle_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
)

const today = day.Day(20000)

func parse(s string) *filter.Filter {
	f, err := filter.Parse(s)
	if err != nil {
		panic(err)
	}
	return f
}

// TestWhatIsDueAgreesWithLookingAtEachPerson: people share classes, and yet
// each has what their own attributes, kits and exceptions say.
func TestWhatIsDueAgreesWithLookingAtEachPerson(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		people := model.NewPeople()
		attrs := []int{people.Attribute("id"), people.Attribute("department"), people.Attribute("title")}
		f := people.File("p.csv")
		words := []string{"", "Deck", "Desk", "Office"}
		for i := range rapid.IntRange(1, 12).Draw(t, "people") {
			people.Add(f, i+2, attrs, []string{
				fmt.Sprint("E", i),
				rapid.SampledFrom(words).Draw(t, "department"),
				rapid.SampledFrom(words).Draw(t, "title"),
			})
		}
		people.Close()

		app := &model.App{ID: "x"}
		for i := range 5 {
			app.Things = append(app.Things, model.Thing{Kind: model.Role, Name: fmt.Sprint("t", i)})
		}
		app.Index()
		for i := range app.Things {
			for j := i + 1; j < len(app.Things); j++ {
				if rapid.IntRange(0, 3).Draw(t, "implies") == 0 {
					app.Things[i].Implies = append(app.Things[i].Implies, int32(j))
				}
			}
		}
		if rapid.Bool().Draw(t, "scoped") {
			app.Scope = parse(`title ne "Office"`)
		}
		var kits []*model.Kit
		for k := range rapid.IntRange(0, 6).Draw(t, "kits") {
			kit := &model.Kit{Name: fmt.Sprint("k", k)}
			switch rapid.IntRange(0, 3).Draw(t, "rule") {
			case 0:
				kit.Everyone = true
			case 1:
				kit.For = parse(fmt.Sprintf("department eq %q", rapid.SampledFrom(words[1:]).Draw(t, "for")))
			case 2:
				kit.For = parse(
					fmt.Sprintf("department pr and not (title eq %q)", rapid.SampledFrom(words[1:]).Draw(t, "for")),
				)
			}
			holder := func() model.Holder {
				return model.Holder{
					Person: fmt.Sprint("E", rapid.IntRange(0, 12).Draw(t, "person")),
					Until:  today + day.Day(rapid.IntRange(-1, 1).Draw(t, "until")),
				}
			}
			for range rapid.IntRange(0, 2).Draw(t, "holders") {
				kit.Holders = append(kit.Holders, holder())
			}
			for range rapid.IntRange(0, 2).Draw(t, "except") {
				kit.Except = append(kit.Except, holder())
			}
			if rapid.IntRange(0, 4).Draw(t, "gives") > 0 {
				g := model.Give{}
				for i := range app.Things {
					if rapid.IntRange(0, 2).Draw(t, "thing") == 0 {
						g.Things = append(g.Things, int32(i))
					}
				}
				kit.Gives = []model.Give{g}
			}
			kits = append(kits, kit)
		}
		for _, kit := range kits {
			for range rapid.IntRange(0, 1).Draw(t, "with") {
				kit.With = append(
					kit.With,
					model.Name{Text: fmt.Sprint("k", rapid.IntRange(0, len(kits)).Draw(t, "kit"))},
				)
			}
		}
		model.Resolve(kits)
		sets := model.NewSets()
		got := entitle.Compute(entitle.Input{
			People: people,
			Apps:   []*model.App{app},
			Graphs: []*model.Graph{model.CatalogGraph(app)},
			Kits:   kits,
			Sets:   []*model.Sets{sets},
			Today:  today,
		})

		matches := make([]int, len(kits))
		for p := range people.Len() {
			get := func(attr string) string { return people.Get(p, attr) }
			id := people.Get(p, "id")
			named := func(list []model.Holder) bool {
				return slices.ContainsFunc(
					list,
					func(h model.Holder) bool { return h.Person == id && today <= h.Until },
				)
			}
			var things []int32
			given := false
			var held []int
			for k, kit := range kits {
				rule := kit.Everyone || kit.For != nil && kit.For.Match(get, today)
				if rule {
					matches[k]++
				}
				if rule && !named(kit.Except) || named(kit.Holders) {
					held = append(held, k)
				}
			}
			for i := 0; i < len(held); i++ { // what comes with them, to any depth
				for _, w := range kits[held[i]].With {
					n := slices.IndexFunc(kits, func(k *model.Kit) bool { return k.Name == w.Text })
					if n >= 0 && !slices.Contains(held, n) {
						held = append(held, n)
					}
				}
			}
			slices.Sort(held)
			for _, k := range held {
				for _, g := range kits[k].Gives {
					given = true
					things = append(things, g.Things...)
				}
			}
			class := got.Classes[got.Of[p]]
			var gotHeld []int
			for _, h := range class.Kits {
				gotHeld = append(gotHeld, h.Kit)
			}
			require.Equal(t, held, gotHeld, "kits of %s", id)
			due := class.Apps[0]
			require.Equal(t, given, due.Given)
			require.Equal(t, app.Scope == nil || app.Scope.Match(get, today), due.InScope)
			implied := model.CatalogGraph(app).Along(things...)
			for i := range app.Things {
				th := int32(i)
				wanted := slices.Contains(things, th)
				along := slices.Contains(implied, th)
				require.Equal(t, wanted && !along, sets.Has(due.Want, th), "%s: held directly", id)
				require.Equal(t, wanted || along, sets.Has(due.Reach, th), "%s: reached", id)
			}
		}
		require.Equal(t, matches, got.Matches)
	})
}

// TestTwoKitsThatDisagreeAreTold.
func TestTwoKitsThatDisagreeAreTold(t *testing.T) {
	people := model.NewPeople()
	people.Add(people.File("p.csv"), 2, []int{people.Attribute("id")}, []string{"E1"})
	people.Close()
	app := &model.App{ID: "x", Attrs: []model.Attr{{Name: "lang"}}}
	app.Index()
	kit := func(name, value string) *model.Kit {
		return &model.Kit{
			Name:     name,
			Everyone: true,
			Gives:    []model.Give{{Set: []model.Setting{{Attr: "lang", Value: value}}}},
		}
	}
	for _, c := range []struct {
		values []string
		clash  int
	}{{[]string{"sv", "sv"}, -1}, {[]string{"sv", "de"}, 1}, {[]string{"sv", "sv", "de", "fr"}, 2}} {
		var kits []*model.Kit
		for i, v := range c.values {
			kits = append(kits, kit(fmt.Sprint("k", i), v))
		}
		got := entitle.Compute(entitle.Input{
			People: people,
			Apps:   []*model.App{app},
			Graphs: []*model.Graph{model.CatalogGraph(app)},
			Kits:   kits,
			Sets:   []*model.Sets{model.NewSets()},
			Today:  today,
		})
		set := got.Classes[got.Of[0]].Apps[0].Set
		require.Len(t, set, 1)
		require.Equal(t, "sv", set[0].Value, "the first by name counts")
		require.Equal(t, c.clash, set[0].Clash)
	}
}

// BenchmarkCompute measures 100,000 people and 200 kits.
func BenchmarkCompute(b *testing.B) {
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("department"), people.Attribute("title")}
	f := people.File("p.csv")
	for i := range 100_000 {
		people.Add(
			f,
			i+2,
			attrs,
			[]string{fmt.Sprint("E", i), fmt.Sprint("Department ", i%50), fmt.Sprint("Title ", i%31)},
		)
	}
	people.Close()
	app := &model.App{ID: "x"}
	for i := range 100 {
		app.Things = append(app.Things, model.Thing{Kind: model.Role, Name: fmt.Sprintf("t%03d", i)})
	}
	app.Index()
	var kits []*model.Kit
	for k := range 200 {
		kits = append(
			kits,
			&model.Kit{
				Name:  fmt.Sprint("k", k),
				For:   parse(fmt.Sprintf(`department eq "Department %d" or title eq "Title %d"`, k%50, k%31)),
				Gives: []model.Give{{Things: []int32{int32(k % 100)}}},
			},
		)
	}
	for b.Loop() {
		entitle.Compute(entitle.Input{
			People: people,
			Apps:   []*model.App{app},
			Graphs: []*model.Graph{model.CatalogGraph(app)},
			Kits:   kits,
			Sets:   []*model.Sets{model.NewSets()},
			Today:  today,
		})
	}
}
