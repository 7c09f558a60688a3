package desired

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/connect/ways"
	"pravet/internal/form"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

const direct, effective = "direct", "effective"

var (
	exportForm = (&form.Object{
		Name: "export", Doc: "Where the exported state is, and how to read it; see connecting.md",
		Keys: []form.Key{
			{Name: "format", Is: form.OneOf(export.Formats...), Doc: "In which format it is"},
			{
				Name: "path", Is: form.Any(form.Text("the path of a file"), form.Names("paths of files")),
				Doc: "Where it is; of a live application, where what is fetched is kept",
			},
			{Name: "delimiter", Is: form.Simple(form.Char), Doc: "Of CSV: what stands between cells; a comma unless given"},
			{
				Name: "encoding", Is: form.Text("an encoding"),
				Doc: "Of CSV: as IANA names it, for example windows-1252; UTF-8 unless given",
			},
			{
				Name: "rows", Is: form.OneOf("accounts", "holdings"),
				Doc: "Of CSV: whether a row is an account, or one holding of an account",
			},
			{Name: "columns", Is: form.In(export.ColumnsForm), Doc: "Where each attribute is found"},
			showsKey,
			{
				Name: "delivered", Is: form.OneOf("seen", "modified"),
				Doc: "Of an export that says no time: it is as old as its content (seen, unless given) or as its file (modified)",
			},
			{
				Name: "taken", Is: form.Text("a column, or a path of a SCIM user"),
				Doc: "Where the export itself says when it was taken; the latest counts",
			},
			{
				Name: "definitions", Is: form.In(definitionsForm),
				Doc: "Where the groups and roles stand that the application has: a CSV file",
			},
		},
	}).And(ofFormat("ldif", export.DirectoryKeys)...)
	fetchedForm = &form.Object{
		Name: "export of a live application",
		Keys: []form.Key{{Name: "path", Is: form.Text("the path of a file")}, showsKey},
	}
	showsKey = form.Key{
		Name: "shows", Is: form.Any(form.OneOf(direct, effective), form.In(showsForm)),
		Doc: "Whether the export shows what is held directly, or all that an account has in the end",
	}
	showsForm = &form.Object{
		Name: "shows", Doc: "For each kind of thing; direct unless given",
		Keys: []form.Key{
			{Name: "groups", Is: form.OneOf(direct, effective), Doc: "Of groups"},
			{Name: "roles", Is: form.OneOf(direct, effective), Doc: "Of roles"},
			{Name: "licenses", Is: form.OneOf(direct, effective), Doc: "Of licenses"},
		},
	}
	definitionsForm = &form.Object{
		Name: "definitions", Doc: "A CSV file with a row for each group and role that the application has; see access.md",
		Keys: []form.Key{
			{Name: "path", Is: form.Text("the path of a file"), Need: true, Doc: "Where it is"},
			{Name: "delimiter", Is: form.Simple(form.Char), Doc: "What stands between cells; a comma unless given"},
			{Name: "columns", Is: form.In(defColumnsForm), Need: true, Doc: "Where each is found"},
		},
	}
	defColumnsForm = &form.Object{
		Name: "columns of definitions", Doc: "What is said of each, and the column for it",
		Keys: []form.Key{
			{Name: export.DefKind, Is: export.ColumnShape, Doc: "Whether it is a group or a role; roles unless given"},
			{
				Name: export.DefName, Is: export.ColumnShape, Need: true, Doc: "By which they are told apart",
				Lacks: "definitions are told apart by name, and columns does not say which column that is",
				Add:   "name: COLUMN under columns",
			},
			{Name: export.DefTitle, Is: export.ColumnShape, Doc: "What it is called where people read it"},
			{Name: export.DefPermissions, Is: export.ColumnShape, Doc: "What it permits"},
			{Name: "groups", Is: export.ColumnShape, Doc: "Groups that it brings along"},
			{Name: "roles", Is: export.ColumnShape, Doc: "Roles that it brings along"},
			{Name: "licenses", Is: export.ColumnShape, Doc: "Licenses that it brings along"},
		},
	}
)

// ofFormat are keys that only an export in a format has.
func ofFormat(format string, keys []form.Key) []form.Key {
	out := slices.Clone(keys)
	for i := range out {
		out[i].With = []form.Cond{{Key: "format", Value: format}}
	}
	return out
}

