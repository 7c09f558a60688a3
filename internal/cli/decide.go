package cli

import (
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
)

func (c *program) accept() *cobra.Command {
	var because string
	var lift []string
	var forGood bool
	var sel selection
	cmd := &cobra.Command{
		Use:     "accept PLAN [CHANGE ...]",
		Short:   "Accept a plan, or some of its changes",
		GroupID: deciding,
		Long: `Accept says that changes may be carried out: the whole plan, or changes by id,
by their numbers in it (3-9,14), by cause or fold (:f3kq9), person, thing,
application or filter. Without a plan, numbers and causes are those of the plan
that was just shown on this terminal. What an accepted change needs goes along,
and is named. Once changes are accepted by themselves, apply carries out only
those.

What cannot be undone is accepted by its id or its number only; with --for-good it
is accepted also with the whole plan, or as one of those that are chosen otherwise.

--lift takes a guard away for this plan, so that what only it holds can be
carried out. A difference that an earlier rejection set aside is taken up again
by accepting it; the next draft has it.`,
		Example: example(
			"pravet accept 2w57bede --because 'reviewed with planning'",
			"pravet accept 2w57bede --person E0042 --because 'starts on Monday'",
			"pravet accept 2w57bede 3-9,14 --because 'as agreed with the owner'",
			"pravet accept 2w57bede :2qe9t --because 'the new kit for berth planning'",
			"pravet accept 2w57bede --lift suspensions --because 'the summer crew ends together'",
		),
		Args: takes(1, -1, "which plan?", "pravet accept 2w57bede --because 'reviewed'"),
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the ledger (required)")
	cmd.Flags().StringSliceVar(&lift, "lift", nil, "take this guard away for this plan (may be repeated)")
	offer(cmd, "lift", sel.of(c, "lift", guardsOf))
	cmd.Flags().BoolVar(&forGood, "for-good", false, "also accept, without naming each one, changes that cannot be undone")
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completeChanges
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return c.decide(args, because, &sel, func(d *decision) error {
			d.spare(sel.states)
			return d.accept(lift, forGood)
		})
	}
	return cmd
}

func (c *program) reject() *cobra.Command {
	var because, until string
	var standing bool
	var sel selection
	cmd := &cobra.Command{
		Use:     "reject PLAN [CHANGE ...]",
		Short:   "Reject a plan, or some of its changes, and remember it",
		GroupID: deciding,
		Long: `Reject says that differences stay as they are: of the whole plan, or of changes
by id, by their numbers in it (3-9,14), by cause or fold (:f3kq9), person, thing,
application or filter. What needs a rejected change falls
with it, and is named.

A rejected difference is remembered: the next draft sets it aside, until the
--until day is over or the difference becomes another one. With --standing the
decision is written to standing.yaml, to be committed with the other files.`,
		Example: example(
			"pravet reject 2w57bede drncvfz5z3qu --because 'agreed with the owner'",
			"pravet reject 2w57bede --thing tickets/role/seller --until 2026-12-31 --because 'until the audit is over'",
		),
		Args: takes(1, -1, "which plan?", "pravet reject 2w57bede 12 --because 'not yet'"),
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the ledger (required)")
	cmd.Flags().StringVar(&until, "until", "", "the last day that the rejection counts, YYYY-MM-DD")
	cmd.Flags().BoolVar(&standing, "standing", false, "write the decision to standing.yaml")
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completeChanges
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		last := day.None
		if until != "" {
			var err error
			if last, err = day.Parse(until); err != nil {
				return usage(say.Flag("until", err))
			}
		}
		return c.decide(args, because, &sel, func(d *decision) error {
			if asOf, err := day.Parse(d.plan.AsOf); err == nil && last != day.None && last < asOf {
				return usage(say.UntilIsOver(last, asOf))
			}
			return d.reject(last, standing)
		})
	}
	return cmd
}

// A decision is one accept or reject while it is made.
type decision struct {
	c       *program
	maker   *decisions.Maker
	plan    *plan.Plan
	choice  decisions.Choice
	named   map[string]bool // of the choice, those that were named by id or number
	exact   map[string]bool // of those, the ones that were named by id
	because string
}

