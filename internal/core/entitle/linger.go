package entitle

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// Was is who held a kit before, other than by name, and since when those of them who do
// not any more have kept what it gave, as the ledger knows: by the rows of people.
type Was struct {
	Held  []bool
	Since map[int32]day.Day
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
	c.out.Ruled = make([][]bool, len(c.in.Kits))
	for k, kit := range c.in.Kits {
		if kit.Linger != (day.Duration{}) {
			c.out.Ruled[k], any = c.holders(k), true
		}
	}
	if !any || c.in.Was == nil {
		return
	}
	kept := map[int32][]*Lingering{}
	var people []int32
	for k, ruled := range c.out.Ruled {
		was := &c.in.Was[k]
		for p := range min(len(ruled), len(was.Held)) {
			since, keeps := was.Since[int32(p)]
			if ruled[p] || !was.Held[p] && !keeps || c.excepts(k, p) {
				continue
			}
			x := &Lingering{Person: int32(p), Kit: k, Since: since}
			if !keeps {
				x.Since = c.in.Clock
			}
			if x.Until = x.Since.Add(c.in.Kits[k].Linger) - 1; c.in.Today > x.Until || c.has(p, k) {
				continue
			}
			if kept[int32(p)] == nil {
				people = append(people, int32(p))
			}
			kept[int32(p)] = append(kept[int32(p)], x)
		}
	}
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

// holders tells who holds a kit other than by name.
func (c *computer) holders(kit int) []bool {
	classes := make([]bool, len(c.out.Classes))
	for n := range c.out.Classes {
		classes[n] = slices.ContainsFunc(c.out.Classes[n].Kits, func(h Held) bool { return h.Kit == kit && h.Holder == nil })
	}
	out := make([]bool, len(c.out.Of))
	for p, class := range c.out.Of {
		out[p] = classes[class]
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
