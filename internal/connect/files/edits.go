package files

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// edits are the changes of a batch, gathered by account.
type edits struct {
	app   *model.App
	byKey map[string]*edit
	order []string // accounts in the order of their first change
}

// edit is all that happens to one account.
type edit struct {
	key    string
	create bool
	remove bool
	anew   bool              // it is made where a removed one is
	state  model.State       // that it comes to be in; NoAccount where that stays
	attrs  map[string]string // "" takes the value away
	hands  bool              // what it owns goes to another
	gets   []string          // what it comes to own
	gain   [model.Kinds][]string
	lose   [model.Kinds][]string
	done   bool
	rows   *spread // where an account has several rows
}

// newEdits gathers changes; keeps reports whether the application keeps
// accounts that were removed.
func newEdits(app *model.App, changes []*plan.Change, keeps bool) (*edits, error) {
	e := &edits{app: app, byKey: map[string]*edit{}}
	for _, c := range changes {
		if c.Verb == model.HandOver {
			to, names := e.of(fmt.Sprint(c.After)), plan.Texts(c.Before)
			e.of(c.Account).hands, to.gets = true, append(to.gets, names...)
			continue
		}
		if err := e.of(c.Account).add(c, keeps); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// of returns the edit of a row by its key.
func (e *edits) of(key string) *edit {
	x := e.byKey[key]
	if x == nil {
		x = &edit{key: key, attrs: map[string]string{}}
		e.byKey[key] = x
		e.order = append(e.order, key)
	}
	return x
}

func (x *edit) add(c *plan.Change, keeps bool) error {
	switch c.Verb {
	case model.Suspend:
		x.state = model.Blocked
	case model.Restore:
		x.state = model.Open
	case model.Remove:
		x.state, x.remove = model.Removed, !keeps
	case model.Withdraw:
		x.remove = true
	case model.Create, model.Invite:
		switch {
		case c.Verb == model.Invite:
			x.state = model.Invited
		case c.Blocked:
			x.state = model.Blocked
		default:
			x.state = model.Open
		}
		if c.Attribute != "" { // an invitation that is sent again
			x.attrs[c.Attribute] = fmt.Sprint(c.After)
			return nil
		}
		x.create = true
		attrs, ok := c.After.(map[string]any)
		if !ok {
			return fmt.Errorf("change %s creates an account and has no attributes", c.ID)
		}
		for name, v := range attrs {
			x.attrs[name] = fmt.Sprint(v)
		}
	case model.Update:
		x.attrs[c.Attribute] = ""
		if c.After != nil {
			x.attrs[c.Attribute] = fmt.Sprint(c.After)
		}
	default:
		kind := c.Thing.Kind
		if c.Verb == model.Gaining(kind) {
			x.gain[kind] = append(x.gain[kind], c.Thing.Name)
		} else {
			x.lose[kind] = append(x.lose[kind], c.Thing.Name)
		}
	}
	return nil
}

// owns is what an account owns once some of it came from another, or all of it went: only
// names that are handed over go.
func (x *edit) owns(is, split string) string {
	names := model.OwnedNames(is, split)
	if x.hands {
		names = nil
	}
	for _, name := range x.gets {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, split)
}

// missing returns the edits that found no account.
func (e *edits) missing() []*edit {
	var out []*edit
	for _, key := range e.order {
		if x := e.byKey[key]; !x.done {
			out = append(out, x)
		}
	}
	return out
}

// news parts the edits that found no account into the accounts to create;
// an account that is to be changed and is not there is an error.
func (e *edits) news() (create []*edit, err error) {
	for _, x := range e.missing() {
		switch {
		case x.create:
			create = append(create, x)
		case x.remove, x.state == model.Removed: // it is gone already
		default:
			return nil, fmt.Errorf("%s: the account %q is not there any more; draft again", e.app.ID, x.key)
		}
	}
	return create, nil
}

// list applies what an account gains and loses to a list of names.
func (x *edit) list(kind model.Kind, names []string) (keep func(string) bool, add []string) {
	for _, g := range x.gain[kind] {
		if !slices.Contains(names, g) {
			add = append(add, g)
		}
	}
	return func(name string) bool { return !slices.Contains(x.lose[kind], name) }, add
}
