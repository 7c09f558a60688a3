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
var Formats = []string{"csv", "scim", "ldif", "jsonl"}

// A Spec says where an application's exported state is and how to read it.
type Spec struct {
	Format    string
	Paths     []model.Name // names in a source.Tree
	Delimiter rune         // of CSV
	Encoding  string       // of CSV, as IANA names it; "" for UTF-8
	ByHolding bool         // of CSV: a row is one holding of an account, and not an account
	Columns   []Column
	Pos       model.Pos

	// Taken is where the export itself says when it was taken: a column of a CSV
	// file, a path of a SCIM user. The latest of all rows counts; "" where the file's
	// own time is all there is.
	Taken string
	// Delivered: it is of the time at which its file was written last, whatever is in it.
	Delivered bool
	TakenPos  model.Pos
	// Named is when it was taken by the names of its files, zero where those do not
	// say; see Latest.
	Named time.Time

	// Missing is what to do where there is no export, "" for what is usual.
	Missing string

	Directory *Directory // of LDIF: where what is

	Definitions *Spec // of the groups and roles that the application has, or nil
}

// A Column says where an attribute is found: in a column of a CSV file, or
// under a path of a SCIM resource.
type Column struct {
	Attr        string                 // an account attribute, or active, status, groups, roles, licenses
	Name        string                 // the column or the path
	Worded      bool                   // active has words of its own, either of which may be empty
	True, False string                 // the words of active; without them any case of true and false is read
	States      map[model.State]string // the words of status
	Things      map[string]string      // of a kind: instead of one column, one for each thing, by its name
	Date        string                 // the form of dates, as package time has it; "" for ISO 8601
	Split       string                 // what separates the names in one cell; "" for one name a cell
	Pos         model.Pos
}

// State returns the column that shows the state of accounts, status or active, or nil.
func (s *Spec) State() *Column {
	if c := s.Column(Status); c != nil {
		return c
	}
	return s.Column(Active)
}

// The two columns that show the state of accounts: whether one is open, or which of all
// states it is in.
const (
	Active = "active"
	Status = "status"
)

// StateOf reads the state of an account by the words of the column; NoAccount for any
// other word.
func (c *Column) StateOf(v string) model.State {
	for _, s := range model.States() {
		if word, ok := c.States[s]; ok && word == v {
			return s
		}
	}
	if c.States != nil {
		return model.NoAccount
	}
	open, ok := c.Truth(v)
	if !ok {
		return model.NoAccount
	}
	return model.StateOf(open)
}

// Word is the word of a state, for writing; ok is false where the column has none.
func (c *Column) Word(s model.State) (word string, ok bool) {
	if c.States != nil {
		word, ok = c.States[s]
		return word, ok
	}
	yes, no := c.Words()
	switch s {
	case model.Open:
		return yes, true
	case model.Blocked:
		return no, true
	}
	return "", false
}

// Shows reports whether the export has a word for a state of accounts.
func (s *Spec) Shows(state model.State) bool {
	c := s.State()
	if c == nil {
		return false
	}
	_, ok := c.Word(state)
	return ok
}

// Attributes are the names of the attributes that the export's columns show, in file order: what is neither
// the state of an account nor what it holds.
func (s *Spec) Attributes() (out []string) {
	taken := map[string]bool{"active": true, Status: true}
	for k := range model.Kinds {
		taken[model.Kind(k).Plural()] = true
	}
	for _, c := range s.Columns {
		if !taken[c.Attr] {
			out = append(out, c.Attr)
		}
	}
	return out
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
