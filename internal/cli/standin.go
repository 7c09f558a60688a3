package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/desk"
	"pravet/internal/export"
	"pravet/internal/prepare"
	"pravet/internal/secret"
	"pravet/internal/standin"
)

// standinFaults are the faults that a stand-in can be given.
var standinFaults = []string{
	"after", "before", "broken", "busy", "cursor", "delay", "fail", "late", "lie", "limit", "no-bulk", "no-filter",
	"no-groups", "no-patch", "page", "seed",
}

func (c *program) standin() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "standin",
		Short:   "Play an application that is reached by SCIM, with faults on request",
		GroupID: trying,
		Long: `Standin plays business applications that are reached by SCIM 2.0, for trying Pravet
and for tests: it gives and takes users and groups as a real application does, and
misbehaves as real applications do, on request.`,
		Example: example("pravet standin serve berths --token env:BERTHS_TOKEN"),
		Args:    takes(0, 0, "", ""),
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(c.standinServe())
	return cmd
}

func (c *program) standinServe() *cobra.Command {
	var at, token, state string
	var faults []string
	cmd := &cobra.Command{
		Use:   "serve [APP…]",
		Short: "Serve stand-ins for applications over SCIM on this machine",
		Long: `Serve plays applications of the repository, all or those that are named, over
SCIM 2.0: each under http://ADDRESS/APP, with the accounts of its export. It keeps
their state in files of the folder under --state, and takes it up again.

It is made for trying and testing, listens on this machine only, and misbehaves on
request. Shares are of all requests:

  busy=10%      takes no more requests (429 with Retry-After)
  fail=10%      fails before the work (500);  broken=10%  fails after it
  before=5%     drops the connection before the work;  after=5%  after it
  lie=5%        says yes and does nothing
  late=2s       shows what was changed only after a while
  delay=50ms    waits before each answer;  limit=100  takes so many a second
  page=20       gives small pages;  cursor  gives pages by cursor
  no-patch, no-bulk, no-filter, no-groups (of users)   lacks that
  seed=7        other chances`,
		Example: example(
			"pravet standin serve berths --token env:BERTHS_TOKEN",
			"pravet standin serve --at 127.0.0.1:8440 --fault busy=20% --fault after=5%",
		),
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: c.completeApps,
	}
	cmd.Flags().StringVar(&at, "at", "127.0.0.1:8440", "address on this machine to listen at; port 0 takes a free one")
	cmd.Flags().
		StringVar(&token, "token", "", "the bearer token that callers need: env:NAME or file:PATH (default: none)")
	cmd.Flags().StringVar(&state, "state", ".pravet/standin", "folder that the state is kept in")
	cmd.Flags().StringSliceVar(&faults, "fault", nil, "how it misbehaves, see above (may be repeated)")
	offer(cmd, "fault", cobra.FixedCompletions(standinFaults, noFiles))
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		host, _, err := net.SplitHostPort(at)
		if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return usage(sayNotLoopback(at))
		}
		f, err := parseFaults(faults)
		if err != nil {
			return usage(err)
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		key := ""
		if token != "" {
			if key, err = (&secret.Keeper{Environ: c.Environ}).Read(c.ctx, token); err != nil {
				return usage(sayFlag("token", err))
			}
		}
		return c.serve(d, args, at, filepath.Join(d.Dir, state), key, f)
	}
	return cmd
}

// parseFaults reads how a stand-in is to misbehave.
func parseFaults(list []string) (f standin.Faults, err error) {
	for _, text := range list {
		name, value, _ := strings.Cut(text, "=")
		bad := sayNoFault(text, standinFaults)
		switch name {
		case "no-patch", "no-bulk", "no-filter", "no-groups", "cursor":
			on := map[string]*bool{
				"no-patch": &f.NoPatch, "no-bulk": &f.NoBulk, "no-filter": &f.NoFilter, "no-groups": &f.NoGroupsOfUsers,
				"cursor": &f.Cursor,
			}
			*on[name] = true
			if value != "" {
				return f, bad
			}
		case "delay", "late":
			d, err := time.ParseDuration(value)
			if err != nil || d < 0 {
				return f, bad
			}
			if name == "delay" {
				f.Delay = d
			} else {
				f.Late = d
			}
		case "page", "limit", "seed":
			n, err := strconv.ParseUint(value, 10, 31)
			if err != nil {
				return f, bad
			}
			switch name {
			case "page":
				f.Page = int(n)
			case "limit":
				f.Limit = int(n)
			default:
				f.Seed = n
			}
		default:
			share := map[string]*float64{
				"busy": &f.Busy, "fail": &f.Fail, "broken": &f.Broken, "before": &f.Before, "after": &f.After, "lie": &f.Lie,
			}[name]
			n, err := strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
			if share == nil || err != nil || !strings.HasSuffix(value, "%") || n < 0 || n > 100 {
				return f, bad
			}
			*share = n / 100
		}
	}
	return f, nil
}

