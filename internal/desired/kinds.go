package desired

import (
	"fmt"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
	"pravet/internal/source"
)

var (
	kindForm = &form.Object{
		Name: "the kind", Doc: "A kind of things of the application's own",
		Keys: []form.Key{
			{Name: "column", Is: form.Text("a column of the export"), Need: true, Doc: "Where the export shows them"},
			{Name: "split", Is: form.Text(""), Doc: "What stands between several in one cell"},
			{Name: "title", Is: form.Text(""), Doc: "What it is called where people read it"},
			{Name: "one", Is: form.Simple(form.Bool), Doc: "Everybody has exactly one"},
			{
				Name: "things", Is: form.MapOf("a thing's name", form.In(ownForm)), Need: true, Doc: "Which there are",
				Lacks: "the kind has no things", Add: "things: {NAME: {title: TEXT}}",
			},
		},
	}
	ownForm = &form.Object{
		Name: "the thing", Doc: "A thing of a kind of the application's own",
		Keys: []form.Key{
			titleKey, sensitiveKey, insidersKey, atLeastKey,
			{
				Name: "default", Is: form.Simple(form.Bool),
				Doc: "Of a kind with one: true, what everybody has whom no kit gives another",
			},
		},
	}
)

// readKinds reads an application's own kinds of things: where the export shows them, and which
// there are. Of a kind with one: true everybody has exactly one thing, so that it is an
// attribute of accounts, whose value is exchanged in one change.
func (r *Repo) readKinds(app *model.App, of values) (columns []export.Column) {
	d := of.d
	for _, e := range of.entries("kinds") {
		f := d.entry(e, kindForm)
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
			Attr: e.name, Name: f.text("column"), Split: f.text("split"),
			Pos: d.pos(e.value),
		}
		columns = append(columns, c)
		one := f.yes("one")
		if one && c.Split != "" {
			d.problem(
				f.node("split"),
				"two-rules",
				"everybody has one "+e.name+", and a cell with several names is split",
				"take one of them out",
			)
		}
		if !f.has("things") {
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
		for _, x := range f.entries("things") {
			tf := d.entry(x, ownForm)
			if tf.has("default") {
				usual(tf, app, kind, x.name, one)
			}
			t := model.Thing{
				Kind: kind, Name: x.name, Pos: d.pos(x.key), Seats: -1, Title: tf.text("title"),
				Sensitive: tf.yes("sensitive"), Insiders: tf.yes("insiders"),
			}
			t.AtLeast = tf.whole("atLeast", 0)
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
func usual(f values, app *model.App, kind model.Kind, name string, one bool) {
	d, n := f.d, f.node("default")
	if !one {
		d.problem(
			n, "two-rules", "a default is for a kind of which everybody has one",
			"add one: true to the kind, or give it by a kit for everyone",
		)
	}
	switch other := app.Usual[kind]; {
	case !f.yes("default"):
	case other != "":
		d.problem(n, "two-rules", fmt.Sprintf("%s is the default already", other), "keep one of them")
	default:
		app.Usual[kind] = name
	}
}
