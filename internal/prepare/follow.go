package prepare

import (
	"context"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// follow gives the kits of things that follow others the people who have those, as the applications show it: who is in
// a group of the directory is in the group that follows it. Where nobody can tell, as the other application shows
// nothing or not all, what follows it stays as it is.
func (s *State) follow(ctx context.Context, chosen []bool) error {
	for _, app := range s.Repo.Apps {
		for t := range app.Things {
			app.Things[t].Blind = nil
		}
	}
	shown := map[int]*model.Accounts{}
	for _, k := range s.Repo.Kits {
		if k.Follows == nil {
			continue
		}
		if chosen != nil && !slices.ContainsFunc(k.Gives, func(g model.Give) bool { return chosen[g.App] }) {
			continue
		}
		k.Holders = nil
		from := s.Repo.App(k.Follows.App)
		accounts, ok := shown[from]
		if !ok {
			if e := s.Exports[from]; e != nil {
				accounts = e.Accounts
			} else if r := s.Reached[from]; r != nil {
				state, err := r.Read(ctx)
				if ctx.Err() != nil {
					return ctx.Err()
				}
				if err == nil {
					accounts = state.Accounts
				}
			}
			shown[from] = accounts
		}
		has := s.Repo.Apps[from].Thing(k.Follows.Kind, k.Follows.Name)
		blind := accounts == nil || accounts.Len() == 0 || accounts.Partial[has] != ""
		for _, g := range k.Gives {
			for _, t := range g.Things {
				if blind {
					s.Repo.Apps[g.App].Things[t].Blind = k.Follows
				}
			}
		}
		if blind {
			continue
		}
		k.Holders = s.having(from, accounts, has, k)
	}
	return nil
}

// having are the people whose accounts have a thing, directly or through another.
func (s *State) having(a int, accounts *model.Accounts, thing int32, k *model.Kit) (out []model.Holder) {
	app := s.Repo.Apps[a]
	personOf := diff.Match(diff.Input{
		People: s.Repo.People, Apps: []*model.App{app}, Accounts: []*model.Accounts{accounts},
	}).PersonOf[0]
	along := diff.Exported(app, accounts)
	ids := s.Repo.People.Column("id")
	today := s.Repo.Zone.Day(s.now())
	of := func(person int) func(attr string) string {
		return func(attr string) string { return s.Repo.People.Get(person, attr) }
	}
	for i, p := range personOf {
		if p != diff.None && ids != nil && (k.FollowsFor == nil || k.FollowsFor.Match(of(int(p)), today)) && along.Has(accounts.Has(i), thing) {
			out = append(
				out, model.Holder{Person: ids.At(int(p)), Until: day.None, Because: "is in " + k.Follows.String(), Pos: k.Pos},
			)
		}
	}
	return out
}
