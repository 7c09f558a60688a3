// Package desk is where a repository is worked with: it opens the repository, the day, the
// environment and the ledger, each once, and answers what is asked: plans and what is chosen
// of them, decisions, runs, questions, amendments, letters. It reads no flags and writes nothing
// to a terminal; whatever stands in front of it asks, and shows what comes back. What it answers
// carries no text; only its errors are sentences, for whoever typed a command.
package desk

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/secret"
	"pravet/internal/source"
)

// A Place is where a desk stands, and what it stands among.
type Place struct {
	Dir         string // the folder of the repository; "" outside of any
	Folder      string // the folder from which paths that are asked about are taken
	Environment string // "" for the usual one
	By          string // who acts, for the ledger; "" for Git's user, else the system's
	Key         string // the file of a key by which decisions are signed; "" for the one that PRAVET_KEY names
	Asks        bool   // somebody is there to be asked
	Environ     []string
	Now         func() time.Time
	Ear         Ear
	Term        time.Duration                // how long a lease of a shared record lasts; 0 for as usual
	Rewrites    bool                         // files of the repository are to be written
	Opened      func(file string)            // hears of each file of the repository that is opened; nil for nobody
	Page        func(*Paper) ([]byte, error) // makes the page that letters carry; nil for none
}

// An Ear hears what happens while a desk works. Each may be called from several goroutines,
// and none may be nil.
type Ear struct {
	Log      func(text string)              // a line of a program by which an application is reached
	Closed   func(Closed)                   // what came of runs that were cut off
	Counting func(app string, accounts int) // how many accounts were read by now
	Fetched  func([]prepare.Fetched)        // what was fetched before a draft
	Finished func(files []string)           // files that another call had begun to write, and that were finished
}

// A Desk is a repository that is worked with, for one call.
type Desk struct {
	Place
	ctx     context.Context
	secrets *secret.Keeper
	early   desired.Early
	zone    day.Zone
	today   day.Day
	tree    *source.Tree
	state   *prepare.State

	book    ledger.Ledger // as it is open; nil until it is asked for
	behind  bool          // the clock is, which was said
	without bool          // the record cannot be reached, which was said
	writes  bool          // it is open to be written to
	leases  []func() error
	leased  ledger.Lease             // what this call alone may change; nil for nothing
	claims  map[string]*flock.Flock  // applications that nobody else may change meanwhile
	held    map[string]*carry.HeldUp // applications of runs that were cut off; see carry.HeldUp
	actor   string
}

// Open opens the repository at a place. Nothing is read before it is asked for.
func Open(ctx context.Context, at Place) (*Desk, error) {
	d := &Desk{Place: at, ctx: ctx, secrets: &secret.Keeper{Environ: at.Environ}, today: day.Zone{}.Day(at.Now())}
	if at.Dir == "" {
		return d, nil
	}
	var err error
	d.tree, err = source.OpenTree(at.Dir, filepath.SplitList(d.env(source.Outside)))
	if err == nil {
		d.tree.Environment = at.Environment
		if err := d.finish(); err != nil {
			return d, errors.Join(err, d.Close())
		}
		d.early = desired.ReadEarly(ctx, d.tree)
		d.zone = d.early.Zone
		d.tree.Opened, d.today = at.Opened, d.zone.Day(at.Now())
	}
	return d, err
}

// others is how long other calls are waited for that write files.
const others = 30 * time.Second

// finish finishes what another call had begun to write and was killed; a call that writes files itself is the only one
// from then on, so that what it has read stays as it is.
func (d *Desk) finish() error {
	if !d.Rewrites && !edit.Unfinished(d.tree) {
		return nil
	}
	release, err := ledger.Alone(d.Dir, "files", others)
	if err != nil {
		return err
	}
	if release == nil {
		return sayOthersWrite(others)
	}
	if d.Rewrites {
		d.leases = append(d.leases, release)
	}
	names, err := edit.Finish(d.tree)
	if len(names) > 0 && err == nil {
		d.Ear.Finished(names)
	}
	if !d.Rewrites {
		err = errors.Join(err, release())
	}
	return err
}

// Close ends all that a desk has open: leases, connections, the ledger.
func (d *Desk) Close() error {
	errs := []error{d.giveBack()}
	if d.state != nil {
		d.state.Close()
	}
	if d.book != nil {
		errs = append(errs, d.book.Close())
	}
	if d.tree != nil {
		errs = append(errs, d.tree.Close())
	}
	d.book, d.tree = nil, nil
	return errors.Join(errs...)
}

// giveBack gives back leases and claims, so that others can change something.
func (d *Desk) giveBack() (err error) {
	for _, release := range slices.Backward(d.leases) {
		err = errors.Join(err, release())
	}
	for _, lock := range d.claims {
		_ = lock.Unlock() // the system does it anyway, when the program ends
	}
	d.leases, d.claims = nil, nil
	return err
}

// Wrong is an error of who asked: a name that is not there, a value that cannot be.
type Wrong struct {
	Field  string // what of the question it was, "" where that is clear
	Column int    // of a filter; 0 where there is none
	Err    error
}