// decide finds what is meant and lets do decide about it.
func (c *program) decide(args []string, because string, sel *selection, do func(*decision) error) error {
	if strings.TrimSpace(because) == "" {
		return usage(say.NoReason())
	}
	args, err := c.withPlan(args)
	if err != nil {
		return err
	}
	dir, p, err := c.planHere(args[0])
	if err != nil {
		return err
	}
	d := &decision{
		c:       c,
		plan:    p,
		because: because,
		named:   map[string]bool{},
		exact:   map[string]bool{},
		choice:  decisions.Choice{Changes: map[string]bool{}, All: len(args) == 1 && sel.empty()},
	}
	if err := sel.prepare(c, dir, p); err != nil {
		return err
	}
	if err := d.choose(args[1:], sel); err != nil {
		return err
	}
	l, err := c.ledger(dir)
	if err != nil {
		return err
	}
	defer l.Close()
	if err := c.register(dir, l, p); err != nil {
		return err
	}
	repo, err := c.open(l, p, sel)
	if err != nil {
		return err
	}
	d.maker = &decisions.Maker{
		Ledger: l,
		Repo:   repo,
		Plan:   p,
		Today:  day.Of(c.Now()),
		By:     c.actor(dir),
	}
	return do(d)
}

// open makes sure that a plan can still be decided about: it was not carried out, and
// fits the files and the exports.
func (c *program) open(l ledger.Ledger, p *plan.Plan, sel *selection) (*desired.Repo, error) {
	done, left := 0, 0
	for i := range p.Changes {
		switch sel.states[p.Changes[i].ID] {
		case "done":
			done++
		case "rejected":
		default:
			left++
		}
	}
	if done > 0 && left == 0 {
		return nil, fail(Failed, say.NothingToDecide(p.ID))
	}
	sel.folk() // read, if nobody has asked for them yet
	s := prepare.Of(sel.repo())
	if len(s.Errors()) > 0 {
		return nil, c.problems(s)
	}
	var old *carry.OutOfDate
	if err := carry.InDate(c.ctx, s, p, l); errors.As(err, &old) {
		return nil, fail(Failed, say.TooOldToDecide(p.ID, old.Moved))
	} else if err != nil {
		return nil, err
	}
	return s.Repo, nil
}

// choose resolves the changes named one by one, and those selected.
func (d *decision) choose(names []string, sel *selection) error {
	for _, name := range names {
		found, err := sel.named(d.plan, name)
		if err != nil {
			return err
		}
		for _, c := range found {
			if sel.inPlan(d.plan, c) {
				d.choice.Changes[c.ID] = true
				d.named[c.ID] = d.named[c.ID] || !strings.HasPrefix(name, ":")
				d.exact[c.ID] = d.exact[c.ID] || strings.HasPrefix(c.ID, name)
			} else {
				d.choice.Aside = append(d.choice.Aside, c.ID)
			}
		}
	}
	if d.choice.All || !sel.empty() {
		changes, _, err := sel.choose(d.plan) // what is set aside is taken up by its id only
		if err != nil {
			return err
		}
		if len(changes) == 0 && !d.choice.All {
			return usage(say.NothingFits())
		}
		for _, ch := range changes {
			d.choice.Changes[ch.ID] = true
		}
	}
	return nil
}

// careful leaves out of what is to be accepted what cannot be undone and was not named,
// and counts it.
func (d *decision) careful() (left int) {
	for i := range d.plan.Changes {
		c := &d.plan.Changes[i]
		if !c.ForGood || d.named[c.ID] {
			continue
		}
		if d.choice.All || d.choice.Changes[c.ID] {
			left++
		}
		delete(d.choice.Changes, c.ID)
	}
	return left
}

// spare leaves out of what is to be accepted what was rejected by itself: a selection, a cause or a
// range of numbers does not take a rejection back; an id does.
func (d *decision) spare(states map[string]string) {
	for i := range d.plan.Changes {
		id := d.plan.Changes[i].ID
		if d.choice.All || !d.choice.Changes[id] || d.exact[id] || states[id] != "rejected" {
			continue
		}
		d.choice.Left = append(d.choice.Left, id)
		delete(d.choice.Changes, id)
		delete(d.named, id)
	}
}