// needed adds to the attributes of accounts those that a thing needs a value of,
// where the export shows them: they are looked at and left alone.
func needed(app *model.App, s *export.Spec) {
	for i := range app.Things {
		for _, attr := range app.Things[i].Needs {
			if app.Attr(attr) < 0 && attr != app.Match && (s.Format != "csv" || s.Column(attr) != nil) {
				app.Attrs = append(app.Attrs, model.Attr{Name: attr, Pos: app.Things[i].Pos})
				app.Index()
			}
		}
	}
}

// export reads where the exported state is.
func (d *doc) export(app *model.App, of values, reach *connect.Spec) *export.Spec {
	if reach.Live {
		return d.fetched(app, of, reach)
	}
	n := of.node("export")
	if n == nil {
		d.problem(
			of.n,
			"missing-key",
			"the application does not say where its exported state is",
			"add export: {format: csv, path: exports/FILE}",
		)
		return nil
	}
	f := of.within("export")
	f.shows(app)
	if n.Kind == yaml.MappingNode && !f.has("format") {
		d.problem(n, "missing-key", "the export has no format", "add format: "+strings.Join(export.Formats, ", or "))
		return nil
	}
	s := &export.Spec{
		Format:    d.oneOf(f.place("format"), "format", export.Formats...),
		Delimiter: ',',
		Pos:       d.pos(n),
	}
	switch p := f.node("path"); {
	case p == nil:
		d.problem(n, "missing-key", "the export has no path", "add path: exports/FILE")
		return nil
	case p.Kind == yaml.SequenceNode:
		s.Paths = d.names(p, "path")
	default:
		s.Paths = []model.Name{{Text: d.text(p, "path"), Pos: d.pos(p)}}
	}
	s.Delimiter = f.delimiter("delimiter", ',')
	s.Encoding = d.encoding(f.node("encoding"))
	s.ByHolding = f.word("rows") == "holdings"
	s.Definitions = f.definitions()
	s.Delivered = f.word("delivered") == "modified"
	d.dated(s, f.node("taken"))
	if t := f.node("taken"); t != nil {
		s.Taken, s.TakenPos = d.text(t, "taken"), d.pos(t)
	}
	for _, e := range f.entries("columns") {
		c := d.column(e)
		if s.ByHolding && c.Things != nil {
			d.problem(
				e.key, "two-rules", c.Attr+" has a column for each, and a row is one holding",
				"take out rows: holdings, or name the one column that "+c.Attr+" are in",
			)
		}
		s.Columns = append(s.Columns, c)
	}
	if s.Format == "ldif" {
		s.Directory = f.directory()
	}
	if w := ways.Named(reach.By); s.Format != "" && w.Formats != nil && !slices.Contains(w.Formats, s.Format) {
		d.problem(
			f.place("format"), "two-rules", "an export in "+s.Format+" is read, and not written",
			"say connect: {by: upload}, or another way by which changes get there",
		)
	}
	if len(s.Paths) == 0 || s.Format == "" {
		return nil
	}
	return s
}

// fetched is where what is fetched from a live application is kept.
func (d *doc) fetched(app *model.App, of values, reach *connect.Spec) *export.Spec {
	s := &export.Spec{
		Format: "jsonl", Delimiter: ',', Columns: reach.Columns, Pos: reach.Pos,
		Missing: "nothing was fetched yet; fetch it with: pravet fetch " + app.ID,
	}
	path := model.Name{Text: "exports/" + app.ID + ".jsonl", Pos: reach.Pos}
	if d.tree.Environment != "" {
		path.Text = "exports/" + d.tree.Environment + "/" + app.ID + ".jsonl"
	}
	if n := of.node("export"); n != nil {
		f := d.object(n, fetchedForm)
		f.shows(app)
		s.Pos = d.pos(n)
		if p := f.node("path"); p != nil {
			path = model.Name{Text: d.text(p, "path"), Pos: d.pos(p)}
		}
	}
	for _, c := range ways.Named(reach.By).Shows {
		c.Pos = reach.Pos
		s.Columns = append(s.Columns, c)
	}
	s.Paths = []model.Name{path}
	return s
}