func (w *Wrong) Error() string { return w.Err.Error() }
func (w *Wrong) Unwrap() error { return w.Err }

func wrong(err error) error { return &Wrong{Err: err} }

// wrongIn is an error in one part of what was asked.
func wrongIn(field string, err error) error { return &Wrong{Field: field, Err: err} }

// Problems is files that must be mended first.
type Problems struct{ List []*source.Problem }

func (p *Problems) Error() string { return sayProblems(len(p.List)).Error() }

// env is a variable of the environment, "" where it is not set.
func (d *Desk) env(name string) string {
	for _, e := range slices.Backward(d.Environ) {
		if v, ok := strings.CutPrefix(e, name+"="); ok {
			return v
		}
	}
	return ""
}

// Zone is where the organization is, by whose days everything goes.
func (d *Desk) Zone() day.Zone { return d.zone }

// Today is the day on which the desk was opened.
func (d *Desk) Today() day.Day { return d.today }

// Actor is who acts, for the ledger.
func (d *Desk) Actor() string {
	if d.actor != "" {
		return d.actor
	}
	d.actor = "unknown"
	if d.By != "" {
		d.actor = d.By
	} else if u := gitrepo.User(d.Dir); u != "" {
		d.actor = u
	} else if u, err := user.Current(); err == nil {
		d.actor = u.Username
	}
	return d.actor
}

// signer signs what is decided.
func (d *Desk) signer() *decisions.Signer {
	key := cmp.Or(d.Key, d.env("PRAVET_KEY"))
	if key != "" {
		key = d.path(key)
	}
	return &decisions.Signer{Repo: d.state.Repo, Today: d.today, Key: key, Asks: d.Asks}
}

// path makes a path that was asked about absolute.
func (d *Desk) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(d.Folder, p)
}

// State is the repository as a plan follows from it: everything of it but its people and its
// exports, until they are asked for. What is wrong with the files does not make an error.
func (d *Desk) State() (*prepare.State, error) {
	if d.state == nil {
		s := prepare.Rules(d.ctx, d.tree)
		s.Secrets, s.Now, s.Log, s.Settled = d.secrets, d.Now, d.Ear.Log, d.settledIn
		d.state, d.secrets.Named = s, s.Repo.Variables()
	}
	if p := d.state.Repo.UnknownEnvironment(); p != nil {
		return d.state, wrong(p)
	}
	return d.state, nil
}

// Repo is the desired state without its people, whatever is wrong with it.
func (d *Desk) Repo() (*desired.Repo, error) {
	s, err := d.State()
	return s.Repo, err
}

// Sound is the repository, of which nothing but people and exports may be wrong.
func (d *Desk) Sound() (*prepare.State, error) {
	s, err := d.State()
	if err == nil {
		err = d.problems(nil)
	}
	return s, err
}

// Whole is the desired state with its people, of which nothing is wrong.
func (d *Desk) Whole() (*desired.Repo, error) {
	repo, err := d.Repo()
	if err != nil {
		return nil, err
	}
	repo.ReadPeople()
	return repo, d.problems(nil)
}

// read reads the people and the exports of applications.
func (d *Desk) read(apps []string) (*prepare.State, error) {
	s, err := d.State()
	if err != nil {
		return s, err
	}
	if err := d.bring(s, apps); err != nil {
		return s, err
	}
	return s, d.problems(s.Read(d.ctx, apps))
}

// bring brings what others have fetched, where the record is one that they share and can be reached.
func (d *Desk) bring(s *prepare.State, apps []string) error {
	if d.book == nil {
		return nil
	}
	return s.Bring(d.ctx, d.book, apps)
}

// problems is an error of reading, with what must be mended where that is it.
func (d *Desk) problems(err error) error {
	if err != nil && !errors.Is(err, prepare.ErrProblems) {
		return err
	}
	return mend(d.state)
}

// mend is what of the files must be mended first.
func mend(s *prepare.State) error {
	if errs := s.Errors(); len(errs) > 0 {
		return &Problems{errs}
	}
	return nil
}

// settledIn is what was settled in another environment, and when.
func (d *Desk) settledIn(environment string) (map[string]day.Day, error) {
	o := d.options()
	if o.Environment = environment; environment == desired.Usual {
		o.Environment = ""
	}
	l, err := ledger.OpenReading(d.Dir, o)
	if err != nil || l == nil {
		return nil, err
	}
	settled, err := prepare.Settled(l)
	return settled, errors.Join(err, l.Close())
}

// options say where the newest entry is noted: in the user's folder for what programs
// remember. They do not say who acts, as nobody does who only reads.
func (d *Desk) options() ledger.Options {
	o := ledger.Options{Now: d.Now, Zone: d.zone, Environment: d.Environment, Heads: d.remembered()}
	if r := d.early.Record; r != nil {
		o.Server = &ledger.Server{
			URL: r.URL, User: r.User, OwnCA: r.CA != "", Schema: r.Schema, Organization: r.Organization, Warn: d.Ear.Log, Term: d.Term,
			Password: d.secret(r),
			Roots:    func(ctx context.Context) (*x509.CertPool, error) { return d.tree.Roots(ctx, r.CA) },
		}
	}
	return o
}

