package reference

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/draft"
	"pravet/internal/core/plan"
	"pravet/internal/prepare"
)

// undone finds what undoes what a run has done, by the table of docs/carrying-out.md, as far as the application still
// shows it.
func (w *world) undone(done []*change) (out []*change) {
	names := map[string]string{} // of accounts that the run has renamed
	for _, c := range done {
		if c.attribute == w.app(c.app).by {
			names[c.app+" "+c.account] = c.after
		}
	}
	add := func(c change) {
		again := func(o *change) bool { return o.key() == c.key() }
		if !slices.ContainsFunc(out, again) {
			out = append(out, &c)
		}
	}
	for _, c := range slices.Backward(done) {
		a := w.app(c.app)
		back := change{app: c.app, verb: c.verb, thing: c.thing, attribute: c.attribute, before: c.after, after: c.before}
		if c.ofThing() {
			if d := a.definition(c.thing); c.verb == "redefine" && d != nil && d.shows(c.attribute) == c.after {
				back.sense, back.effect = -c.sense, "keeps"
				list, was := split(c.after), split(c.before)
				if back.moved = less(was, list); c.attribute != "title" && len(back.moved) == 0 {
					back.moved = less(list, was)
				}
				add(back)
			}
			continue
		}
		back.account = c.account
		if to, ok := names[c.app+" "+c.account]; ok {
			back.account = to
		}
		r, there := a.row(back.account)
		if p := w.owner(a, r); there && p != nil {
			back.person = p.id
			back.second = a.account(w.rowsOf(a, p)[0]) != back.account
		}
		holds := slices.Contains(r.held, c.thing)
		switch {
		case !there, c.verb == "remove":
		case c.verb == "create", c.verb == "restore":
			if r.open {
				add(change{
					app: c.app, verb: "suspend", account: back.account, person: back.person, second: back.second, effect: "narrows",
				})
			}
		case c.verb == "suspend":
			if !r.open {
				add(change{
					app: c.app, verb: "restore", account: back.account, person: back.person, second: back.second, effect: "widens",
				})
			}
		case c.verb == "update":
			if r.shows(c.attribute) == c.after {
				back.effect = "keeps"
				add(back)
			}
		case c.gives() && lone(c.thing):
			if holds && c.gone != "" {
				g := a.gain(r, c.gone)
				g.app, g.person, g.second, g.account = c.app, back.person, back.second, back.account
				add(g)
			}
		case c.gives():
			if holds {
				back.verb, back.before, back.after, back.effect = loses[kind(c.thing)], "", "", "narrows"
				add(back)
			}
		case !holds:
			back.verb, back.before, back.after, back.effect = gains[kind(c.thing)], "", "", "widens"
			add(back)
		}
	}
	return out
}

// shows is the value of an attribute of an account.
func (r row) shows(attribute string) string {
	switch attribute {
	case "userName":
		return r.user
	case "displayName":
		return r.name
	case "email":
		return r.email
	}
	return r.title
}

// shows is what is said of a definition.
func (d *definition) shows(attribute string) string {
	switch attribute {
	case "title":
		return d.title
	case "permissions":
		return strings.Join(slices.Sorted(slices.Values(d.permissions)), ",")
	}
	return strings.Join(slices.Sorted(slices.Values(d.brings)), ",")
}

// backOut carries a plan out, whole or in part, and drafts what undoes it; sometimes somebody changes something
// meanwhile.
func backOut(t *testing.T, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 11))
	b := open(t, seed, func(*world) {})
	defer b.close()
	data, err := b.draft(t).Seal()
	require.NoError(t, err)
	p, err := plan.Read(data.Bytes())
	require.NoError(t, err)
	want := b.reckon(nil)
	b.judge(want)
	b.record(t, p)
	chosen := b.still(undoable(want, func(int) bool { return false }), nil)
	if r.IntN(3) > 0 {
		chosen = b.part(t, r, p, want, new([]string))
	}
	done, _ := b.carry(want, chosen, false)
	x := &run{bench: b}
	if d := x.whole(t, p, done); d != "" {
		return "the run:\n" + d
	}
	b.reread(t, b.dir)
	b.gone(want, done)
	if r.IntN(2) == 0 {
		b.byHand(t, r)
	}
	var ids []string
	var in []*change // in the order in which they were done
	for i := range p.Changes {
		for _, c := range done {
			if x.keys[p.Changes[i].ID] == c.key() {
				ids, in = append(ids, p.Changes[i].ID), append(in, c)
			}
		}
	}
	if os.Getenv("SHOW") != "" {
		fmt.Printf("%s\n%s\n%v\n", strings.Join(lines(in), "\n"), strings.Join(b.rows(), "\n"), b.people)
	}
	is, err := prepare.Undo(b.state(t), b.ledger, draft.UndoneRun{ID: "run-1", Plan: p, Done: ids}, b.day)
	require.NoError(t, err)
	back := b.undone(in)
	b.backing = true
	b.judge(back)
	if os.Getenv("SHOW") != "" {
		fmt.Printf("%s\n%s\n\n", strings.Join(lines(drafted(is)), "\n"), strings.Join(b.rows(), "\n"))
	}
	if d := differ(lines(back), lines(drafted(is))); d != "" {
		return "the back-out:\n" + d
	}
	data, err = is.Seal()
	require.NoError(t, err)
	is, err = plan.Read(data.Bytes())
	require.NoError(t, err)
	b.record(t, is)
	before := *b.world
	before.apps = slices.Clone(b.apps)
	done, _ = b.carry(back, undoable(back, func(int) bool { return false }), false)
	y := &run{bench: b}
	if d := y.whole(t, is, done); d != "" {
		return "the run of the back-out:\n" + d
	}
	b.reread(t, b.dir)
	return differ(before.shown(done).rows(), b.rows())
}

// TestABackOut undoes what a run has done, and nothing else.
func TestABackOut(t *testing.T) {
	each(t, 40, backOut)
}
