package cli

import (
	"errors"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
	"pravet/internal/source"
)

// questioned opens the ledger for a question, which writes nothing; one without entries
// where there is none.
func (c *program) questioned(dir string) (ledger.Ledger, error) {
	l, err := ledger.OpenReading(dir, c.ledgerOptions())
	if err == nil && l == nil {
		l = ledger.Nothing()
	}
	return l, err
}

// question opens the folder of a repository and its ledger for a question.
func (c *program) question(dir string) (*source.Tree, ledger.Ledger, error) {
	tree, err := c.tree(dir)
	if err != nil {
		return nil, nil, err
	}
	l, err := c.questioned(dir)
	return tree, l, err
}

// values reads ATTRIBUTE=VALUE, several of them.
func values(with []string, known []string) (map[string]string, error) {
	out := map[string]string{}
	for _, w := range with {
		name, value, ok := strings.Cut(w, "=")
		if !ok || name == "" {
			return nil, usage(say.NotAnAssignment(w))
		}
		if at := slices.IndexFunc(known, func(k string) bool { return table.Fold(k) == table.Fold(name) }); at >= 0 {
			name = known[at]
		} else if !desired.IsAttribute(name) {
			return nil, usage(say.Flag("with", prepare.UnknownName("attribute of people", name, known)))
		}
		if slices.Contains([]string{"starts", "ends", "away.from", "away.to"}, name) && value != "" {
			if _, err := day.Parse(value); err != nil {
				return nil, usage(say.Flag("with "+name, err))
			}
		}
		out[name] = value
	}
	return out, nil
}

// whatIf says what a person would gain, lose and keep with other attributes.
func (c *program) whatIf(dir, name string, with []string, today day.Day, format string) error {
	tree, l, err := c.question(dir)
	if err != nil {
		return err
	}
	defer l.Close()
	repo, err := c.rules(dir)
	if err != nil {
		return err
	}
	repo.FindPeople(name)
	set, err := values(with, repo.People.Attributes())
	if err != nil {
		return err
	}
	w, err := prepare.If(c.ctx, tree, l, name, set, today, day.Of(c.Now()))
	if err := c.told(w.State, w.Missing, err); err != nil {
		return err
	}
	would := &show.Would{
		ID: w.View.People.Get(w.Person, "id"), Name: w.View.Explain.Name(int32(w.Person)), New: w.IsNew, With: set,
		Gains: []plan.Change{}, Loses: []plan.Change{}, Changes: []plan.Change{}, Anyway: []plan.Change{},
		NoMore: []plan.Change{}, Keeps: []string{}, Reasons: w.Then.Reasons, Plan: w.Then,
	}
	now := map[string]bool{}
	for i := range w.Now.Changes {
		now[w.Now.Changes[i].ID] = true
	}
	then := map[string]bool{}
	for i := range w.Then.Changes {
		ch := w.Then.Changes[i]
		then[ch.ID] = true
		switch {
		case now[ch.ID]:
			would.Anyway = append(would.Anyway, ch)
		default:
			would.Add(ch)
		}
	}
	for i := range w.Now.Changes {
		if ch := w.Now.Changes[i]; !then[ch.ID] {
			would.NoMore = append(would.NoMore, ch)
		}
	}
	answer := w.View.Why(w.Person, nil)
	answer.Things(func(x *access.Item) {
		if (x.State == access.Has || x.State == access.Kept) && !slices.Contains(would.Keeps, x.Thing) {
			would.Keeps = append(would.Keeps, x.Thing)
		}
	})
	slices.Sort(would.Keeps)
	switch format {
	case "json":
		return show.PrintJSON(c.Stdout, would)
	case "csv":
		return show.PrintCSV(c.Stdout, would.Table())
	}
	return c.paged(func(p *show.Printer) error {
		p.Would(would)
		return p.Err()
	})
}

// beside says what two people have, side by side.
func (c *program) beside(dir, one, other string, today day.Day, format string) error {
	tree, err := c.tree(dir)
	if err != nil {
		return err
	}
	var answers []*access.Answer
	for _, name := range []string{one, other} {
		s, v, person, missing, err := c.find(dir, tree, name, today)
		if len(answers) > 0 {
			missing = nil // said already
		}
		if err := c.told(s, missing, err); err != nil {
			return err
		}
		answers = append(answers, v.Why(person, nil))
	}
	both := access.Beside(answers[0], answers[1])
	if format != "table" {
		return show.Output(c.Stdout, c.Environ, format, show.BesideTable(both))
	}
	p := show.NewPrinter(c.Stdout, c.Environ)
	p.Beside(both)
	return errors.Join(p.Err())
}
