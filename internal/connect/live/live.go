// Package live is what all applications have in common that are reached while they are in
// use: what was fetched is kept as a file, a step is compared with the application as it is
// before anything is sent, requests are sent at a rate, side by side, and again where that
// does no harm, and what became of a request that nobody answered is looked up.
//
// What is different is a Driver: how accounts are read, and which requests carry changes
// out. Each protocol has a package of its own.
package live

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/account"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/source"
)

// A Driver speaks an application's protocol. Requests are carried out by several
// goroutines at a time, and Read may be called meanwhile; the other methods are called by
// one.
type Driver interface {
	// Read calls each with every account and with the groups and roles that the
	// application says it has; or, of a part, with those of its accounts that are there.
	Read(ctx context.Context, part *Part, each func(*export.Record) error) error
	// Requests are what carries changes out, in an order in which requests under the same
	// key keep theirs. They are about accounts that were read just before.
	Requests(ctx context.Context, work []Work) ([]*Request, error)
	// Guards reports whether accounts are changed only where they are of the version that was
	// read last, so that nobody's change is overwritten.
	Guards() bool
	// Check tries what this caller may do, changing nothing.
	Check(ctx context.Context) ([]connect.Ability, error)
	// Close ends the connection.
	Close() error
}

// Options are what a driver needs besides a connection.
type Options struct {
	App     *model.App
	Spec    *connect.Spec
	Roots   *x509.CertPool                                        // nil for the system's
	Secret  func(ctx context.Context, ref string) (string, error) // reads a secret
	Ask     func(ctx context.Context, f func(context.Context) error) error
	First   func(account string) (string, error) // the first password of a new account; nil for none
	Key     func(account string) (string, error) // a new key for an account that has one; nil for none
	Zone    day.Zone                             // by which moments are days
	Dir     string                               // the repository, in which programs run
	Keep    func(secret string)                  // takes a secret that nobody has read or made here
	Environ []string                             // of programs
	Log     func(text string)                    // takes what programs say on standard error
}

// Opener opens applications that a driver reaches.
func Opener(open func(ctx context.Context, o Options) (Driver, error)) func(o *connect.Opening) connect.Application {
	return func(o *connect.Opening) connect.Application {
		a := &Application{Tree: o.Tree, Export: o.Export, App: o.App, Spec: o.Spec, Now: o.Now, Clean: o.Clean}
		a.Tell = func(text string) { o.Log(a.said(text)) }
		a.Open = func(ctx context.Context) (Driver, error) {
			roots, err := o.Roots(ctx)
			if err != nil {
				return nil, err
			}
			return open(ctx, Options{
				App: o.App, Spec: o.Spec, Roots: roots, Secret: o.Secret, Ask: a.Ask, First: o.First, Key: o.Key,
				Keep: o.Keep, Zone: o.Zone, Dir: o.Tree.Dir, Environ: o.Environ(o.Spec.Variables),
				Log: func(line string) { o.Log(a.said(line)) },
			})
		}
		return a
	}
}

// A Part is some accounts, by their names. Groups are those in which it matters whether they are: where an application
// says that in two places, both are looked at.
type Part struct{ Accounts, Groups []string }

// Work is what is to be done to one account.
type Work struct {
	Account string
	Is      *export.Record // nil where it is not there
	Changes []*plan.Change
}

// A Request is one message to the application that carries out one change or several.
type Request struct {
	Changes []*plan.Change
	Key     string // requests under one key are sent one after the other
	// Do sends the request for some of its changes and returns what the application said to
	// each: nil for yes. An error is a *connect.Fault or an *Again.
	Do func(ctx context.Context, changes []*plan.Change) []error
}

// All is the same answer to several changes.
func All(changes []*plan.Change, err error) []error {
	out := make([]error, len(changes))
	for i := range out {
		out[i] = err
	}
	return out
}

// A Moved says that an application changed while it was read, so that what was read does not
// fit together. It is read again.
type Moved struct{ Says string }

func (e *Moved) Error() string { return e.Says }

// readings is how often an application is read that changes meanwhile.
const readings = 5

// still reads something again while it moves.
func readUntilStable(ctx context.Context, read func() error) error {
	for n := 1; ; n++ {
		err := read()
		var moved *Moved
		if !errors.As(err, &moved) || n == readings {
			return err
		}
		if err := pause(ctx, time.Duration(n)*first); err != nil {
			return err
		}
	}
}

