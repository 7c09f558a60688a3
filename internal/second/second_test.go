package second

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// A bench is a world on disk.
type bench struct {
	*world
	dir    string
	ledger ledger.Ledger
	day    day.Day
}

func (b *bench) state(t *testing.T) *prepare.State {
	tree, err := source.OpenTree(b.dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	s := prepare.Rules(context.Background(), tree)
	err = s.Read(context.Background(), nil)
	require.NoError(t, err, "%v", s.Problems())
	return s
}

func (b *bench) draft(t *testing.T) *plan.Plan {
	p, err := prepare.Draft(b.state(t), b.ledger, b.day, b.day, nil)
	require.NoError(t, err)
	return p
}

func text(v any) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
}

// drafted is a plan's changes in the words of the second reckoning.
func drafted(p *plan.Plan) (out []*change) {
	for i := range p.Changes {
		c := &p.Changes[i]
		x := &change{app: c.App, verb: c.Verb.String(), account: c.Account, person: c.Person, attribute: c.Attribute, effect: c.Effect.String()}
		if c.Thing != nil {
			x.thing = c.Thing.Kind.String() + "/" + c.Thing.Name
		}
		if x.verb == "update" {
			x.before, x.after = text(c.Before), text(c.After)
		}
		for _, h := range c.Holds {
			if !slices.Contains(x.holds, h.Guard) {
				x.holds = append(x.holds, h.Guard)
			}
		}
		slices.Sort(x.holds)
		out = append(out, x)
	}
	return out
}

func lines(changes []*change) (out []string) {
	for _, c := range changes {
		out = append(out, c.String())
	}
	slices.Sort(out)
	return out
}

func TestSecond(t *testing.T) {
	n, from := 300, uint64(0)
	if v := os.Getenv("SEEDS"); v != "" {
		fmt.Sscan(v, &from, &n)
	}
	bad := 0
	for seed := from; seed < from+uint64(n); seed++ {
		b := &bench{world: draw(seed), dir: t.TempDir()}
		b.write(t, b.dir)
		b.day, _ = day.Parse(today)
		l, err := ledger.Open(b.dir, ledger.Options{By: "Farah", Now: time.Now})
		require.NoError(t, err)
		b.ledger = l
		p := b.draft(t)
		is := drafted(p)
		want := b.reckon(nil)
		b.judge(want)
		x, y := lines(want), lines(is)
		if !slices.Equal(x, y) {
			bad++
			if bad < 6 {
				t.Errorf("seed %d", seed)
				if os.Getenv("SHOW") != "" {
					out, _ := exec.Command("sh", "-c", "cd "+b.dir+"; head -40 *.yaml people/* apps/* kits/* exports/*").CombinedOutput()
					fmt.Println(string(out))
					fmt.Println(strings.Join(y, "\n"))
				}
				for _, l := range x {
					if !slices.Contains(y, l) {
						t.Errorf("  second:  %s", l)
					}
				}
				for _, l := range y {
					if !slices.Contains(x, l) {
						t.Errorf("  drafted: %s", l)
					}
				}
			}
		}
		l.Close()
	}
	t.Logf("%d of %d differ", bad, n)
}
