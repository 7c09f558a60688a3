package guard

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Seats = "seats"
)

var seatsFamily = family{
	guards: []Guard{
		{
			Name: Seats, Lift: ForPlan,
			Raises: []fact.Kind{fact.NoSeat, fact.NoSeatNow, fact.SeatsBeyond},
			Holds:  "licenses for which no seat is left, counting those that the plan frees",
			Limit:  "`seats` of the license",
		},
	},
	late: (*checker).seats,
}

// Use is how the seats of a license are used. Blocked accounts keep theirs.
type Use struct {
	App          int
	Thing        int32
	Before       int // accounts that have it, in the export
	After        int // and after the plan, without those that no seat is left for
	Missing      int // more seats that the plan needs
	Blocked      []string
	Nobodys      []string // accounts that belong to nobody and will still have it
	freed, taken int
	usable       int // of those freed, before the first one is wanted and by what nothing holds
}

// A taker is an account that comes to have a license by a plan.
type taker struct {
	slot   int32
	person int32
	first  int // the change by which
}

// seats follows each license through the plan in its order. A change that takes
// a seat which only comes free in the plan needs the change that frees it; one
// for which no seat is left is held. All that frees comes before all that
// takes, so that who goes without can be decided by rank, start and id.
// O(changes + takers · log takers) for each license.
func (c *checker) seats(a int) {
	for t := range c.Apps[a].Things {
		if thing := &c.Apps[a].Things[t]; thing.Kind == model.License && (thing.Seats >= 0 || thing.Price.Known()) {
			c.license(a, int32(t))
		}
	}
}

func (c *checker) license(a int, t int32) {
	thing := &c.Apps[a].Things[t]
	use := Use{App: a, Thing: t, Before: c.States.App(a).Holders(c.Accounts[a], t)}
	takers, all := c.moves(a, t)
	use.freed, use.taken = len(all), len(takers)
	// What comes free later than it is wanted helps nobody yet, nor does what a guard
	// holds.
	held := func(i int) bool {
		return slices.ContainsFunc(c.freeing(a, t, i), func(k int) bool { return len(c.out.Holds[k]) > 0 })
	}
	later := 0
	for _, i := range all {
		if len(takers) > 0 && i > takers[0].first && !held(i) {
			later++
		}
	}
	freed := slices.DeleteFunc(slices.Clone(all), func(i int) bool {
		return len(takers) > 0 && i > takers[0].first || held(i)
	})
	use.usable = len(freed) + later
	free := math.MaxInt
	if thing.Seats >= 0 {
		free = thing.Seats - use.Before
	}
	if free < 0 {
		c.redefined(a, t, thing, use.Before)
	}
	// Giving up a seat beyond the number bought frees nothing, and whoever takes one
	// needs all of those to be given up first.
	beyond := []int{}
	for free < 0 && len(freed) > 0 {
		free, beyond, freed = free+1, append(beyond, freed[0]), freed[1:]
	}
	short := free < 0
	free = max(free, 0)
	served := free + len(freed)
	if short {
		served = 0
	}
	if served < len(takers) {
		c.byRank(a, t, takers)
		use.Missing = max(0, len(takers)-served-later) // what comes free later is there for the next plan
		c.without(a, t, &use, takers[:served], takers[served:])
		takers = takers[:served]
	}
	for n, x := range takers {
		var needs []int
		if len(beyond) <= maxBeyond { // more are seen to at every step
			needs = append(needs, beyond...)
		}
		if n >= free {
			needs, freed = append(needs, freed[0]), freed[1:]
		}
		for _, need := range needs {
			for _, k := range c.freeing(a, t, need) {
				for _, i := range c.bringing(a, t, x.slot) {
					c.out.Needs[i] = append(c.out.Needs[i], k)
				}
			}
		}
	}
	use.After = use.Before - use.freed + len(takers)
	c.idle(&use)
	c.out.Uses = append(c.out.Uses, use)
	c.useNotices(&use)
}

// maxBeyond is how many seats that are held beyond those bought a change may need
// to be given up; where there are more, runs count them at each step anyway.
const maxBeyond = 64

