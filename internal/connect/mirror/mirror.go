// Package mirror is an application in memory: a copy of what an export shows, to which
// changes are done in thought. A rehearsal carries plans out on it.
package mirror

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/export"
)

// Mirror is a copy of an application.
type Mirror struct {
	App   *model.App
	Keeps bool // it keeps accounts that were removed
	State *connect.State
	turn  int
}

// Read returns the state.
func (m *Mirror) Read(context.Context) (*connect.State, error) { return m.State, nil }

// Mark is the state's mark.
func (m *Mirror) Mark(context.Context) (string, error) { return m.State.Mark, nil }

// Resume gives a step up: a mirror has done all of it or nothing.
func (m *Mirror) Resume(_ context.Context, journal json.RawMessage) (taken bool, err error) {
	var turn int
	if err := json.Unmarshal(journal, &turn); err != nil {
		return false, err
	}
	return m.turn > turn, nil
}

type step struct {
	of      *Mirror
	changes []*plan.Change
	after   *model.Accounts
	refused map[string]string
	turn    int // which the mirror was at
}

// Prepare does the changes to a copy.
func (m *Mirror) Prepare(_ context.Context, _ string, changes []*plan.Change) (connect.Step, error) {
	s := &step{of: m, changes: changes, turn: m.turn, refused: map[string]string{}}
	all := map[string]*export.Record{}
	index := table.NewIndex(m.State.Accounts.Key, nil)
	get := func(name string) *export.Record {
		r, ok := all[name]
		if !ok {
			r = m.record(index, name)
			all[name] = r
		}
		return r
	}
	defs := m.State.Accounts.Definitions
	for _, c := range changes {
		if c.Verb.OfThing() {
			if defs == nil {
				s.refused[c.ID] = "the export shows no definitions, so none can be rehearsed"
				continue
			}
			defs = m.defined(defs, c)
			continue
		}
		if says := m.do(c, get, all); says != "" {
			s.refused[c.ID] = says
		}
	}
	var records []*export.Record
	names := slices.Sorted(maps.Keys(all))
	for _, name := range names {
		if r := all[name]; r != nil {
			records = append(records, r)
		}
	}
	part, err := export.Collect(m.App, records)
	if err != nil {
		return nil, err
	}
	s.after = m.State.Accounts.Merge(m.App, part, names)
	if s.after.Definitions = defs; defs != nil {
		for _, kind := range []model.Kind{model.Group, model.Role} {
			s.after.Defined[kind] = defined(defs, kind)
		}
	}
	return s, nil
}

// defined are the names of the definitions of a kind, nil where there are none.
func defined(defs *model.Definitions, kind model.Kind) (out []string) {
	for _, d := range append(slices.Clone(defs.Of), defs.Others...) {
		if d != nil && d.Kind == kind {
			out = append(out, d.Name)
		}
	}
	slices.Sort(out)
	return out
}

// defined does one change of a definition to a copy of all of them.
func (m *Mirror) defined(defs *model.Definitions, c *plan.Change) *model.Definitions {
	out := *defs
	out.Of = slices.Clone(defs.Of)
	t := m.App.Thing(c.Thing.Kind, c.Thing.Name)
	if t < 0 {
		return defs
	}
	d := model.Definition{Kind: c.Thing.Kind, Name: c.Thing.Name}
	if was := out.Of[t]; was != nil {
		d = *was
	}
	switch c.Verb {
	case model.Retire:
		out.Of[t] = nil
		return &out
	case model.Define:
		if whole, ok := c.After.(map[string]any); ok {
			d.Title, _ = whole["title"].(string)
			d.Permissions, d.Brings = plan.Texts(whole["permissions"]), plan.Texts(whole["brings"])
		}
	default:
		switch c.Attribute {
		case "title":
			d.Title = fmt.Sprint(c.After)
		case "permissions":
			d.Permissions = changed(d.Permissions, c)
		case "brings":
			d.Brings = changed(d.Brings, c)
		}
	}
	d.Along = m.App.Numbers(d.Brings)
	out.Of[t] = &d
	return &out
}

