package desired

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/export"
	"pravet/internal/form"
	"pravet/internal/source"
)

var (
	titleKey     = form.Key{Name: "title", Is: form.Text(""), Doc: "What it is called where people read it"}
	sensitiveKey = form.Key{
		Name: "sensitive", Is: form.Simple(form.Bool), Doc: "Whoever would newly hold it waits; see the guard sensitive",
	}
	insidersKey = form.Key{Name: "insiders", Is: form.Simple(form.Bool), Doc: "Never an outsider's"}
	atLeastKey  = form.Key{Name: "atLeast", Is: form.AtLeast(1), Doc: "How many active holders must stay"}

	thingForms = map[model.Kind]*form.Object{model.Group: groupForm, model.Role: roleForm, model.License: licenseForm}
	thingForm  = &form.Object{Keys: []form.Key{
		titleKey, sensitiveKey, insidersKey, atLeastKey,
		{Name: "needs", Is: form.Names("attributes"), Doc: "Attributes that must have a value first"},
		{Name: "others", Is: form.Simple(form.Bool), Doc: "Given and taken by others: it is looked at, and no kit gives it"},
		{Name: "members", Is: form.In(membersForm), Doc: "Who has it: those who have something in another application"},
	}}
	membersForm = &form.Object{
		Name: "members", Doc: "Who has a thing: those who have another in another application, as that shows",
		Keys: []form.Key{
			{Name: "of", Is: form.Text("an application"), Need: true, Doc: "The other application", Lacks: "nothing says of which application", Add: "of: APPLICATION"},
			{Name: "group", Is: form.Text("a group's name"), Doc: "Its group"},
			{Name: "role", Is: form.Text("a role's name"), Doc: "Its role"},
			{Name: "license", Is: form.Text("a license's name"), Doc: "Its license"},
		},
		Some: []form.Choice{{
			Keys: []string{"group", "role", "license"}, Just: true, Check: "missing-key",
			Says: "nothing says what its members have there", Hint: "add group: NAME, role: NAME or license: NAME, and only one of them",
		}},
	}
	defineKeys = []form.Key{
		{Name: "define", Is: form.Simple(form.Bool), Doc: "Pravet's own: kept as it is written here"},
		{
			Name: "retire", Is: form.Simple(form.Bool), With: []form.Cond{{Key: "define", Value: "true"}},
			Doc: "Its definition is to go",
		},
		{
			Name: "permissions", Is: form.Names("permissions"), With: []form.Cond{{Key: "define", Value: "true"}},
			Doc: "Plain strings of the application",
		},
	}
	groupForm = thingForm.And(
		form.Key{Name: "brings", Is: form.In(bringsForm), Doc: "What membership brings along"},
	).And(defineKeys...).Called("the group", "A group of the application")
	roleForm = thingForm.And(
		form.Key{Name: "includes", Is: form.Names("roles"), Doc: "Roles that come along"},
	).And(defineKeys...).Called("the role", "A role of the application")
	licenseForm = thingForm.And(
		form.Key{Name: "seats", Is: form.AtLeast(0), Doc: "How many were bought"},
		form.Key{Name: "price", Is: form.Simple(form.Price), Doc: "Per seat"},
	).Called("the license", "A license of the application")
	bringsForm = &form.Object{
		Name: "brings", Doc: "What membership brings along",
		Keys: []form.Key{
			{Name: "groups", Is: form.Names("groups"), Doc: "Groups"},
			{Name: "roles", Is: form.Names("roles"), Doc: "Roles"},
			{Name: "licenses", Is: form.Names("licenses"), Doc: "Licenses"},
		},
	}
)

// named checks that the names of things can be written and told apart.
func (d *doc) named(app *model.App) {
	seen := map[string]string{}
	for i := range app.Things {
		t := &app.Things[i]
		if strings.TrimSpace(t.Name) != t.Name || strings.ContainsFunc(t.Name, unicode.IsControl) {
			d.probs.Add(
				problem(
					t.Pos,
					"bad-name",
					fmt.Sprintf(
						"%q begins or ends with a space, or contains a control character, and exports do not preserve these", t.Name,
					),
					"write the name as the application shows it",
				),
			)
		}
		key := t.Kind.String() + " " + table.Fold(strings.Join(strings.Fields(t.Name), " "))
		if other, ok := seen[key]; ok {
			p := problem(
				t.Pos,
				"nearly-same",
				fmt.Sprintf(
					"%s %q and %q differ only in case or spaces, and are treated as two things",
					t.Kind,
					other,
					t.Name,
				),
				"if they are the same, keep one, spelled as the application shows it",
			)
			p.Severity = source.Warning
			d.probs.Add(p)
		}
		seen[key] = t.Name
	}
}

