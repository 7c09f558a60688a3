package upload

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/export"
	"pravet/internal/form"
)

// Way is for applications into which somebody loads files.
var Way = &connect.Way{
	Name: "upload",
	Keys: slices.Concat([]form.Key{
		{
			Name: "folder", Is: form.Text("the path of a folder"),
			Doc: "Where files to load and checklists are put; uploads unless given",
		},
		{Name: "write", Is: form.OneOf("csv", "ldif", "scim"), Doc: "In which form the file to load is written"},
		{Name: "delimiter", Is: form.Simple(form.Char), Doc: "What stands between the cells of the file to load"},
		{
			Name: "fields", Is: form.MapOf("a header", form.Text("a text with attributes in braces")),
			Doc: "The columns of the file to load",
		},
		connect.Columns,
	}, export.DirectoryKeys),
	Read: read,
	Open: func(o *connect.Opening) connect.Application {
		return &Upload{Tree: o.Tree, Export: o.Export, App: o.App, Spec: o.Spec, Now: o.Now, Zone: o.Zone}
	},
}

// A Loading is what is written for somebody to load.
type Loading struct {
	Folder    string
	Format    string // csv, ldif or scim
	Fields    []connect.Field
	Delim     rune
	Directory *export.Directory // of ldif
}

// of is what is written for an application.
func of(s *connect.Spec) *Loading { return s.Own.(*Loading) }

func read(r connect.Reader, s *connect.Spec) {
	x := &Loading{Folder: r.Folder("folder", "uploads"), Format: r.Word("write"), Delim: r.Delimiter("delimiter")}
	x.Fields, s.Columns = r.Fields("fields"), r.Columns("columns")
	if x.Format == "ldif" {
		x.Directory = r.Directory()
	}
	if x.Format == "csv" && len(x.Fields) == 0 && r.Has("write") {
		r.Wrong("", "missing-key", "connect does not say which columns the application loads",
			"add fields: {HEADER: \"{userName}\"}")
	}
	s.Own = x
}
