package cli

import (
	"fmt"
	"time"

	"github.com/schollz/progressbar/v3"

	"pravet/internal/carry"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A runner tells how a run goes: on a terminal by a bar that counts, with the time that is
// left; elsewhere a line for each step.
type runner struct {
	c       *program
	bar     *progressbar.ProgressBar
	effects map[model.Effect]int
	failed  int
	app     string
	began   time.Time
	total   int
}

// runner begins to tell of a run.
func (c *program) runner(j *carry.Job) *runner {
	r := &runner{c: c, effects: map[model.Effect]int{}, began: time.Now(), total: j.Count(decide.Ready)}
	if !c.Terminal {
		return r
	}
	r.bar = progressbar.NewOptions(
		r.total,
		progressbar.OptionSetWriter(c.rawErr),
		progressbar.OptionSetWidth(24),
		progressbar.OptionShowCount(),
		progressbar.OptionSetPredictTime(false),
		progressbar.OptionThrottle(100*time.Millisecond),
		progressbar.OptionSetTheme(
			progressbar.Theme{Saucer: "=", SaucerHead: ">", SaucerPadding: " ", BarStart: "[", BarEnd: "]"},
		),
		progressbar.OptionClearOnFinish(),
		progressbar.OptionUseANSICodes(false),
		progressbar.OptionSetElapsedTime(false),
	)
	return r
}

// tell tells what has just happened.
func (r *runner) tell(p carry.Progress) {
	if r.bar == nil {
		if p.Says != "" {
			r.c.tell(p.Says)
		}
		return
	}
	if p.App != "" {
		r.app = p.App
	}
	switch {
	case p.Change != nil:
		r.count(p.Change, p.Err)
		_ = r.bar.Add(1) // a bar that cannot be drawn is no reason to stop
		r.bar.Describe(sayProgress(r.app, r.effects, r.failed, r.left()))
	case p.Fetched > 0:
		r.bar.Describe(sayReading(r.app, p.Fetched))
	}
}

// left is how long the rest may take, as what was done took.
func (r *runner) left() time.Duration {
	done := r.failed
	for _, n := range r.effects {
		done += n
	}
	return time.Since(r.began) / time.Duration(max(done, 1)) * time.Duration(max(r.total-done, 0))
}

func (r *runner) count(c *plan.Change, err error) {
	if err != nil {
		r.failed++
		return
	}
	r.effects[c.Effect]++
}

// end takes the bar away.
func (r *runner) end() {
	if r.bar != nil {
		_ = r.bar.Finish() // likewise
	}
}

// sayProgress is how far a run has come in an application.
func sayProgress(app string, effects map[model.Effect]int, failed int, left time.Duration) string {
	text := fmt.Sprintf(
		"%s: %d widen, %d narrow, %d keep",
		app,
		effects[model.Widens],
		effects[model.Narrows],
		effects[model.Keeps],
	)
	if failed > 0 {
		text += fmt.Sprintf(", %d failed", failed)
	}
	if left > time.Second {
		text += fmt.Sprintf("; about %s left", left.Round(time.Second))
	}
	return text
}
