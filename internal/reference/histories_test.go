package reference

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
)

// history lets a world live for a while: plans are drafted, accepted and rejected
// in part, carried out at once or days later, by applications that do not always
// do what they say and in processes that are killed, and somebody works in the
// applications by hand. It returns what went wrong.
func history(t *testing.T, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 9))
	b := open(t, seed, func(w *world) { // who works by hand takes away as well
		w.rosterShrink = "100%"
		for i := range w.apps {
			w.apps[i].shrink = "100%"
		}
	})
	defer b.close()
	var rejected, told []string
	plans := map[string]*plan.Plan{}
	bad := func(says string) string { return strings.Join(append(told, says), "\n") }
	for range 5 {
		switch r.IntN(3) {
		case 0:
			told = append(told, b.byHand(t, r))
		case 1:
			told = append(told, b.pass(r))
		}
		p, want, d := b.agreed(t, rejected)
		if d != "" {
			return bad("the plan:\n" + d)
		}
		if plans[p.ID] != nil {
			continue // what was decided about it stands
		}
		plans[p.ID] = p
		chosen := b.still(undoable(want, func(int) bool { return false }), rejected)
		if r.IntN(3) > 0 {
			chosen = b.part(t, r, p, want, &rejected)
		}
		told = append(told, fmt.Sprintf("plan %s, %d of %d changes chosen", p.ID, len(chosen), len(want)))
		moved := false
		if r.IntN(4) == 0 {
			told = append(told, b.pass(r))
			chosen = b.still(chosen, rejected)
		}
		if r.IntN(6) == 0 {
			was := b.rows()
			told = append(told, b.byHand(t, r))
			moved = !slices.Equal(was, b.rows())
		}
		x := &run{bench: b}
		switch r.IntN(4) {
		case 0:
			n := r.IntN(3)
			x.fails = func(c *plan.Change) bool { return (int(c.ID[0])+int(c.ID[1]))%3 == n }
			told = append(told, "a third of all changes is not done")
		case 1:
			x.kill, x.before = 1+r.IntN(3), r.IntN(2) == 0
			told = append(told, fmt.Sprintf("killed at step %d, before it: %v", x.kill, x.before))
		}
		before := *b.world
		before.apps = slices.Clone(b.apps)
		x.carryOut(t, p)
		b.reread(t, b.dir)
		if d := x.judge(&before, want, chosen, moved); d != "" {
			return bad(d)
		}
		// A new process settles the books of one that was killed.
		load := func(id string) (*plan.Plan, error) { return plans[id], nil }
		if _, _, err := carry.Settle(context.Background(), b.state(t), b.ledger, load, func(string) error { return nil }); err != nil {
			return bad("settling: " + err.Error())
		}
		was := b.rows()
		b.reread(t, b.dir)
		if d := differ(was, b.rows()); d != "" {
			return bad("settling changed something:\n" + d)
		}
		b.fresh(t)
	}
	return b.quiet(t, rejected, bad)
}

// agreed drafts, and compares.
func (b *bench) agreed(t *testing.T, rejected []string) (p *plan.Plan, want []*change, differs string) {
	data, err := b.draft(t).Seal()
	require.NoError(t, err)
	p, err = plan.Read(data.Bytes())
	require.NoError(t, err)
	want = b.reckon(rejected)
	b.judge(want)
	return p, want, differ(lines(want), lines(drafted(p)))
}

// judge says what a run did that it should not have done.
func (x *run) judge(before *world, want, chosen []*change, moved bool) string {
	if moved != x.moved && moved {
		return "a plan was carried out though an application had moved"
	}
	if x.moved {
		return differ(before.rows(), x.rows())
	}
	var may []string
	for _, c := range chosen {
		may = append(may, c.key())
	}
	seen := map[string]bool{}
	for _, k := range x.taken {
		if !slices.Contains(may, k) {
			return "carried out and not chosen: " + k
		}
		if seen[k] {
			return "carried out twice: " + k
		}
		seen[k] = true
	}
	var done []*change
	for _, c := range want {
		if seen[c.key()] {
			done = append(done, c)
		}
	}
	if d := differ(before.shown(done).rows(), x.rows()); d != "" {
		return "the files:\n" + d
	}
	if x.fails == nil && x.kill == 0 {
		all, _ := before.carry(want, chosen, false)
		if len(all) != len(done) {
			return fmt.Sprintf("%d done, and %d could be", len(done), len(all))
		}
	}
	return x.bad
}

