package carry

import (
	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A readBack looks changes up in an application's state as read after
// writing.
type readBack struct{ *account.Accounts }

func newReadBack(app *model.App, accounts *model.Accounts) *readBack {
	return &readBack{account.In(app, accounts)}
}

// renames are the new names of accounts that some of the changes have renamed, by
// their old ones.
func (r *readBack) renames(changes []*plan.Change) map[string]string {
	out := map[string]string{}
	for _, c := range changes {
		name, ok := account.Renames(r.App, c)
		if !ok {
			continue
		}
		if settled, _ := r.settled(c); settled {
			out[c.Account] = name
		}
	}
	return out
}

// settled reports whether a change is to be seen in the application, and if
// not, what is there instead.
func (r *readBack) settled(c *plan.Change) (ok bool, says string) {
	if c.Verb.OfThing() {
		ok, says = account.Defined(r.App, r.Of.Definitions, c)
	} else {
		ok, says = account.Shows(r.App, r.Find, c)
	}
	if ok {
		return true, ""
	}
	return false, says
}

// untold reports whether a change makes a key anew of which the application does not tell how old it is: from then on the
// ledger does.
func (r *readBack) untold(c *plan.Change) bool {
	if c.Verb != model.Update || c.Attribute != model.KeySince {
		return false
	}
	is := r.Find(c.Account)
	return is != nil && is.Attr(model.KeySince) == ""
}

// keep notes that an account holds by itself what a change has given it, where the
// export shows what comes along as well and so cannot tell: when what else brings
// it along goes, it stays.
func (r *readBack) keep(c *plan.Change) {
	if c.Thing == nil || !c.Verb.Deed().Gains || !r.App.Effective[c.Thing.Kind] {
		return
	}
	at, t := r.Row(c.Account), r.App.Thing(c.Thing.Kind, c.Thing.Name)
	if at >= 0 && t >= 0 {
		r.Of.Held[at] = r.Of.Sets.With(r.Of.Held[at], t)
	}
}
