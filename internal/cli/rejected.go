package cli

import (
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/say"
)

// rejected says what was decided about differences: that they stay, until when, by
// whom and why; "" where nothing was.
func (c *program) rejected(dir string, repo *desired.Repo, today day.Day) (func(access.Open) string, error) {
	l, err := c.questioned(dir)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	all, err := decisions.Rejections(l, decisions.Of(repo))
	if err != nil {
		return nil, err
	}
	byID := map[string]*decide.Rejection{}
	for i := range all {
		if r := &all[i]; r.On(today) {
			byID[r.Change] = r
		}
	}
	return func(o access.Open) string {
		change := &plan.Change{App: o.App, Account: o.Account, Person: o.Person, Verb: o.Verb}
		if o.Name != "" {
			change.Thing = &plan.Thing{Kind: o.Kind, Name: o.Name}
		}
		r := byID[plan.ChangeID(change)]
		if r == nil {
			return ""
		}
		return say.RejectedBy(r)
	}, nil
}

// goes marks the holders of a thing whose loss of it was rejected.
func (c *program) goes(dir string, repo *desired.Repo, list []access.Holder, thing model.Address, today day.Day) error {
	kind, ok := model.ParseKind(thing.Kind)
	if !ok {
		return nil
	}
	rejected, err := c.rejected(dir, repo, today)
	if err != nil {
		return err
	}
	for i := range list {
		if h := &list[i]; h.State == access.ToGo {
			h.Rejected = rejected(access.Open{
				App: thing.App, Account: h.Account, Person: h.Person, Verb: model.Losing(kind), Kind: kind, Name: thing.Name,
			})
		}
	}
	return nil
}
