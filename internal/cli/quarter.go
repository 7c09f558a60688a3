package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"pravet/examples/quarter"
	"pravet/internal/core/day"
	"pravet/internal/core/fact"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/show"
)

func (c *program) quarter() *cobra.Command {
	return &cobra.Command{
		Use:   "quarter",
		Short: "Live through a quarter: people come, leave and return",
		Long: `Quarter plays the last quarter of 2026 at the ticket sales and the berth planning of
Marrowick Ferries, every working day from small files: who starts gets an account
ahead, who moves keeps what they had for two weeks, an invitation expires twice, who
leaves goes the way of their path, someone comes back, someone's account is kept,
nobody runs anything for two weeks, and someone is hired again. It prints the days on
which something happens, with what is carried out. Every draft and every run is a
real one.`,
		Example: example("pravet demo quarter"),
		Args:    takes(0, 0, "", ""),
		RunE: func(*cobra.Command, []string) error {
			dir, err := os.MkdirTemp("", "marrowick-quarter-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			if err := quarter.Write(dir); err != nil {
				return err
			}
			q := &quarterly{c: c, dir: dir, p: show.NewPrinter(c.Stdout, c.Environ)}
			if err := q.play(); err != nil {
				return err
			}
			return q.p.Err()
		},
	}
}

// quarterly plays the quarter in a folder.
type quarterly struct {
	c   *program
	dir string
	p   *show.Printer
	now time.Time
}

// play goes through the days.
func (q *quarterly) play() error {
	first, err := day.Parse(quarter.First)
	if err != nil {
		return err
	}
	last, err := day.Parse(quarter.Last)
	if err != nil {
		return err
	}
	silent := day.None
	var before map[string]bool // what was said on the day before of those on which something ran
	next := 0
	for today := first; today <= last; today++ {
		q.now = today.Time().Add(8 * time.Hour)
		var says []string
		for next < len(quarter.Happenings) && quarter.Happenings[next].Day == today.String() {
			h := &quarter.Happenings[next]
			if err := h.Do(q.dir); err != nil {
				return err
			}
			if h.Says != "" {
				says = append(says, h.Says)
			}
			if h.Silent > 0 {
				silent = today + day.Day(h.Silent)
			}
			next++
		}
		weekend := q.now.Weekday() == time.Saturday || q.now.Weekday() == time.Sunday
		var done []string
		if silent == day.None || today >= silent {
			if silent = day.None; !weekend {
				all, err := q.day()
				if err != nil {
					return fmt.Errorf("%s: %w", today, err)
				}
				for _, text := range all {
					if !before[text] {
						done = append(done, text)
					}
				}
				before = map[string]bool{}
				for _, text := range all {
					before[text] = true
				}
			}
		}
		if len(says)+len(done) == 0 {
			continue
		}
		q.p.Line()
		q.p.Line(show.Strong(today.String()) + "  " + show.Dim(q.now.Weekday().String()))
		for _, s := range says {
			q.p.Line("  " + s)
		}
		for _, s := range done {
			q.p.Wrapped("    ", s)
		}
	}
	return nil
}

// day drafts and carries out a day's plan, and says what came of it.
func (q *quarterly) day() (done []string, err error) {
	if _, err := q.run(Done, "draft", "--out", "plan.json"); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(q.dir, "plan.json"))
	if err != nil {
		return nil, err
	}
	p, err := plan.Read(data)
	if err != nil {
		return nil, err
	}
	forGood := 0
	for i := range p.Changes {
		ch := &p.Changes[i]
		text := words.Sentence(p, ch)
		if len(ch.Holds) > 0 {
			text = "held: " + text + ": " + ch.Holds[0].Says
		} else if ch.ForGood {
			forGood++
		}
		done = append(done, words.Clean(text))
	}
	for _, n := range p.Notices {
		if n.Facts.Kind == fact.HandOver || n.Facts.Kind == fact.Lingering {
			done = append(done, words.Clean(n.Says))
		}
	}
	if len(p.Changes) == 0 {
		return done, nil
	}
	if _, err := q.run(Done, "accept", "plan.json", "--for-good", "--because", "as agreed"); err != nil {
		return nil, err
	}
	args := []string{"apply", "plan.json"}
	if forGood > 0 {
		args = append(args, "--yes-for-good", strconv.Itoa(forGood))
	}
	_, err = q.run(-1, args...)
	return done, err
}

// run runs a command on the quarter's clock; want is the status that is expected, or -1
// for one of a run.
func (q *quarterly) run(want int, args ...string) (string, error) {
	var out bytes.Buffer
	env := q.c.Env
	env.Environ = append(slices.Clone(env.Environ), "XDG_STATE_HOME="+filepath.Join(q.dir, ".pravet"))
	env.Dir, env.Terminal, env.Stdout, env.Stderr = q.dir, false, &out, &out
	now := q.now
	env.Now = func() time.Time { return now }
	for _, name := range []string{"tickets.csv", "berths.csv"} {
		if err := os.Chtimes(filepath.Join(q.dir, "exports", name), now, now); err != nil {
			return "", err
		}
	}
	got := Run(q.c.ctx, args, env)
	if got != want && (want >= 0 || got != Done && got != Held) {
		return "", fmt.Errorf("%s ended with status %d: %s", shellWords(args), got, out.String())
	}
	return out.String(), nil
}
