package desired

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"pravet/internal/connect"
	"pravet/internal/connect/ways"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

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
func (d *doc) export(app *model.App, root, n *yaml.Node, reach *connect.Spec) *export.Spec {
	if reach.Live {
		return d.fetched(app, n, reach)
	}
	if n == nil {
		d.problem(
			root,
			"missing-key",
			"the application does not say where its exported state is",
			"add export: {format: csv, path: exports/FILE}",
		)
		return nil
	}
	f := d.fields(
		n,
		"export",
		append(
			[]string{"format", "path", "delimiter", "encoding", "rows", "columns", "shows", "taken", "definitions"},
			directoryKeys...)...,
	)
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
	s.Encoding = d.encoding(f["encoding"])
	if n := f["rows"]; n != nil {
		s.ByHolding = d.oneOf(n, "rows", "accounts", "holdings") == "holdings"
	}
	s.Definitions = d.definitions(f["definitions"])
	d.dated(s, f["taken"])
	if t := f["taken"]; t != nil {
		s.Taken, s.TakenPos = d.text(t, "taken"), d.pos(t)
	}
	for _, e := range d.entries(f["columns"], "columns") {
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
		s.Directory = d.directory(n, f, "export")
	} else {
		for _, key := range directoryKeys {
			if f[key] != nil {
				d.problem(f[key], "unknown-key", key+" is for exports in ldif", "take it out")
			}
		}
	}
	if w := ways.Named(reach.By); s.Format != "" && w.Formats != nil && !slices.Contains(w.Formats, s.Format) {
		d.problem(
			orNode(f["format"], n), "two-rules", "an export in "+s.Format+" is read, and not written",
			"say connect: {by: upload}, or another way by which changes get there",
		)
	}
	if len(s.Paths) == 0 || s.Format == "" {
		return nil
	}
	return s
}

// fetched is where what is fetched from a live application is kept.
func (d *doc) fetched(app *model.App, n *yaml.Node, reach *connect.Spec) *export.Spec {
	s := &export.Spec{
		Format: "jsonl", Delimiter: ',', Columns: reach.Columns, Pos: reach.Pos,
		Missing: "nothing was fetched yet; fetch it with: pravet fetch " + app.ID,
	}
	path := model.Name{Text: "exports/" + app.ID + ".jsonl", Pos: reach.Pos}
	if d.tree.Environment != "" {
		path.Text = "exports/" + d.tree.Environment + "/" + app.ID + ".jsonl"
	}
	if n != nil {
		f := d.fields(n, "export", "path", "shows")
		d.shows(app, f["shows"])
		s.Pos = d.pos(n)
		if p := f["path"]; p != nil {
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
		app.Effective = [model.Kinds]bool{model.License: all, model.Group: all, model.Role: all}
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
	at := orNode(f["export"], root)
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
		if n := f[kind.Plural()]; n != nil && len(app.Names(kind)) > 0 && c == nil {
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
