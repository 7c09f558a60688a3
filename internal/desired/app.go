package desired

import (
	"fmt"
	"regexp"
	"sort"

	"pravet/internal/connect"
	"pravet/internal/connect/ways"
	"pravet/internal/form"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

var (
	appForm = &form.Object{
		Name: "the application", Doc: "A business application",
		Keys: []form.Key{
			{
				Name: "app", Is: form.Like("an id: small letters, digits and hyphens", idPattern.String()), Need: true,
				Doc: "The application's short id",
			},
			{Name: "title", Is: form.Text(""), Doc: "What it is called where people read it"},
			{Name: "owner", Is: form.Text("the id of a person"), Doc: "Who answers for it"},
			{Name: "export", Is: form.In(exportForm), Doc: "Where the exported state is, and how to read it"},
			{Name: "connect", Is: form.In(connectForm), Doc: "How changes get there"},
			{Name: "match", Is: form.Text("an attribute of accounts"), Need: true, Doc: "What tells whose account it is"},
			{
				Name: "scope", Is: form.Simple(form.Filter),
				Doc: "Who may have an account here at all, as a filter over people",
			},
			{
				Name: "environments", Is: form.MapOf("an environment's name", form.In(environmentForm)),
				Doc: "Where the same files meet other applications",
			},
			{
				Name: "account", Is: form.MapOf("an attribute of accounts", followsShape),
				Doc: "The attribute of people that each follows, or a rule",
			},
			{
				Name: "fixed", Is: form.Names("attributes of accounts"),
				Doc: "Those that cannot be changed once the account exists",
			},
			{Name: "groups", Is: form.MapOf("a group's name", form.In(groupForm)), Doc: "Groups that are managed"},
			{Name: "roles", Is: form.MapOf("a role's name", form.In(roleForm)), Doc: "Roles that are managed"},
			{Name: "licenses", Is: form.MapOf("a license's name", form.In(licenseForm)), Doc: "Licenses that are managed"},
			{
				Name: "kinds", Is: form.MapOf("a kind's name", form.In(kindForm)),
				Doc: "The application's own kinds of things",
			},
			{Name: "protect", Is: accountsShape, Doc: "Accounts that no plan ever touches"},
			{
				Name: "managed", Is: form.Simple(form.Filter),
				Doc: "Which accounts are managed at all, as a filter over accounts; the others are left alone",
			},
			{
				Name: "straysFor", Is: form.Simple(form.Filter),
				Doc: "Which accounts of nobody strays is about, as a filter over accounts; all unless given",
			},
			{
				Name: "integrations", Is: form.ListOf(0, form.In(integrationForm)),
				Doc: "Accounts by which programs reach the application: left alone but for their keys",
			},
			{Name: "alone", Is: accountsShape, Doc: "Accounts that nothing happens to until somebody takes them out of here"},
			{
				Name: "named", Is: form.MapOf("the id of a person", form.Text("the account's name")),
				Doc: "People whose account is called otherwise here",
			},
			{
				Name: "strays", Is: form.OneOf("report", "suspend", "remove"),
				Doc: "What becomes of accounts of nobody; see leaving.md",
			},
			{
				Name: "removeNeeds", Is: form.OneOf("detached"),
				Doc: "What hangs on an account is taken away before it is removed",
			},
			{
				Name: "closed", Is: form.Any(form.In(closingForm), form.ListOf(0, form.In(closingForm))),
				Doc: "Days on which nobody else may sign in",
			},
			{Name: "lead", Is: form.For("P7D"), Doc: "How long before the first day an account is made, blocked"},
			{
				Name: "joins", Is: form.OneOf("directly", "invited"),
				Doc: "Whether people are invited, and have an account once they accept; see joining.md",
			},
			{
				Name: "joinsFor", Is: form.Simple(form.Filter), With: []form.Cond{{Key: "joins", Value: "invited"}},
				Doc: "Who is invited, as a filter over people; everybody unless given",
			},
			{
				Name: "opensFor", Is: form.Simple(form.Filter), With: []form.Cond{{Key: "opens", Value: "by hand"}},
				Doc: "Whose accounts are opened by hand, as a filter over people; everybody's unless given",
			},
			{
				Name: "invitation", Is: form.In(invitationForm), With: []form.Cond{{Key: "joins", Value: "invited"}},
				Doc: "How people are invited",
			},
			{
				Name: "opens", Is: form.OneOf("by itself", "by hand"),
				Doc: "Whether an account is made open, or blocked until somebody says that it is opened",
			},
			{Name: "restoreWithin", Is: form.For("P30D"), Doc: "How long a removed account can be restored"},
			{Name: "keys", Is: form.In(keysForm), Doc: "Whose keys are made anew, and when"},
			{Name: "tidy", Is: form.OneOf("doubles"), Doc: "Take away what something else brings along"},
			{Name: "guards", Is: form.In(appGuardsForm), Doc: "Limits beyond which changes are held, instead of the organization's"},
		},
		Some: []form.Choice{{
			Keys: []string{"connect", "environments"},
			Says: "the application does not say how changes get there", Hint: "add connect: {by: files}",
		}},
	}
	// accountsShape are accounts by name, or by a filter.
	accountsShape = form.ListOf(0, form.Any(form.Text("an account's name"), form.In(patternForm)))
	closingForm   = &form.Object{
		Name: "an entry of closed", Doc: "Days on which nobody else may sign in",
		Keys: []form.Key{
			{
				Name: "from", Is: form.Simple(form.Day), Need: true, Doc: "The first day",
				Lacks: "closed needs a first day", Add: "from: YYYY-MM-DD",
			},
			{
				Name: "to", Is: form.Simple(form.Day), Need: true, Doc: "The last day; it still counts",
				Lacks: "closed needs a last day", Add: "to: YYYY-MM-DD",
			},
			{Name: "but", Is: form.Simple(form.Filter), Doc: "Who may sign in all the same, as a filter over people"},
			becauseKey,
		},
	}
)

var idPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

// IsID reports whether a name can be the id of an application.
func IsID(name string) bool { return idPattern.MatchString(name) }

func (r *Repo) readApps() {
	type read struct {
		app   *model.App
		spec  *export.Spec
		reach *connect.Spec
	}
	var all []read
	first := map[string]model.Pos{}
	for _, file := range r.list("apps", ".yaml", ".yml") {
		before := r.Problems.Errors()
		d, root := r.open(file)
		if root == nil {
			r.unreadApps = true
			if d.sum != "" && r.Problems.Errors() == before {
				r.fail(
					model.Pos{File: file, Line: 1},
					"missing-key",
					"the file describes no application",
					"add app: ID",
				)
			}
			continue
		}
		app, spec, reach := r.readApp(d, root)
		if app.ID == "" || r.absent[app.ID] {
			continue
		}
		if at, ok := first[app.ID]; ok {
			r.fail(
				app.Pos,
				"duplicate-entry",
				fmt.Sprintf("the application %s is described in %s already", app.ID, at),
				"give one of them another id",
			)
			r.fail(
				at,
				"duplicate-entry",
				fmt.Sprintf("the application %s is described again in %s", app.ID, app.Pos),
				"give one of them another id",
			)
			continue
		}
		first[app.ID] = app.Pos
		all = append(all, read{app, spec, reach})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].app.ID < all[j].app.ID })
	r.checkEnvironment()
	for _, x := range all {
		r.Apps = append(r.Apps, x.app)
		r.Exports = append(r.Exports, x.spec)
		r.Connects = append(r.Connects, x.reach)
	}
}

