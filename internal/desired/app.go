package desired

import (
	"fmt"
	"regexp"
	"sort"

	"pravet/internal/connect"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
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
	f := d.fields(
		root,
		"an application",
		"app",
		"title",
		"owner",
		"export",
		"connect",
		"match",
		"scope",
		"environments",
		"account",
		"fixed",
		"groups",
		"roles",
		"licenses",
		"kinds",
		"protect",
		"alone",
		"named",
		"strays",
		"removeNeeds",
		"closed",
		"lead",
		"joins",
		"invitation",
		"opens",
		"restoreWithin",
		"keys",
		"tidy",
		"guards",
	)
	app := &model.App{
		ID:    d.required(f, root, "app", "the application"),
		Title: d.text(f["title"], "title"),
		Pos:   d.pos(root),
	}
	if n := f["app"]; n != nil {
		app.Pos = d.pos(n)
		if app.ID != "" && !idPattern.MatchString(app.ID) {
			d.problem(n, "bad-id", fmt.Sprintf("%q is not an id: small letters, digits and hyphens", app.ID), "")
			app.ID = ""
		}
	}
	if there := r.environment(d, app, f); !there {
		return app, nil, nil
	}
	if n := f["owner"]; n != nil {
		app.Owner = d.text(n, "owner")
		r.refs = append(r.refs, personRef{app.Owner, d.pos(n)})
	}
	if n := f["scope"]; n != nil {
		app.Scope, app.ScopePos = d.filter(n, "scope"), d.pos(n)
		r.use(d, n, app.Scope, "scope of "+app.ID)
	}
	r.inEnvironment(d, app)
	app.Match = d.required(f, root, "match", "the application")
	r.readAccount(d, app, f["account"], f["fixed"])
	d.catalog(app, f)
	ownColumns := r.readKinds(d, app, f["kinds"])
	r.readOwnNames(d, app, f["named"])
	r.seatsHere(d, app)
	app.Index()
	app.Strays = "report"
	if n := f["strays"]; n != nil {
		app.Strays, app.StraysPos = d.oneOf(n, "strays", "report", "suspend", "remove"), d.pos(n)
	}
	r.readClosed(d, app, f["closed"])
	r.readJoins(d, app, f)
	if n := f["keys"]; n != nil {
		r.readKeys(d, app, n)
	}
	app.Lead = d.duration(f["lead"], "lead", "for example P7D")
	if n := f["removeNeeds"]; n != nil {
		app.Detached = d.oneOf(n, "removeNeeds", "detached") != ""
	}
	if n := f["tidy"]; n != nil {
		app.Tidy, app.TidyPos = d.oneOf(n, "tidy", "doubles") != "", d.pos(n)
	}
	app.Guards = d.guards(f["guards"], false)
	reach := d.connect(root, f["connect"])
	spec := d.export(app, root, f["export"], reach)
	if spec != nil && len(ownColumns) > 0 && spec.Format != "csv" {
		d.problem(
			f["kinds"],
			"two-rules",
			"kinds of an application's own stand in columns of a CSV export, and this one is "+spec.Format,
			"take kinds out",
		)
	}
	if spec != nil {
		spec.Columns = append(spec.Columns, ownColumns...)
	}
	app.Protect, app.ProtectBy = d.accounts(app, spec, f["protect"], "protect")
	app.Alone, app.AloneBy = d.accounts(app, spec, f["alone"], "alone")
	app.Index()
	if spec != nil {
		d.defines(app, spec)
		d.fits(root, f, app, spec)
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
func (r *Repo) readAccount(d *doc, app *model.App, n, fixed *yaml.Node) {
	for _, e := range d.entries(n, "account") {
		if e.value.Kind == yaml.MappingNode {
			app.Attrs = append(app.Attrs, model.Attr{Name: e.name, Person: r.follow(d, e), Pos: d.pos(e.key)})
			continue
		}
		app.Attrs = append(app.Attrs, model.Attr{Name: e.name, Person: d.text(e.value, e.name), Pos: d.pos(e.key)})
		if e.value.Kind == yaml.ScalarNode && e.value.Value != "" {
			r.attribute(e.value.Value, func(says, hint string) { d.problem(e.value, "unknown-attribute", says, hint) })
		}
	}
	for _, name := range d.names(fixed, "fixed") {
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
func (r *Repo) readClosed(d *doc, app *model.App, n *yaml.Node) {
	if n == nil {
		return
	}
	list := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		list = n.Content
	}
	for _, n := range list {
		f := d.fields(n, "an entry of closed", "from", "to", "but", "because")
		c := model.Closing{
			From: d.date(f["from"], "from"), To: d.date(f["to"], "to"),
			Because: d.required(f, n, "because", "an entry of closed"), Pos: d.pos(n),
		}
		if f["from"] == nil || f["to"] == nil {
			d.problem(
				n,
				"missing-key",
				"closed needs a first and a last day",
				"add from: YYYY-MM-DD and to: YYYY-MM-DD",
			)
			continue
		}
		if c.To < c.From && c.To != day.None {
			d.problem(f["to"], "wrong-date", "the last day comes before the first", "exchange them, or correct one")
			continue
		}
		if x := f["but"]; x != nil {
			c.But = d.filter(x, "but")
			r.use(d, x, c.But, "closed of "+app.ID)
		}
		app.Closed = append(app.Closed, c)
	}
}
