package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/show"
	"pravet/internal/source"
)

func (c *context) accept() *cobra.Command {
	var because string
	var lift []string
	var sel selection
	cmd := &cobra.Command{
		Use:     "accept PLAN [CHANGE ...]",
		Short:   "Accept a plan, or some of its changes",
		GroupID: deciding,
		Long: `Accept says that changes may be carried out: the whole plan, or changes by id,
person, thing, application or filter. What an accepted change needs goes along,
and is named. Once changes are accepted by themselves, apply carries out only
those.

--lift takes a guard away for this plan, so that what only it holds can be
carried out. A difference that an earlier rejection set aside is taken up again
by accepting it; the next draft has it.`,
		Example: example("pravet accept b69fbmpj --because 'reviewed with planning'", "pravet accept b69fbmpj --person E0042 --because 'starts on Monday'",
			"pravet accept b69fbmpj --lift suspensions --because 'the summer crew ends together'"),
		Args: cobra.MinimumNArgs(1),
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the ledger (required)")
	cmd.Flags().StringSliceVar(&lift, "lift", nil, "take this guard away for this plan (may be repeated)")
	_ = cmd.RegisterFlagCompletionFunc("lift", cobra.FixedCompletions(guard.All(), cobra.ShellCompDirectiveNoFileComp))
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completeChanges
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return c.decide(args, because, &sel, func(d *decision) error { return d.accept(lift) })
	}
	return cmd
}

func (c *context) reject() *cobra.Command {
	var because, until string
	var standing bool
	var sel selection
	cmd := &cobra.Command{
		Use:     "reject PLAN [CHANGE ...]",
		Short:   "Reject a plan, or some of its changes, and remember it",
		GroupID: deciding,
		Long: `Reject says that differences stay as they are: of the whole plan, or of changes
by id, person, thing, application or filter. What needs a rejected change falls
with it, and is named.

A rejected difference is remembered: the next draft sets it aside, until the
--until day is over or the difference becomes another one. With --standing the
decision is written to standing.yaml, to be committed with the other files.`,
		Example: example("pravet reject b69fbmpj gqc34xdfuyha --because 'agreed with the owner'", "pravet reject b69fbmpj --thing tickets/role/seller --until 2026-12-31 --because 'until the audit is over'"),
		Args:    cobra.MinimumNArgs(1),
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
				return usage("--until: %w", err)
			}
		}
		return c.decide(args, because, &sel, func(d *decision) error { return d.reject(last, standing) })
	}
	return cmd
}

// A decision is one accept or reject while it is made.
type decision struct {
	c       *context
	dir     string
	ledger  *ledger.Ledger
	plan    *plan.Plan
	all     bool            // the whole plan is meant
	chosen  map[string]bool // changes of the plan
	aside   []string        // changes that an earlier rejection set aside
	because string
}

// decide finds what is meant and lets do decide about it.
func (c *context) decide(args []string, because string, sel *selection, do func(*decision) error) error {
	if strings.TrimSpace(because) == "" {
		return usage("a decision needs a reason: --because 'why'")
	}
	dir, p, err := c.planHere(args[0])
	if err != nil {
		return err
	}
	d := &decision{c: c, dir: dir, plan: p, because: because, chosen: map[string]bool{}, all: len(args) == 1 && sel.empty()}
	if err := d.choose(args[1:], sel); err != nil {
		return err
	}
	if d.ledger, err = c.ledger(dir); err != nil {
		return err
	}
	defer d.ledger.Close()
	return do(d)
}

// choose resolves the changes named one by one, and those selected.
func (d *decision) choose(ids []string, sel *selection) error {
	for _, id := range ids {
		var found []string
		for i := range d.plan.Changes {
			if strings.HasPrefix(d.plan.Changes[i].ID, id) {
				found = append(found, d.plan.Changes[i].ID)
			}
		}
		inPlan := len(found)
		for i := range d.plan.SetAside {
			if strings.HasPrefix(d.plan.SetAside[i].Change.ID, id) {
				found = append(found, d.plan.SetAside[i].Change.ID)
			}
		}
		switch {
		case id == "" || len(found) == 0:
			return usage("the plan has no change %q", id)
		case len(found) > 1:
			return usage("%d changes begin with %q; write more of the id", len(found), id)
		case inPlan == 1:
			d.chosen[found[0]] = true
		default:
			d.aside = append(d.aside, found[0])
		}
	}
	if d.all || !sel.empty() {
		changes, err := sel.choose(d.plan)
		if err != nil {
			return err
		}
		if len(changes) == 0 && !d.all {
			return usage("the plan has no change that fits")
		}
		for _, ch := range changes {
			d.chosen[ch.ID] = true
		}
	}
	return nil
}

