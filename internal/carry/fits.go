package carry

import (
	"context"
	"fmt"
	"strings"

	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// OutOfDate says that a plan no longer fits what it was drafted from.
type OutOfDate struct{ Moved []string }

func (e *OutOfDate) Error() string {
	return "the plan is out of date, and nothing was changed: " + strings.Join(e.Moved, "; ") + ". Draft again"
}

// fits makes sure that the files and the exports are those of the plan.
func (j *Job) fits() error {
	mark := func(a int) (string, error) { return j.state.Exports[a].Digest, nil }
	marks, err := fits(j.state, j.Plan, j.ledger, mark)
	for app, mark := range marks {
		a := j.state.Repo.App(app)
		j.apps[app] = &application{number: a, reached: j.state.Reached[a], mark: mark}
	}
	return err
}

// InDate makes sure that the files and the exports are those of a plan, before
// somebody decides about it: people were read, and applications tell their marks. The
// error is an *OutOfDate where something has moved since.
func InDate(ctx context.Context, s *prepare.State, p *plan.Plan, l ledger.Ledger) error {
	_, err := fits(s, p, l, func(a int) (string, error) { return s.Reached[a].Mark(ctx) })
	return err
}

// environment is how an environment is called.
func environment(name string) string {
	if name == "" {
		return desired.Usual
	}
	return name
}

// fits returns the marks of the applications of a plan, or an *OutOfDate.
func fits(
	s *prepare.State,
	p *plan.Plan,
	l ledger.Ledger,
	mark func(app int) (string, error),
) (marks map[string]string, err error) {
	left, err := left(l, p)
	if err != nil {
		return nil, err
	}
	if p.Desired.Environment != s.Repo.Tree.Environment {
		return nil, &OutOfDate{[]string{fmt.Sprintf(
			"it is a plan of the environment %s, and this is %s",
			environment(p.Desired.Environment),
			environment(s.Repo.Tree.Environment),
		)}}
	}
	var moved []string
	if s.Repo.Digest() != p.Desired.Digest {
		says := "the files of the desired state have changed"
		if p.Desired.Clean {
			if files := gitrepo.Changed(s.Repo.Dir, p.Desired.Revision); len(files) > 0 {
				says += ": " + strings.Join(files[:min(len(files), maxMoved)], ", ")
			}
			says += fmt.Sprintf(" (the plan is of commit %.10s; with its files: git checkout %[1]s)", p.Desired.Revision)
		}
		moved = append(moved, says)
	}
	marks = map[string]string{}
	for i := range p.Exports {
		e := &p.Exports[i]
		a := s.Repo.App(e.App)
		if a < 0 {
			moved = append(moved, "there is no application "+e.App+" any more")
			continue
		}
		now, err := mark(a)
		if err != nil {
			return nil, err
		}
		if now != e.Digest && !left[[2]string{e.App, now}] {
			moved = append(moved, fmt.Sprintf("the exported state of %s has changed since", e.App))
		}
		marks[e.App] = now
	}
	if len(moved) > 0 {
		return marks, &OutOfDate{moved}
	}
	return marks, nil
}

// left tells the marks under which steps and runs of a plan have left applications.
func left(l ledger.Ledger, p *plan.Plan) (map[[2]string]bool, error) {
	out := map[[2]string]bool{}
	err := l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.StepTaken, ledger.RunEnded}, Plan: p.ID},
		func(e *ledger.Entry) error {
			if e.Kind == ledger.RunEnded {
				end, err := ledger.Decode[ledger.RunEnd](e)
				for app, mark := range end.Marks {
					out[[2]string{app, mark}] = true
				}
				return err
			}
			s, err := ledger.Decode[ledger.Step](e)
			if err == nil && s.After != "" {
				out[[2]string{s.App, s.After}] = true
			}
			return err
		},
	)
	return out, err
}
