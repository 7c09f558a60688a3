package carry

import (
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/graph"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/reach"
	"pravet/internal/core/table"
)

// A readBack looks changes up in an application's state as read after
// writing.
type readBack struct {
	app      *model.App
	accounts *model.Accounts
	index    *table.Index
	reach    *reach.Reacher
}

func newReadBack(app *model.App, accounts *model.Accounts) *readBack {
	return &readBack{
		app,
		accounts,
		table.NewIndex(accounts.Key, nil),
		reach.New(graph.Exported(app, accounts), accounts.Sets),
	}
}

// renames are the new names of accounts that some of the changes have renamed, by
// their old ones.
func (r *readBack) renames(changes []*plan.Change) map[string]string {
	out := map[string]string{}
	for _, c := range changes {
		name, ok := c.After.(string)
		if !ok || c.Verb != model.Update || c.Attribute != r.app.Match {
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
	verb := c.Verb
	if verb.OfThing() {
		return r.definition(verb, c)
	}
	at := r.index.Spelled(c.Account)
	if name, ok := c.After.(string); ok && verb == model.Update && c.Attribute == r.app.Match {
		at = r.index.Spelled(name) // it has another name now
	}
	switch {
	case verb == model.Withdraw && at >= 0 && r.accounts.States[at] == model.Invited:
		return false, "the invitation is still there"
	case verb == model.Remove && at >= 0 && r.accounts.Key.At(at) == c.Account && r.accounts.States[at] != model.Removed:
		return false, "the account is still there"
	case verb == model.Remove, verb == model.Withdraw:
		return true, ""
	}
	if at < 0 {
		return false, "the account is not there"
	}
	switch verb {
	case model.Suspend:
		if r.accounts.Open(at) {
			return false, "the account is still open"
		}
	case model.Invite:
		if state := r.accounts.States[at]; state != model.Invited && state != model.Open {
			return false, "nobody is invited to the account; it is " + state.String()
		}
		return r.attrs(at, c)
	case model.Restore:
		if !r.accounts.Open(at) {
			return false, "the account is still blocked"
		}
	case model.Create:
		switch open := r.accounts.Open(at); {
		case open && c.Blocked:
			return false, "the account is there, and open before its day"
		case !open && !c.Blocked:
			return false, "the account is there, and blocked"
		}
		return r.attrs(at, c)
	case model.HandOver:
		return r.handed(at, c)
	case model.Update:
		want := ""
		if c.After != nil {
			want = fmt.Sprint(c.After)
		}
		return r.attr(at, c.Attribute, want)
	default:
		kind := c.Thing.Kind
		t := r.app.Thing(kind, c.Thing.Name)
		gains := verb == model.Gaining(kind)
		has := t >= 0 && r.holds(at, t, gains)
		if gains != has {
			if gains {
				return false, fmt.Sprintf("the account does not hold %s %s", c.Thing.Kind, c.Thing.Name)
			}
			return false, fmt.Sprintf("the account still holds %s %s", c.Thing.Kind, c.Thing.Name)
		}
	}
	return true, ""
}

// holds reports whether an account holds a thing. Where an export shows what comes
// along as well, that it is shown is all that can be asked of one gained.
func (r *readBack) holds(at int, thing int32, gained bool) bool {
	set := r.accounts.Has(at)
	if gained && r.app.Effective[r.app.Things[thing].Kind] {
		return r.reach.Has(set, thing)
	}
	return r.accounts.Sets.Has(set, thing)
}

// attrs reports whether an account has the attributes that a change has given it.
func (r *readBack) attrs(at int, c *plan.Change) (ok bool, says string) {
	if c.Attribute != "" {
		return r.attr(at, c.Attribute, fmt.Sprint(c.After))
	}
	if attrs, ok := c.After.(map[string]any); ok {
		for _, name := range slices.Sorted(maps.Keys(attrs)) {
			if ok, says := r.attr(at, name, fmt.Sprint(attrs[name])); !ok {
				return false, says
			}
		}
	}
	return true, ""
}

// handed reports whether what an account owned is another's now.
func (r *readBack) handed(at int, c *plan.Change) (ok bool, says string) {
	owned := func(at int) []string {
		n := r.app.Attr(model.Owned)
		if n < 0 || at < 0 {
			return nil
		}
		return model.OwnedNames(r.accounts.Attr(n, at), r.app.OwnedSplit)
	}
	to := fmt.Sprint(c.After)
	theirs := owned(r.index.Spelled(to))
	for _, name := range plan.Texts(c.Before) {
		switch {
		case slices.Contains(owned(at), name):
			return false, fmt.Sprintf("the account still owns %q", name)
		case !slices.Contains(theirs, name):
			return false, fmt.Sprintf("%s does not own %q", to, name)
		}
	}
	return true, ""
}

// keep notes that an account holds by itself what a change has given it, where the
// export shows what comes along as well and so cannot tell: when what else brings
// it along goes, it stays.
func (r *readBack) keep(c *plan.Change) {
	if c.Thing == nil || c.Verb != model.Gaining(c.Thing.Kind) || !r.app.Effective[c.Thing.Kind] {
		return
	}
	at, t := r.index.Spelled(c.Account), r.app.Thing(c.Thing.Kind, c.Thing.Name)
	if at >= 0 && t >= 0 {
		r.accounts.Held[at] = r.accounts.Sets.With(r.accounts.Held[at], t)
	}
}

func (r *readBack) attr(at int, name, want string) (bool, string) {
	is := ""
	if n := r.app.Attr(name); n >= 0 {
		is = r.accounts.Attr(n, at)
	} else {
		is = r.accounts.Key.At(at)
	}
	if name == model.KeySince && is >= want {
		return true, "" // it may have been made a day later than it was planned
	}
	if is != want {
		return false, fmt.Sprintf("%s is %q and not %q", name, is, want)
	}
	return true, ""
}
