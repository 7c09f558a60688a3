package draft_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"pravet/internal/core/model"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/plan"
)

// access is what each account has in the end: application/account → things.
func (w *world) access() map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for a, app := range w.apps {
		for name, acc := range w.state[a] {
			all := map[string]bool{}
			held := numbers(app, acc.held)
			for _, t := range append(w.as(a).Along(held...), held...) {
				all[key(app.Things[t])] = true
			}
			out[app.ID+"/"+name] = all
		}
	}
	return out
}

// TestWhatChangesMeanInTheEnd: what they say that comes and goes is the
// difference between all access before and after, each once. Of accounts that
// are blocked, what redefinitions bring is not told.
func TestWhatChangesMeanInTheEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, true)
		p := w.draft(t, nil)
		steady := map[string]bool{}
		for a, app := range w.apps {
			for name, acc := range w.state[a] {
				steady[app.ID+"/"+name] = acc.open
			}
		}
		for _, c := range p.Changes {
			if c.Verb == model.Suspend || c.Verb == model.Remove {
				steady[c.App+"/"+c.Account] = false
			}
		}
		before, told := w.access(), w.access()
		var later []moved
		dump := w.dump(p)
		for i := range p.Changes {
			c := &p.Changes[i]
			name := c.App + "/" + c.Account
			if c.Verb == model.Retire && len(c.Holds) > 0 { // somebody holds it
				continue
			}
			was := w.access()
			w.apply(t, c)
			things := slices.Clone(c.Also)
			if c.Thing != nil && !c.Stays {
				things = append(things, *c.Thing)
			}
			switch c.Verb {
			case model.Define, model.Retire:
				continue
			case model.Redefine:
				later = append(later, w.reached(t, c, was)...)
				continue
			case model.Suspend, model.Restore, model.Remove:
				require.Len(t, things, len(was[name]), "%s %s", c.Verb, name)
				continue
			case model.Create:
				told[name], before[name], steady[name] = map[string]bool{}, map[string]bool{}, true
			}
			if !steady[name] {
				continue
			}
			for _, th := range things {
				key := th.Kind.String() + "/" + th.Name
				require.Equal(
					t,
					c.Effect != model.Widens,
					told[name][key],
					"%s %s of %s is told twice",
					c.Verb,
					key,
					name,
				)
				require.Equal(
					t,
					c.Effect != model.Widens,
					before[name][key],
					"%s %s of %s changes nothing in the end",
					c.Verb,
					key,
					name,
				)
				told[name][key] = c.Effect == model.Widens
			}
			require.True(t, c.Effect != model.Keeps || len(things) == 0, "%s %s keeps access", c.Verb, name)
		}
		after := w.access()
		for _, m := range later { // what comes back, or was there, is neither lost nor gained
			if m.gained && !before[m.name][m.thing] || !m.gained && !after[m.name][m.thing] {
				told[m.name][m.thing] = m.gained
			}
		}
		for name := range told {
			if steady[name] {
				maps.DeleteFunc(told[name], func(_ string, has bool) bool { return !has })
				require.Equal(t, after[name], told[name], "%s in\n%s", name, dump)
			}
		}
	})
}

// moved is a thing that an account gains or loses by a redefinition.
type moved struct {
	name, thing string
	gained      bool
}

// reached checks what a redefinition says of whom it reaches, and returns what
// they gain and lose by it.
func (w *world) reached(t require.TestingT, c *plan.Change, was map[string]map[string]bool) (out []moved) {
	require.Equal(t, c.Effect != model.Keeps, c.Reach.Accounts > 0 && c.Attribute != "title")
	require.Len(t, c.Reach.People, c.Reach.Accounts)
	if c.Attribute != "brings" {
		return nil
	}
	now := w.access()
	for _, who := range c.Reach.People {
		name := c.App + "/" + who
		for _, p := range w.people {
			if p.id == who {
				name = c.App + "/" + p.name
			}
		}
		for th := range was[name] {
			if !now[name][th] {
				out = append(out, moved{name, th, false})
			}
		}
		for th := range now[name] {
			if !was[name][th] {
				out = append(out, moved{name, th, true})
			}
		}
	}
	return out
}

// dump is a world and its plan as text, for the messages of failures.
func (w *world) dump(p *plan.Plan) string {
	var b strings.Builder
	for a, app := range w.apps {
		fmt.Fprintln(&b, app.ID, "effective", app.Effective, "tidy", app.Tidy)
		for i, th := range app.Things {
			d := "undefined"
			if x := w.defs[a]; x != nil && x[key(th)] != nil {
				d = fmt.Sprint(x[key(th)].Brings)
			}
			fmt.Fprintln(
				&b,
				"  ",
				i,
				key(th),
				"brings",
				th.Implies,
				"define",
				th.Define,
				"retire",
				th.Retire,
				"now",
				d,
				"atLeast",
				th.AtLeast,
			)
		}
		for n, s := range w.state[a] {
			fmt.Fprintln(&b, "  ", n, s.open, s.held)
		}
	}
	fmt.Fprintln(&b, w.apart)
	if p != nil {
		for _, c := range p.Changes {
			fmt.Fprintln(
				&b,
				c.ID,
				c.App,
				c.Account,
				c.Verb,
				c.Thing,
				c.Attribute,
				c.Before,
				c.After,
				c.Effect,
				"needs",
				c.Needs,
				"holds",
				c.Holds,
			)
		}
	}
	return b.String()
}
