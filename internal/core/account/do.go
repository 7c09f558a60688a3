package account

import (
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A Book is some accounts of an application while changes are done to them.
type Book struct {
	App   *model.App
	Keeps bool                     // the application keeps accounts that were removed
	Look  func(name string) *Value // an account as it was; nil where it is not there

	all   map[string]*Value
	order []string // the names in all, as they were first met
}

// Get returns an account as it is by now, nil where it is not there.
func (b *Book) Get(name string) *Value {
	if v, ok := b.all[name]; ok {
		return v
	}
	v := b.Look(name)
	b.put(name, v)
	return v
}

func (b *Book) put(name string, v *Value) {
	if b.all == nil {
		b.all = map[string]*Value{}
	}
	if _, ok := b.all[name]; !ok {
		b.order = append(b.order, name)
	}
	b.all[name] = v
}

// Each calls f with each account that was looked at or made, by the names that they had, in the order
// of the first change of each; v is nil for one that is not there, or no longer.
func (b *Book) Each(f func(name string, v *Value)) {
	for _, name := range b.order {
		f(name, b.all[name])
	}
}

// Do does one change to the account that it is about. says is why that cannot be, and "" where it
// was done; what is to go and is gone already is done.
func (b *Book) Do(c *plan.Change) (says string) {
	deed := c.Verb.Deed()
	v := b.Get(c.Account)
	again := c.Verb == model.Invite && c.Attribute != "" // an invitation that is sent once more
	switch {
	case deed.Makes && !again:
		v = New(c.Account)
		for name, value := range c.After.Fields() {
			v.Attrs[name] = value
		}
		b.put(c.Account, v)
	case v == nil && deed.Clears:
		return ""
	case v == nil:
		return "the account is not there"
	}
	switch {
	case c.Verb == model.HandOver:
		return b.handOver(v, c)
	case c.Verb == model.Update || again:
		v.Set(c.Attribute, c.Before.Text(), c.After.Text())
		if name, ok := Renames(b.App, c); ok {
			b.put(c.Account, nil)
			v.Named = name
			b.put(name, v)
		}
	case deed.Gains:
		if b.App.One[c.Thing.Kind] {
			v.Held[c.Thing.Kind] = nil // it is exchanged
		}
		v.Gain(c.Thing.Kind, c.Thing.Name)
	case deed.Loses:
		v.Lose(c.Thing.Kind, c.Thing.Name)
	}
	if !deed.Moves {
		return ""
	}
	switch v.Is = deed.To; {
	case deed.Makes && c.Blocked:
		v.Is = model.Blocked
	case v.Is == model.NoAccount, v.Is == model.Removed && !b.Keeps:
		b.put(c.Account, nil)
	}
	return ""
}

// handOver gives what an account owns by name to another.
func (b *Book) handOver(from *Value, c *plan.Change) (says string) {
	to := b.Get(c.After.Text())
	if to == nil {
		return "the successor has no account"
	}
	from.Attrs[model.Owned] = Owns(b.App, from.Attrs[model.Owned], true, nil)
	to.Attrs[model.Owned] = Owns(b.App, to.Attrs[model.Owned], false, c.Before.List())
	return ""
}

// Owns is the value of the attribute owned once some names came from another, or all of an account's
// own were handed over: only names that are handed over go.
func Owns(app *model.App, is string, hands bool, gets []string) string {
	names := model.OwnedNames(is, app.OwnedSplit)
	if hands {
		names = nil
	}
	for _, name := range gets {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, app.OwnedSplit)
}