func (d *decision) accept(lift []string, forGood bool) error {
	left := 0
	if d.choice.ForGood = forGood; !forGood {
		if left = d.careful(); left > 0 && !d.choice.All && len(d.choice.Changes)+len(d.choice.Aside) == 0 {
			return usage(say.OnlyForGood(left))
		}
	}
	for _, g := range lift {
		switch x, known := guard.Named(g); {
		case !known:
			return usage(say.Flag("lift", prepare.UnknownName("guard", g, guard.Names(guard.ForChange))))
		case g == guard.Keeping:
			return usage(say.CannotLiftKept())
		case x.Lift == guard.Never:
			return usage(say.CannotLift(g))
		case x.Lift == guard.ForChange && len(d.named) == 0:
			return usage(say.LiftOneByOne(g))
		}
	}
	made, err := d.maker.Accept(d.c.ctx, d.choice, d.lifts(lift), d.because)
	if errors.Is(err, decisions.ErrLeft) {
		return usage(say.AllRejected(len(d.choice.Left), d.choice.Left[0]))
	}
	if err != nil {
		return err
	}
	p := show.NewPrinter(d.c.Stdout, d.c.Environ)
	for _, g := range lift {
		n := 0
		for i := range d.plan.Changes {
			for _, h := range d.plan.Changes[i].Holds {
				if h.Guard == g && (len(d.named) == 0 || d.named[d.plan.Changes[i].ID]) {
					n++
				}
			}
		}
		p.Line(say.Lifted(g, d.plan.ID, n))
	}
	switch all := d.choice.All; {
	case all && len(lift) > 0:
	case all:
		n, all := 0, len(d.plan.Changes)
		for _, st := range made.States {
			if st != decide.Refused {
				n++
			}
		}
		p.Line(say.AcceptedPlan(d.plan.ID, n, all))
	default:
		p.Line(say.Accepted(len(made.Changes)+len(d.choice.Aside), d.plan.ID))
		d.list(p, append(slices.Clone(made.Changes), d.choice.Aside...))
	}
	d.along(p, d.choice.Left, say.LeftRejected(len(d.choice.Left)))
	d.along(p, made.Along, say.AcceptedAlong())
	if left > 0 {
		p.Line(say.LeftForGood(left))
	}
	if n := len(d.choice.Aside); n > 0 {
		p.Line(say.TakenUp(n))
	}
	return d.remaining(p, made)
}

// lifts are the guards that are lifted: for the changes that were named, or for the whole plan.
func (d *decision) lifts(guards []string) decisions.Lifts {
	out := decisions.Lifts{Guards: guards}
	for i := range d.plan.Changes {
		if id := d.plan.Changes[i].ID; d.named[id] {
			out.Changes = append(out.Changes, id)
		}
	}
	return out
}

func (d *decision) along(p *show.Printer, ids []string, title string) {
	if len(ids) == 0 {
		return
	}
	p.Line(title)
	d.list(p, ids)
}

// maxListed is how many changes a decision names before it counts them.
const maxListed = 12

// list names changes of the plan, or that it sets aside.
func (d *decision) list(p *show.Printer, ids []string) {
	in, n := set(ids), 0
	name := func(c *plan.Change) {
		if !in[c.ID] {
			return
		}
		if n++; n <= maxListed {
			p.Line("  " + words.Sentence(d.plan, c) + "  " + show.Dim(c.ID))
		}
	}
	for i := range d.plan.Changes {
		name(&d.plan.Changes[i])
	}
	for i := range d.plan.SetAside {
		name(&d.plan.SetAside[i].Change)
	}
	if n > maxListed {
		p.Line("  " + say.More(n-maxListed))
	}
}

func (d *decision) reject(until day.Day, standing bool) error {
	made, err := d.maker.Reject(d.c.ctx, d.choice, until, standing, d.because)
	p := show.NewPrinter(d.c.Stdout, d.c.Environ)
	if made != nil && len(made.Done) > 0 {
		p.Line(say.TooLateToReject(len(made.Done)))
		d.list(p, made.Done)
	}
	if err != nil {
		return err
	}
	last := ""
	if until != day.None {
		last = until.String()
	}
	p.Line(say.Rejected(len(made.Changes), d.plan.ID, last, standing))
	d.list(p, made.Changes)
	if n := len(made.Stands); n > 0 {
		p.Line(say.StandsAlready(n))
	}
	d.along(p, made.Along, say.RejectedAlong())
	return d.remaining(p, made)
}

// remaining says what of the plan can be carried out now.
func (d *decision) remaining(p *show.Printer, made *decisions.Made) error {
	counts := map[decide.State]int{}
	for _, st := range made.States {
		counts[st]++
	}
	p.Line(show.Dim(say.Remaining(counts)))
	if made.Running != nil {
		mark, text := say.UnderWayToo(made.Running.String())
		p.Line(show.Alarm(mark) + text)
	}
	return p.Err()
}