// secret reads by what the database of the record knows Pravet.
func (d *Desk) secret(r *desired.Record) func(context.Context) (string, error) {
	return func(ctx context.Context) (string, error) {
		if r.Err != nil {
			return "", r.Err
		}
		return d.secrets.Read(ctx, r.Password)
	}
}

// remembered is the user's folder for what Pravet remembers, "" where there is none.
func (d *Desk) remembered() string {
	if state := d.env("XDG_STATE_HOME"); filepath.IsAbs(state) {
		return filepath.Join(state, "pravet")
	} else if home := d.env("HOME"); filepath.IsAbs(home) {
		return filepath.Join(home, ".local", "state", "pravet")
	}
	return ""
}

// Book is the ledger to be read; one without entries where there is none, and where nobody can be asked for it at the
// moment: that is said, once, and what is asked is answered by the files and the exports.
func (d *Desk) Book() (ledger.Ledger, error) {
	if d.without {
		return ledger.Nothing(), nil
	}
	l, err := d.needed()
	var away *ledger.Unreachable
	if errors.As(err, &away) {
		d.without = true
		d.Ear.Log(sayAnsweredWithout(away.Path, away.Err))
		return ledger.Nothing(), nil
	}
	return l, err
}

// needed is the ledger to be read by what cannot be answered without it; one without entries where there is none.
func (d *Desk) needed() (ledger.Ledger, error) {
	l, err := d.reading()
	if err == nil && l == nil {
		return ledger.Nothing(), nil
	}
	return l, err
}

// reading is the ledger to be read; nil where there is none.
func (d *Desk) reading() (ledger.Ledger, error) {
	if d.book != nil {
		return d.book, nil
	}
	l, err := ledger.OpenReading(d.Dir, d.options())
	if err != nil || l == nil {
		return nil, err
	}
	d.book = l
	d.lookAtClock()
	return l, nil
}

// slack is how far the clocks of two machines may differ.
const slack = 2 * time.Minute

// lookAtClock says so, once, where the clock is behind the newest entry. One that cannot be read is said by whoever
// needs it.
func (d *Desk) lookAtClock() {
	at, err := ledger.Newest(d.book)
	if err == nil && !d.behind && at.Sub(d.Now()) > slack {
		d.behind = true
		d.Ear.Log(sayClockBehind(d.zone.Minute(d.Now()), d.zone.Minute(at)))
	}
}

// Record is the ledger to be read where there is one, and an error where there is none.
func (d *Desk) Record() (ledger.Ledger, error) {
	l, err := d.reading()
	if err == nil && l == nil {
		err = sayNoLedger()
	}
	return l, err
}

// Writing is the ledger to be written to, whether or not entries are gone.
func (d *Desk) Writing() (ledger.Ledger, error) {
	if d.writes {
		return d.book, nil
	}
	if d.book != nil {
		err := d.book.Close()
		if d.book = nil; err != nil {
			return nil, err
		}
	}
	o := d.options()
	o.By = d.Actor()
	l, err := ledger.Open(d.Dir, o)
	if err == nil {
		d.book, d.writes = l, true
		d.lookAtClock()
	}
	return l, err
}

// entering is the ledger to be written to. Where entries are gone that were there before,
// nothing is decided, drafted or carried out.
func (d *Desk) entering() (ledger.Ledger, error) {
	l, err := d.Writing()
	if err == nil {
		err = l.Cut()
	}
	if err == nil {
		err = d.noted(l)
	}
	return l, err
}

// proven is the ledger for carrying out: it must have every entry that it ever had, as it was
// written.
func (d *Desk) proven() (ledger.Ledger, error) {
	l, err := d.entering()
	if err != nil {
		return nil, err
	}
	v, err := l.Verify()
	if err == nil && v.Broken != 0 {
		err = sayLedgerBrokenBefore(v.Says)
	}
	return l, err
}

// lease makes this the only call that changes some applications, until it ends.
func (d *Desk) lease(l ledger.Ledger, apps []string, what string) error {
	lease, err := l.Lease(apps, what)
	if err == nil {
		d.leased = lease
		d.leases = append(d.leases, lease.Release)
	}
	return err
}

// sayLedgerBrokenBefore is a ledger that does not hold all that was written, before a run.
func sayLedgerBrokenBefore(says string) error {
	return fmt.Errorf("the ledger is not whole: %s; nothing was changed. Put the whole ledger back", says)
}

// sayAnsweredWithout is a question that is answered though the record cannot be reached.
func sayAnsweredWithout(path string, err error) string {
	return fmt.Sprintf(
		"%s: the record cannot be reached: %s. What follows is answered without it: nothing in it counts, no decision, no wait and no run",
		path, err,
	)
}

// sayProblems is said below the problems of files that do not pass.
func sayProblems(n int) error {
	return fmt.Errorf(
		"the files have %s that must be fixed first; see them all with: pravet check",
		model.Count(n, "problem", "problems"),
	)
}

// sayNoLedger is a question about a ledger that there is not.
func sayNoLedger() error {
	return errors.New("this repository has no ledger yet; it begins with the first draft")
}