// quiet carries out what is left, in peace, until nothing more can be done.
func (b *bench) quiet(t *testing.T, rejected []string, bad func(string) string) string {
	last := ""
	for range 8 {
		p, want, d := b.agreed(t, rejected)
		if d != "" {
			return bad("in the end, the plan:\n" + d)
		}
		// Where an export shows what comes along as well, it cannot show that the same was given directly.
		unseen := p.ID == last && !slices.ContainsFunc(want, func(c *change) bool {
			return len(c.holds) == 0 && (c.effect != "keeps" || !b.app(c.app).effective)
		})
		if last = p.ID; unseen {
			return ""
		}
		if done, _ := b.carry(want, free(want), false); len(done) == 0 {
			v, err := b.ledger.Verify()
			require.NoError(t, err)
			if v.Broken != 0 {
				return bad("the ledger is broken")
			}
			return ""
		}
		m := &decisions.Maker{
			Ledger: b.ledger,
			Repo:   b.state(t).Repo,
			Plan:   p,
			Today:  b.day,
			By:     "Farah",
		}
		_, err := m.Accept(context.Background(), decisions.Choice{All: true, ForGood: true}, decisions.Lifts{}, "yes")
		require.NoError(t, err)
		if os.Getenv("SHOW") != "" {
			fmt.Printf("quiet\n%s\n%s\n", strings.Join(lines(drafted(p)), "\n"), strings.Join(b.rows(), "\n"))
		}
		x := &run{bench: b}
		x.carryOut(t, p)
		if b.reread(t, b.dir); x.bad != "" {
			return bad(x.bad)
		}
	}
	return bad("it never comes to rest")
}

// pass lets days pass.
func (b *bench) pass(r *rand.Rand) string {
	b.day += day.Day(1 + r.IntN(40))
	b.today = b.day.String()
	return "it is " + b.today
}

// byHand changes something in an application.
func (b *bench) byHand(t *testing.T, r *rand.Rand) string {
	a := &b.apps[r.IntN(len(b.apps))]
	says := a.id + " by hand: "
	switch n := r.IntN(6); {
	case n == 5 && len(a.defined) > 0:
		says += a.redefined(r)
	case len(a.rows) == 0 || n == 0:
		a.rows = append(a.rows, row{user: fmt.Sprintf("hand%d", r.IntN(1<<30)), name: "By hand", open: true})
		a.part()
		says += "a new account"
	case n == 1:
		at := r.IntN(len(a.rows))
		says += a.rows[at].user + " is gone"
		a.rows = slices.Delete(a.rows, at, at+1)
	case n == 2:
		x := &a.rows[r.IntN(len(a.rows))]
		x.open = !x.open
		says += x.user + " is opened or blocked"
	case n == 3:
		x := &a.rows[r.IntN(len(a.rows))]
		x.held = nil
		says += x.user + " loses everything"
	case len(a.things) > 0:
		x, th := &a.rows[r.IntN(len(a.rows))], a.things[r.IntN(len(a.things))].key
		if a.single && kind(th) == "role" { // its cell takes one
			x.held = slices.DeleteFunc(slices.Clone(x.held), func(k string) bool { return kind(k) == "role" })
		}
		if lone(th) {
			x.held = slices.DeleteFunc(slices.Clone(x.held), lone)
		}
		if !slices.Contains(x.held, th) {
			x.held = append(x.held, th)
		}
		says += x.user + " gets " + th
	}
	b.export(t, b.dir, a)
	return says
}

// redefined changes a definition by hand, or takes it away.
func (a *app) redefined(r *rand.Rand) string {
	a.defined = slices.Clone(a.defined)
	at := r.IntN(len(a.defined))
	d := &a.defined[at]
	switch r.IntN(3) {
	case 0:
		key := d.key
		a.defined = slices.Delete(a.defined, at, at+1)
		return key + " is no longer defined"
	case 1:
		d.permissions = []string{"p1", "p3"}
		return d.key + " has other permissions"
	}
	d.brings = nil
	return d.key + " brings nothing any more"
}

// TestHistories lets small worlds live.
func TestHistories(t *testing.T) {
	each(t, 50, history)
}
