package files

import (
	"fmt"
	"maps"
	"slices"

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
	was    map[string]string // the values in whose place they come
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
			to, names := e.of(c.After.Text()), c.Before.List()
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
		x = &edit{key: key, attrs: map[string]string{}, was: map[string]string{}}
		e.byKey[key] = x
		e.order = append(e.order, key)
	}
	return x
}

// add notes what a change does to the account, as the table of deeds has it.
func (x *edit) add(c *plan.Change, keeps bool) error {
	deed := c.Verb.Deed()
	switch {
	case deed.Gains:
		x.gain[c.Thing.Kind] = append(x.gain[c.Thing.Kind], c.Thing.Name)
	case deed.Loses:
		x.lose[c.Thing.Kind] = append(x.lose[c.Thing.Kind], c.Thing.Name)
	case c.Attribute != "": // also of an invitation that is sent again
		if _, again := x.attrs[c.Attribute]; !again {
			x.was[c.Attribute] = c.Before.Text()
		}
		x.attrs[c.Attribute] = c.After.Text()
	case deed.Makes:
		x.create = true
		if c.After.Fields() == nil {
			return fmt.Errorf("change %s creates an account and has no attributes", c.ID)
		}
		maps.Copy(x.attrs, c.After.Fields())
	}
	if !deed.Moves {
		return nil
	}
	switch x.state = deed.To; {
	case deed.Makes && c.Blocked:
		x.state = model.Blocked
	case x.state == model.Removed:
		x.remove = !keeps
	case x.state == model.NoAccount:
		x.remove = true
	}
	return nil
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

// toCreate parts the edits that found no account into the accounts to create;
// an account that is to be changed and is not there is an error.
func (e *edits) toCreate() (create []*edit, err error) {
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
