package prepare

import (
	"time"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
)

// keyDays gives keys of which applications do not tell how old they are the days on which runs have made them, as the
// ledger has them.
func (s *State) keyDays(l ledger.Ledger) error {
	made := map[string]map[string]string{} // application → account → day
	for a, app := range s.Repo.Apps {
		if (app.Renews() || app.Passwords != (model.Pos{})) && s.Exports[a] != nil {
			made[app.ID] = map[string]string{}
		}
	}
	if len(made) == 0 {
		return nil
	}
	err := l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err != nil || !o.Settled || made[o.App] == nil {
			return err
		}
		if o.Verb == model.Create.String() {
			if a := s.Repo.App(o.App); a >= 0 && s.Repo.Connects[a].First {
				at, err := time.Parse(time.RFC3339, e.At)
				if err == nil {
					made[o.App][o.Account] = l.Zone().Day(at).String()
				}
			}
			return nil
		}
		if o.Verb != model.Update.String() {
			return nil
		}
		c := plan.Change{App: o.App, Account: o.Account, Person: o.Person, Verb: model.Update, Attribute: model.KeySince}
		second := c
		second.Second = true
		if at, err := time.Parse(time.RFC3339, e.At); err == nil && (o.Touches == c.Touches() || o.Touches == second.Touches()) {
			made[o.App][o.Account] = l.Zone().Day(at).String()
		}
		return nil
	})
	if err != nil {
		return err
	}
	for a, app := range s.Repo.Apps {
		n := app.Attr(model.KeySince)
		if made[app.ID] == nil || n < 0 || s.Exports[a].Accounts.Attrs[n] == nil {
			continue
		}
		accounts, days := s.Exports[a].Accounts, &table.Column{}
		for i := range accounts.Len() {
			on := accounts.Attr(n, i)
			if on == "" {
				on = made[app.ID][accounts.Key.At(i)]
			}
			days.Append(on)
		}
		is := *accounts
		is.Attrs = append([]*table.Column{}, accounts.Attrs...)
		is.Attrs[n] = days
		s.Exports[a].Accounts = &is
	}
	return nil
}
