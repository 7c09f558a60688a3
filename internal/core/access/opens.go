package access

import (
	"cmp"
	"slices"
	"strings"

	"pravet/internal/core/model"
)

// An Open is what a change would do to somebody's account, or to a thing that they
// hold there.
type Open struct {
	App, Account, Person string
	Verb                 model.Verb
	Kind                 model.Kind // of the thing
	Name                 string     // of the thing, or "" for the account itself
}

// Opens calls f with what is to come or to go, and takes what is said of its decision.
// What an account is to hold waits for the account.
func (a *Answer) Opens(f func(Open) string) {
	accounts, closed := map[string]string{}, map[string]string{}
	for i := range a.Accounts {
		x := &a.Accounts[i]
		accounts[x.App] = cmp.Or(x.Account, a.UserName)
		if !x.acts {
			continue
		}
		if says := f(Open{App: x.App, Account: accounts[x.App], Person: a.ID, Verb: x.verb}); says != "" {
			x.Should += ", " + says
			if x.verb == model.Create || x.verb == model.Invite || x.verb == model.Restore {
				closed[x.App] = says
			}
		}
	}
	a.Things(func(x *Item) {
		parts := strings.SplitN(x.Thing, "/", 3)
		if len(parts) != 3 || !slices.Contains([]string{ToCome, ToGo}, x.State) {
			return
		}
		kind, ok := model.ParseKind(parts[1])
		if !ok {
			return
		}
		verb := model.Gaining(kind)
		if x.State == ToGo {
			verb = model.Losing(kind)
		}
		x.Rejected = f(Open{parts[0], accounts[parts[0]], a.ID, verb, kind, parts[2]})
		if says := closed[parts[0]]; says != "" && x.Rejected == "" && x.State == ToCome {
			x.Rejected = "set aside, as the account is " + says
		}
	})
}
