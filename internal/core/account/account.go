// Package account is an account as a value: its state, its attributes, and what it has of each kind
// of thing. Three questions are answered here, and nowhere else:
//
//	Do     what a change makes of an account
//	Shows  whether an application shows a change as done
//	Fits   whether a change still finds what it starts from
//
// What each verb does stands in the table of deeds (core/model).
//
// Whoever writes accounts (files, uploads, copies in memory, live applications), looks at them
// before sending or reads them back uses these. An account is looked at through Seen, so that the
// accounts of an export need not be copied out of their columns to be asked.
package account

import (
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// Seen is an account as it is seen somewhere. A nil Seen is an account that is not there.
type Seen interface {
	// Name is the value of the match attribute.
	Name() string
	// State tells whether the account is open, blocked, invited or removed.
	State() model.State
	// Attr is the value of an attribute, "" for none.
	Attr(name string) string
	// Shows reports whether the account has a value of an attribute: that one, or another beside it.
	Shows(name, value string) bool
	// Has reports whether the account has a thing directly or, if the account is removed, would
	// have it again.
	Has(kind model.Kind, name string) bool
	// Gives reports whether the account has a thing, directly or through another.
	Gives(kind model.Kind, name string) bool
}

// A Value is an account that can be changed.
type Value struct {
	Named string
	Is    model.State
	Attrs map[string]string
	Also  map[string][]string   // values of attributes besides those in Attrs
	Held  [model.Kinds][]string // names, by kind; with those outside the catalog, where they are known
}

var _ Seen = (*Value)(nil)

// New returns an open account that has nothing.
func New(name string) *Value { return &Value{Named: name, Is: model.Open, Attrs: map[string]string{}} }

// Name is the value of the match attribute.
func (v *Value) Name() string { return v.Named }

// State tells whether the account is open, blocked, invited or removed.
func (v *Value) State() model.State { return v.Is }

// Attr is the value of an attribute.
func (v *Value) Attr(name string) string { return v.Attrs[name] }

// Shows reports whether the account has a value of an attribute.
func (v *Value) Shows(name, value string) bool {
	return v.Attrs[name] == value || value != "" && slices.Contains(v.Also[name], value)
}

// Has reports whether the account has a thing.
func (v *Value) Has(kind model.Kind, name string) bool { return slices.Contains(v.Held[kind], name) }

// Gives is Has: a value does not know what comes along.
func (v *Value) Gives(kind model.Kind, name string) bool { return v.Has(kind, name) }

// Set exchanges one value of an attribute for another, whether it is the one that counts or one beside it; with "" all
// of them go.
func (v *Value) Set(name, before, after string) {
	if at := slices.Index(v.Also[name], before); at >= 0 && before != "" && after != "" && v.Attrs[name] != before {
		v.Also[name] = slices.Clone(v.Also[name])
		v.Also[name][at] = after
		return
	}
	if after == "" {
		delete(v.Also, name)
	}
	v.Attrs[name] = after
}

// Gain adds a thing.
func (v *Value) Gain(kind model.Kind, name string) {
	if !v.Has(kind, name) {
		v.Held[kind] = append(slices.Clip(v.Held[kind]), name)
	}
}

// Lose takes a thing away.
func (v *Value) Lose(kind model.Kind, name string) {
	v.Held[kind] = slices.DeleteFunc(slices.Clone(v.Held[kind]), func(n string) bool { return n == name })
}

// Accounts are the accounts of an application as an export shows them, to be looked up by name.
type Accounts struct {
	App   *model.App
	Of    *model.Accounts
	at    *table.Index
	along *diff.Reacher // what comes along with what, nil until somebody asks
}

// In returns the accounts of an export, to be looked up.
func In(app *model.App, of *model.Accounts) *Accounts {
	return &Accounts{App: app, Of: of, at: table.NewIndex(of.Key, nil)}
}

// Row is the number of the account that is spelled so, or -1.
func (a *Accounts) Row(name string) int { return a.at.Spelled(name) }

// Find returns an account, nil where it is not there.
func (a *Accounts) Find(name string) Seen {
	if i := a.at.Spelled(name); i >= 0 {
		return row{a, i}
	}
	return nil
}

// Value copies an account out of its columns, nil where it is not there.
func (a *Accounts) Value(name string) *Value {
	i := a.at.Spelled(name)
	if i < 0 {
		return nil
	}
	v := New(name)
	v.Is = a.Of.States[i]
	for n := range a.App.Attrs {
		v.Attrs[a.App.Attrs[n].Name] = a.Of.Attr(n, i)
		if also := a.Of.Also[model.Cell{Attr: int32(n), Account: int32(i)}]; also != nil {
			if v.Also == nil {
				v.Also = map[string][]string{}
			}
			v.Also[a.App.Attrs[n].Name] = also
		}
	}
	v.Attrs[a.App.Match] = name
	for _, t := range a.Of.Sets.Members(a.Of.Has(i)) {
		v.Gain(a.App.Things[t].Kind, a.App.Things[t].Name)
	}
	return v
}

// A row is an account in its columns.
type row struct {
	in *Accounts
	i  int
}

func (r row) Name() string       { return r.in.Of.Key.At(r.i) }
func (r row) State() model.State { return r.in.Of.States[r.i] }

func (r row) Attr(name string) string { return r.in.App.Says(r.in.Of, r.i)(name) }

func (r row) Shows(name, value string) bool {
	if n := r.in.App.Attr(name); n >= 0 {
		return r.in.Of.Shows(n, r.i, value)
	}
	return r.Attr(name) == value
}

func (r row) Has(kind model.Kind, name string) bool {
	t := r.in.App.Thing(kind, name)
	return t >= 0 && r.in.Of.Sets.Has(r.in.Of.Has(r.i), t)
}

func (r row) Gives(kind model.Kind, name string) bool {
	t := r.in.App.Thing(kind, name)
	if t < 0 {
		return false
	}
	if r.in.along == nil {
		r.in.along = diff.Exported(r.in.App, r.in.Of)
	}
	return r.in.along.Has(r.in.Of.Has(r.i), t)
}

// Renames reports whether a change gives an account another name, and which.
func Renames(app *model.App, c *plan.Change) (name string, ok bool) {
	if c.Verb == model.Update && c.Attribute == app.Match {
		return c.After.Text(), true
	}
	return "", false
}
