package prepare

import (
	"slices"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// held is what was on record of kits that linger, and what a draft of the day saw.
type held struct {
	before []entitle.Was
	ruled  entitle.Ruled
	keeps  []entitle.Lingering
}

// lingers are the records of who holds kits that linger, and who keeps what they gave. A
// draft of another day than the clock's has not seen that; then it is reckoned for the
// clock's.
func lingers(l ledger.Ledger, s *State, clock day.Day) ([]ledger.Record, error) {
	h := s.held
	if h == nil {
		was, err := past.Lingering(l, s.Repo.Kits, s.Repo.People)
		if err != nil || was == nil {
			return nil, err
		}
		in := entitle.Input{
			People: s.Repo.People, Apps: s.Repo.Apps, Kits: s.Repo.Kits, Today: clock, Clock: clock, Was: was,
			Separations: s.Repo.Separations, Exceptions: s.Repo.Exceptions,
		}
		for _, app := range s.Repo.Apps {
			in.Sets, in.Graphs = append(in.Sets, model.NewSets()), append(in.Graphs, model.CatalogGraph(app))
		}
		due := entitle.Compute(in)
		h = &held{was, due.Ruled, due.Linger}
	}
	return past.Held(s.Repo.Kits, s.Repo.People, h.before, h.ruled, h.keeps), nil
}

// Lingers reports whether what some kit gave lingers.
func Lingers(repo *desired.Repo) bool {
	return slices.ContainsFunc(repo.Kits, func(k *model.Kit) bool { return k.Linger != (day.Duration{}) })
}

// Keep lets people keep in a view what kits gave them for a while.
func Keep(l ledger.Ledger, repo *desired.Repo, v *access.View) error {
	was, err := past.Lingering(l, repo.Kits, v.People)
	if err == nil {
		v.Keep(was)
	}
	return err
}
