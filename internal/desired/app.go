package desired

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/export"
	"pravet/internal/source"
)

var idPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

// ConnectWays are the ways in which changes reach an application.
var ConnectWays = []string{"files"}

func (r *Repo) readApps() {
	type read struct {
		app  *model.App
		spec *export.Spec
	}
	var all []read
	first := map[string]model.Pos{}
	for _, file := range r.list("apps", ".yaml", ".yml") {
		d, root := r.open(file)
		if root == nil {
			if d.sum != "" {
				r.fail(
					model.Pos{File: file, Line: 1},
					"missing-key",
					"the file describes no application",
					"add app: ID",
				)
			}
			continue
		}
		app, spec := r.readApp(d, root)
		if app.ID == "" {
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
		all = append(all, read{app, spec})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].app.ID < all[j].app.ID })
	for _, x := range all {
		r.Apps = append(r.Apps, x.app)
		r.Exports = append(r.Exports, x.spec)
	}
}

func (r *Repo) readApp(d *doc, root *yaml.Node) (*model.App, *export.Spec) {
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
		"account",
		"fixed",
		"groups",
		"roles",
		"licenses",
		"protect",
		"strays",
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
	if n := f["owner"]; n != nil {
		app.Owner = d.text(n, "owner")
		r.refs = append(r.refs, personRef{app.Owner, d.pos(n)})
	}
	if n := f["scope"]; n != nil {
		app.Scope, app.ScopePos = d.filter(n, "scope"), d.pos(n)
		r.use(d, n, app.Scope, "scope of "+app.ID)
	}
	app.Match = d.required(f, root, "match", "the application")
	r.readAccount(d, app, f["account"], f["fixed"])
	d.catalog(app, f)
	app.Protect = d.names(f["protect"], "protect")
	app.Index()
	app.Strays = "report"
	if n := f["strays"]; n != nil {
		app.Strays, app.StraysPos = d.oneOf(n, "strays", "report", "suspend", "remove"), d.pos(n)
	}
	if n := f["tidy"]; n != nil {
		app.Tidy, app.TidyPos = d.oneOf(n, "tidy", "doubles") != "", d.pos(n)
	}
	app.Guards = d.guards(f["guards"], false)
	spec := d.export(app, root, f["export"])
	if spec != nil {
		d.defines(app, spec)
		d.fits(root, f, app, spec)
		for _, path := range spec.Files() {
			if err := r.Tree.Allowed(path.Text); err != nil {
				d.probs.Add(
					problem(
						path.Pos,
						"outside",
						fmt.Sprintf("the path %s leads out of the repository", path.Text),
						"keep the export below it; or, if you trust these files, open that folder when you run Pravet: "+source.Outside+"=FOLDER",
					),
				)
			}
		}
		needed(app, spec)
	}
	d.named(app)
	c := d.fields(f["connect"], "connect", "by")
	if f["connect"] == nil || c["by"] == nil {
		d.problem(
			orNode(f["connect"], root),
			"missing-key",
			"the application does not say how changes get there",
			"add connect: {by: files}",
		)
	} else {
		d.oneOf(c["by"], "by", ConnectWays...)
	}
	return app, spec
}

// needed adds to the attributes of accounts those that a thing needs a value of,
// where the export shows them: they are looked at and left alone.
func needed(app *model.App, s *export.Spec) {
	for i := range app.Things {
		for _, attr := range app.Things[i].Needs {
			if app.Attr(attr) < 0 && attr != app.Match && (s.Format == "scim" || s.Column(attr) != nil) {
				app.Attrs = append(app.Attrs, model.Attr{Name: attr, Pos: app.Things[i].Pos})
				app.Index()
			}
		}
	}
}

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
					fmt.Sprintf("%q has spaces at its ends or control characters, which no export keeps", t.Name),
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
					"%s %q and %q differ only by case or spaces, and are two things here",
					t.Kind,
					other,
					t.Name,
				),
				"if they are one, write it as the application shows it",
			)
			p.Severity = source.Warning
			d.probs.Add(p)
		}
		seen[key] = t.Name
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