// freeing lists all that frees a seat together with the last change that does: an
// account may have the license in several ways.
func (c *checker) freeing(a int, t int32, last int) (out []int) {
	c.gather()
	for _, i := range c.losing[account{a, c.Changes[last].Slot}] {
		if ch := &c.Changes[i]; i <= last && (ch.Thing == diff.None && c.whole(ch) || c.loses(a, t, ch)) {
			out = append(out, i)
		}
	}
	return out
}

// redefined holds the redefinitions by which a license comes along with what
// many have already, where there are not seats enough for all of them.
func (c *checker) redefined(a int, t int32, thing *model.Thing, used int) {
	for _, i := range c.byApp[a] {
		if ch := &c.Changes[i]; moves(ch) && ch.Sense == diff.More && c.brings(a, t, ch) {
			c.hold(i, Seats, fact.Fact{
				Kind:    fact.SeatsBeyond,
				Count:   len(ch.Def.Through),
				Thing:   thing.String(),
				Whole:   thing.Seats,
				Allowed: used - thing.Seats,
			})
		}
	}
}

// whole reports whether a change is about all that an account holds.
func (c *checker) whole(ch *diff.Change) bool {
	deed := ch.Verb.Deed()
	return deed.Clears || deed.Back && c.had(ch) != 0
}

// had is what the removed account of a change holds again once it is restored, without
// what the plan takes from it before.
func (c *checker) had(ch *diff.Change) uint32 {
	if ch.Account == diff.None {
		return 0
	}
	return c.Accounts[ch.App].Had[ch.Account]
}

// moves finds which accounts come to have a license, in the plan's order, and
// which changes free a seat.
func (c *checker) moves(a int, t int32) (takers []taker, freed []int) {
	r, sets := c.States.App(a), c.Accounts[a].Sets
	now := map[int32]*diff.State{}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Thing == diff.None && !c.whole(ch) || ch.Verb.OfThing() {
			continue
		}
		if ch.Verb.Effect() == model.Widens && len(c.out.Holds[i]) > 0 {
			continue // what another guard holds takes no seat from anybody
		}
		x := now[ch.Slot]
		if x == nil {
			x = &diff.State{After: c.States.Of(ch).Set, Had: c.had(ch)}
			now[ch.Slot] = x
		}
		had := r.Has(x.After, t)
		x.Step(c.Apps[a], sets, ch.Does(), ch.Thing)
		switch has := r.Has(x.After, t); {
		case had && !has:
			freed = append(freed, i)
		case !had && has:
			takers = append(takers, taker{ch.Slot, ch.Person, i})
		}
	}
	return takers, freed
}

// bringing lists the widening changes of an account that bring a thing.
func (c *checker) bringing(a int, t int32, slot int32) (out []int) {
	c.gather()
	for _, i := range c.widening[account{a, slot}] {
		ch := &c.Changes[i]
		if ch.Verb == model.Restore && c.brings(a, t, ch) ||
			ch.Thing != diff.None && c.States.App(a).Brings(ch.Thing, t) {
			out = append(out, i)
		}
	}
	return out
}

// byRank sorts those who come to have a license: by the rank of the kit that
// gives it, then by the day on which they started, then by id.
func (c *checker) byRank(a int, t int32, takers []taker) {
	ids, starts := c.People.Column("id"), c.People.Column("starts")
	start := func(x taker) string {
		if starts == nil {
			return ""
		}
		return starts.At(int(x.person))
	}
	ranks := map[int32]int{}
	for _, x := range takers {
		ranks[x.person], _ = c.rank(a, t, x.person)
	}
	slices.SortFunc(takers, func(x, y taker) int {
		return cmp.Or(
			cmp.Compare(ranks[x.person], ranks[y.person]),
			cmp.Compare(start(x), start(y)),
			cmp.Compare(ids.At(int(x.person)), ids.At(int(y.person))),
		)
	})
}

// rank is the best rank of the kits by which a person has a license; a kit
// without one comes after all.
func (c *checker) rank(a int, t int32, person int32) (rank int, kit *model.Kit) {
	rank = math.MaxInt
	for _, h := range c.Due.Classes[c.Due.Of[person]].Kits {
		k := c.Kits[h.Kit]
		for _, g := range k.Gives {
			if g.App != a ||
				!slices.ContainsFunc(g.Things, func(x int32) bool { return c.States.App(a).Brings(x, t) }) {
				continue
			}
			if r := cmp.Or(k.Rank, math.MaxInt); kit == nil || r < rank {
				rank, kit = r, k
			}
		}
	}
	return rank, kit
}

