package scim

import (
	"slices"
	"strings"

	"pravet/internal/export"
)

// A roster is who is in which groups.
type roster struct {
	groups  []*group
	of      map[string]*group   // by id
	byName  map[string]*group   // by displayName
	in      map[string][]*group // by the id of a member
	parents map[string][]*group // by the id of a group: the groups that it is a member of
}

// A membership is a group that a user says they are in (RFC 7643 §4.1.2: value, $ref and display are each optional).
type membership struct {
	id, name string
	direct   bool // it says so
}

// What is known of whether users say all groups that they are in.
type confidence uint8

const (
	unknown confidence = iota
	trusted
	distrusted
)

// find is the group that a user says.
func (r *roster) find(m membership) *group {
	if g := r.of[m.id]; g != nil {
		return g
	}
	return r.byName[m.name]
}

// ownGroups are the groups that a user's resource says, but for those that it says are indirect.
func ownGroups(v export.Value) (out []membership, err error) {
	list, says, err := v.Find("groups")
	if err != nil || !says {
		return nil, err
	}
	for _, entry := range list.List() {
		if !entry.IsObject() {
			text := entry.String()
			out = append(out, membership{id: text, name: text})
			continue
		}
		members, err := entry.Members()
		if err != nil {
			return nil, err
		}
		m, ref, how := membership{}, "", ""
		for _, a := range members {
			switch strings.ToLower(a.Name) {
			case "value":
				m.id = strings.Clone(a.String())
			case "display":
				m.name = strings.Clone(a.String())
			case "$ref":
				ref = a.String()
			case "type":
				how = a.String()
			}
		}
		if m.id == "" && ref != "" {
			m.id = export.LastOf(ref)
		}
		if strings.EqualFold(how, "indirect") || m.id == "" && m.name == "" {
			continue
		}
		m.direct = strings.EqualFold(how, "direct")
		out = append(out, m)
	}
	return out, nil
}

func hold(r *export.Record, group string) {
	if group != "" && !slices.Contains(r.Groups, group) {
		r.Groups = append(r.Groups, group)
	}
}

// hold notes the groups that an account is in: those that list it, and those that it says, but for one that it is in by
// way of another alone. Without a roster there are no groups but those that accounts say.
func (x *sighting) hold(r *roster) {
	if r == nil {
		for _, m := range x.own {
			if m.name == "" {
				m.name = m.id
			}
			hold(x.record, m.name)
		}
		return
	}
	for _, g := range r.in[x.user.id] {
		hold(x.record, g.name)
	}
	for _, m := range x.own {
		g := r.find(m)
		switch {
		case g == nil && m.name != "":
			hold(x.record, m.name)
		case g == nil:
			hold(x.record, m.id)
		case m.direct || !r.through(x, g):
			hold(x.record, g.name)
		}
	}
}

// through reports whether an account is in a group by way of others that it says or that list it, and is not listed by
// it.
func (r *roster) through(x *sighting, g *group) bool {
	if slices.Contains(r.in[x.user.id], g) {
		return false
	}
	seen := map[*group]bool{}
	var above func(from *group) bool
	above = func(from *group) bool {
		for _, p := range r.parents[from.id] {
			if p == g {
				return true
			}
			if !seen[p] {
				seen[p] = true
				if above(p) {
					return true
				}
			}
		}
		return false
	}
	for _, m := range x.own {
		if from := r.find(m); from != nil && from != g && above(from) {
			return true
		}
	}
	return slices.ContainsFunc(r.in[x.user.id], above)
}

// rosterOf puts groups together.
func rosterOf(groups []*group) (*roster, error) {
	r := &roster{
		groups: groups, of: map[string]*group{}, byName: map[string]*group{}, in: map[string][]*group{},
		parents: map[string][]*group{},
	}
	for _, g := range groups {
		if r.byName[g.name] != nil {
			return nil, wrong("two groups are called %q, and groups are told apart by their names", g.name)
		}
		r.of[g.id], r.byName[g.name] = g, g
	}
	for _, g := range groups {
		for _, id := range g.members {
			if r.of[id] != nil {
				r.parents[id] = append(r.parents[id], g)
			}
			r.in[id] = append(r.in[id], g)
		}
	}
	return r, nil
}