func (d *decision) accept(lift []string) error {
	for _, g := range lift {
		if !slices.Contains(guard.All(), g) {
			return usage("--lift: %w", prepare.UnknownName("guard", g, guard.All()))
		}
	}
	named := len(d.chosen)
	along := decide.WithNeeds(d.plan, d.chosen)
	rec := ledger.Decision{Plan: d.plan.ID, Verdict: "accept", All: d.all, Because: d.because, Along: along}
	if !d.all {
		rec.Changes = append(d.inOrder(along), d.aside...)
	}
	var records []ledger.Record
	if len(lift) > 0 {
		records = append(records, ledger.Record{Kind: ledger.Decided, Subject: d.plan.ID,
			Body: ledger.Decision{Plan: d.plan.ID, Verdict: "lift", Guards: lift, Because: d.because}})
	}
	// To lift a guard of a whole plan does not accept all of it.
	if !d.all || len(lift) == 0 {
		records = append(records, ledger.Record{Kind: ledger.Decided, Subject: d.plan.ID, Body: rec})
	}
	if err := d.ledger.Append(records...); err != nil {
		return err
	}
	p := show.NewPrinter(d.c.Stdout, d.c.Environ)
	for _, g := range lift {
		n := 0
		for i := range d.plan.Changes {
			for _, h := range d.plan.Changes[i].Holds {
				if h.Guard == g {
					n++
				}
			}
		}
		p.Linef("Lifted the guard %s for plan %s; it held %s.", g, d.plan.ID, model.Count(n, "change", "changes"))
	}
	switch {
	case d.all && len(lift) > 0:
	case d.all:
		p.Linef("Accepted the whole plan %s, %s.", d.plan.ID, model.Count(len(d.plan.Changes), "change", "changes"))
	default:
		p.Linef("Accepted %s of plan %s:", model.Count(named+len(d.aside), "change", "changes"), d.plan.ID)
		d.list(p, rec.Changes)
	}
	d.along(p, along, "Along with them, as they need it:")
	if len(d.aside) > 0 {
		p.Linef("%s set aside before; draft again to have what was taken up.", model.Count(len(d.aside), "of them was", "of them were"))
	}
	return d.remaining(p)
}

// inOrder lists the chosen changes in the plan's order, without those that
// only go along.
func (d *decision) inOrder(along []string) []string {
	var out []string
	for i := range d.plan.Changes {
		if id := d.plan.Changes[i].ID; d.chosen[id] && !slices.Contains(along, id) {
			out = append(out, id)
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
			p.Line("  " + show.Sentence(d.plan, c) + "  " + show.Dim(c.ID))
		}
	}
	for i := range d.plan.Changes {
		name(&d.plan.Changes[i])
	}
	for i := range d.plan.SetAside {
		name(&d.plan.SetAside[i].Change)
	}
	if n > maxListed {
		p.Linef("  and %s", model.Count(n-maxListed, "more", "more"))
	}
}

func (d *decision) reject(until day.Day, standing bool) error {
	if len(d.aside) > 0 {
		return usage("%s is set aside already", d.aside[0])
	}
	if asOf, err := day.Parse(d.plan.AsOf); until != day.None && (err != nil || until < asOf) {
		return usage("--until: %s is over already on %s, the day of the plan", until, d.plan.AsOf)
	}
	along := decide.WithNeeding(d.plan, d.chosen)
	rec := ledger.Decision{Plan: d.plan.ID, Verdict: "reject", All: d.all, Changes: d.inOrder(along), Along: along,
		Until: until.String(), Because: d.because, Standing: standing}
	if standing {
		if err := d.writeStanding(rec.Changes, until); err != nil {
			return err
		}
	}
	if err := d.ledger.Append(ledger.Record{Kind: ledger.Decided, Subject: d.plan.ID, Body: rec}); err != nil {
		return err
	}
	p := show.NewPrinter(d.c.Stdout, d.c.Environ)
	where := "remembered"
	if until != day.None {
		where += " until " + until.String()
	}
	if standing {
		where = "written to standing.yaml"
	}
	p.Linef("Rejected %s of plan %s, %s:", model.Count(len(rec.Changes), "change", "changes"), d.plan.ID, where)
	d.list(p, rec.Changes)
	d.along(p, along, "Set aside with them, as it needs one of them:")
	return d.remaining(p)
}

// remaining says what of the plan can be carried out now.
func (d *decision) remaining(p *show.Printer) error {
	today := day.Of(d.c.Now())
	s, err := prepare.Standing(d.ledger, d.plan, today)
	if err != nil {
		return err
	}
	counts := map[decide.State]int{}
	for _, st := range s.Ready(d.plan, today) {
		counts[st]++
	}
	line := fmt.Sprintf("Of the plan, %d accepted and ready, %d undecided, %d rejected, %d held", counts[decide.Ready], counts[decide.Waiting],
		counts[decide.Refused], counts[decide.Held])
	if n := counts[decide.Lacking]; n > 0 {
		line += fmt.Sprintf(", %d waiting for one of those", n)
	}
	p.Line(show.Dim(line + "."))
	return p.Err()
}

// writeStanding adds rejections to standing.yaml and leaves the rest of the
// file as it is.
func (d *decision) writeStanding(ids []string, until day.Day) error {
	path := filepath.Join(d.dir, "standing.yaml")
	data, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return source.Unreadable("standing.yaml", err)
	}
	by := d.c.actor(d.dir)
	var add []desired.StandingRejection
	in := set(ids)
	for i := range d.plan.Changes {
		if c := &d.plan.Changes[i]; in[c.ID] {
			add = append(add, desired.StandingRejection{Change: c.ID, What: show.Sentence(d.plan, c), Because: d.because, By: by, Until: until})
		}
	}
	out, err := desired.AddRejections(data, add)
	if err != nil {
		return err
	}
	return source.WriteFile(path, out, 0o644)
}