// without holds what would take a seat that is not there, and says why this
// person is the one who goes without.
func (c *checker) without(a int, t int32, use *Use, served, others []taker) {
	thing := &c.Apps[a].Things[t]
	f := fact.Fact{
		Kind:   fact.NoSeat,
		Thing:  thing.String(),
		Whole:  thing.Seats,
		Count:  use.Before,
		Freed:  use.usable,
		Wanted: use.taken,
	}
	if len(served) > 0 {
		x := served[len(served)-1]
		f.Other, f.Via = c.personName(x.person), c.standing(a, t, x.person)
	}
	for _, x := range others {
		f.Person, f.Value = c.personName(x.person), c.standing(a, t, x.person)
		for _, i := range c.bringing(a, t, x.slot) {
			c.hold(i, Seats, f)
		}
	}
}

// standing says where a person stands among those who want a seat.
func (c *checker) standing(a int, t int32, person int32) string {
	says := "no rank"
	if _, kit := c.rank(a, t, person); kit != nil && kit.Rank > 0 {
		says = fmt.Sprintf("rank %d of kit %s", kit.Rank, kit.Name)
	}
	if starts := c.People.Get(int(person), "starts"); starts != "" {
		return says + ", started " + starts
	}
	return says + ", no start"
}

// idle finds the seats that nobody works with: those of blocked accounts, and
// of accounts that belong to nobody.
func (c *checker) idle(use *Use) {
	a := use.App
	accounts, has := c.Accounts[a], c.States.App(a).Giving(use.Thing)
	for i, set := range accounts.Held {
		open := accounts.Open(i)
		if open && !has[set] {
			continue // what comes to it, its person works with
		}
		if accounts.States[i] == model.Invited {
			continue
		}
		key := accounts.Key.At(i)
		if s := c.States.At(a, i); s != nil {
			set, open = s.After, s.OpenAfter
		}
		switch {
		case !has[set]:
		case c.Diff.PersonOf[a][i] == diff.None:
			use.Nobodys = append(use.Nobodys, key)
		case !open:
			use.Blocked = append(use.Blocked, key)
		}
	}
	slices.Sort(use.Nobodys)
	slices.Sort(use.Blocked)
}

// last names the people who are last in line for a license of which more seats are in use than were bought,
// the very last first.
func (c *checker) last(use *Use, n int) (out []string) {
	a, has := use.App, c.States.App(use.App).Giving(use.Thing)
	var line []taker
	for i, set := range c.Accounts[a].Held {
		if p := c.Diff.PersonOf[a][i]; p != diff.None && has[set] {
			line = append(line, taker{person: p})
		}
	}
	c.byRank(a, use.Thing, line)
	slices.Reverse(line)
	for _, x := range line[:min(n, len(line), fact.MaxNames)] {
		out = append(out, c.personName(x.person))
	}
	return out
}

func (c *checker) useNotices(use *Use) {
	thing := &c.Apps[use.App].Things[use.Thing]
	cost := func(seats int) string {
		if !thing.Price.Known() {
			return ""
		}
		return thing.Price.Times(seats)
	}
	if thing.Seats >= 0 && use.Before > thing.Seats {
		c.notice(use.App, fact.Fact{
			Kind: fact.SeatsOver, Thing: thing.String(), Count: use.Before, Whole: thing.Seats,
			Names: c.last(use, use.Before-thing.Seats),
		})
	}
	if use.Missing > 0 {
		c.notice(use.App, fact.Fact{
			Kind:    fact.SeatsMissing,
			Thing:   thing.String(),
			Allowed: use.Missing,
			Whole:   thing.Seats,
			Count:   use.Before,
			Freed:   use.usable,
			Value:   cost(use.Missing),
		})
	}
	if n := len(use.Nobodys); n > 0 {
		c.notice(use.App, fact.Fact{
			Kind:  fact.SeatsOfNobody,
			Thing: thing.String(),
			Count: n,
			Value: cost(n),
			Names: First(use.Nobodys),
		})
	}
	if n := len(use.Blocked); n > 0 {
		c.notice(use.App, fact.Fact{
			Kind:  fact.SeatsOfBlocked,
			Thing: thing.String(),
			Count: n,
			Value: cost(n),
			Names: First(use.Blocked),
		})
	}
}
