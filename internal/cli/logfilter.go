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
	f.StringVar(
		&w.thing,
		"thing",
		"",
		"only what was decided and done about this thing or account, as APPLICATION/KIND/NAME",
	)
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
	repo, err := c.ruled()
	if err != nil {
		return err
	}
	repo.FindPeople(w.person)
	if at := repo.People.Named(w.person); at >= 0 { // else it may be someone who is not in the files any more
		w.person = repo.People.Get(at, "id")
	}
	return nil
}

// ruled reads the rules of the repository that the program is called in.
func (c *program) ruled() (*desired.Repo, error) {
	dir, err := c.dir()
	if err != nil {
		return nil, err
	}
	return c.rules(dir)
}

// missing is what is wrong with a question that has no answer: a name that neither the
// files nor the ledger know. Whoever and whatever is gone from the files may be on record.
func (w *logFilter) missing(c *program, l ledger.Ledger) error {
	if !w.narrow() {
		return nil
	}
	repo, err := c.ruled()
	if err != nil || repo.Problems.Errors() > 0 {
		return err // the files cannot tell
	}
	known := func(q ledger.Query) (found bool, err error) {
		err = l.Scan(q, func(*ledger.Entry) error {
			found = true
			return ledger.ErrStop
		})
		return found, err
	}
	if w.person != "" {
		if repo.FindPeople(w.person); repo.People.Named(w.person) >= 0 {
			return nil
		}
		if found, err := known(ledger.Query{Person: w.person}); err != nil || found {
			return err
		}
		repo.ReadPeople()
		return usage(say.NothingOnRecord("the person", w.person, repo.NearestPerson(w.person)))
	}
	app := w.app
	if w.thing != "" {
		address, err := model.ParseAddress(w.thing)
		if err != nil {
			return usage(say.Flag("thing", err))
		}
		if app = address.App; repo.App(app) >= 0 && address.Kind != "account" {
			if _, err := thingOf(repo, w.thing); err != nil {
				return err
			}
		}
	}
	if repo.App(app) >= 0 {
		return nil
	}
	if found, err := known(ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app}); err != nil || found {
		return err
	}
	return usage(say.NothingOnRecord("the application", app, table.Nearest(app, repo.AppIDs())))
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
		return (w.thing == "" || o.Thing == w.thing || o.App+"/account/"+o.Account == w.thing) &&
			(w.app == "" || o.App == w.app), err
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
