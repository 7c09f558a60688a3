package past

import (
	"cmp"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/ledger"
)

// Stood tells since which day the marks of an application's accounts have stood, as was
// seen.
func Stood(l ledger.Ledger, app string) (map[entitle.Mark]day.Day, error) {
	out := map[entitle.Mark]day.Day{}
	err := l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.StoodSince}, Subject: app}, func(e *ledger.Entry) error {
		stood, err := ledger.Decode[ledger.Stood](e)
		if err != nil {
			return err
		}
		on, err := dayOf(l, e)
		if err != nil {
			return err
		}
		for _, m := range stood.Went {
			for _, account := range m.Accounts {
				delete(out, entitle.Mark{Account: account, Path: m.Path, Step: m.Step})
			}
		}
		for _, m := range stood.Came {
			for _, account := range m.Accounts {
				out[entitle.Mark{Account: account, Path: m.Path, Step: m.Step}] = on
			}
		}
		return nil
	})
	return out, err
}

// Standing is the record of what stands now and what does not any more, since what stood
// before; ok is false where nothing has changed.
func Standing(app string, before map[entitle.Mark]day.Day, now []entitle.Mark) (r ledger.Record, ok bool) {
	stood := ledger.Stood{App: app}
	there := make(map[entitle.Mark]bool, len(now))
	var came, went []entitle.Mark
	for _, m := range now {
		if there[m] {
			continue
		}
		there[m] = true
		if _, known := before[m]; !known {
			came = append(came, m)
		}
	}
	for m := range before {
		if !there[m] {
			went = append(went, m)
		}
	}
	stood.Came, stood.Went = marks(came), marks(went)
	return ledger.Record{Kind: ledger.StoodSince, Subject: app, Body: stood}, len(came)+len(went) > 0
}

// marks gathers marks by path and step, sorted.
func marks(all []entitle.Mark) (out []ledger.Marks) {
	slices.SortFunc(all, func(x, y entitle.Mark) int {
		return cmp.Or(cmp.Compare(x.Path, y.Path), cmp.Compare(x.Step, y.Step), cmp.Compare(x.Account, y.Account))
	})
	for _, m := range all {
		if last := len(out) - 1; last >= 0 && out[last].Path == m.Path && out[last].Step == m.Step {
			out[last].Accounts = append(out[last].Accounts, m.Account)
			continue
		}
		out = append(out, ledger.Marks{Path: m.Path, Step: m.Step, Accounts: []string{m.Account}})
	}
	return out
}