// catalog reads the things that Pravet manages in the application, and what
// brings what along.
func (d *doc) catalog(app *model.App, f values) {
	type link struct {
		from model.Kind
		name string
		to   model.Kind
		what model.Name
	}
	var links []link
	for _, kind := range []model.Kind{model.Group, model.Role, model.License} {
		for _, e := range f.entries(kind.Plural()) {
			t := model.Thing{Kind: kind, Name: e.name, Pos: d.pos(e.key), Seats: -1}
			tf := d.entry(e, thingForms[kind])
			t.Title = tf.text("title")
			t.Sensitive = tf.yes("sensitive")
			t.Insiders = tf.yes("insiders")
			t.AtLeast, t.Needs = tf.whole("atLeast", 0), tf.texts("needs")
			t.Others = tf.yes("others")
			if n := tf.node("members"); n != nil {
				t.Follows = tf.within("members").binding(d.pos(n))
			}
			switch kind {
			case model.License:
				t.Seats, t.Price = tf.whole("seats", -1), tf.price("price")
			case model.Role:
				d.define(&t, e, tf)
				for _, n := range tf.names("includes") {
					links = append(links, link{kind, e.name, model.Role, n})
				}
			case model.Group:
				d.define(&t, e, tf)
				bf := tf.within("brings")
				for _, to := range []model.Kind{model.Group, model.Role, model.License} {
					for _, n := range bf.names(to.Plural()) {
						links = append(links, link{kind, e.name, to, n})
					}
				}
			}
			app.Things = append(app.Things, t)
		}
	}
	app.Index()
	for _, l := range links {
		from, to := app.Thing(l.from, l.name), app.Thing(l.to, l.what.Text)
		if to < 0 {
			d.probs.Add(
				problem(
					l.what.Pos,
					"unknown-thing",
					fmt.Sprintf("%s has no %s %q in its catalog", app.ID, l.to, l.what.Text),
					didYouMean(l.what.Text, app.Names(l.to), "there are "),
				),
			)
			continue
		}
		if app.Things[to].Retire {
			d.probs.Add(
				problem(
					l.what.Pos,
					"retired",
					fmt.Sprintf("%s %s is to be retired, and %s %s brings it along", l.to, l.what.Text, l.from, l.name),
					"take it out here first",
				),
			)
		}
		app.Things[from].Implies = append(app.Things[from].Implies, to)
	}
	d.cycles(app)
}

// binding reads what a thing follows.
func (v values) binding(pos model.Pos) *model.Binding {
	for _, kind := range []model.Kind{model.Group, model.Role, model.License} {
		if name := v.text(kind.String()); name != "" {
			return &model.Binding{App: v.text("of"), Kind: kind, Name: name, Pos: pos}
		}
	}
	return nil
}

// bindings makes a kit of each thing that follows another, held by name by those who have that.
func (r *Repo) bindings() {
	for a, app := range r.Apps {
		for t := range app.Things {
			thing := &app.Things[t]
			b := thing.Follows
			if b == nil {
				continue
			}
			from := r.App(b.App)
			if from < 0 {
				r.Problems.Add(problem(b.Pos, "unknown-name", fmt.Sprintf("there is no application %q", b.App), ""))
				continue
			}
			if r.Apps[from].Thing(b.Kind, b.Name) < 0 {
				r.Problems.Add(problem(
					b.Pos, "unknown-thing", fmt.Sprintf("%s has no %s %q in its catalog", b.App, b.Kind, b.Name),
					"add it there, with others: true if Pravet is not to give and take it",
				))
				continue
			}
			r.Kits = append(r.Kits, &model.Kit{
				Name: b.String(), Title: "whoever has " + b.String(), Pos: b.Pos, Follows: b,
				Gives: []model.Give{{App: a, Things: []int32{int32(t)}, Pos: []model.Pos{b.Pos}}},
			})
		}
	}
}

