package scim

import (
	"maps"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// editing gathers what is to be changed of one user: as operations of a PATCH, and on the
// resource itself for a PUT.
type editing struct {
	d    *driver
	body map[string]any
	ops  []operation
}

func (e *editing) change(c *plan.Change) error {
	switch c.Verb {
	case model.Suspend:
		e.state(model.Blocked)
	case model.Restore:
		e.state(model.Open)
	case model.Invite: // sent again
		e.set(c.Attribute, c.After.Text())
	case model.Update:
		if c.Attribute == model.KeySince {
			if e.d.anew == nil {
				return &connect.Fault{Kind: connect.Refused, Says: "nothing says who may read a new key"}
			}
			key, err := e.d.anew(c.Account)
			if err != nil {
				return err
			}
			e.put([]string{"password"}, key)
			return nil
		}
		after := c.After.Text()
		if after != "" && e.d.refers(c.Attribute) {
			id, err := e.d.id(after)
			if err != nil {
				return err
			}
			after = id
		}
		e.exchange(c.Attribute, c.Before.Text(), after)
	case model.Grant, model.Revoke, model.Assign, model.Release:
		e.entry(c.Thing.Kind, c.Thing.Name, c.Verb == model.Gaining(c.Thing.Kind))
	case model.HandOver:
		return &connect.Fault{
			Kind: connect.Refused,
			Says: "SCIM has no way to hand over what an account owns; do that in the application",
		}
	default:
		return &connect.Fault{Kind: connect.Refused, Says: "SCIM has no way to " + c.Verb.String()}
	}
	return nil
}

// state sets whether a user is active and, where the application has words for states, the
// word.
func (e *editing) state(s model.State) {
	e.put([]string{"active"}, s == model.Open)
	if c := e.d.named.Column(export.Status); c != nil {
		word, _ := c.Word(s)
		e.put(export.SCIMPath(e.d.named, export.Status), word)
	}
}

// set sets an attribute, or with "" takes its value away.
func (e *editing) set(attr, v string) { e.exchange(attr, "", v) }

// exchange sets an attribute that had another value, or with "" takes it away. Of a list only the entry with that value
// is changed or, where none has it, the one that counts.
func (e *editing) exchange(attr, before, v string) {
	path := export.SCIMPath(e.d.named, attr)
	multi := len(path) == 1 && (path[0] == "emails" || path[0] == "phoneNumbers")
	name, there := key(e.body, path[0])
	list, isList := e.body[name].([]any)
	switch {
	case multi && v == "":
		e.put(path, nil)
	case multi && there && isList && len(list) > 0:
		list = slices.Clone(list)
		at := 0
		for i, x := range list {
			if o, ok := x.(map[string]any); ok && o["primary"] == true {
				at = i
			}
		}
		if before != "" {
			for i, x := range list {
				if o, ok := x.(map[string]any); ok && o["value"] == before {
					at = i
				}
			}
		}
		entry := map[string]any{}
		if o, ok := list[at].(map[string]any); ok {
			entry = maps.Clone(o)
		}
		entry["value"] = v
		list[at] = entry
		e.put(path, list)
	case multi:
		e.put(path, []any{map[string]any{"value": v, "primary": true}})
	case v == "":
		e.put(path, nil)
	case len(path) == 1 && path[0] == "active":
		e.put(path, strings.EqualFold(v, "true"))
	default:
		e.put(path, v)
	}
}

// put puts a value under a path; nil takes it away.
func (e *editing) put(path []string, v any) {
	o := operation{Op: "replace", Path: pathText(path), Value: v}
	if v == nil {
		o.Op = "remove"
	}
	e.ops = append(e.ops, o)
	at := e.body
	for _, name := range path[:len(path)-1] {
		k, ok := key(at, name)
		if !ok {
			k = name
		}
		inner, _ := at[k].(map[string]any)
		inner = maps.Clone(inner)
		if inner == nil {
			inner = map[string]any{}
		}
		at[k] = inner
		at = inner
	}
	k, ok := key(at, path[len(path)-1])
	if !ok {
		k = path[len(path)-1]
	}
	if v == nil {
		delete(at, k)
	} else {
		at[k] = v
	}
}

// entry adds a role or an entitlement, or takes one away.
func (e *editing) entry(kind model.Kind, name string, gain bool) {
	list, _ := export.NamesOf(kind)
	k, ok := key(e.body, list)
	if !ok {
		k = list
	}
	entries, isList := e.body[k].([]any)
	if one, ok := e.body[k].(string); ok && one != "" && !isList {
		entries = []any{one}
	}
	if slices.ContainsFunc(entries, func(x any) bool { _, ok := x.(string); return ok }) {
		e.texts(list, k, entries, name, gain)
		return
	}
	if gain {
		added := map[string]any{"value": name}
		e.ops = append(e.ops, operation{Op: "add", Path: list, Value: []any{added}})
		e.body[k] = append(slices.Clone(entries), added)
		return
	}
	by := "value"
	var rest []any
	for _, x := range entries {
		o, _ := x.(map[string]any)
		switch {
		case o["value"] == name:
		case o["value"] == nil && o["display"] == name:
			by = "display"
		default:
			rest = append(rest, x)
		}
	}
	e.ops = append(e.ops, operation{Op: "remove", Path: list + "[" + by + " eq " + quote(name) + "]"})
	e.body[k] = rest
}

// texts adds a role or an entitlement to a list of texts, or takes it away. No filter finds a text in a list, so that
// the list is replaced as a whole.
func (e *editing) texts(list, k string, entries []any, name string, gain bool) {
	rest := slices.DeleteFunc(slices.Clone(entries), func(x any) bool {
		o, _ := x.(map[string]any)
		return x == name || o != nil && (o["value"] == name || o["value"] == nil && o["display"] == name)
	})
	if gain {
		rest = append(rest, name)
	}
	e.body[k] = rest
	e.ops = append(e.ops, operation{Op: "replace", Path: list, Value: rest})
}

// pathText is a path as a PATCH has it (RFC 7644 §3.10).
func pathText(path []string) string {
	if strings.HasPrefix(path[0], "urn:") && len(path) > 1 {
		return path[0] + ":" + strings.Join(path[1:], ".")
	}
	return strings.Join(path, ".")
}

// key finds the name under which an object has a member, read without case.
func key(o map[string]any, name string) (string, bool) {
	if _, ok := o[name]; ok {
		return name, true
	}
	for k := range o {
		if strings.EqualFold(k, name) {
			return k, true
		}
	}
	return "", false
}