// dated finds the files of an export whose names say when it was taken. Where there
// are none, the names stay as they are, and whoever reads them is told.
func (d *doc) dated(s *export.Spec, taken *yaml.Node) {
	files := s.Files()
	if !export.Dated(files) {
		return
	}
	for _, f := range files {
		if strings.Contains(path.Dir(f.Text), export.DatedMark) || strings.Count(f.Text, export.DatedMark) > 1 {
			d.probs.Add(source.NewProblem(
				f.Pos,
				"wrong-path",
				fmt.Sprintf("%s has %s elsewhere than once in the file's own name", f.Text, export.DatedMark),
				"name the files in one folder by when they were taken",
			))
			return
		}
	}
	if taken != nil {
		d.problem(
			taken,
			"said-twice",
			"the names of the files say already when the export was taken, by "+export.DatedMark,
			"take one of them out",
		)
	}
	files, at, err := export.Latest(files, func(folder string) (names []string, err error) {
		entries, err := d.tree.List(folder)
		for _, e := range entries {
			names = append(names, e.Name())
		}
		return names, err
	})
	if err != nil {
		return
	}
	n := len(s.Paths)
	s.Paths, s.Named = files[:n:n], at
	if s.Definitions != nil {
		s.Definitions.Paths = files[n:]
	}
}

// letters of the form of a date, and what package time writes for them.
var dateLetters = strings.NewReplacer("YYYY", "2006", "MM", "01", "DD", "02", "hh", "15", "mm", "04", "ss", "05")

// encoding reads the name of an encoding.
func (d *doc) encoding(n *yaml.Node) string {
	if n == nil {
		return ""
	}
	v := d.text(n, "encoding")
	if _, err := source.Encoding(v); err != nil {
		d.problem(n, "bad-encoding", err.Error(), "name it as IANA does, for example windows-1252")
		return ""
	}
	return v
}

// definitions reads where the export shows the groups and roles that the
// application has: a CSV file of their own.
func (v values) definitions() *export.Spec {
	d, n := v.d, v.node("definitions")
	if n == nil {
		return nil
	}
	f := v.within("definitions")
	s := &export.Spec{Format: "csv", Delimiter: ',', Pos: d.pos(n)}
	path := f.text("path")
	if path == "" {
		return nil
	}
	s.Paths = []model.Name{{Text: path, Pos: f.pos("path")}}
	s.Delimiter = f.delimiter("delimiter", ',')
	if !f.has("columns") {
		return nil
	}
	for _, e := range f.within("columns").all {
		s.Columns = append(s.Columns, d.column(e))
	}
	if s.Column(export.DefName) == nil {
		return nil
	}
	return s
}

// shows reads whether the export shows what is held directly, or all that an
// account has in the end: for all kinds alike, or for each.
func (v values) shows(app *model.App) {
	n := v.node("shows")
	if n == nil {
		return
	}
	if n.Kind == yaml.ScalarNode {
		all := v.word("shows") == effective
		app.Effective = [model.Kinds]bool{model.License: all, model.Group: all, model.Role: all}
		return
	}
	f := v.within("shows")
	for _, kind := range []model.Kind{model.Group, model.Role, model.License} {
		app.Effective[kind] = f.word(kind.Plural()) == effective
	}
}

// fits checks that the export shows what the application's file speaks of.
func (d *doc) fits(f values, app *model.App, s *export.Spec) {
	at := f.place("export")
	if s.Column(export.Active) != nil && s.Column(export.Status) != nil {
		d.problem(at, "said-twice", "columns names both active and status", "keep one of them")
	}
	d.joins(f, app, s)
	if s.Format != "csv" {
		return
	}
	if s.State() == nil {
		d.problem(
			at,
			"missing-column",
			"columns does not say which column shows whether an account is open, so nobody who leaves could be "+
				"suspended",
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
		if n := f.node(kind.Plural()); n != nil && len(app.Names(kind)) > 0 && c == nil {
			d.problem(
				n,
				"missing-column",
				fmt.Sprintf("the catalog lists %s, and columns does not say which column shows them", kind.Plural()),
				"add "+kind.Plural()+": COLUMN under export, columns",
			)
		}
		for _, name := range app.Names(kind) {
			if c != nil && c.Things != nil && c.Things[name] == "" {
				d.probs.Add(problem(
					app.Things[app.Thing(kind, name)].Pos, "missing-column",
					fmt.Sprintf("no column says who holds %s %s", kind, name),
					fmt.Sprintf("add it under export, columns, %s, columns", kind.Plural()),
				))
			}
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
