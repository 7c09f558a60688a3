package words

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// What says in words what a change does, without its account.
func What(c *plan.Change) string {
	switch {
	case c.Verb == model.Redefine:
		return redefined(c)
	case c.Thing != nil && !c.Before.IsZero() && c.Verb.Deed().Loses:
		return c.Verb.String() + " " + Thing(c.Thing) + " (held with " + Clean(c.Before.Text()) + ")"
	case c.Thing != nil && !c.After.IsZero() && !c.Verb.OfThing():
		return c.Verb.String() + " " + Thing(c.Thing) + " with " + Clean(c.After.Text())
	case c.Thing != nil && !c.Before.IsZero():
		return c.Verb.String() + " " + Thing(c.Thing) + " instead of " + Clean(c.Before.Text())
	case c.Thing != nil:
		return c.Verb.String() + " " + Thing(c.Thing)
	case c.Verb == model.HandOver:
		what := "hand over " + model.Count(len(c.Before.List()), "record", "records")
		if c.After.IsZero() {
			return what + " to nobody"
		}
		return what + " to " + Clean(c.After.Text())
	case c.Verb == model.Update && c.Attribute == model.KeySince && c.Before.IsZero():
		return "renew the key"
	case c.Verb == model.Update && c.Attribute == model.KeySince:
		return "renew the key of " + Clean(c.Before.Text())
	case c.Verb == model.Update:
		return fmt.Sprintf("update %s from %s to %s", c.Attribute, quote(c.Before), quote(c.After))
	case c.Blocked:
		return "create blocked account " + Clean(c.Account)
	case c.Verb == model.Create:
		return "create account " + Clean(c.Account)
	case c.Verb == model.Invite && c.Attribute != "":
		return "invite again to account " + Clean(c.Account)
	case c.Verb == model.Invite:
		return "invite to account " + Clean(c.Account)
	case c.Verb == model.Withdraw:
		return "withdraw the invitation to account " + Clean(c.Account)
	}
	return c.Verb.String() + " account"
}

// Thing names a thing, and says where it is marked sensitive.
func Thing(t *plan.Thing) string {
	name := t.Kind.String() + " " + Clean(t.Name)
	if t.Sensitive {
		name += " (sensitive)"
	}
	return name
}

// redefined says what a redefinition changes: a title, or what a list gains or
// loses.
func redefined(c *plan.Change) string {
	what := fmt.Sprintf("redefine %s %s: ", c.Thing.Kind, Clean(c.Thing.Name))
	if c.Attribute == "title" {
		return what + fmt.Sprintf("title from %s to %s", quote(c.Before), quote(c.After))
	}
	before, after := c.Before.List(), c.After.List()
	gone, come := model.Without(before, after), model.Without(after, before)
	permissions := c.Attribute == "permissions"
	switch {
	case !permissions && len(gone) > 0 && len(come) > 0:
		return what + "it brings " + Clean(strings.Join(come, ", ")) + " instead of " + Clean(strings.Join(gone, ", ")) +
			", which comes along with that"
	case permissions && len(gone) > 0:
		return what + "remove " + Clean(model.Named(gone, "permission", "permissions"))
	case permissions:
		return what + "add " + Clean(model.Named(come, "permission", "permissions"))
	case len(gone) > 0:
		return what + "it no longer brings " + Clean(strings.Join(gone, ", "))
	}
	return what + "it also brings " + Clean(strings.Join(come, ", "))
}

// maxReach is how many people of a redefinition's reach are named.
const maxReach = 8

// reached says whom a redefinition reaches.
func reached(c *plan.Change) string {
	r := c.Reach
	switch {
	case r == nil || c.Attribute == "title":
		return ""
	case r.Accounts == 0 && r.Holders == 0:
		return "no open account has it, so nobody gains or loses anything"
	case r.Accounts == 0:
		return model.Count(r.Holders, "open account has it and gains or loses nothing by it",
			"open accounts have it, and none gains or loses anything by it")
	}
	gains := model.Count(r.Accounts, "account gains", "accounts gain") + " by it: "
	if c.Effect == model.Narrows {
		gains = model.Count(r.Accounts, "account loses", "accounts lose") + " by it: "
	}
	named := r.People[:min(len(r.People), maxReach)]
	if more := r.Accounts - len(named); more > 0 {
		return gains + Clean(strings.Join(named, ", ")) + " and " + model.Thousands(more) + " more"
	}
	return gains + Clean(strings.Join(named, ", "))
}

