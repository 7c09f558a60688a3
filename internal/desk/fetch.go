package desk

import (
	"fmt"
	"strings"

	"golang.org/x/sync/errgroup"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/prepare"
)

// live are the applications that are named, all live ones when none is; none of them where there
// is nothing to fetch.
func (d *Desk) live(apps []string) (*prepare.State, []int, error) {
	s, err := d.Sound()
	if err != nil {
		return nil, nil, err
	}
	live, notLive, err := s.Live(apps)
	if err == nil && len(notLive) > 0 {
		err = wrong(sayNotFetched(notLive))
	}
	return s, live, err
}

// Fetch fetches applications, all live ones when none is named, and records what they show. What
// could not be fetched says so in the list; none is there where nothing is live.
func (d *Desk) Fetch(apps []string) ([]prepare.Fetched, error) {
	s, live, err := d.live(apps)
	if err != nil || len(live) == 0 {
		return nil, err
	}
	l, err := d.entering()
	if err != nil {
		return nil, err
	}
	if err := d.lease(l, named(s, live), "fetch"); err != nil {
		return nil, err
	}
	if err := d.settle(s, l); err != nil {
		return nil, err
	}
	var free []int
	var out []prepare.Fetched
	for _, a := range live {
		if h := d.held[s.Repo.Apps[a].ID]; h != nil {
			out = append(out, prepare.Fetched{App: h.App, Err: sayHeldUp(h.App, h.Run, h.Err)})
			continue
		}
		free = append(free, a)
	}
	fetched, err := s.Fetch(d.ctx, l, free, d.Ear.Counting)
	return append(out, fetched...), err
}

// named are the ids of some applications.
func named(s *prepare.State, apps []int) (ids []string) {
	for _, a := range apps {
		ids = append(ids, s.Repo.Apps[a].ID)
	}
	return ids
}

// failedOf is an error where something could not be fetched.
func failedOf(list []prepare.Fetched) error {
	failed := 0
	for _, f := range list {
		if f.Err != nil {
			failed++
		}
	}
	if failed > 0 {
		return SayFetchFailed(failed, len(list))
	}
	return nil
}

// An Ability is something that a caller may or may not do in an application.
type Ability struct {
	App string
	connect.Ability
}

// Abilities tries to reach applications, all live ones when none is named, and lists what may be
// done there. Nothing is changed.
func (d *Desk) Abilities(apps []string) ([]Ability, error) {
	s, live, err := d.live(apps)
	if err != nil {
		return nil, err
	}
	found := make([][]connect.Ability, len(live))
	var group errgroup.Group
	for i, a := range live {
		group.Go(func() error {
			reached, ok := s.Reached[a].(connect.Live)
			if !ok {
				return nil
			}
			var err error
			if found[i], err = reached.Check(d.ctx); err != nil {
				found[i] = []connect.Ability{{What: "reach", Says: err.Error()}}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var out []Ability
	for i, a := range live {
		for _, x := range found[i] {
			out = append(out, Ability{App: s.Repo.Apps[a].ID, Ability: x})
		}
	}
	return out, nil
}

// sayNotFetched is that applications were named that are not fetched.
func sayNotFetched(apps []string) error {
	return fmt.Errorf(
		"%s %s its export itself; only what is reached by scim, ldap, postgres or program is fetched",
		strings.Join(apps, ", "), model.Plural(len(apps), "writes", "each writes"),
	)
}

// SayFetchFailed is that some applications could not be fetched.
func SayFetchFailed(failed, of int) error {
	return fmt.Errorf("%d of %s could not be fetched", failed, model.Count(of, "application", "applications"))
}