// An Application is a live application. It implements connect.Live.
type Application struct {
	Tree   *source.Tree
	Export *export.Spec
	App    *model.App
	Spec   *connect.Spec
	Open   func(ctx context.Context) (Driver, error) // called once, when the application is reached first
	Now    func() time.Time                          // the clock by which a fetch is dated; nil for the machine's

	// Clean is what the application said, without secrets and not too long; nil for as it is.
	Clean func(said string) string

	Tell func(text string) // takes what a person who waits should know; nil for nobody

	driver  Driver
	known   map[string]*export.Record // as they were looked at last
	looked  map[string]time.Time      // when that was
	before  map[string]string         // versions of accounts, as they were when the last step was prepared
	pace    *pacer
	opening sync.Mutex
}

var _ connect.Live = (*Application)(nil)

// Limits are how a run deals with the application.
func (a *Application) Limits() connect.Limits { return a.Spec.Limits }

// Read reads what was fetched last.
func (a *Application) Read(ctx context.Context) (*connect.State, error) { return a.read(ctx, a.Export) }

func (a *Application) read(ctx context.Context, from *export.Spec) (*connect.State, error) {
	return connect.ReadExport(ctx, a.Tree, a.Export, from, a.App)
}

// Mark is the digest of what was fetched last.
func (a *Application) Mark(ctx context.Context) (string, error) {
	return connect.MarkOf(ctx, a.Tree, a.Export)
}

// connection opens the connection, once.
func (a *Application) connection(ctx context.Context) (Driver, error) {
	a.opening.Lock()
	defer a.opening.Unlock()
	if a.driver != nil {
		return a.driver, nil
	}
	a.known, a.looked, a.pace = map[string]*export.Record{}, map[string]time.Time{}, newPacer(a.Spec, a.Tell)
	d, err := a.Open(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a.App.ID, cleaned(err, a.said))
	}
	a.driver = &border{d, a.said}
	return a.driver, nil
}

// Close ends the connection, where there is one.
func (a *Application) Close() error {
	if a.driver == nil {
		return nil
	}
	return a.driver.Close()
}

// Fetch reads the whole application into a new file beside the exported state, reads that as
// every export is read, and then puts it in place.
func (a *Application) Fetch(ctx context.Context, told func(int)) (*connect.State, error) {
	d, err := a.connection(ctx)
	if err != nil {
		return nil, err
	}
	path := a.Export.Paths[0].Text
	if err := errors.Join(a.Tree.MakeFolder(path), a.Tree.Sweep(path)); err != nil {
		return nil, err
	}
	began := time.Now()
	if a.Now != nil {
		began = a.Now()
	}
	var s *source.Staged
	var fault error
	err = readUntilStable(ctx, func() (err error) {
		s, err = a.Tree.Stage(path, 0o600, func(w io.Writer) error {
			n := 0
			fault = d.Read(ctx, nil, func(r *export.Record) error {
				if r.Account != "" {
					n++
					told(n)
				}
				return r.Line(w)
			})
			return fault
		})
		return err
	})
	switch {
	case err != nil && fault != nil:
		return nil, fmt.Errorf("%s: %w; the export before stays in place", a.App.ID, fault)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", a.App.ID, err)
	}
	spec := *a.Export
	spec.Paths = []model.Name{{Text: source.Beside(path, s.Name()), Pos: a.Export.Paths[0].Pos}}
	err = s.Dated(began)
	var state *connect.State
	if err == nil {
		state, err = a.read(ctx, &spec)
	}
	if err == nil {
		err = s.Commit()
	}
	if err != nil {
		s.Drop()
		return nil, fmt.Errorf("%s: what was read is not taken for its export: %w", a.App.ID, err)
	}
	state.Accounts.File = path
	return state, nil
}

// readAndRemember reads some accounts as records and remembers them.
func (a *Application) readAndRemember(ctx context.Context, part Part) (map[string]*export.Record, error) {
	if _, err := a.connection(ctx); err != nil {
		return nil, err
	}
	now := time.Now()
	out, err := a.readAccounts(ctx, part)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a.App.ID, err)
	}
	for _, name := range part.Accounts {
		a.known[name], a.looked[name] = out[name], now
	}
	return out, nil
}

// freshFor is how long an account that was read counts as just read, for changes that are guarded by
// its version, and justNow for all others.
const (
	freshFor = 5 * time.Second
	justNow  = 300 * time.Millisecond
)

