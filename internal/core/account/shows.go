package account

import (
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// Shows reports whether a change of an account is to be seen in an application, and if not, what is
// there instead. find looks an account up by its name.
func Shows(app *model.App, find func(name string) Seen, c *plan.Change) (ok bool, says string) {
	deed := c.Verb.Deed()
	is := find(c.Account)
	if name, renamed := Renames(app, c); renamed {
		if is != nil && is.Name() == c.Account && name != c.Account {
			return false, fmt.Sprintf("the account is still called %q", c.Account)
		}
		is = find(name)
	}
	if deed.Clears {
		return gone(is, c)
	}
	if is == nil {
		return false, "the account is not there"
	}
	switch {
	case c.Verb == model.HandOver:
		return handed(app, is, find(c.After.Text()), c)
	case c.Verb == model.Update:
		return attr(is, c.Attribute, c.After.Text())
	case deed.Gains:
		has := is.Has
		if app.Effective[c.Thing.Kind] {
			has = is.Gives // that it is shown is all that can be asked
		}
		if !has(c.Thing.Kind, c.Thing.Name) {
			return false, fmt.Sprintf("the account does not have %s %s", c.Thing.Kind, c.Thing.Name)
		}
	case deed.Loses:
		if is.Has(c.Thing.Kind, c.Thing.Name) {
			return false, fmt.Sprintf("the account still has %s %s", c.Thing.Kind, c.Thing.Name)
		}
	}
	if ok, says := state(is.State(), c); !ok {
		return false, says
	}
	return attrs(is, c)
}

// gone reports whether an account is no longer there.
func gone(is Seen, c *plan.Change) (ok bool, says string) {
	switch {
	case is == nil:
		return true, ""
	case c.Verb == model.Withdraw && is.State() == model.Invited:
		return false, "the invitation is still there"
	case c.Verb == model.Remove && is.State() != model.Removed && is.Name() == c.Account:
		return false, "the account is still there"
	}
	return true, ""
}

// state reports whether an account is in the state that a change leaves it in.
func state(is model.State, c *plan.Change) (ok bool, says string) {
	switch c.Verb {
	case model.Suspend:
		return is != model.Open, "the account is still open"
	case model.Restore:
		return is == model.Open, "the account is still blocked"
	case model.Invite:
		return is == model.Invited || is == model.Open, "nobody is invited to the account; it is " + is.String()
	case model.Create:
		if c.Blocked {
			return is != model.Open, "the account is there, and open before its day"
		}
		return is == model.Open, "the account is there, and blocked"
	}
	return true, ""
}

// attrs reports whether an account has the attributes that a change has given it.
func attrs(is Seen, c *plan.Change) (ok bool, says string) {
	if c.Attribute != "" {
		return attr(is, c.Attribute, c.After.Text())
	}
	fields := c.After.Fields()
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if ok, says := attr(is, name, fields[name]); !ok {
			return false, says
		}
	}
	return true, ""
}

func attr(seen Seen, name, want string) (ok bool, says string) {
	is := seen.Attr(name)
	if seen.Shows(name, want) || name == model.KeySince && is > want {
		return true, "" // a key may have been made a day later than it was planned
	}
	return false, fmt.Sprintf("%s is %q and not %q", name, is, want)
}

// handed reports whether what an account owned is another's now.
func handed(app *model.App, from, to Seen, c *plan.Change) (ok bool, says string) {
	owned := func(x Seen) []string {
		if x == nil {
			return nil
		}
		return model.OwnedNames(x.Attr(model.Owned), app.OwnedSplit)
	}
	for _, name := range c.Before.List() {
		switch {
		case slices.Contains(owned(from), name):
			return false, fmt.Sprintf("the account still owns %q", name)
		case !slices.Contains(owned(to), name):
			return false, fmt.Sprintf("%s does not own %q", c.After.Text(), name)
		}
	}
	return true, ""
}

// Fits reports whether a change of an account finds what it starts from; if not, what somebody has
// done meanwhile. A change that is done already does not fit: ask Shows first.
func Fits(app *model.App, find func(name string) Seen, c *plan.Change) (ok bool, says string) {
	deed := c.Verb.Deed()
	is := find(c.Account)
	there := is != nil && is.State() != model.Removed
	switch {
	case deed.Makes && c.Attribute == "":
		return !there, fmt.Sprintf("somebody has made the account %s meanwhile", c.Account)
	case is == nil:
		return false, fmt.Sprintf("the account %s is not there any more", c.Account)
	}
	switch {
	case c.Verb == model.Update:
		now := is.Attr(c.Attribute)
		return is.Shows(c.Attribute, c.Before.Text()), fmt.Sprintf(
			"somebody has changed %s to %q meanwhile, where the plan has %q", c.Attribute, now, c.Before.Text(),
		)
	case c.Verb == model.Withdraw:
		return is.State() == model.Invited, "nobody is invited any more: the account is " + is.State().String()
	case c.Verb == model.Suspend:
		return is.State() == model.Open, "the account is " + is.State().String() + " by now"
	case c.Verb == model.Restore:
		return is.State() != model.Open, "somebody has opened the account meanwhile"
	case deed.Gains:
		return !is.Has(c.Thing.Kind, c.Thing.Name), "somebody has given it meanwhile"
	case deed.Loses:
		return is.Has(c.Thing.Kind, c.Thing.Name), "somebody has taken it away meanwhile"
	}
	return true, ""
}
