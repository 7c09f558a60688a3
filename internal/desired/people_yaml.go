package desired

import (
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// peopleYAML reads hand-kept people: a list under people.
func (r *Repo) peopleYAML(file string) {
	d, root := r.open(file)
	if root == nil {
		return
	}
	f := d.fields(root, "a file of people", "people")
	number := r.People.File(file)
	for _, n := range d.list(f["people"], "people") {
		var attrs []int
		var values []string
		var places []model.Pos
		has := map[string]bool{}
		add := func(key *yaml.Node, name, value string) {
			value = cell(value)
			if r.attribute(name, func(says, hint string) { d.problem(key, "unknown-attribute", says, hint) }) &&
				value != "" {
				has[table.Fold(name)] = true
				attrs = append(attrs, r.People.Attribute(name))
				values = append(values, value)
				places = append(places, d.pos(key))
			}
		}
		for _, e := range d.entries(n, "a person") {
			if e.value.Kind == yaml.MappingNode {
				for _, sub := range d.entries(e.value, e.name) {
					add(sub.key, e.name+"."+sub.name, d.text(sub.value, e.name+"."+sub.name))
				}
				continue
			}
			if e.value.Kind == yaml.SequenceNode && e.name == formerly {
				var names []string
				for _, n := range d.names(e.value, formerly) {
					names = append(names, n.Text)
				}
				add(e.key, formerly, strings.Join(names, " "))
				continue
			}
			add(e.key, e.name, d.text(e.value, e.name))
		}
		if !has["id"] || !has["username"] {
			d.problem(n, "missing-value", "the person has no id or userName", "every person needs both")
			continue
		}
		r.People.Add(number, n.Line, attrs, values)
		for i, a := range attrs {
			r.People.SetPlace(a, places[i])
		}
	}
}
