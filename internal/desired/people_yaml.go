package desired

import (
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/form"
)

var (
	peopleForm = &form.Object{
		Name: "a file of people", Doc: "People",
		Keys: []form.Key{{Name: "people", Is: form.ListOf(0, form.In(personForm))}},
	}
	personForm = (&form.Object{
		Name: "a person", Doc: "Attributes of RFC 7643 that have one value, Pravet's own, and the organization's",
		Keys: []form.Key{
			{Name: "id", Is: form.Text(""), Need: true, Doc: "Unique, and never used again"},
			{Name: "userName", Is: form.Text(""), Need: true, Doc: "Unique, case ignored; it may change"},
			{Name: "displayName", Is: form.Text(""), Doc: "What people call them"},
			{Name: "name", Is: form.In(nameForm), Doc: "The parts of the name"},
			{Name: "nickName", Is: form.Text("")},
			{Name: "email", Is: form.Text("")},
			{Name: "phone", Is: form.Text("")},
			{Name: "title", Is: form.Text(""), Doc: "The position"},
			{Name: "department", Is: form.Text("")},
			{Name: "division", Is: form.Text("")},
			{Name: "organization", Is: form.Text("")},
			{Name: "costCenter", Is: form.Text("")},
			{Name: "employeeNumber", Is: form.Text("")},
			{Name: "manager", Is: form.Text("the id of a person")},
			{Name: "sponsor", Is: form.Text("the id of a person"), Doc: "Who answers for an outsider"},
			{Name: "userType", Is: form.Text(""), Doc: "Employee, Contractor, Service, or a word of your own"},
			{Name: "externalId", Is: form.Text(""), Doc: "What another system calls them"},
			{Name: "locale", Is: form.Text("")},
			{Name: "timezone", Is: form.Text("")},
			{Name: "preferredLanguage", Is: form.Text("")},
			{Name: "country", Is: form.Text("")},
			{Name: "location", Is: form.Text("")},
			{Name: "profileUrl", Is: form.Text("")},
			{Name: "starts", Is: form.Simple(form.Day), Doc: "The first day"},
			{
				Name: "newPassword", Is: form.Simple(form.Day),
				Doc: "From this day on accounts get a new first password, where they got one; see connecting.md",
			},
			{Name: "ends", Is: form.Simple(form.Day), Doc: "The last day"},
			{
				Name: "away", Is: form.Any(form.Simple(form.Bool), form.In(awayForm)),
				Doc: "Everything is kept, and sign-in is blocked",
			},
			{Name: "extra", Is: form.MapOf("a name", form.Text("")), Doc: "The organization's own attributes"},
			{
				Name: formerly, Is: form.Any(form.Text("names, separated by spaces"), form.Names("names")),
				Doc: "Earlier user names and addresses, by which accounts are still known",
			},
		},
		Fits: `^(name|away|extra)\.`,
	}).Open("`name.`, `away.` or `extra.` and a name", form.Text(""))
	nameForm = &form.Object{
		Name: "name", Doc: "The parts of the name",
		Keys: []form.Key{
			{Name: "givenName", Is: form.Text("")},
			{Name: "familyName", Is: form.Text("")},
			{Name: "middleName", Is: form.Text("")},
			{Name: "formatted", Is: form.Text(""), Doc: "All of it"},
		},
	}
	awayForm = &form.Object{
		Name: "away", Doc: "From a day until a day",
		Keys: []form.Key{
			{Name: "from", Is: form.Simple(form.Day), Doc: "The first day"},
			{Name: "to", Is: form.Simple(form.Day), Doc: "The last day; it still counts"},
		},
	}
)

// known are the attributes of people that files may give. An organization's own are extra.NAME.
var known = attributesOf(personForm)

func attributesOf(o *form.Object) (out []string) {
	for _, k := range o.Keys {
		switch of := k.Is.Object; {
		case k.Is.Kind == form.Map:
		case of != nil:
			for _, part := range of.Keys {
				out = append(out, k.Name+"."+part.Name)
			}
		default:
			out = append(out, k.Name)
			for _, x := range k.Is.Of {
				if x.Object != nil {
					for _, part := range x.Object.Keys {
						out = append(out, k.Name+"."+part.Name)
					}
				}
			}
		}
	}
	return out
}

// peopleYAML reads hand-kept people: a list under people.
func (r *Repo) peopleYAML(file string) {
	d, root := r.open(file)
	if root == nil {
		return
	}
	f := d.object(root, peopleForm)
	number := r.People.File(file)
	for _, n := range f.list("people") {
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