// catalog reads the things that Pravet manages in the application, and what
// brings what along.
func (d *doc) catalog(app *model.App, f map[string]*yaml.Node) {
	type link struct {
		from model.Kind
		name string
		to   model.Kind
		what model.Name
	}
	var links []link
	for _, kind := range []model.Kind{model.Group, model.Role, model.License} {
		for _, e := range d.entries(f[kind.Plural()], kind.Plural()) {
			t := model.Thing{Kind: kind, Name: e.name, Pos: d.pos(e.key), Seats: -1}
			known := []string{"title", "sensitive", "atLeast", "needs"}
			switch kind {
			case model.Group:
				known = append(known, "brings", "define", "retire", "permissions")
			case model.Role:
				known = append(known, "includes", "define", "retire", "permissions")
			case model.License:
				known = append(known, "seats", "price")
			}
			tf := d.fields(e.value, "the "+kind.String()+" "+e.name, known...)
			t.Title = d.text(tf["title"], "title")
			t.Sensitive = d.boolean(tf["sensitive"], "sensitive")
			if n := tf["atLeast"]; n != nil {
				t.AtLeast = d.integer(n, "atLeast", 1)
			}
			if n := tf["seats"]; n != nil {
				t.Seats = d.integer(n, "seats", 0)
			}
			if n := tf["price"]; n != nil {
				t.Price = d.price(n)
			}
			d.define(&t, e, tf)
			for _, need := range d.names(tf["needs"], "needs") {
				t.Needs = append(t.Needs, need.Text)
			}
			for _, n := range d.names(tf["includes"], "includes") {
				links = append(links, link{kind, e.name, model.Role, n})
			}
			bf := d.fields(tf["brings"], "brings", "groups", "roles", "licenses")
			for _, to := range []model.Kind{model.Group, model.Role, model.License} {
				for _, n := range d.names(bf[to.Plural()], to.Plural()) {
					links = append(links, link{kind, e.name, to, n})
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

// define reads whether a group or role is Pravet's own, and what it is.
func (d *doc) define(t *model.Thing, e entry, f map[string]*yaml.Node) {
	t.Define, t.Retire = d.boolean(f["define"], "define"), d.boolean(f["retire"], "retire")
	for _, p := range d.names(f["permissions"], "permissions") {
		t.Permissions = append(t.Permissions, p.Text)
	}
	if !t.Define && (t.Retire || f["permissions"] != nil) {
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
						"group %s is Pravet's own (define: true), and groups of a SCIM export are resources that Pravet does not make",
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

// export reads where the exported state is.
func (d *doc) export(app *model.App, root, n *yaml.Node) *export.Spec {
	if n == nil {
		d.problem(
			root,
			"missing-key",
			"the application does not say where its exported state is",
			"add export: {format: csv, path: exports/FILE}",
		)
		return nil
	}
	f := d.fields(n, "export", "format", "path", "delimiter", "columns", "shows", "taken", "definitions")
	d.shows(app, f["shows"])
	s := &export.Spec{
		Format:    d.oneOf(orNode(f["format"], n), "format", export.Formats...),
		Delimiter: ',',
		Pos:       d.pos(n),
	}
	switch p := f["path"]; {
	case p == nil:
		d.problem(n, "missing-key", "the export has no path", "add path: exports/FILE")
		return nil
	case p.Kind == yaml.SequenceNode:
		s.Paths = d.names(p, "path")
	default:
		s.Paths = []model.Name{{Text: d.text(p, "path"), Pos: d.pos(p)}}
	}
	d.delimiter(f["delimiter"], s)
	s.Definitions = d.definitions(f["definitions"])
	if t := f["taken"]; t != nil {
		s.Taken, s.TakenPos = d.text(t, "taken"), d.pos(t)
	}
	for _, e := range d.entries(f["columns"], "columns") {
		s.Columns = append(s.Columns, d.column(e))
	}
	if len(s.Paths) == 0 || s.Format == "" {
		return nil
	}
	return s
}

// column reads where an attribute is found.
func (d *doc) column(e entry) export.Column {
	c := export.Column{Attr: e.name, Pos: d.pos(e.value)}
	if e.value.Kind != yaml.MappingNode {
		c.Name = d.text(e.value, e.name)
		return c
	}
	cf := d.fields(e.value, "a column", "column", "true", "false", "split")
	c.Name = d.required(cf, e.value, "column", e.name)
	c.True, c.False = d.text(cf["true"], "true"), d.text(cf["false"], "false")
	c.Split = d.text(cf["split"], "split")
	_, hasTrue := cf["true"]
	_, hasFalse := cf["false"]
	c.Worded = hasTrue && hasFalse
	if (hasTrue || hasFalse) && e.name != "active" {
		d.problem(e.value, "wrong-type", "only active has words for true and false", "")
	}
	if hasTrue != hasFalse || c.Worded && c.True == c.False {
		d.problem(e.value, "wrong-type", "the words for true and false are expected to be two different words", "")
	}
	return c
}

func (d *doc) delimiter(n *yaml.Node, s *export.Spec) {
	if n == nil {
		return
	}
	v := d.text(n, "delimiter")
	if c, size := utf8.DecodeRuneInString(v); size == 0 || size != len(v) || c == '"' || c == '\n' || c == '\r' {
		d.problem(
			n,
			"bad-delimiter",
			fmt.Sprintf("the delimiter is expected to be one character, not %q", v),
			`for example ";" or "\t"`,
		)
	} else {
		s.Delimiter = c
	}
}

// definitions reads where the export shows the groups and roles that the
// application has: a CSV file of their own.
func (d *doc) definitions(n *yaml.Node) *export.Spec {
	if n == nil {
		return nil
	}
	f := d.fields(n, "definitions", "path", "delimiter", "columns")
	s := &export.Spec{Format: "csv", Delimiter: ',', Pos: d.pos(n)}
	path := d.required(f, n, "path", "definitions")
	if path == "" {
		return nil
	}
	s.Paths = []model.Name{{Text: path, Pos: d.pos(f["path"])}}
	d.delimiter(f["delimiter"], s)
	for _, e := range d.entries(f["columns"], "columns") {
		if !slices.Contains(export.DefColumns, e.name) {
			d.problem(
				e.key,
				"unknown-key",
				fmt.Sprintf("definitions have no column %q", e.name),
				didYouMean(e.name, export.DefColumns, "they are "),
			)
			continue
		}
		s.Columns = append(s.Columns, d.column(e))
	}
	if s.Column(export.DefName) == nil {
		d.problem(
			orNode(f["columns"], n),
			"missing-column",
			"definitions are told apart by name, and columns does not say which column that is",
			"add name: COLUMN under columns",
		)
		return nil
	}
	return s
}

// shows reads whether the export shows what is held directly, or all that an
// account has in the end: for all kinds alike, or for each.
func (d *doc) shows(app *model.App, n *yaml.Node) {
	const direct, effective = "direct", "effective"
	if n == nil {
		return
	}
	if n.Kind == yaml.ScalarNode {
		all := d.oneOf(n, "shows", direct, effective) == effective
		app.Effective = [model.Kinds]bool{all, all, all}
		return
	}
	f := d.fields(n, "shows", "groups", "roles", "licenses")
	for k := range model.Kinds {
		kind := model.Kind(k)
		if v := f[kind.Plural()]; v != nil {
			app.Effective[k] = d.oneOf(v, kind.Plural(), direct, effective) == effective
		}
	}
}

// fits checks that the export shows what the application's file speaks of.
func (d *doc) fits(root *yaml.Node, f map[string]*yaml.Node, app *model.App, s *export.Spec) {
	if s.Format != "csv" {
		return
	}
	at := orNode(f["export"], root)
	if s.Column("active") == nil {
		d.problem(
			at,
			"missing-column",
			"columns does not say which column shows whether an account is open, so nobody who leaves could be suspended",
			"add active: {column: COLUMN, true: WORD, false: WORD} under columns",
		)
	}
	if app.Match != "" && s.Column(app.Match) == nil {
		d.problem(
			at,
			"missing-column",
			fmt.Sprintf("accounts are matched by %s, and columns does not say which column that is", app.Match),
			"add "+app.Match+": COLUMN under columns",
		)
	}
	for _, a := range app.Attrs {
		if s.Column(a.Name) == nil && a.Name != app.Match {
			d.probs.Add(
				problem(
					a.Pos,
					"missing-column",
					fmt.Sprintf("%s is kept, and columns does not say which column that is", a.Name),
					"add "+a.Name+": COLUMN under export, columns",
				),
			)
		}
	}
	for _, kind := range []model.Kind{model.Group, model.Role, model.License} {
		c := s.Column(kind.Plural())
		if n := f[kind.Plural()]; n != nil && len(app.Names(kind)) > 0 && c == nil {
			d.problem(
				n,
				"missing-column",
				fmt.Sprintf("the catalog lists %s, and columns does not say which column shows them", kind.Plural()),
				"add "+kind.Plural()+": COLUMN under export, columns",
			)
		}
		for _, name := range app.Names(kind) {
			if c != nil && c.Split != "" && strings.Contains(name, c.Split) {
				d.probs.Add(
					problem(
						app.Things[app.Thing(kind, name)].Pos,
						"bad-name",
						fmt.Sprintf("%q holds %q, by which the column %s is split", name, c.Split, c.Name),
						"",
					),
				)
			}
			if s.Definitions == nil {
				continue
			}
			if of := s.Definitions.Column(kind.Plural()); of != nil && of.Split != "" &&
				strings.Contains(name, of.Split) {
				d.probs.Add(
					problem(
						app.Things[app.Thing(kind, name)].Pos,
						"bad-name",
						fmt.Sprintf(
							"%q holds %q, by which the column %s of definitions is split",
							name,
							of.Split,
							of.Name,
						),
						"",
					),
				)
			}
		}
	}
}