// changed is a list with what a change takes out of it and puts into it.
func changed(list []string, c *plan.Change) []string {
	before, after := plan.Texts(c.Before), plan.Texts(c.After)
	list = append(model.Without(list, model.Without(before, after)), model.Without(after, before)...)
	slices.Sort(list)
	return slices.Compact(list)
}

// record is an account as a record, nil where it is not there.
func (m *Mirror) record(index *table.Index, name string) *export.Record {
	a := m.State.Accounts
	i := index.Spelled(name)
	if i < 0 {
		return nil
	}
	r := &export.Record{Account: name, State: a.States[i].String(), Attributes: map[string]string{}}
	for n, attr := range m.App.Attrs {
		r.Attributes[attr.Name] = a.Attr(n, i)
	}
	for _, t := range a.Sets.Members(a.Has(i)) {
		r.Hold(m.App.Things[t].Kind, m.App.Things[t].Name)
	}
	return r
}

// do does one change; says is why that cannot be.
func (m *Mirror) do(c *plan.Change, get func(string) *export.Record, all map[string]*export.Record) (says string) {
	r := get(c.Account)
	if attrs, ok := c.After.(map[string]any); ok && (c.Verb == model.Create || c.Verb == model.Invite) {
		r = &export.Record{Account: c.Account, State: model.Open.String(), Attributes: map[string]string{}}
		for name, v := range attrs {
			r.Attributes[name] = fmt.Sprint(v)
		}
		switch {
		case c.Verb == model.Invite:
			r.State = model.Invited.String()
		case c.Blocked:
			r.State = model.Blocked.String()
		}
		all[c.Account] = r
		return ""
	}
	if r == nil {
		if c.Verb == model.Remove || c.Verb == model.Withdraw {
			return ""
		}
		return "the account is not there"
	}
	switch c.Verb {
	case model.Suspend:
		r.State = model.Blocked.String()
	case model.Restore:
		r.State = model.Open.String()
	case model.Remove, model.Withdraw:
		if all[c.Account] = nil; m.Keeps && c.Verb == model.Remove {
			r.State = model.Removed.String()
			all[c.Account] = r
		}
	case model.Update, model.Invite:
		v := ""
		if c.After != nil {
			v = fmt.Sprint(c.After)
		}
		r.Attributes[c.Attribute] = v
		if c.Attribute == m.App.Match {
			all[c.Account], all[v] = nil, r
			r.Account = v
		}
	case model.HandOver:
		to := get(fmt.Sprint(c.After))
		if to == nil {
			return "the successor has no account"
		}
		names := model.OwnedNames(to.Attributes[model.Owned], m.App.OwnedSplit)
		for _, name := range plan.Texts(c.Before) {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		to.Attributes[model.Owned] = strings.Join(names, m.App.OwnedSplit)
		r.Attributes[model.Owned] = ""
	default:
		m.hold(c, r)
	}
	return ""
}

func (m *Mirror) hold(c *plan.Change, r *export.Record) {
	names := slices.DeleteFunc(slices.Clone(r.Held(c.Thing.Kind)), func(n string) bool { return n == c.Thing.Name })
	if c.Verb == model.Gaining(c.Thing.Kind) {
		names = append(names, c.Thing.Name)
	}
	switch c.Thing.Kind {
	case model.Group:
		r.Groups = names
	case model.Role:
		r.Roles = names
	default:
		r.Licenses = names
	}
}

func (s *step) Refused() map[string]string { return s.refused }

func (s *step) Journal() json.RawMessage { return json.RawMessage(fmt.Sprint(s.turn)) }

func (s *step) After() string { return fmt.Sprintf("turn %d", s.turn+1) }

func (s *step) Drop() {}

// Commit makes the copy the state.
func (s *step) Commit(_ context.Context, done func(*plan.Change, error)) error {
	state := *s.of.State
	state.Accounts = s.after
	s.of.turn++
	state.Mark = fmt.Sprintf("turn %d", s.of.turn)
	s.of.State = &state
	for _, c := range s.changes {
		done(c, nil)
	}
	return nil
}
