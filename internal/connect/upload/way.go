package upload

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/export"
)

// Way is for applications into which somebody loads files.
var Way = &connect.Way{
	Name: "upload",
	Keys: slices.Concat([]connect.Key{
		{Name: "folder", Doc: "Where files to load and checklists are put; uploads unless given"},
		{Name: "write", Doc: "In which form the file to load is written", Schema: `{"enum": ["csv", "ldif", "scim"]}`},
		{
			Name:   "delimiter",
			Doc:    "What stands between the cells of the file to load",
			Schema: `{"type": "string", "minLength": 1, "maxLength": 1}`,
		},
		{
			Name:   "fields",
			Doc:    "The columns of the file to load: header, and a text with attributes in braces",
			Schema: connect.KeptSchema,
		},
		connect.Columns,
	}, connect.Directory),
	Read: read,
	Open: func(o *connect.Opening) connect.Application {
		return &Upload{Tree: o.Tree, Export: o.Export, App: o.App, Spec: o.Spec, Now: o.Now}
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
	x := &Loading{Folder: r.Folder("folder", "uploads"), Format: "csv", Delim: r.Delimiter("delimiter")}
	if r.Has("write") {
		x.Format = r.OneOf("write", "csv", "ldif", "scim")
	}
	x.Fields = r.Fields("fields")
	if x.Format == "ldif" {
		x.Directory = r.Directory()
	}
	if x.Format == "csv" && len(x.Fields) == 0 && r.Has("write") {
		r.Wrong("", "missing-key", "connect does not say which columns the application loads",
			"add fields: {HEADER: \"{userName}\"}")
	}
	s.Own = x
}
