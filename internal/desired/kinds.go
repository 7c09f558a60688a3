package desired

import (
	"fmt"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

// readKinds reads an application's own kinds of things: where the export shows them, and which
// there are. Of a kind with one: true everybody has exactly one thing, so that it is an
// attribute of accounts, whose value is exchanged in one change.
func (r *Repo) readKinds(d *doc, app *model.App, n *yaml.Node) (columns []export.Column) {
	for _, e := range d.entries(n, "kinds") {
		f := d.fields(e.value, "the kind "+e.name, "column", "split", "one", "things", "title")
		if !model.IsKindName(e.name) {
			d.problem(
				e.key,
				"bad-id",
				fmt.Sprintf(
					"%q cannot be a kind: small letters, digits and hyphens, and no kind that there is",
					e.name,
				),
				"",
			)
			continue
		}
		c := export.Column{
			Attr: e.name, Name: d.required(f, e.value, "column", "the kind "+e.name), Split: d.text(f["split"], "split"),
			Pos: d.pos(e.value),
		}
		columns = append(columns, c)
		one := f["one"] != nil && d.boolean(f["one"], "one")
		if one && c.Split != "" {
			d.problem(
				f["split"],
				"two-rules",
				"everybody has one "+e.name+", and a cell with several names is split",
				"take one of them out",
			)
		}
		if f["things"] == nil {
			d.problem(e.key, "missing-key", "the kind has no things", "add things: {NAME: {title: TEXT}}")
			continue
		}
		if one {
			r.ofOne(d, app, e, f["things"])
			continue
		}
		kind, ok := model.OwnKind(e.name)
		if !ok {
			d.problem(
				e.key,
				"too-many",
				fmt.Sprintf("there are more than %d kinds of applications' own", model.MaxOwn),
				"use fewer, or the same name for what is alike",
			)
			continue
		}
		for _, x := range d.entries(f["things"], "things") {
			tf := d.fields(x.value, "the "+e.name+" "+x.name, "title", "sensitive", "insiders", "atLeast", "default")
			if n := tf["default"]; n != nil {
				d.problem(
					n,
					"two-rules",
					"a default is for a kind of which everybody has one",
					"add one: true to the kind, or give it by a kit for everyone",
				)
			}
			t := model.Thing{
				Kind: kind, Name: x.name, Pos: d.pos(x.key), Seats: -1, Title: d.text(tf["title"], "title"),
				Sensitive: d.boolean(tf["sensitive"], "sensitive"), Insiders: d.boolean(tf["insiders"], "insiders"),
			}
			if n := tf["atLeast"]; n != nil {
				t.AtLeast = d.integer(n, "atLeast", 1)
			}
			if c.Split != "" && strings.Contains(x.name, c.Split) {
				d.probs.Add(
					source.NewProblem(
						t.Pos,
						"bad-name",
						fmt.Sprintf("%q holds %q, by which the column %s is split", x.name, c.Split, c.Name),
						"",
					),
				)
			}
			app.Things = append(app.Things, t)
		}
	}
	return columns
}

// ofOne reads a kind of which everybody has exactly one thing.
func (r *Repo) ofOne(d *doc, app *model.App, e entry, things *yaml.Node) {
	at := model.Attr{Name: e.name, Pos: d.pos(e.key), Values: []string{}, Sensitive: map[string]bool{}}
	usual := ""
	for _, x := range d.entries(things, "things") {
		tf := d.fields(x.value, "the "+e.name+" "+x.name, "title", "sensitive", "default")
		at.Values = append(at.Values, x.name)
		if d.boolean(tf["sensitive"], "sensitive") {
			at.Sensitive[x.name] = true
		}
		if d.boolean(tf["default"], "default") {
			if usual != "" {
				d.problem(
					tf["default"],
					"two-rules",
					fmt.Sprintf("%s is the default already", usual),
					"keep one of them",
				)
			}
			usual = x.name
		}
	}
	if usual != "" {
		pos := d.pos(e.key)
		pos.Column = 0
		at.Person = "the default " + e.name + " of " + pos.String()
		r.People.Derive(at.Person, func(func(string) string) string { return usual }, nil)
	}
	app.Attrs = append(app.Attrs, at)
}
