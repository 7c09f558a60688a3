package guard

import (
	"fmt"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/reach"
)

// seats follows each license with a number of seats through the plan in its
// order. A change that takes a seat which only comes free in the plan needs the
// change that frees it; one for which no seat is left is held. Blocked
// accounts keep their seats.
func (c *checker) seats(a int, st *reach.States) {
	app := c.Apps[a]
	for t := range app.Things {
		thing := &app.Things[t]
		if thing.Kind != model.License || thing.Seats < 0 {
			continue
		}
		used := st.App(a).Holders(c.Accounts[a], int32(t))
		free, without, opened := thing.Seats-used, 0, 0
		var freed []int
		current := map[string]uint32{}
		for _, i := range c.byApp[a] {
			ch := &c.Changes[i]
			if ch.Thing == diff.None && ch.Verb != model.Remove {
				continue
			}
			set, ok := current[ch.Key]
			if !ok {
				set = st.Of(a, ch.Key).Set
			}
			next := set
			switch {
			case ch.Verb == model.Remove:
				next = 0
			case narrows(ch):
				next = c.Accounts[a].Sets.Without(set, ch.Thing)
			default:
				next = c.Accounts[a].Sets.With(set, ch.Thing)
			}
			had, has := st.App(a).Has(set, int32(t)), st.App(a).Has(next, int32(t))
			switch {
			case had && !has:
				opened++
				if free < 0 {
					free++
				} else {
					freed = append(freed, i)
				}
			case !had && has:
				switch {
				case free > 0:
					free--
				case len(freed) > 0:
					c.out.Needs[i] = append(c.out.Needs[i], freed[0])
					freed = freed[1:]
				default:
					without++
					c.hold(i, Seats, "no seat of license %s is left: %d bought, %d held, %d freed by this plan and taken again; %d more needed",
						thing.Name, thing.Seats, used, opened, without)
					continue // a held change takes no seat
				}
			}
			current[ch.Key] = next
		}
		if used > thing.Seats {
			c.notice(a, "license %s: %d accounts hold it, and only %d seats were bought", thing.Name, used, thing.Seats)
		}
		if without > 0 {
			c.notice(a, "license %s: %s missing; %d bought, %d held, %d freed by this plan", thing.Name, model.Count(without, "seat is", "seats are"), thing.Seats, used, opened)
		}
	}
}

// atLeast holds what would leave too few active holders of a thing, counted
// over effective access after the whole plan.
func (c *checker) atLeast(a int, st *reach.States) {
	app := c.Apps[a]
	for t := range app.Things {
		thing := &app.Things[t]
		if thing.AtLeast == 0 {
			continue
		}
		losers, more := st.Losing(a, int32(t))
		n := st.App(a).Active(c.Accounts[a], int32(t)) + more
		if n >= thing.AtLeast || len(losers) == 0 {
			continue
		}
		for _, i := range c.byApp[a] {
			ch := &c.Changes[i]
			if !narrows(ch) || !losers[ch.Key] {
				continue
			}
			if ch.Thing == diff.None || st.App(a).Brings(ch.Thing, int32(t)) {
				c.hold(i, AtLeast, "%s", tooFew(n, thing))
			}
		}
	}
}

func tooFew(n int, thing *model.Thing) string {
	return fmt.Sprintf("only %s of %s %s would stay; at least %d must", model.Count(n, "active holder", "active holders"), thing.Kind, thing.Name, thing.AtLeast)
}
