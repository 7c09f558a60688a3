package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"pravet/internal/carry"
	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// A Run is a plan that is being carried out.
type Run struct {
	*carry.Job
	Accepted bool // something was accepted by itself before; else all is meant that is not rejected

	desk   *Desk
	ledger ledger.Ledger
	only   string // the filter that limits it, "" for none
	part   bool   // only some applications are carried out here
}

// Run opens the run of a plan in some of its applications, in all where none is named: nobody else carries something out
// there meanwhile, and the books of runs that were cut off are closed. Nothing is carried out yet.
func (d *Desk) Run(p *plan.Plan, apps []string) (*Run, error) {
	if asOf, err := day.Parse(p.AsOf); err != nil || asOf > d.today {
		return nil, sayNotToday(p.AsOf, d.today.String())
	}
	l, err := d.proven()
	if err != nil {
		return nil, err
	}
	if err := d.ofHere(p); err != nil {
		return nil, err
	}
	s, err := d.Sound()
	if err != nil {
		return nil, err
	}
	all := appsThere(s, p)
	mine := all
	if len(apps) > 0 {
		for _, app := range apps {
			if !slices.Contains(all, app) {
				return nil, wrongIn("app", prepare.UnknownName("application of this plan", app, all))
			}
		}
		mine = apps
	}
	if err := d.lease(l, mine, "apply "+p.ID); err != nil {
		return nil, err
	}
	for _, id := range mine {
		if err := d.claim(s, id); err != nil {
			return nil, err
		}
	}
	if err := d.settle(s, l); err != nil { // before anything is read of the exports
		return nil, err
	}
	if err := d.register(l, p); err != nil {
		return nil, err
	}
	if err := d.keepPlan(l, p); err != nil {
		return nil, err
	}
	for _, id := range all {
		if !slices.Contains(mine, id) {
			if err := s.Elsewhere(s.Repo.App(id), l); err != nil {
				return nil, err
			}
		}
	}
	if s, err = d.read(all); err != nil {
		return nil, err
	}
	j, err := carry.New(d.ctx, s, p, l, d.today)
	if err == nil {
		err = j.Under(d.ctx, d.leased, mine)
	}
	if err == nil {
		err = j.HoldUp(d.ctx, d.held)
	}
	if err != nil {
		return nil, err
	}
	return &Run{Job: j, Accepted: j.Accepted(), desk: d, ledger: l, part: len(mine) < len(all)}, nil
}

// keepPlan makes sure that a plan that is carried out has its file in the repository, wherever it was read: whoever
// closes the books of a run that was cut off looks there what it was about to do.
func (d *Desk) keepPlan(l ledger.Ledger, p *plan.Plan) error {
	if _, err := d.load(l, p.ID); err == nil {
		return nil
	}
	same := *p
	data, err := same.Seal()
	if err != nil {
		return err
	}
	if same.Digest != p.Digest {
		return sayPlanNotKept(p.ID)
	}
	_, err = prepare.WritePlan(l, d.Dir, &same, data)
	return err
}

// claim makes this the only run of this user on this machine that changes an application which others may reach as
// well, from whichever repository: a live one, or one whose files are outside. Within one repository, the lease sees
// to that.
func (d *Desk) claim(s *prepare.State, id string) error {
	folder := d.remembered()
	a := s.Repo.App(id)
	if folder == "" || a < 0 { // nobody has a place where that could be noted
		return nil
	}
	spec := s.Repo.Connects[a]
	var names []string
	if spec.Live {
		for _, at := range addresses(d.ctx, spec.URL) {
			names = append(names, plan.Name(append([]string{spec.By, at}, spec.At...)...))
		}
		if known, ok := s.Reached[a].(connect.Known); ok {
			if id := known.Identity(d.ctx); id != "" {
				names = append(names, plan.Name(spec.By, "says", id))
			}
		}
	} else if e := s.Repo.Exports[a]; e != nil {
		for _, f := range e.Files() {
			if real := d.tree.Outside(f.Text); real != "" {
				names = append(names, plan.Name("file", real))
				if err := d.alone(id, real); err != nil {
					return err
				}
			}
		}
	}
	for _, at := range names {
		if d.claims[at] != nil {
			continue
		}
		if err := os.MkdirAll(filepath.Join(folder, "claims"), 0o700); err != nil {
			return sayNotClaimed(id, err)
		}
		lock := flock.New(filepath.Join(folder, "claims", at))
		ok, err := lock.TryLock()
		if err != nil {
			return sayNotClaimed(id, err)
		}
		if !ok {
			return sayClaimed(id)
		}
		if d.claims == nil {
			d.claims = map[string]*flock.Flock{}
		}
		d.claims[at] = lock
	}
	return nil
}