// circles makes sure that nothing follows itself in the end, by whichever kits.
func (r *Repo) circles() {
	gives := map[string][]*model.Kit{} // what is followed → the kits that follow it
	for _, k := range r.Kits {
		if k.Follows != nil {
			gives[k.Follows.String()] = append(gives[k.Follows.String()], k)
		}
	}
	said := map[string]bool{}
	var walk func(at string, path []string)
	walk = func(at string, path []string) {
		if i := slices.Index(path, at); i >= 0 {
			circle := append(slices.Clone(path[i:]), at)
			key := strings.Join(slices.Sorted(slices.Values(path[i:])), " ")
			if !said[key] {
				said[key] = true
				r.Problems.Add(problem(
					gives[at][0].Follows.Pos, "circle", "it follows itself in the end: "+strings.Join(circle, " → "),
					"take one of them out",
				))
			}
			return
		}
		for _, k := range gives[at] {
			for _, g := range k.Gives {
				for _, t := range g.Things {
					thing := &r.Apps[g.App].Things[t]
					b := model.Binding{App: r.Apps[g.App].ID, Kind: thing.Kind, Name: thing.Name}
					walk(b.String(), append(path, at))
				}
			}
		}
	}
	for _, at := range slices.Sorted(maps.Keys(gives)) {
		walk(at, nil)
	}
}

// define reads whether a group or role is Pravet's own, and what it is.
func (d *doc) define(t *model.Thing, e entry, f values) {
	t.Define, t.Retire = f.yes("define"), f.yes("retire")
	t.Permissions = f.texts("permissions")
	if !t.Define && (t.Retire || f.has("permissions")) {
		d.problem(
			e.key,
			"not-defined",
			fmt.Sprintf("%s %s is not Pravet's own, so its definition is left alone", t.Kind, t.Name),
			"add define: true, or take out permissions and retire",
		)
	}
}

// defines checks that the export shows the definitions that are Pravet's own,
// and what of them.
func (d *doc) defines(app *model.App, s *export.Spec) {
	for i := range app.Things {
		t := &app.Things[i]
		lacks := func(what, hint string) {
			d.probs.Add(
				problem(
					t.Pos,
					"missing-column",
					fmt.Sprintf(
						"%s %s is Pravet's own (define: true), and the export does not show %s",
						t.Kind,
						t.Name,
						what,
					),
					hint,
				),
			)
		}
		switch {
		case !t.Define:
		case t.Kind == model.Group && s.Format == "scim":
			d.probs.Add(
				problem(
					t.Pos,
					"not-defined",
					fmt.Sprintf(
						"group %s is Pravet's own (define: true), and groups of a SCIM export are resources that "+
							"Pravet does not make",
						t.Name,
					),
					"make the group in the application, and take out define",
				),
			)
		case s.Definitions == nil:
			lacks(
				"which definitions there are",
				"add definitions: {path: FILE, columns: {name: COLUMN, ...}} under export",
			)
		case t.Kind == model.Group && s.Definitions.Column(export.DefKind) == nil:
			lacks("groups", "add kind: COLUMN under export, definitions, columns")
		case len(t.Permissions) > 0 && s.Definitions.Column(export.DefPermissions) == nil:
			lacks("permissions", "add permissions: {column: COLUMN, split: \";\"} under export, definitions, columns")
		default:
			for _, b := range t.Implies {
				if kind := app.Things[b].Kind; s.Definitions.Column(kind.Plural()) == nil {
					lacks(
						"which "+kind.Plural()+" come along",
						"add "+kind.Plural()+": {column: COLUMN, split: \";\"} under export, definitions, columns",
					)
					break
				}
			}
		}
	}
}

// cycles reports things that bring themselves along, by their whole path.
func (d *doc) cycles(app *model.App) {
	next := make([][]int, len(app.Things))
	for t := range app.Things {
		for _, n := range app.Things[t].Implies {
			next[t] = append(next[t], int(n))
		}
	}
	circles(next, func(path []int) {
		var in []string
		for _, t := range path {
			in = append(in, app.Things[t].String())
		}
		d.probs.Add(
			problem(
				app.Things[path[0]].Pos,
				"cycle",
				"these bring each other along in a circle: "+strings.Join(in, ", "),
				"take one step out",
			),
		)
	})
}

// circles reports each circle that links make, as its whole path from a node
// back to it. O(nodes + links).
func circles(next [][]int, report func(path []int)) {
	const (
		unseen = iota
		onPath
		finished
	)
	state := make([]int, len(next))
	var path []int
	var walk func(n int)
	walk = func(n int) {
		state[n] = onPath
		path = append(path, n)
		for _, to := range next[n] {
			switch state[to] {
			case unseen:
				walk(to)
			case onPath:
				report(append(slices.Clone(path[slices.Index(path, to):]), to))
			}
		}
		path = path[:len(path)-1]
		state[n] = finished
	}
	for n := range next {
		if state[n] == unseen {
			walk(n)
		}
	}
}
