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
	release, err := l.Lease("draft")
	var leased *ledger.Leased
	if errors.As(err, &leased) {
		d.Ear.Closed(Closed{UnderWay: leased.Holder.String()})
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(d.settle(s, l), release())
}

// settle closes the books of runs that were cut off, and takes up what somebody else has done
// since. The caller has the lease.
func (d *Desk) settle(s *prepare.State, l ledger.Ledger) error {
	load := func(id string) (*plan.Plan, error) { return prepare.LoadPlan(d.Dir, id) }
	if err := s.SweepPasswords(); err != nil {
		return err
	}
	runs, held, err := carry.Settle(d.ctx, s, l, load, func(app string) error { return d.claim(s, app) })
	if len(runs) > 0 {
		d.Ear.Closed(Closed{Runs: runs})
	}
	if err != nil {
		return err
	}
	d.held = map[string]*carry.HeldUp{}
	for i, h := range held {
		d.held[h.App] = &held[i]
	}
	if len(held) > 0 {
		d.Ear.Closed(Closed{Held: held})
	}
	arrived, err := carry.Arrive(d.ctx, s, l, load)
	if len(arrived) > 0 {
		d.Ear.Closed(Closed{Arrived: arrived})
	}
	return err
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