// alone makes this the only run, of whatever user and from whichever clone, that changes a file outside of the repository: by
// a lock beside it. Where none can be made, nobody but this user can write there.
func (d *Desk) alone(app, file string) error {
	at := filepath.Join(filepath.Dir(file), "."+filepath.Base(file)+".lock")
	if d.claims[at] != nil {
		return nil
	}
	lock := flock.New(at, flock.SetFlag(os.O_CREATE|os.O_RDONLY), flock.SetPermissions(0o666))
	ok, err := lock.TryLock()
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return sayNotClaimed(app, err)
	}
	if !ok {
		return sayClaimed(app)
	}
	if d.claims == nil {
		d.claims = map[string]*flock.Flock{}
	}
	d.claims[at] = lock
	return nil
}

// addresses are where an address leads: one application is one, whether it is called localhost or 127.0.0.1.
func addresses(ctx context.Context, address string) []string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return []string{address}
	}
	port := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443", "ldap": "389", "ldaps": "636", "postgres": "5432"}[u.Scheme])
	within, stop := context.WithTimeout(ctx, lookUp)
	defer stop()
	hosts, err := net.DefaultResolver.LookupHost(within, u.Hostname())
	if err != nil {
		hosts = []string{strings.ToLower(u.Hostname())}
	}
	var out []string
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
			host = "this machine"
		}
		if at := net.JoinHostPort(host, port) + strings.TrimSuffix(u.Path, "/"); !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

// lookUp is how long the address of a host is looked for.
const lookUp = 5 * time.Second

// Mean says what a run is about: what was accepted by itself, or all that is not rejected, and
// with a filter only the changes that it matches, with what they need. Where nothing was accepted
// by itself, the filter accepts no more than accepting the whole plan would: nothing that cannot
// be undone, and nothing that waits to be accepted by itself.
func (r *Run) Mean(only string) error {
	if !r.Accepted {
		if err := r.Whole(r.desk.ctx); err != nil {
			return err
		}
	}
	if r.only = only; only != "" {
		_, changes, err := r.desk.Chosen(r.Plan, Choice{Only: only})
		if err != nil {
			return err
		}
		among := map[string]bool{}
		for _, ch := range changes {
			among[ch.ID] = true
		}
		decide.WithNeeds(r.Plan, among)
		if !r.Accepted {
			for i := range r.Plan.Changes {
				if ch := &r.Plan.Changes[i]; ch.ForGood {
					delete(among, ch.ID)
				}
			}
		}
		if err := r.Among(r.desk.ctx, among); err != nil {
			return err
		}
	}
	r.Preview()
	return nil
}

// ForGood counts, of what is ready, the changes that cannot be undone.
func (r *Run) ForGood() (n int) {
	for i := range r.Plan.Changes {
		if r.States[i] == decide.Ready && r.Plan.Changes[i].ForGood {
			n++
		}
	}
	return n
}

// Consent records that somebody wants what is ready, and why: nothing where it was accepted by
// itself; else the whole plan, or just what is ready of a part.
func (r *Run) Consent(because string) (err error) {
	switch {
	case r.Accepted:
		return nil
	case r.only == "" && !r.part:
		said := ledger.Decision{Plan: r.Plan.ID, Digest: r.Plan.Digest, Verdict: "accept", All: true, Because: because}
		if err = r.desk.signer().Sign(r.desk.ctx, &said); err == nil {
			err = r.ledger.Append(ledger.Record{Kind: ledger.Decided, Subject: r.Plan.ID, Body: said})
		}
		if err != nil {
			return sayConsentNotRecorded(err)
		}
		return r.Decide(r.desk.ctx)
	}
	ready := map[string]bool{}
	for i, state := range r.States {
		if state == decide.Ready {
			ready[r.Plan.Changes[i].ID] = true
		}
	}
	if err := r.accept(ready, false, because); err != nil {
		return sayConsentNotRecorded(err)
	}
	return r.Decide(r.desk.ctx)
}