// readUnlessFresh is like readAndRemember, but does not read an account again if it was read within freshFor
// and is guarded by its version.
func (a *Application) readUnlessFresh(ctx context.Context, part Part) (map[string]*export.Record, error) {
	d, err := a.connection(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[string]*export.Record, len(part.Accounts))
	var ask []string
	for _, name := range part.Accounts {
		r := a.known[name]
		age := time.Since(a.looked[name])
		if r != nil && (age < justNow || r.Version != "" && d.Guards() && age < freshFor) {
			out[name] = r
		} else {
			ask = append(ask, name)
		}
	}
	found, err := a.readAndRemember(ctx, Part{ask, part.Groups})
	for name, r := range found {
		out[name] = r
	}
	return out, err
}

// readAccounts reads some accounts as records; those that are not there are missing.
func (a *Application) readAccounts(ctx context.Context, part Part) (map[string]*export.Record, error) {
	var out map[string]*export.Record
	if len(part.Accounts) == 0 {
		return out, nil
	}
	err := readUntilStable(ctx, func() error {
		out = make(map[string]*export.Record, len(part.Accounts))
		return a.driver.Read(ctx, &part, func(r *export.Record) error {
			if r.Account != "" {
				out[r.Account] = r
			}
			return nil
		})
	})
	return out, err
}

// Look reads some accounts as they are now.
func (a *Application) Look(ctx context.Context, accounts []string, groups ...string) (*model.Accounts, error) {
	found, err := a.readAndRemember(ctx, Part{accounts, groups})
	if err != nil {
		return nil, err
	}
	var records []*export.Record
	for _, name := range accounts {
		if r := found[name]; r != nil {
			records = append(records, r)
			delete(found, name) // named twice
		}
	}
	return export.Collect(a.App, records)
}

// Unmoved reports whether an account is of the same version as before the last step.
func (a *Application) Unmoved(account string) (same, known bool) {
	was, is := a.before[account], a.known[account]
	return is != nil && was == is.Version, is != nil && was != "" && is.Version != ""
}

// Check tries the connection.
func (a *Application) Check(ctx context.Context) ([]connect.Ability, error) {
	if a.driver == nil {
		spec := *a.Spec
		spec.Outage = 0 // whoever tries a connection wants to know now
		a.Spec = &spec
	}
	d, err := a.connection(ctx)
	if err != nil {
		return nil, err
	}
	out, err := d.Check(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a.App.ID, err)
	}
	return out, nil
}

// SignsIn tries whether a password signs an account in. It implements connect.Signs.
func (a *Application) SignsIn(ctx context.Context, account, password string) (yes, known bool) {
	if _, err := a.connection(ctx); err != nil {
		return false, false
	}
	within, stop := context.WithTimeout(ctx, a.Spec.Timeout)
	defer stop()
	return a.driver.(connect.Signs).SignsIn(within, account, password)
}

// Identity is what the application says of itself, that no other says. It implements connect.Known.
func (a *Application) Identity(ctx context.Context) string {
	d, err := a.connection(ctx)
	if err != nil {
		return "" // whoever wants something of it is told
	}
	return d.(connect.Known).Identity(ctx)
}

// Resume has nothing to finish: whatever was sent is looked up, change by change.
func (a *Application) Resume(context.Context, json.RawMessage) (taken bool, err error) {
	return true, nil
}

// PartOf is what changes are about: the accounts, each once, and the groups that somebody joins or leaves.
func PartOf(app *model.App, changes []*plan.Change) Part {
	p := Part{Accounts: Names(app, changes)}
	seen := map[string]bool{}
	for _, c := range changes {
		if c.Thing != nil && c.Thing.Kind == model.Group && !c.Verb.OfThing() && !seen[c.Thing.Name] {
			seen[c.Thing.Name] = true
			p.Groups = append(p.Groups, c.Thing.Name)
		}
	}
	return p
}

// Names are the accounts that changes are about, each once.
func Names(app *model.App, changes []*plan.Change) (out []string) {
	seen := map[string]bool{"": true}
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			out = append(out, name)
		}
	}
	for _, c := range changes {
		add(c.Account)
		if name, ok := account.Renames(app, c); ok {
			add(name)
		} else if c.Verb == model.HandOver {
			add(c.After.Text())
		}
	}
	return out
}
