package access

import (
	"cmp"
	"fmt"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// stands says where an account stands on its path, and what comes next.
func stands(s *entitle.Stand) fact.Fact {
	f := fact.Fact{
		Kind: fact.Stands, Other: s.Path.Name, Count: s.Done, Whole: len(s.Path.Steps), Until: s.Due.String(),
	}
	if s.Done > 0 {
		f.Attribute = s.Path.Steps[s.Done-1].Do.String()
	}
	if s.Known {
		f.On = s.Since.String()
	}
	if next := s.Next(); next != nil {
		f.Value = next.Do.String()
	}
	return f
}

// onPath is an account on its way out.
func (v *View) onPath(out *Account, s *entitle.Stand) {
	f := stands(s)
	out.Should = words.Of(&f)
	out.verb, out.acts = 0, false
	for _, step := range s.Wants() {
		if step.Do == model.DoSuspend && out.State == model.Open.String() {
			out.verb, out.acts = model.Suspend, true
		}
	}
}

// leavingRows lists the accounts that are on their way out, those that wait least first.
func (v *View) leavingRows() *Rows {
	type row struct {
		app, at, person int
		*entitle.Stand
	}
	var rows []row
	for a, accounts := range v.Accounts {
		if accounts == nil {
			continue
		}
		for at := range accounts.Len() {
			p := int(v.PersonOf[a][at])
			if s := v.pathState(a, at, p); s != nil {
				rows = append(rows, row{a, at, p, s})
			}
		}
	}
	late := func(s *entitle.Stand) int64 {
		if s.Due == day.None {
			return 1 << 40
		}
		return int64(s.Due)
	}
	slices.SortStableFunc(rows, func(x, y row) int { return cmp.Compare(late(x.Stand), late(y.Stand)) })
	columns := []string{
		"app", "account", "person", "name", "path", "step", "steps", "done", "since", "next", "due", "days",
	}
	return &Rows{
		Columns: append(slices.Clone(columns), "stage", "active", "effective", "file", "line"),
		Also:    v.ofPeople(),
		Default: []string{"app", "account", "name", "path", "done", "since", "next", "due", "days"},
		Several: set("effective"),
		Len:     len(rows),
		Values: func(i int, column string) []string {
			r := rows[i]
			next := r.Next()
			switch column {
			case "path":
				return one(r.Path.Name)
			case "step":
				return one(fmt.Sprint(r.Done))
			case "steps":
				return one(fmt.Sprint(len(r.Path.Steps)))
			case "done":
				if r.Done == 0 {
					return nil
				}
				return one(r.Path.Steps[r.Done-1].Do.String())
			case "since":
				if !r.Known {
					return nil
				}
				return one(r.Since.String())
			case "next":
				if next == nil {
					return nil
				}
				return one(next.Do.String())
			case "due":
				return one(r.Due.String())
			case "days":
				if r.Due == day.None {
					return nil
				}
				return one(fmt.Sprint(max(0, int(r.Due-v.Today))))
			}
			return v.accountValues(r.app, r.at, column)
		},
	}
}
