package prepare

import (
	"context"
	"fmt"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/files"
	"pravet/internal/connect/ldap"
	"pravet/internal/connect/live"
	"pravet/internal/connect/postgres"
	"pravet/internal/connect/program"
	"pravet/internal/connect/scim"
	"pravet/internal/connect/upload"
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
		switch spec.By {
		case "ldap":
			return ldap.Open(ctx, ldap.Options{App: app, Spec: spec, Roots: roots, Secret: read, Ask: out.Ask})
		case "postgres":
			return postgres.Open(ctx, postgres.Options{App: app, Spec: spec, Roots: roots, Secret: read, Ask: out.Ask})
		case "program":
			return program.Open(ctx, program.Options{
				App: app, Spec: spec, Dir: repo.Dir, Environ: s.Environ, Ask: out.Ask,
				Log: func(text string) {
					if s.Log != nil {
						s.Log(app.ID + ": " + text)
					}
				},
			})
		}
		return scim.Open(ctx, scim.Options{App: app, Spec: spec, Roots: roots, Secret: read, Ask: out.Ask})
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
