package cli

import (
	"context"
	"errors"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"pravet/examples/live"
	"pravet/examples/marrowick"
	"pravet/internal/core/plan"
	"pravet/internal/show"
	"pravet/internal/standin"
)

// liveDemo walks through the example with applications that are reached while they are in
// use: a stand-in over SCIM, an application that loads files, and real servers where they are
// installed.
func (c *program) liveDemo(dir string) (err error) {
	if err := marrowick.Write(dir, false); err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "marrowick-servers-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	w := &liveWalk{tour: tour{c: c, dir: dir, p: show.NewPrinter(c.Stdout, c.Environ), now: marrowick.Today}}
	defer func() { err = errors.Join(err, w.close()) }()
	if err := w.start(folder); err != nil {
		return err
	}
	if err := live.Write(dir, w.at); err != nil {
		return err
	}
	stores := filepath.Join(dir, "exports", "stores.csv")
	if err := os.Chtimes(stores, marrowick.Exported, marrowick.Exported); err != nil {
		return err
	}
	return w.walk()
}

// liveWalk is the tour and the servers that it needs.
type liveWalk struct {
	tour
	at      live.At
	play    *standin.Server
	missing []string
	stop    []func() error
}

func (w *liveWalk) close() error {
	var errs []error
	for _, stop := range w.stop {
		errs = append(errs, stop())
	}
	return errors.Join(errs...)
}

// start starts the stand-in, and the servers that are installed.
func (w *liveWalk) start(folder string) error {
	ctx := w.c.ctx
	d, err := w.c.open(w.dir)
	if err != nil {
		return err
	}
	s, err := d.State()
	if err != nil {
		return err
	}
	const token = "made-up-token"
	state := filepath.Join(folder, "standin")
	if w.play, err = w.c.play(s, s.Repo.App("berths"), state, token, standin.Faults{Seed: 7}); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.Handle("/berths/", http.StripPrefix("/berths", w.play))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet()}
	go func() { _ = server.Serve(listener) }() // ends when it is closed
	w.stop = append(w.stop, server.Close)
	w.at.Berths = listener.Addr().String()
	w.env("BERTHS_TOKEN=" + token)

	var missing *standin.Missing
	database, err := startDatabase(ctx, folder, live.Warehouse)
	switch {
	case errors.As(err, &missing):
		w.missing = append(w.missing, err.Error())
	case err != nil:
		return err
	default:
		w.stop = append(w.stop, database.Stop)
		w.at.Warehouse = strings.TrimSuffix(strings.TrimPrefix(database.URL, "postgres://"), "/postgres")
		w.env("WAREHOUSE_PASSWORD=" + database.Password)
	}
	home := filepath.Join(folder, "directory")
	if err := os.Mkdir(home, 0o700); err != nil {
		return err
	}
	serving.Store(true)
	directory, err := standin.StartDirectory(ctx, home, live.Suffix, live.Directory())
	switch {
	case errors.As(err, &missing):
		w.missing = append(w.missing, err.Error())
		return nil
	case err != nil:
		return err
	}
	w.stop = append(w.stop, directory.Stop)
	w.at.Directory = strings.TrimPrefix(directory.URL, "ldap://")
	w.env("DIRECTORY_PASSWORD=" + directory.Password)
	ca, err := os.ReadFile(directory.CA)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(w.dir, "directory.pem"), ca, 0o644)
}

// startDatabase starts a PostgreSQL server below a folder, and runs some SQL there.
func startDatabase(ctx context.Context, folder, sql string) (*standin.Database, error) {
	home := filepath.Join(folder, "database")
	if err := errors.Join(os.Mkdir(home, 0o700), os.Chmod(folder, 0o711)); err != nil {
		return nil, err
	}
	serving.Store(true)
	s, err := standin.StartDatabase(ctx, home)
	if err != nil {
		return nil, err
	}
	if err := s.Run(ctx, sql); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

// env gives all commands of the tour a variable.
func (w *liveWalk) env(v string) { w.more = append(w.more, v) }

func (w *liveWalk) walk() error {
	w.p.Line(
		show.Strong("Marrowick Ferries, Tuesday 24 November 2026, live."),
		" Berth planning is played by a stand-in over SCIM;",
	)
	w.p.Line("ship's stores only load files; ticket sales and crew rosters keep their users in files.")
	if w.at.Warehouse != "" {
		w.p.Line("The reporting database is a PostgreSQL server.")
	}
	if w.at.Directory != "" {
		w.p.Line("The crew directory is an OpenLDAP server.")
	}
	for _, m := range w.missing {
		w.p.Line("Left out: " + m)
	}
	err := w.steps([]step{
		{
			"Test the connections first: what may this caller do there? Nothing is changed.",
			[]string{"fetch", "--check"},
		},
		{"Fetch what the live applications show, and draft.", []string{"draft", "--fetch"}},
	})
	if err != nil {
		return err
	}
	p, err := w.drafted()
	if err != nil {
		return err
	}
	err = w.steps([]step{
		{"Read it in short.", []string{"show", p.ID, "--brief"}},
		{
			"Rehearse it on copies, with interruptions thrown in, and undo it again.",
			[]string{"rehearse", p.ID, "--seed", "7"},
		},
		{
			"One person before all: Oskar Nyman, in berth planning.",
			[]string{"apply", p.ID, "--only", `person eq "E0042" and app eq "berths"`, "--yes"},
		},
		{"That went well; accept the rest.", []string{"accept", p.ID, "--because", "Oskar Nyman went well"}},
	})
	if err != nil {
		return err
	}
	// From here on the application is having a bad day.
	w.play.SetFaults(standin.Faults{Seed: 11, Busy: 0.15, After: 0.1, Broken: 0.1, Delay: 20 * time.Millisecond})
	says := "Carry it out, while berth planning has a bad day: it is busy, drops connections, and fails after the work. " +
		"What the stores are to load waits for somebody."
	if err := w.run(says, w.expected(p), "apply", p.ID); err != nil {
		return err
	}
	w.play.SetFaults(standin.Faults{})
	return errors.Join(w.steps([]step{
		{"Draft again, from fresh exports: what is held, what waits, and nothing else.", []string{"draft", "--fetch"}},
		{"What would undo the run? That is a plan like any other.", []string{"backout", "run-1"}},
		{"Everything is on record.", []string{"log", "--kind", "run-end"}},
	}), w.p.Err())
}

// expected is the status with which the run ends: some of the plan is held by guards.
func (w *liveWalk) expected(p *plan.Plan) int {
	for i := range p.Changes {
		if len(p.Changes[i].Holds) > 0 {
			return Held
		}
	}
	return LeftForPerson
}
