package export

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/source"
)

// The columns of a file of definitions. Each row is a group or a role that the
// application has; what it brings along stands by kind.
const (
	DefKind        = "kind"
	DefName        = "name"
	DefTitle       = "title"
	DefPermissions = "permissions"
)

// DefColumns are the names of all columns that a file of definitions may have.
var DefColumns = []string{DefKind, DefName, DefTitle, DefPermissions, "groups", "roles", "licenses"}

// DefApp is a file of definitions as if it were an application of its own,
// whose accounts are the definitions: so it is laid out, read and written as
// any other CSV file.
func DefApp(app *model.App) *model.App {
	out := &model.App{ID: app.ID, Match: DefName}
	for _, name := range DefColumns {
		if name != DefName {
			out.Attrs = append(out.Attrs, model.Attr{Name: name})
		}
	}
	out.Index()
	return out
}

// DefKey is what tells the definitions of a file apart: kind and name.
func DefKey(kind, name string) string { return kind + " " + name }

// KindOf is the kind of a row of definitions: a file without that column holds
// roles.
func (l *Layout) KindOf(app *model.App, row []string) string {
	if at := l.Attrs[app.Attr(DefKind)]; at >= 0 {
		return strings.ToLower(strings.TrimSpace(row[at]))
	}
	return model.Role.String()
}

// readDefinitions reads the definitions of an application.
func readDefinitions(src *source.Reader, name string, spec *Spec, app *model.App) (*model.Definitions, error) {
	rd, of := NewCSV(src, spec), DefApp(app)
	l, err := ReadLayout(rd, name, spec, of)
	if err != nil {
		return nil, err
	}
	out := &model.Definitions{Of: make([]*model.Definition, len(app.Things)), File: name,
		Titles: spec.Column(DefTitle) != nil, Permissions: spec.Column(DefPermissions) != nil}
	for k := range model.Common {
		out.Brings = out.Brings || spec.Column(model.Kind(k).Plural()) != nil
	}
	field := func(row []string, attr string) string {
		if at := l.Attrs[of.Attr(attr)]; at >= 0 {
			return row[at]
		}
		return ""
	}
	first := map[string]int{}
	for {
		src.Mark()
		row, err := rd.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, source.CSVError(name, err)
		}
		line, _ := rd.FieldPos(0)
		pos := model.Pos{File: name, Line: line}
		if len(row) != len(l.Header) {
			return nil, source.NewProblem(
				pos,
				"wrong-fields",
				fmt.Sprintf(
					"the row has %s and the header has %d",
					model.Count(len(row), "field", "fields"),
					len(l.Header),
				),
				"the file is damaged; export it again",
			)
		}
		kind, ok := model.ParseKind(l.KindOf(of, row))
		if !ok || kind == model.License {
			return nil, source.NewProblem(
				pos,
				"unknown-word",
				fmt.Sprintf(
					"%s is %q here, and group or role is expected",
					spec.Column(DefKind).Name,
					l.KindOf(of, row),
				),
				"",
			)
		}
		d := &model.Definition{
			Kind:        kind,
			Name:        row[l.Key],
			Title:       field(row, DefTitle),
			Line:        line,
			Permissions: list(field(row, DefPermissions), spec.Column(DefPermissions)),
		}
		if d.Name == "" {
			return nil, source.NewProblem(pos, "missing-value", "the definition has no name", "")
		}
		if at, ok := first[DefKey(kind.String(), d.Name)]; ok {
			return nil, source.NewProblem(
				pos,
				"duplicate-entry",
				fmt.Sprintf("the %s %s is defined in line %d already", kind, d.Name, at),
				"export it again",
			)
		}
		first[DefKey(kind.String(), d.Name)] = line
		for k := range model.Common {
			for _, n := range list(field(row, model.Kind(k).Plural()), spec.Column(model.Kind(k).Plural())) {
				d.Brings = append(d.Brings, model.Kind(k).String()+" "+n)
			}
		}
		slices.Sort(d.Brings)
		d.Along = app.Numbers(d.Brings)
		if t := app.Thing(kind, d.Name); t >= 0 {
			out.Of[t] = d
		} else {
			out.Others = append(out.Others, d)
		}
	}
}

// list parts a cell into names, sorted, each once.
func list(text string, c *Column) []string {
	if c == nil {
		return nil
	}
	names := splitNames(strings.Clone(text), c.Split)
	slices.Sort(names)
	return slices.Compact(names)
}

// Files are all files of an export: those of accounts, and then the one of
// definitions.
func (s *Spec) Files() []model.Name {
	if s.Definitions == nil {
		return s.Paths
	}
	return append(slices.Clone(s.Paths), s.Definitions.Paths...)
}