func (r *Repo) readApp(d *doc, root *yaml.Node) (*model.App, *export.Spec, *connect.Spec) {
	f := d.object(root, appForm)
	app := &model.App{
		ID:    f.text("app"),
		Title: f.text("title"),
		Pos:   d.pos(root),
	}
	if n := f.node("app"); n != nil {
		app.Pos = d.pos(n)
		if app.ID != "" && !idPattern.MatchString(app.ID) {
			d.problem(n, "bad-id", fmt.Sprintf("%q is not an id: small letters, digits and hyphens", app.ID), "")
			app.ID = ""
		}
	}
	if there := r.environment(app, f); !there {
		return app, nil, nil
	}
	app.Owner = f.text("owner")
	r.refer(f, "owner")
	if n := f.node("scope"); n != nil {
		app.Scope, app.ScopePos = f.filter("scope"), d.pos(n)
		r.use(d, n, app.Scope, "scope of "+app.ID)
	}
	r.inEnvironment(d, app)
	app.Match = f.text("match")
	r.readAccount(app, f)
	d.catalog(app, f)
	ownColumns := r.readKinds(app, f)
	r.readOwnNames(app, f)
	r.seatsHere(d, app)
	app.Index()
	app.Strays = f.word("strays")
	if f.has("strays") {
		app.StraysPos = f.pos("strays")
	}
	r.readClosed(app, f)
	r.readJoins(app, f)
	if f.has("keys") {
		r.readKeys(app, f)
	}
	app.Lead = f.duration("lead")
	if f.has("removeNeeds") {
		app.Detached = f.word("removeNeeds") != ""
	}
	if f.has("tidy") {
		app.Tidy, app.TidyPos = f.word("tidy") != "", f.pos("tidy")
	}
	app.Guards = f.within("guards").guards()
	reach := d.connect(f)
	if way := ways.Named(reach.By); way != nil {
		r.referring(app, way, reach)
		app.EndsAll, app.Longest, app.Folds = way.EndsAll, way.Longest, way.Folds != nil && way.Folds(app.Match)
	}
	spec := d.export(app, f, reach)
	if spec != nil && len(ownColumns) > 0 && spec.Format != "csv" {
		d.problem(
			f.node("kinds"),
			"two-rules",
			"kinds of an application's own stand in columns of a CSV export, and this one is "+spec.Format,
			"take kinds out",
		)
	}
	if spec != nil {
		spec.Columns = append(spec.Columns, ownColumns...)
	}
	app.Protect, app.ProtectBy = d.accounts(app, spec, f.node("protect"), "protect")
	app.Alone, app.AloneBy = d.accounts(app, spec, f.node("alone"), "alone")
	r.readIntegrations(app, spec, f)
	if n := f.node("managed"); n != nil {
		if x := f.filter("managed"); x != nil {
			d.overAccounts(app, spec, n, x)
			app.AloneBy = append(app.AloneBy, model.Pattern{Filter: x, Not: true, Under: "managed", Pos: d.pos(n)})
		}
	}
	if n := f.node("straysFor"); n != nil {
		if app.StraysFor = f.filter("straysFor"); app.StraysFor != nil {
			d.overAccounts(app, spec, n, app.StraysFor)
		}
	}
	app.Index()
	if spec != nil {
		d.defines(app, spec)
		d.fits(f, app, spec)
		for _, c := range spec.Columns {
			asked := app.Invites != nil && (c.Attr == model.Sent || c.Attr == model.Message || c.Attr == model.Member)
			if (c.Attr == model.Owned || asked) && app.Attr(c.Attr) < 0 {
				if c.Attr == model.Owned {
					app.OwnedSplit = c.Split
				}
				app.Attrs = append(app.Attrs, model.Attr{Name: c.Attr, Observed: true, Pos: spec.Pos})
				app.Index()
			}
		}
		for _, path := range spec.Files() {
			if err := r.Tree.Allowed(path.Text); err != nil {
				d.probs.Add(
					problem(
						path.Pos,
						"outside",
						fmt.Sprintf("the path %s is outside the repository", path.Text),
						"keep the export below it; or, if you trust these files, open that folder when you run "+
							"Pravet: "+source.Outside+"=FOLDER",
					),
				)
			}
		}
		needed(app, spec)
	}
	d.named(app)
	d.keys(app, reach, spec)
	return app, spec, reach
}