// Means says what a change means in the end, beyond what it does: what comes or
// goes with it. It is "" where there is nothing to add.
func Means(c *plan.Change) string {
	if c.Verb == model.Redefine {
		return reached(c)
	}
	var things []string
	for _, t := range c.Also {
		things = append(things, Thing(&t))
	}
	list := strings.Join(things, ", ")
	var out []string
	if list != "" {
		out = append(out, map[model.Verb]string{
			model.Suspend: "out of reach: ", model.Restore: "in reach again: ", model.Remove: "gone with it: ",
			model.Withdraw: "gone with it: ",
		}[c.Verb]+list)
		switch {
		case c.Thing != nil && c.Effect == model.Widens:
			out[0] = "also " + list
		case c.Thing != nil:
			out[0] = "with it goes " + list
		}
	}
	if c.Verb == model.HandOver {
		names := c.Before.List()
		list := strings.Join(names[:min(len(names), maxReach)], ", ")
		if more := len(names) - maxReach; more > 0 {
			list += " and " + model.Thousands(more) + " more"
		}
		out = append(out, Clean(list))
	}
	if c.Until != "" {
		out = append(out, "it can be restored until "+c.Until)
	}
	switch {
	case c.Stays && c.Thing != nil && c.Verb == model.Gaining(c.Thing.Kind):
		out = append(out, "it was there already, brought along by something else")
	case c.Stays && c.Effect == model.Narrows:
		out = append(out, "it stays, brought along by something else")
	}
	return strings.Join(out, "; ")
}

// Sentence says in words what a change does, and to whom.
func Sentence(p *plan.Plan, c *plan.Change) string {
	if c.Person == "" && c.Account == "" { // a definition
		return c.App + ": " + What(c)
	}
	whose := Whose(p, c)
	switch {
	case c.Verb == model.Invite && c.Attribute != "":
		return fmt.Sprintf("%s: invite %s again, account %s", c.App, whose, Clean(c.Account))
	case c.Verb == model.Invite:
		return fmt.Sprintf("%s: invite %s, account %s", c.App, whose, Clean(c.Account))
	case c.Verb == model.Withdraw && c.Person != "":
		return fmt.Sprintf("%s: withdraw the invitation of %s, account %s", c.App, whose, Clean(c.Account))
	case c.Verb == model.HandOver:
		return fmt.Sprintf("%s: %s, of %s", c.App, What(c), whose)
	}
	return fmt.Sprintf("%s: %s for %s", c.App, What(c), whose)
}

// With says which attributes an account that is created will have, and what a thing that is defined
// will be: its title, its permissions and what it brings; "" for any other change.
func With(c *plan.Change) string {
	if d := c.After.Definition(); d != nil {
		return defined(d)
	}
	var out []string
	for name, v := range c.After.Fields() {
		if (c.Verb == model.Create || c.Verb == model.Invite) && v != c.Account {
			out = append(out, fmt.Sprintf("%s %q", name, Clean(v)))
		}
	}
	if len(out) == 0 {
		return ""
	}
	slices.Sort(out)
	return "with " + strings.Join(out, ", ")
}

// defined says what a definition holds.
func defined(d *plan.Definition) string {
	var out []string
	if d.Title != "" {
		out = append(out, fmt.Sprintf("title %q", Clean(d.Title)))
	}
	if len(d.Permissions) > 0 {
		out = append(out, Clean(model.Named(d.Permissions, "permission", "permissions")))
	}
	if len(d.Brings) > 0 {
		out = append(out, "bringing "+Clean(strings.Join(d.Brings, ", ")))
	}
	if len(out) == 0 {
		return "with no permissions, bringing nothing"
	}
	return "with " + strings.Join(out, "; ")
}

// Whose names the person of a change, or the account of nobody.
func Whose(p *plan.Plan, c *plan.Change) string {
	if c.Person == "" && c.Account == "" {
		return "all who have it"
	}
	if c.Person == "" {
		return Clean(c.Account) + ", nobody's account"
	}
	if name := p.People[c.Person]; name != "" {
		return Clean(name) + " (" + Clean(c.Person) + ")"
	}
	return Clean(c.Person)
}

func quote(v plan.Value) string {
	if v.IsZero() {
		return "no value"
	}
	return fmt.Sprintf("%q", v.Text())
}
