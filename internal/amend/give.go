package amend

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/edit"
	"pravet/internal/source"
)

// Take takes a thing out of all that gives it or brings it along and, where the definition
// is Pravet's own, has it ended in the application.
func (a *Amendment) Take(app int, thing int32) error {
	of := a.repo.Apps[app]
	t := &of.Things[thing]
	for _, k := range a.repo.Kits {
		for _, g := range k.Gives {
			if g.App == app && slices.Contains(g.Things, thing) {
				if err := a.takeFrom(k.Pos.File, t.Name, t.Kind.Plural(), "kits", k.Name, "gives", of.ID); err != nil {
					return err
				}
			}
		}
	}
	file := of.Pos.File
	for i := range of.Things {
		from := &of.Things[i]
		if !slices.Contains(from.Implies, thing) {
			continue
		}
		path, key := []string{from.Kind.Plural(), from.Name, "brings"}, t.Kind.Plural()
		if y, err := a.yaml(file); err != nil {
			return err
		} else if t.Kind == model.Role && y.Get(from.Kind.Plural(), from.Name, "includes") != nil {
			path, key = path[:2], "includes"
		}
		if err := a.takeFrom(file, t.Name, key, path...); err != nil {
			return err
		}
	}
	if !t.Define || t.Retire {
		return nil
	}
	y, err := a.yaml(file)
	if err != nil {
		return err
	}
	return y.SetKey(y.Get(t.Kind.Plural(), t.Name), "retire", "true")
}

// RemoveKit takes a kit out, whatever else was to change of it; the last kit of a file stays.
func (a *Amendment) RemoveKit(k *model.Kit) error {
	y, err := a.yaml(k.Pos.File)
	if err != nil {
		return err
	}
	kits := y.Get("kits")
	a.left[k.Pos.File]++
	if a.left[k.Pos.File] >= len(kits.Content)/2 {
		return nil
	}
	a.lists = slices.DeleteFunc(a.lists, func(l *list) bool { return l.kit == k })
	return y.RemoveKey(kits, edit.Key(kits, k.Name))
}

// takeFrom takes a name out of the list at the end of a path of keys, and what is left empty
// by that.
func (a *Amendment) takeFrom(file, name, key string, path ...string) error {
	y, err := a.yaml(file)
	if err != nil {
		return err
	}
	m := y.Get(path...)
	list := edit.Get(m, key)
	if list == nil {
		return fmt.Errorf("%s has no %s any more", file, strings.Join(append(path, key), ", "))
	}
	i := slices.IndexFunc(list.Content, func(n *yaml.Node) bool { return n.Value == name })
	if i < 0 {
		return nil
	}
	if len(list.Content) > 1 {
		return y.ChangeItems(m, key, []int{i}, nil)
	}
	for len(m.Content) == 2 && len(path) > 1 {
		key, path = path[len(path)-1], path[:len(path)-1]
		m = y.Get(path...)
	}
	if path[0] == "kits" && len(path) == 2 { // the kit gives nothing else
		if edit.Get(m, "with") != nil {
			return y.RemoveKey(m, edit.Key(m, key))
		}
		for _, k := range a.repo.Kits {
			if slices.ContainsFunc(k.With, func(w model.Name) bool { return w.Text == path[1] }) {
				return source.NewProblem(k.Pos, "by-hand",
					fmt.Sprintf("kit %s comes with kit %s, which would give nothing any more", k.Name, path[1]),
					"take it out there first")
			}
		}
		m, key = y.Get("kits"), path[1]
	}
	return y.RemoveKey(m, edit.Key(m, key))
}

// Give lets a kit give more in an application: names by the plural of their kind.
func (a *Amendment) Give(k *model.Kit, app string, names map[string][]string) {
	a.gives = append(a.gives, given{k, app, names})
}

type given struct {
	kit   *model.Kit
	app   string
	names map[string][]string
}

func (a *Amendment) give(g given) error {
	y, node, err := a.kit(g.kit)
	if err != nil {
		return err
	}
	if there := edit.Get(node, "gives", g.app); there != nil {
		for _, kind := range slices.Sorted(maps.Keys(g.names)) {
			if err := y.AddItems(there, kind, inline(g.names[kind])...); err != nil {
				return err
			}
		}
		return nil
	}
	var parts []string
	for _, kind := range slices.Sorted(maps.Keys(g.names)) {
		parts = append(parts, kind+": ["+strings.Join(inline(g.names[kind]), ", ")+"]")
	}
	written := "{" + strings.Join(parts, ", ") + "}"
	if gives := edit.Get(node, "gives"); gives != nil && len(gives.Content) > 0 {
		return y.AddKey(gives, []string{g.app + ": " + written})
	}
	return y.AddKey(node, []string{"gives:", "  " + g.app + ": " + written})
}

// inline writes texts as items of a list in one line.
func inline(texts []string) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = edit.Inline(t)
	}
	return out
}
