package files

import (
	"bytes"
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// groups changes the members of groups.
func (w *scimWriter) groups() error {
	if !w.hasGroups {
		return nil
	}
	gain, lose := map[string][]string{}, map[string]map[string]bool{} // group → ids
	for _, id := range slices.Sorted(maps.Keys(w.ids)) {
		x := w.ids[id]
		for _, g := range x.gain[model.Group] {
			gain[g] = append(gain[g], id)
		}
		for _, g := range x.lose[model.Group] {
			if lose[g] == nil {
				lose[g] = map[string]bool{}
			}
			lose[g][id] = true
		}
	}
	err := w.each("Group", func(file *scimFile, r *resource, v export.Value) error {
		name, err := v.Name("displayName", "id")
		if err != nil {
			return err
		}
		raw := file.data[r.from:r.to]
		text, err := w.members(&jsonText{text: slices.Clone(raw), end: file.end}, gain[name], lose[name])
		if err != nil {
			return fmt.Errorf("%s: group %s cannot be changed: %w", w.files.App.ID, name, err)
		}
		if !bytes.Equal(text, raw) {
			r.text = text
		}
		delete(gain, name)
		return nil
	})
	if err != nil {
		return err
	}
	for name := range gain {
		return fmt.Errorf("%s has no group %q", w.files.App.ID, name)
	}
	return nil
}

// members changes the members of one group, in O(members).
func (w *scimWriter) members(t *jsonText, gain []string, lose map[string]bool) ([]byte, error) {
	members, err := export.References(t.value())
	if err != nil {
		return nil, err
	}
	is := make(map[string]bool, len(members))
	gone := make([]bool, len(members))
	for i, m := range members {
		is[m.ID] = true
		x := w.ids[m.ID]
		gone[i] = !m.Group && (lose[m.ID] || x != nil && x.remove)
	}
	var add [][2]string
	for _, id := range gain {
		if !is[id] {
			add = append(add, [2]string{"value", id})
		}
	}
	return t.text, t.list("members", gone, add)
}
