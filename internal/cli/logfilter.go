package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/say"
)

// logFilter says which entries of the ledger are wanted.
type logFilter struct {
	kind, person, thing, app, by string
	sinceText, untilText         string
	since, until                 day.Day
}

func (w *logFilter) flags(c *program, cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&w.kind, "kind", "", "only entries of this kind: "+strings.Join(kinds, ", "))
	f.StringVar(&w.person, "person", "", "only what was decided and done about this person, by id or user name")
	f.StringVar(&w.thing, "thing", "", "only what was decided and done about this thing, as APPLICATION/KIND/NAME")
	f.StringVar(&w.app, "app", "", "only what was decided and done in this application")
	f.StringVar(&w.by, "by", "", "only what this person did: a part of the name")
	f.StringVar(&w.sinceText, "since", "", "only from this day on, YYYY-MM-DD")
	f.StringVar(&w.untilText, "until", "", "only until the end of this day, YYYY-MM-DD")
	offer(cmd, "kind", cobra.FixedCompletions(kinds, noFiles))
	offer(cmd, "person", c.completePeople)
	offer(cmd, "thing", c.completeThings)
	offer(cmd, "app", c.completeApps)
}

// narrow reports whether only what concerns someone or something is wanted.
func (w *logFilter) narrow() bool { return w.person != "" || w.thing != "" || w.app != "" }

// prepare reads the days, and finds the id of a person who is named otherwise.
func (w *logFilter) prepare(c *program) (err error) {
	if w.kind != "" && !set(kinds)[w.kind] {
		return usage(say.NotOneOf("kind", w.kind, kinds))
	}
	w.since, w.until = day.None, day.None
	if w.sinceText != "" {
		if w.since, err = day.Parse(w.sinceText); err != nil {
			return usage(say.Flag("since", err))
		}
	}
	if w.untilText != "" {
		if w.until, err = day.Parse(w.untilText); err != nil {
			return usage(say.Flag("until", err))
		}
	}
	if w.thing != "" {
		if _, err := model.ParseAddress(w.thing); err != nil {
			return usage(say.Flag("thing", err))
		}
	}
	if w.person == "" {
		return nil
	}
	dir, err := c.dir()
	if err != nil {
		return err
	}
	tree, err := c.tree(dir)
	if err != nil {
		return err
	}
	repo := desired.Rules(c.ctx, tree)
	repo.FindPeople(w.person)
	if at := repo.People.Named(w.person); at >= 0 { // else it may be someone who is not in the files any more
		w.person = repo.People.Get(at, "id")
	}
	return nil
}

// fits reports whether an entry is wanted; of a person the ledger's index knows.
func (w *logFilter) fits(e *ledger.Entry) (bool, error) {
	if w.since != day.None || w.until != day.None {
		on, err := day.Parse(e.At[:min(len(e.At), len(time.DateOnly))])
		if err != nil {
			return false, err
		}
		if w.since != day.None && on < w.since || w.until != day.None && on > w.until {
			return false, nil
		}
	}
	if w.by != "" && !strings.Contains(table.Fold(e.By), table.Fold(w.by)) {
		return false, nil
	}
	if w.thing == "" && w.app == "" {
		return true, nil
	}
	switch e.Kind {
	case ledger.Outcome:
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		return (w.thing == "" || o.Thing == w.thing) && (w.app == "" || o.App == w.app), err
	case ledger.Decided:
		d, err := ledger.Decode[ledger.Decision](e)
		return (w.thing == "" || slices.Contains(d.Things, w.thing)) &&
			(w.app == "" || slices.ContainsFunc(d.Things, func(t string) bool {
				return strings.HasPrefix(t, w.app+"/")
			})), err
	case ledger.ExportSeen:
		return w.thing == "" && e.Subject == w.app, nil
	case ledger.StepTaken:
		s, err := ledger.Decode[ledger.Step](e)
		return w.thing == "" && s.App == w.app, err
	}
	return false, nil
}
