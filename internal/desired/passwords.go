package desired

import (
	"filippo.io/age"

	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
	"pravet/internal/secret"
)

var (
	firstForm = &form.Object{
		Name: "firstPasswords", Doc: "Who may read first passwords and new keys, and where they are put",
		Keys: []form.Key{
			{
				Name: "to", Is: form.ListOf(1, form.Text("a recipient of age, or a public key of SSH")), Need: true,
				Doc: "Who", Lacks: "nobody could read the first passwords", Add: "to: [age1…]",
			},
			{Name: "folder", Is: form.Text("the path of a folder"), Doc: "Where; passwords unless given"},
		},
	}
	keysForm = &form.Object{
		Name: "keys", Doc: "Whose keys are made anew, and when",
		Keys: []form.Key{
			{
				Name: "for", Is: form.Simple(form.Filter), Need: true, Doc: "Whose, as a filter over people",
				Lacks: "keys does not say whose they are", Add: "for: FILTER",
			},
			{
				Name: "every", Is: form.For("P90D"), Need: true, Doc: "How long one is good",
				Lacks: "keys does not say how long one is good", Add: "every: P90D",
			},
		},
	}
)

// FirstPasswords say who may read the first passwords of new accounts, and where they are put.
type FirstPasswords struct {
	To     []age.Recipient
	Folder string
}

func (r *Repo) readFirstPasswords(of values) {
	if !of.has("firstPasswords") {
		return
	}
	d, f := of.d, of.within("firstPasswords")
	x := &FirstPasswords{Folder: "passwords"}
	if f.has("folder") {
		x.Folder = f.text("folder")
		if err := r.Tree.Allowed(x.Folder); err != nil {
			d.problem(f.node("folder"), "outside", "the folder is outside of the repository", "name one below it")
		}
	}
	for _, item := range f.list("to") {
		to, err := secret.Recipient(d.text(item, "to"))
		if err != nil {
			d.problem(item, "bad-recipient", err.Error(), "")
			continue
		}
		x.To = append(x.To, to)
	}
	r.FirstPasswords = x
}

// checkFirstPasswords makes sure that somebody can read them, where there are any.
func (r *Repo) checkFirstPasswords() {
	for a, c := range r.Connects {
		if app := r.Apps[a]; app.Renews() && r.FirstPasswords == nil {
			r.fail(
				app.RenewsAt(), "missing-key", "keys are made anew, and pravet.yaml does not say who may read them",
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
func (r *Repo) readKeys(app *model.App, of values) {
	f := of.within("keys")
	k := &model.Keys{For: f.filter("for"), Every: f.duration("every"), Pos: of.pos("keys")}
	if f.has("every") && k.Every == (day.Duration{}) {
		f.d.problem(f.node("every"), "wrong-duration", "a key is good for some time", "for example P90D")
	}
	if k.For == nil || k.Every == (day.Duration{}) {
		return
	}
	r.use(f.d, f.node("for"), k.For, "keys of "+app.ID)
	app.Keys = k
}

// keys makes sure that the age of keys is known.
func (d *doc) keys(app *model.App, reach *connect.Spec, spec *export.Spec) {
	if reach.First && spec != nil && reach.Live {
		app.Passwords = reach.Pos
	} else if !app.Renews() || spec == nil {
		return
	}
	if !reach.Live {
		d.probs.Add(problem(
			app.RenewsAt(), "two-rules", "keys are made anew, and only a live application takes one",
			"take keys out, or connect the application by scim, ldap, postgres or program",
		))
		return
	}
	if app.Attr(model.KeySince) < 0 {
		app.Attrs = append(app.Attrs, model.Attr{Name: model.KeySince, Observed: true, Pos: reach.Pos})
		app.Index()
	}
}
