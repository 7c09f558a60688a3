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
		app.One[kind], app.OnePos[kind] = one, d.pos(e.key)
		for _, x := range d.entries(f["things"], "things") {
			tf := d.fields(x.value, "the "+e.name+" "+x.name, "title", "sensitive", "insiders", "atLeast", "default")
			if n := tf["default"]; n != nil {
				r.usual(d, app, kind, x.name, n, one)
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

// usual notes that a thing is the default of its kind.
func (r *Repo) usual(d *doc, app *model.App, kind model.Kind, name string, n *yaml.Node, one bool) {
	if !one {
		d.problem(
			n, "two-rules", "a default is for a kind of which everybody has one",
			"add one: true to the kind, or give it by a kit for everyone",
		)
	}
	switch other := app.Usual[kind]; {
	case !d.boolean(n, "default"):
	case other != "":
		d.problem(n, "two-rules", fmt.Sprintf("%s is the default already", other), "keep one of them")
	default:
		app.Usual[kind] = name
	}
}

// kinds reads a list of kinds of things.
func (d *doc) kinds(n *yaml.Node, what string) (out [model.Kinds]bool) {
	for _, name := range d.names(n, what) {
		known := false
		for k := range model.Kinds {
			if kind := model.Kind(k); kind.Plural() == name.Text {
				out[kind], known = true, true
			}
		}
		if !known {
			d.probs.Add(problem(
				name.Pos,
				"unknown-word",
				fmt.Sprintf("%s cannot be %q", what, name.Text),
				"use groups, roles or licenses",
			))
		}
	}
	return out
}
