package prepare

import (
	"context"
	"fmt"
	"io"
	"sync"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/files"
	"pravet/internal/connect/ldap"
	"pravet/internal/connect/live"
	"pravet/internal/connect/postgres"
	"pravet/internal/connect/program"
	"pravet/internal/connect/scim"
	"pravet/internal/connect/upload"
	"pravet/internal/core/plan"
	"pravet/internal/passwords"
	"pravet/internal/secret"
)

// reach is an application as its file says how to reach it. Nothing is connected to before
// it is asked something.
func (s *State) reach(a int) connect.Application {
	repo, spec := s.Repo, s.Repo.Connects[a]
	if spec.By == "files" {
		return &files.Files{Tree: repo.Tree, Spec: repo.Exports[a], App: repo.Apps[a]}
	}
	clock := func() time.Time {
		if s.Now != nil {
			return s.Now()
		}
		return time.Now()
	}
	if spec.By == "upload" {
		return &upload.Upload{Tree: repo.Tree, Export: repo.Exports[a], App: repo.Apps[a], Spec: spec, Now: clock}
	}
	out := &live.Application{Tree: repo.Tree, Export: repo.Exports[a], App: repo.Apps[a], Spec: spec}
	out.Now = clock
	read := func(ctx context.Context, ref string) (string, error) {
		value, err := secret.Read(ctx, ref, s.Environ)
		if err != nil {
			return "", fmt.Errorf("%s: %w", spec.Pos, err)
		}
		return value, nil
	}
	out.Open = func(ctx context.Context) (live.Driver, error) {
		roots, err := repo.Tree.Roots(ctx, spec.CA)
		if err != nil {
			return nil, err
		}
		app := repo.Apps[a]
		var first, key func(account string) (string, error)
		if spec.First {
			first = s.first(app.ID)
		}
		if app.Keys != nil {
			key = s.first(app.ID)
		}
		switch spec.By {
		case "ldap":
			return ldap.Open(
				ctx,
				live.Options{App: app, Spec: spec, Roots: roots, Secret: read, Ask: out.Ask, First: first, Key: key},
			)
		case "postgres":
			return postgres.Open(
				ctx,
				live.Options{App: app, Spec: spec, Roots: roots, Secret: read, Ask: out.Ask, First: first, Key: key},
			)
		case "program":
			return program.Open(ctx, live.Options{
				App: app, Spec: spec, Dir: repo.Dir, Environ: s.Environ, Ask: out.Ask, First: first, Key: key,
				Log: func(text string) {
					if s.Log != nil {
						s.Log(app.ID + ": " + text)
					}
				},
			})
		}
		return scim.Open(
			ctx,
			live.Options{App: app, Spec: spec, Roots: roots, Secret: read, Ask: out.Ask, First: first, Key: key},
		)
	}
	return out
}

// Close ends the connections to applications.
func (s *State) Close() {
	for _, app := range s.Reached {
		if l, ok := app.(*live.Application); ok {
			_ = l.Close() // nothing is in flight any more
		}
	}
}

// first makes first passwords of an application. Each is put down for its recipients before
// the account is made, and is the same when a request is sent again.
func (s *State) first(app string) func(account string) (string, error) {
	made := map[string]string{}
	var mu sync.Mutex
	to := s.Repo.FirstPasswords
	return func(account string) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		if p, ok := made[account]; ok {
			return p, nil
		}
		p, err := passwords.New()
		if err != nil {
			return "", err
		}
		file := fmt.Sprintf("%s/%s-%s.age", to.Folder, app, plan.Name(app, account))
		if err := s.Repo.Tree.MakeFolder(file); err != nil {
			return "", err
		}
		staged, err := s.Repo.Tree.Stage(file, 0o600, func(w io.Writer) error {
			return passwords.Seal(w, to.To, passwords.First{Application: app, Account: account, Password: p})
		})
		if err == nil {
			err = staged.Commit()
		}
		if err != nil {
			return "", fmt.Errorf("the first password could not be put down, so the account was not made: %w", err)
		}
		made[account] = p
		return p, nil
	}
}
