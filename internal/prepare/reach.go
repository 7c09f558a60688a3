package prepare

import (
	"context"
	"crypto/x509"
	"fmt"
	"io"
	"sync"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/connect/ways"
	"pravet/internal/core/plan"
	"pravet/internal/secret"
)

// connector is an application as its file says how to reach it. It connects when it is asked something
// first.
func (s *State) connector(a int) connect.Application {
	repo, spec, app := s.Repo, s.Repo.Connects[a], s.Repo.Apps[a]
	o := &connect.Opening{
		Tree: repo.Tree, Export: repo.Exports[a], App: app, Spec: spec,
		Now: func() time.Time {
			if s.Now != nil {
				return s.Now()
			}
			return time.Now()
		},
		Secret: func(ctx context.Context, ref string) (string, error) {
			value, err := s.Secrets.Read(ctx, ref)
			if err != nil {
				return "", fmt.Errorf("%s: %w", spec.Pos, err)
			}
			return value, nil
		},
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
	if app.Keys != nil {
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
		p, err := secret.NewPassword()
		if err != nil {
			return "", err
		}
		s.Secrets.Keep(p)
		file := fmt.Sprintf("%s/%s-%s.age", to.Folder, app, plan.Name(app, account))
		if err := s.Repo.Tree.MakeFolder(file); err != nil {
			return "", err
		}
		staged, err := s.Repo.Tree.Stage(file, 0o600, func(w io.Writer) error {
			return secret.Seal(w, to.To, secret.First{Application: app, Account: account, Password: p})
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
