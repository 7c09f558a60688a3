package entitle

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// Was is who held a kit before, other than by name, and since when those of them who do
// not any more have kept what it gave, as the ledger knows: by the rows of people.
type Was struct {
	Held  []int32 // rising
	Since map[int32]day.Day
}

// Ruled tells who holds kits that linger, other than by name and not for a while only.
type Ruled struct {
	Kits [][]bool // kit → class → whether its people do; nil of kits that do not linger
	Of   []uint32 // person → class, as it was before anything lingered
}

// A Lingering is that somebody keeps what a kit gave after its rule has stopped matching.
type Lingering struct {
	Person int32
	Kit    int
	Since  day.Day // the first day on which that was seen
	Until  day.Day // the last day on which it is kept
}

// lingers lets people keep what kits gave them, for as long as the kits say after the day
// on which the rules were first seen not to match any more. Nothing lingers for whom a
// kit excepts, or where it would complete a separation. O(people) for each kit that
// lingers, and O(separations) for each person who keeps something.
func (c *computer) lingers() {
	any := false
	ruled := Ruled{Kits: make([][]bool, len(c.in.Kits)), Of: c.out.Of}
	for k, kit := range c.in.Kits {
		if kit.Linger != (day.Duration{}) {
			ruled.Kits[k], any = c.holders(k), true
		}
	}
	if !any {
		return
	}
	c.out.Ruled = ruled
	kept := map[int32][]*Lingering{}
	var people []int32
	for k := range c.in.Was {
		for _, x := range c.keeps(k) {
			if kept[x.Person] == nil {
				people = append(people, x.Person)
			}
			kept[x.Person] = append(kept[x.Person], x)
		}
	}
	if len(people) == 0 {
		return
	}
	c.out.Of = slices.Clone(c.out.Of)
	slices.Sort(people)
	for _, p := range people {
		base, held := c.bases[c.out.Of[p]], slices.Clone(c.out.Classes[c.out.Of[p]].Kits)
		n := len(held)
		for _, x := range kept[p] {
			with := c.along(append(slices.Clone(held), Held{Kit: x.Kit, With: -1, Linger: x}))
			if !c.breaks(p, held, with) {
				held = with
				c.out.Linger = append(c.out.Linger, *x)
			}
		}
		if len(held) > n {
			c.out.Of[p] = uint32(len(c.out.Classes))
			c.class(held, base)
		}
	}
}

// keeps lists who keeps today what a kit gave them, by what the ledger knows.
func (c *computer) keeps(k int) (out []*Lingering) {
	was, ruled := &c.in.Was[k], c.out.Ruled.Kits[k]
	look := func(p int32) {
		if ruled[c.out.Of[p]] || c.excepts(k, int(p)) || c.has(int(p), k) {
			return
		}
		since, known := was.Since[p]
		if !known {
			since = c.in.Clock
		}
		if until := since.Add(c.in.Kits[k].Linger) - 1; c.in.Today <= until {
			out = append(out, &Lingering{Person: p, Kit: k, Since: since, Until: until})
		}
	}
	for _, p := range was.Held {
		look(p)
	}
	for p := range was.Since {
		if _, also := slices.BinarySearch(was.Held, p); !also {
			look(p)
		}
	}
	return out
}

// holders tells of which classes the people hold a kit other than by name.
func (c *computer) holders(kit int) []bool {
	out := make([]bool, len(c.out.Classes))
	for n := range c.out.Classes {
		out[n] = slices.ContainsFunc(
			c.out.Classes[n].Kits,
			func(h Held) bool { return h.Kit == kit && h.Holder == nil },
		)
	}
	return out
}

// has reports whether somebody holds a kit in any way.
func (c *computer) has(person, kit int) bool {
	return slices.ContainsFunc(c.out.Classes[c.out.Of[person]].Kits, func(h Held) bool { return h.Kit == kit })
}

// excepts reports whether a kit excepts somebody today.
func (c *computer) excepts(kit, person int) bool {
	k := c.in.Kits[kit]
	if len(k.Except) == 0 {
		return false
	}
	id := c.in.People.Get(person, "id")
	return slices.ContainsFunc(k.Except, func(x model.Holder) bool { return x.Person == id && x.On(c.in.Today) })
}

// breaks reports whether some kits give somebody more sides of a separation than others
// do, and that makes two or more.
func (c *computer) breaks(person int32, others, with []Held) bool {
	for i := range c.in.Separations {
		sep := &c.in.Separations[i]
		more := len(c.sides(sep, with))
		if more < 2 || more == len(c.sides(sep, others)) {
			continue
		}
		if model.Excepted(c.in.Exceptions, sep.Name, c.in.People.Get(int(person), "id"), c.in.Today) == nil {
			return true
		}
	}
	return false
}

// sides are the things of a separation that some kits give.
func (c *computer) sides(sep *model.Separation, held []Held) []model.AppThing {
	return sep.Break(func(x model.AppThing) bool {
		return slices.ContainsFunc(held, func(h Held) bool {
			return slices.ContainsFunc(c.in.Kits[h.Kit].Gives, func(g model.Give) bool {
				if g.App != x.App {
					return false
				}
				_, along := slices.BinarySearch(c.in.Graphs[x.App].Along(g.Things...), x.Thing)
				return along || slices.Contains(g.Things, x.Thing)
			})
		})
	})
}