// serve plays applications until the user interrupts.
func (c *program) serve(d *desk.Desk, apps []string, at, state, token string, f standin.Faults) error {
	serving.Store(true)
	s, err := d.Sound()
	if err != nil {
		return err
	}
	if len(apps) == 0 {
		apps = s.Repo.AppIDs()
	}
	slices.Sort(apps)
	apps = slices.Compact(apps)
	listener, err := net.Listen("tcp", at)
	if err != nil {
		return fail(Failed, sayNotListening(at, err))
	}
	defer listener.Close()
	mux := http.NewServeMux()
	for _, id := range apps {
		a := s.Repo.App(id)
		if a < 0 {
			return prepare.UnknownName("application", id, s.Repo.AppIDs())
		}
		play, err := c.play(s, a, state, token, f)
		if err != nil {
			return err
		}
		mux.Handle("/"+id+"/", http.StripPrefix("/"+id, play))
	}
	for _, id := range apps {
		c.tell(sayPlaying(id, "http://"+listener.Addr().String()+"/"+id))
	}
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet()}
	stop := context.AfterFunc(c.ctx, func() {
		within, done := context.WithTimeout(context.Background(), 2*time.Second)
		defer done()
		_ = server.Shutdown(within) // what is in flight after that is dropped
	})
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return fail(Failed, err)
	}
	return nil
}

// quiet drops what a server says of connections that it drops itself.
func quiet() *log.Logger { return log.New(io.Discard, "", 0) }

// play is a stand-in for an application, with the accounts of its export where it has no
// state yet.
func (c *program) play(s *prepare.State, a int, state, token string, f standin.Faults) (*standin.Server, error) {
	app, spec := s.Repo.Apps[a], s.Repo.Exports[a]
	file, err := standin.StateFile(state, app.ID)
	if err != nil {
		return nil, fail(Failed, err)
	}
	play, err := standin.New(standin.Options{Token: token, State: file, Faults: f})
	if err != nil || play.Len() > 0 {
		return play, err
	}
	accounts := &model.Accounts{} // where nothing was fetched yet, it begins with the groups of the catalog
	there, err := s.Repo.Tree.Exists(spec.Paths[0].Text)
	if err != nil {
		return nil, err
	}
	if there || !s.Repo.Connects[a].Live {
		if accounts, _, err = export.Read(c.ctx, s.Repo.Tree, spec, app); err != nil {
			return nil, err
		}
	}
	named := &export.Spec{Columns: s.Repo.Connects[a].Columns}
	if spec.Format == "scim" {
		named = spec
	}
	play.Fill(app, accounts, func(attr string) []string { return export.SCIMPath(named, attr) })
	return play, play.Save()
}

// sayNotLoopback is that a stand-in listens on this machine only.
func sayNotLoopback(at string) error {
	return fmt.Errorf("--at: %s is not an address of this machine alone; write 127.0.0.1:PORT", at)
}

// sayNotListening is that an address cannot be listened at.
func sayNotListening(at string, err error) error {
	return fmt.Errorf("nobody can listen at %s: %w; take another one with --at", at, err)
}

// sayNoFault is that a stand-in cannot misbehave like that.
func sayNoFault(text string, known []string) error {
	return fmt.Errorf(
		"--fault: %q is not understood; write NAME=VALUE, like busy=10%% or delay=50ms, with one of %s",
		text, strings.Join(known, ", "),
	)
}

// sayPlaying is where a stand-in is.
func sayPlaying(app, at string) string { return fmt.Sprintf("%s is played at %s", app, at) }
