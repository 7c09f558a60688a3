package prepare

import (
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// leads reports whether accounts of an application may be on their way out, so that
// something is counted from a day.
func leads(repo *desired.Repo, a int) bool {
	for _, p := range repo.Paths {
		if p.In(a) {
			return true
		}
	}
	app := repo.Apps[a]
	return app.Strays == "remove" || app.Invites != nil || app.Restores != (day.Duration{})
}

// Counts reports whether anything is counted from a day that the ledger knows.
func Counts(repo *desired.Repo) bool {
	for a := range repo.Apps {
		if leads(repo, a) {
			return true
		}
	}
	return false
}

// Stands is what the ledger knows of since when accounts are on their way out, of the
// applications that are asked about; nil of those where nothing is counted.
func Stands(l ledger.Ledger, repo *desired.Repo, asked func(app int) bool) (entitle.Past, error) {
	out := make(entitle.Past, len(repo.Apps))
	for a, app := range repo.Apps {
		if !asked(a) || !leads(repo, a) {
			continue
		}
		var err error
		if out[a], err = past.Stood(l, app.ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Stood is the record of what stands now about the accounts of an application that are on
// their way out, and no record where nothing has changed. personOf tells whose each
// account is, or -1.
func Stood(
	l ledger.Ledger,
	repo *desired.Repo,
	a int,
	accounts *model.Accounts,
	personOf []int32,
	today day.Day,
) ([]ledger.Record, error) {
	if !leads(repo, a) {
		return nil, nil
	}
	app := repo.Apps[a]
	before, err := past.Stood(l, app.ID)
	if err != nil {
		return nil, err
	}
	in := &entitle.Leaving{
		People: repo.People, Apps: repo.Apps, Accounts: make([]*model.Accounts, len(repo.Apps)), Paths: repo.Paths,
		Stages: entitle.StagesOf(repo.People, today), Past: make(entitle.Past, len(repo.Apps)), Today: today, Clock: today,
	}
	in.Accounts[a], in.Past[a] = accounts, before
	return standing(app.ID, before, in.Marks(a, personOf), today), nil
}

// standing is the record of what stands now, and no record where that stood before. A clock
// that goes backwards has seen nothing.
func standing(app string, before map[entitle.Mark]day.Day, now []entitle.Mark, clock day.Day) []ledger.Record {
	for _, on := range before {
		if on > clock {
			return nil
		}
	}
	if r, changed := past.Standing(app, before, now); changed {
		return []ledger.Record{r}
	}
	return nil
}
