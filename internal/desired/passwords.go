package desired

import (
	"filippo.io/age"
	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/connect"
	"pravet/internal/connect/ways"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/secret"
)

// FirstPasswords say who may read the first passwords of new accounts, and where they are put.
type FirstPasswords struct {
	To     []age.Recipient
	Folder string
}

func (r *Repo) readFirstPasswords(d *doc, n *yaml.Node) {
	if n == nil {
		return
	}
	f := d.fields(n, "firstPasswords", "to", "folder")
	x := &FirstPasswords{Folder: "passwords"}
	if f["folder"] != nil {
		x.Folder = d.text(f["folder"], "folder")
		if err := r.Tree.Allowed(x.Folder); err != nil {
			d.problem(f["folder"], "outside", "the folder is outside of the repository", "name one below it")
		}
	}
	for _, item := range d.list(f["to"], "to") {
		to, err := secret.Recipient(d.text(item, "to"))
		if err != nil {
			d.problem(item, "bad-recipient", err.Error(), "")
			continue
		}
		x.To = append(x.To, to)
	}
	if f["to"] == nil {
		d.problem(n, "missing-key", "nobody could read the first passwords", "add to: [age1…]")
	}
	r.FirstPasswords = x
}

// checkFirstPasswords makes sure that somebody can read them, where there are any.
func (r *Repo) checkFirstPasswords() {
	for a, c := range r.Connects {
		if app := r.Apps[a]; app.Keys != nil && r.FirstPasswords == nil {
			r.fail(
				app.Keys.Pos, "missing-key", "keys are made anew, and pravet.yaml does not say who may read them",
				"add firstPasswords: {to: [age1…]} there",
			)
		}
		if c != nil && c.First && r.FirstPasswords == nil {
			r.fail(
				c.Pos, "missing-key", "new accounts get a first password, and pravet.yaml does not say who may read it",
				"add firstPasswords: {to: [age1…]} there",
			)
		}
	}
}

// readKeys reads whose keys are made anew, and when.
func (r *Repo) readKeys(d *doc, app *model.App, n *yaml.Node) {
	f := d.fields(n, "keys", "for", "every")
	k := &model.Keys{Every: d.duration(f["every"], "every", "for example P90D"), Pos: d.pos(n)}
	if f["for"] == nil || k.Every == (day.Duration{}) {
		d.problem(
			n,
			"missing-key",
			"keys needs whose they are and how long one is good",
			`add for: FILTER and every: P90D`,
		)
		return
	}
	if k.For = d.filter(f["for"], "for"); k.For == nil {
		return
	}
	r.use(d, f["for"], k.For, "keys of "+app.ID)
	app.Keys = k
}

// keys makes sure that the age of keys is known.
func (d *doc) keys(app *model.App, reach *connect.Spec, spec *export.Spec) {
	if app.Keys == nil || spec == nil {
		return
	}
	known := ways.Named(reach.By).TellsAge || spec.Column(model.KeySince) != nil
	if !reach.Live || !known {
		d.probs.Add(problem(
			app.Keys.Pos, "missing-column", "keys are made anew, and nothing shows how old one is",
			"add keySince under columns, of a live application; PostgreSQL does not tell it",
		))
		return
	}
	if app.Attr(model.KeySince) < 0 {
		app.Attrs = append(app.Attrs, model.Attr{Name: model.KeySince, Observed: true, Pos: app.Keys.Pos})
		app.Index()
	}
}