// ObserveAll has every attribute read that a column of an export shows, for questions about accounts. A plan
// and the ledger know only what a rule needs.
func (r *Repo) ObserveAll() {
	for a, spec := range r.Exports {
		if spec == nil {
			continue
		}
		for _, attr := range spec.Attributes() {
			if app := r.Apps[a]; app.Attr(attr) < 0 {
				app.Attrs = append(app.Attrs, model.Attr{Name: attr, Observed: true, Pos: spec.Pos})
				app.Index()
			}
		}
	}
}

func orNode(n, otherwise *yaml.Node) *yaml.Node {
	if n == nil {
		return otherwise
	}
	return n
}

// readAccount reads which account attribute follows which of the person.
func (r *Repo) readAccount(app *model.App, f values) {
	d := f.d
	for _, e := range f.entries("account") {
		if e.value.Kind == yaml.MappingNode {
			app.Attrs = append(app.Attrs, model.Attr{Name: e.name, Person: r.follow(d, e), Pos: d.pos(e.key)})
			continue
		}
		app.Attrs = append(app.Attrs, model.Attr{Name: e.name, Person: d.text(e.value, e.name), Pos: d.pos(e.key)})
		if e.value.Kind == yaml.ScalarNode && e.value.Value != "" {
			r.attribute(e.value.Value, func(says, hint string) { d.problem(e.value, "unknown-attribute", says, hint) })
		}
	}
	for _, name := range f.names("fixed") {
		found := false
		for i := range app.Attrs {
			if app.Attrs[i].Name == name.Text {
				app.Attrs[i].Fixed, found = true, true
			}
		}
		if !found {
			var names []string
			for _, a := range app.Attrs {
				names = append(names, a.Name)
			}
			r.fail(
				name.Pos,
				"unknown-attribute",
				fmt.Sprintf("%s is not under account, so it is never changed anyway", name.Text),
				didYouMean(name.Text, names, "there are "),
			)
		}
	}
}

// readClosed reads the days on which an application is closed: one entry, or a list.
func (r *Repo) readClosed(app *model.App, of values) {
	d, n := of.d, of.node("closed")
	if n == nil {
		return
	}
	list := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		list = n.Content
	}
	for _, n := range list {
		f := d.object(n, closingForm)
		c := model.Closing{
			From: f.date("from"), To: f.date("to"),
			Because: f.text("because"), Pos: d.pos(n),
		}
		if !f.has("from") || !f.has("to") {
			continue
		}
		if c.To < c.From && c.To != day.None {
			d.problem(f.node("to"), "wrong-date", "the last day comes before the first", "exchange them, or correct one")
			continue
		}
		if x := f.node("but"); x != nil {
			c.But = f.filter("but")
			r.use(d, x, c.But, "closed of "+app.ID)
		}
		app.Closed = append(app.Closed, c)
	}
}

// referring makes attributes that name another account follow the account of the person whom the person's attribute names.
func (r *Repo) referring(app *model.App, way *connect.Way, reach *connect.Spec) {
	if way.Refers == nil {
		return
	}
	for i := range app.Attrs {
		a := &app.Attrs[i]
		if a.Person != "manager" && a.Person != "sponsor" || !way.Refers(reach, a.Name) {
			continue
		}
		name := "account of " + a.Person + " in " + app.ID
		r.People.DeriveFrom(name, a.Person, app.MatchPerson())
		a.Person = name
	}
}
