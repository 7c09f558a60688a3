package propose_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/propose"
)

// planted is a made-up world in which rules decide what people hold, and noise changes some of
// it: a share of the holdings is missing, and as many people hold what no rule gives them.
type planted struct {
	in    propose.Input
	rules []string // as filters, of each thing
}

func plant(seed uint64, n int, noise float64) *planted {
	rnd := rand.New(rand.NewPCG(seed, 1))
	people := model.NewPeople()
	file := people.File("people/x.csv")
	var attrs []int
	names := []string{"id", "userName", "department", "title", "location", "userType"}
	for _, a := range names {
		attrs = append(attrs, people.Attribute(a))
	}
	// As many values as leave each rule some people.
	sizes := []int{max(2, min(40, n/12)), max(2, min(30, n/15)), max(2, min(20, n/20)), 3}
	rows := make([][]string, n)
	for i := range n {
		id := fmt.Sprintf("P%06d", i)
		row := []string{id, id}
		for k, size := range sizes {
			row = append(row, names[k+2]+" "+strconv.Itoa(rnd.IntN(size)))
		}
		rows[i] = row
		people.Add(file, i+2, attrs, row)
	}
	people.Close()
	w := &planted{in: propose.Input{People: people, Here: func(int) bool { return true }, Sure: 0.8, Least: 5}}
	thing := func(filter string, holds func(row []string) bool, sensitive bool) {
		set := map[int]bool{}
		for i, row := range rows {
			if holds(row) && rnd.Float64() >= noise {
				set[i] = true
			}
		}
		for range int(float64(len(set)) * noise) {
			set[rnd.IntN(n)] = true
		}
		var holders []int
		for p := range set {
			holders = append(holders, p)
		}
		slices.Sort(holders)
		w.in.Things = append(w.in.Things, propose.Thing{
			AppThing: model.AppThing{Thing: int32(len(w.in.Things))}, Holders: holders, Sensitive: sensitive,
		})
		w.rules = append(w.rules, filter)
	}
	for i := range min(sizes[0], 20) {
		v := "department " + strconv.Itoa(i)
		thing(`department eq "`+v+`"`, func(r []string) bool { return r[2] == v }, i%5 == 0)
	}
	for i := range min(sizes[2], 10) {
		v := "location " + strconv.Itoa(i)
		thing(`location eq "`+v+`"`, func(r []string) bool { return r[4] == v }, false)
	}
	for i := range 10 {
		if n < 2000 {
			break // too few people have two values together
		}
		d, k := "department "+strconv.Itoa(i), "userType "+strconv.Itoa(i%3)
		thing(
			`department eq "`+d+`" and userType eq "`+k+`"`,
			func(r []string) bool { return r[2] == d && r[5] == k },
			i == 0,
		)
	}
	return w
}

// recovered counts the planted rules that come back, and checks that nobody gains anything.
func recovered(t *testing.T, w *planted) (found, all int) {
	kits := propose.Find(w.in)
	back := map[string]bool{}
	for _, k := range kits {
		for _, at := range k.Things {
			if k.Filter() == w.rules[at] {
				back[fmt.Sprint(at)] = true
			}
		}
		lacks := map[int]bool{}
		for _, p := range k.Lacking {
			lacks[p] = true
		}
		for _, at := range k.Things { // whoever a rule matches holds it today, or is left out of it
			holds := map[int]bool{}
			for _, p := range w.in.Things[at].Holders {
				holds[p] = true
			}
			for p := range w.in.People.Len() {
				matched := true
				for _, c := range k.For {
					matched = matched && w.in.People.Get(p, c.Attr) == c.Value
				}
				if k.Not != nil {
					matched = matched && w.in.People.Get(p, k.Not.Attr) != k.Not.Value
				}
				require.False(t, matched && !holds[p] && !lacks[p], "%s would give something to %d", k.Filter(), p)
			}
		}
	}
	return len(back), len(w.rules)
}

// TestWhatExceptionsShareMakesTheRuleNarrower: where all of them have something that no holder has, the narrower rule is offered,
// with what the wider one would be; where some holder has it too, it is only said.
func TestWhatExceptionsShareMakesTheRuleNarrower(t *testing.T) {
	find := func(holderInShop bool) propose.Kit {
		people := model.NewPeople()
		file := people.File("people/x.csv")
		var attrs []int
		for _, a := range []string{"id", "userName", "department", "unit"} {
			attrs = append(attrs, people.Attribute(a))
		}
		var holders []int
		for i := range 24 {
			unit := "Office"
			switch {
			case i >= 20:
				unit = "Shop"
			case i%2 == 1:
				unit = "Quay"
			}
			if i == 0 && holderInShop {
				unit = "Shop"
			}
			id := fmt.Sprintf("P%02d", i)
			people.Add(file, i+2, attrs, []string{id, id, "Ticketing", unit})
			if i < 20 {
				holders = append(holders, i)
			}
		}
		for i := 24; i < 40; i++ {
			id := fmt.Sprintf("P%02d", i)
			people.Add(file, i+2, attrs, []string{id, id, "Deck", "Shop"})
		}
		people.Close()
		kits := propose.Find(propose.Input{
			People: people, Here: func(int) bool { return true }, Sure: 0.8, Least: 3, Things: []propose.Thing{{Holders: holders}},
		})
		require.NotEmpty(t, kits)
		return kits[0]
	}
	k := find(false)
	require.Equal(t, `department eq "Ticketing" and not (unit eq "Shop")`, k.Filter())
	require.Equal(t, `department eq "Ticketing"`, k.Wider())
	require.Equal(t, 4, k.Spared)
	require.Len(t, k.Holders, 20)
	require.Empty(t, k.Lacking)

	k = find(true)
	require.Equal(t, `department eq "Ticketing"`, k.Filter())
	require.Nil(t, k.Not)
	require.Len(t, k.Lacking, 4)
	require.Equal(t, &propose.Condition{Attr: "unit", Value: "Shop"}, k.Shared)
	require.Equal(t, 4, k.Sharing)
}

func TestPlantedRulesComeBack(t *testing.T) {
	for _, n := range []int{100, 300, 1000, 3000, 10_000, 100_000} {
		found, all := 0, 0
		seeds := uint64(8)
		if n == 100_000 {
			seeds = 1
		}
		for seed := range seeds {
			f, a := recovered(t, plant(seed, n, 0.05))
			found, all = found+f, all+a
		}
		t.Logf("%d people: %d of %d rules", n, found, all)
		assert.GreaterOrEqual(t, found*100, all*95, "%d people: %d of %d rules", n, found, all)
	}
}

func BenchmarkFind(b *testing.B) {
	w := plant(1, 100_000, 0.05)
	for b.Loop() {
		propose.Find(w.in)
	}
}
