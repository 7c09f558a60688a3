package desk

import (
	"errors"

	"pravet/internal/carry"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// closeBooks closes the books of runs that were cut off; while a run is under way, it says so.
// Files that do not pass are left for whoever reads them.
func (d *Desk) closeBooks(s *prepare.State, l ledger.Ledger) error {
	if len(s.Errors()) > 0 {
		return nil
	}
	err := d.settle(s, l)
	if h := l.Holder(); h != nil && err == nil {
		d.Ear.Closed(Closed{UnderWay: h.String()})
	}
	return err
}

// settle closes the books of runs that were cut off, and takes up what somebody else has done
// since. What others are at work on is left to them.
func (d *Desk) settle(s *prepare.State, l ledger.Ledger) (err error) {
	var taken []ledger.Lease
	defer func() {
		for _, lease := range taken {
			err = errors.Join(err, lease.Release())
		}
	}()
	ours := map[string]bool{}
	take := func(app string) error {
		if ours[app] || d.leased != nil && d.leased.Holds(app) == nil {
			return d.claim(s, app)
		}
		lease, err := l.Lease([]string{app}, "close the books")
		if err != nil {
			return err
		}
		taken, ours[app] = append(taken, lease), true
		return d.claim(s, app)
	}
	load := func(id string) (*plan.Plan, error) { return d.load(l, id) }
	if err := d.sweep(s, take); err != nil {
		return err
	}
	runs, held, err := carry.Settle(d.ctx, s, l, load, take)
	if len(runs) > 0 {
		d.Ear.Closed(Closed{Runs: runs})
	}
	if err != nil {
		return err
	}
	d.held = map[string]*carry.HeldUp{}
	var others []carry.HeldUp
	for i, h := range held {
		var leased *ledger.Leased
		if errors.As(h.Err, &leased) { // somebody is at it
			continue
		}
		d.held[h.App] = &held[i]
		others = append(others, h)
	}
	if len(others) > 0 {
		d.Ear.Closed(Closed{Held: others})
	}
	arrived, err := carry.Arrive(d.ctx, s, l, load, take)
	if len(arrived) > 0 {
		d.Ear.Closed(Closed{Arrived: arrived})
	}
	return err
}

// sweep removes what processes that were ended have left beside the files of passwords, unless one is at work that may have
// only just written it.
func (d *Desk) sweep(s *prepare.State, take func(app string) error) error {
	some, err := s.UnsweptPasswords()
	if err != nil || !some {
		return err
	}
	for _, app := range s.Repo.AppIDs() {
		var leased *ledger.Leased
		if err := take(app); errors.As(err, &leased) {
			return nil
		} else if err != nil {
			return err
		}
	}
	return s.SweepPasswords()
}

// Closed is what came of runs whose books were still open.
type Closed struct {
	Runs     []*carry.Unfinished // that were cut off
	Held     []carry.HeldUp      // applications of such that nobody can tell anything of yet
	Arrived  []*carry.Arrival    // what was left to somebody else
	UnderWay string              // who is at it now, so that nothing was closed; "" for nobody
}

// free are the named applications, or with none all, without those that are held up: one that is named and held up is
// an error.
func (d *Desk) free(s *prepare.State, apps []string) ([]string, error) {
	for _, app := range apps {
		if h := d.held[app]; h != nil {
			return nil, sayHeldUp(app, h.Run, h.Err)
		}
	}
	if len(apps) > 0 || len(d.held) == 0 {
		return apps, nil
	}
	for _, id := range s.Repo.AppIDs() {
		if d.held[id] == nil {
			apps = append(apps, id)
		}
	}
	if len(apps) == 0 {
		for _, h := range d.held {
			return nil, sayHeldUp(h.App, h.Run, h.Err)
		}
	}
	return apps, nil
}
