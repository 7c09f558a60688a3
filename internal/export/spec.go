// Package export reads an application's exported state: who has what there.
// CSV files are read by way of the application's own columns (RFC 4180), SCIM
// resources as JSON (RFC 7643, RFC 7644). Files are read once and streamed:
// memory grows with what is kept of the accounts, not with the file.
//
//	accounts, info, err := export.Read(ctx, tree, spec, app)
package export

import (
	"time"

	"pravet/internal/core/model"
)

// Formats are the formats that can be read.
var Formats = []string{"csv", "scim"}

// A Spec says where an application's exported state is and how to read it.
type Spec struct {
	Format    string
	Paths     []model.Name // names in a source.Tree
	Delimiter rune         // of CSV
	Columns   []Column
	Pos       model.Pos

	// Taken is where the export itself says when it was taken: a column of a CSV
	// file, a path of a SCIM user. The latest of all rows counts; "" where the file's
	// own time is all there is.
	Taken    string
	TakenPos model.Pos
	// Named is when it was taken by the names of its files, zero where those do not
	// say; see Latest.
	Named time.Time

	Definitions *Spec // of the groups and roles that the application has, or nil
}

// A Column says where an attribute is found: in a column of a CSV file, or
// under a path of a SCIM resource.
type Column struct {
	Attr        string // an account attribute, or active, groups, roles, licenses
	Name        string // the column or the path
	Worded      bool   // active has words of its own, either of which may be empty
	True, False string // the words of active; without them any case of true and false is read
	Split       string // what separates the names in one cell; "" for one name a cell
	Pos         model.Pos
}

// Column returns the column of an attribute, or nil.
func (s *Spec) Column(attr string) *Column {
	for i := range s.Columns {
		if s.Columns[i].Attr == attr {
			return &s.Columns[i]
		}
	}
	return nil
}