// accept accepts some changes of the plan by themselves.
func (r *Run) accept(ids map[string]bool, nobody bool, because string) error {
	m := &decisions.Maker{
		Ledger: r.ledger, Repo: r.Repo(), Plan: r.Plan, Today: r.Today, By: r.desk.Actor(), Signer: r.desk.signer(),
	}
	_, err := m.Accept(r.desk.ctx, decisions.Choice{Changes: ids, Nobody: nobody, AtRun: !nobody}, decisions.Lifts{}, because)
	return err
}

// Unattended limits a run to what pravet.yaml lets be carried out with nobody there, and accepts it:
// not what is held, what cannot be undone, what was rejected, and what needs any of that. some is
// false where that is nothing.
func (r *Run) Unattended() (some bool, err error) {
	p, rule := r.Plan, r.Repo().Unattended
	if rule == nil {
		return false, wrong(sayNoUnattended())
	}
	sel, changes, err := r.desk.Chosen(p, Choice{Only: rule.String()})
	if err != nil {
		return false, err
	}
	among := map[string]bool{}
	for _, ch := range changes {
		among[ch.ID] = unattended(ch, sel.States, r.Standing, r.Today, p)
	}
	lacking(p, among, sel.States)
	if len(among) == 0 {
		return false, nil
	}
	if err := r.accept(maps.Clone(among), true, sayUnattended(rule.String())); err != nil {
		return false, err
	}
	r.ByRule(among)
	if err := r.Among(r.desk.ctx, among); err != nil {
		return false, err
	}
	r.Preview()
	return true, nil
}

// lacking leaves out what needs something that is neither chosen nor done. What is needed
// stands before what needs it.
func lacking(p *plan.Plan, among map[string]bool, states map[string]string) {
	for i := range p.Changes {
		ch := &p.Changes[i]
		if !among[ch.ID] || slices.ContainsFunc(ch.Needs, func(need string) bool {
			return !among[need] && states[need] != "done"
		}) {
			delete(among, ch.ID)
		}
	}
}

// Left counts the changes that are neither done nor rejected.
func (r *Run) Left() int {
	return len(r.States) - r.Count(decide.Completed) - r.Count(decide.StateRejected)
}

// Go carries out what is ready.
func (r *Run) Go(progress func(carry.Progress)) (*carry.Result, error) {
	res, err := r.Job.Run(r.desk.ctx, progress)
	return res, errors.Join(err, r.desk.note(r.ledger))
}

// Head is the newest entry of the ledger once the run is over.
func (r *Run) Head() (ledger.Head, error) { return r.ledger.Head() }

// sayClaimed is that another run changes an application.
func sayClaimed(app string) error {
	return fmt.Errorf("another run, from another repository, changes %s just now; wait until it is done", app)
}

// sayNotClaimed is that nobody can say whether another run changes an application.
func sayNotClaimed(app string, err error) error {
	return fmt.Errorf("%s cannot be kept from other runs while this one changes it: %w", app, err)
}

// sayNotToday is a plan for a day that is yet to come.
func sayNotToday(asOf, today string) error {
	return fmt.Errorf(
		"the plan is for %s, and today is %s; nothing was changed. Apply it then, or draft one for today", asOf, today,
	)
}

// sayConsentNotRecorded is a yes that the ledger could not take.
func sayConsentNotRecorded(err error) error {
	return fmt.Errorf("the consent could not be recorded, and nothing was changed: %w", err)
}

// sayNoUnattended is an --unattended where pravet.yaml does not say what that may be.
func sayNoUnattended() error {
	return errors.New(
		"pravet.yaml does not say which changes may be carried out with nobody there; add for example: " +
			"unattended: effect eq \"keeps\" or verb eq \"suspend\"",
	)
}

// sayUnattended is the reason of what is accepted so.
func sayUnattended(filter string) string { return "unattended: " + filter }
