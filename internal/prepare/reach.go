package prepare

import (
	"context"
	"crypto/x509"
	"fmt"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/connect/ways"
)

// connector is an application as its file says how to reach it. It connects when it is asked something
// first.
func (s *State) connector(a int) connect.Application {
	repo, spec, app := s.Repo, s.Repo.Connects[a], s.Repo.Apps[a]
	o := &connect.Opening{
		Tree: repo.Tree, Export: repo.Exports[a], App: app, Spec: spec,
		Now: s.now,
		Secret: func(ctx context.Context, ref string) (string, error) {
			value, err := s.Secrets.Read(ctx, ref)
			if err != nil {
				return "", fmt.Errorf("%s: %w", spec.Pos, err)
			}
			return value, nil
		},
		Zone:    repo.Zone,
		Environ: func(named []string) []string { return s.Secrets.For(named) },
		Keep:    func(text string) { s.Secrets.Keep(text) },
		Clean:   func(said string) string { return s.Secrets.Clean(said) },
		Roots:   func(ctx context.Context) (*x509.CertPool, error) { return repo.Tree.Roots(ctx, spec.CA) },
		Log: func(text string) {
			if s.Log != nil {
				s.Log(app.ID + ": " + text)
			}
		},
	}
	if spec.First {
		o.First = s.first(app.ID)
	}
	if app.Renews() || spec.First {
		o.Key = s.first(app.ID)
	}
	return ways.Named(spec.By).Open(o)
}

// Close ends the connections to applications.
func (s *State) Close() {
	for _, app := range s.Reached {
		if l, ok := app.(*live.Application); ok {
			_ = l.Close() // nothing is in flight any more
		}
	}
}

// now is what the clock of this call says.
func (s *State) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}
