package cli

import (
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"pravet/internal/core/plan"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/way"
)

// claim makes this the only run of this user on this machine that changes the live applications
// of a plan, from whichever repository: within one, the lease sees to that.
func (c *program) claim(s *prepare.State, apps []string) error {
	folder := c.ledgerOptions().Heads
	if folder == "" {
		return nil // nobody has a place where that could be noted
	}
	for _, id := range apps {
		a := s.Repo.App(id)
		if a < 0 || !way.Live(s.Repo.Connects[a].By) {
			continue
		}
		spec := s.Repo.Connects[a]
		if err := os.MkdirAll(filepath.Join(folder, "claims"), 0o700); err != nil {
			return say.NotClaimed(id, err)
		}
		at := append([]string{spec.By, spec.URL}, spec.Program...)
		lock := flock.New(filepath.Join(folder, "claims", plan.Name(at...)))
		ok, err := lock.TryLock()
		if err != nil {
			return say.NotClaimed(id, err)
		}
		if !ok {
			return fail(Failed, say.Claimed(id))
		}
		c.claims = append(c.claims, lock)
	}
	return nil
}

// release lets the applications go.
func (c *program) release() {
	for _, lock := range c.claims {
		_ = lock.Unlock() // the system does it anyway, when the program ends
	}
}
