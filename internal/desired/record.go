package desired

import (
	"context"
	"errors"
	"slices"

	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/form"
	"pravet/internal/source"
)

var recordForm = &form.Object{
	Name: "the entry ledger", Doc: "The database in which a team keeps its record; see together.md",
	Keys: slices.Concat([]form.Key{
		{Name: "url", Is: form.Text("an address"), Need: true, Doc: "Where the database is: postgres://HOST:5432/DATABASE"},
		connect.CA,
	}, connect.Login, []form.Key{{
		Name: "schema", Is: form.Like("a name in small letters", `^[a-z][a-z0-9_]{0,39}$`),
		Doc: "In which its tables are; pravet unless set",
	}}),
}

// A Record is the database in which a team keeps its record.
type Record struct {
	URL, User, Password, CA, Schema string
	Organization                    string
	Err                             error // it stands in pravet.yaml, and cannot be read
}

// Early is what is known of a repository before anything else is read of it.
type Early struct {
	Zone   day.Zone // UTC where none is named, or where it cannot be read
	Record *Record  // nil where the record is a file of the repository
	// Signing is by what decisions are proved; nil for by nothing.
	Signing  *Signing
	Deciders []decide.Rule // who decides
}

// ReadEarly reads what has to be known first. What is wrong with it is said when all files are read; a record that is
// named and cannot be read is none, and no other takes its place.
func ReadEarly(ctx context.Context, tree *source.Tree) (out Early) {
	r := &Repo{Tree: tree, ctx: ctx, Problems: &source.Problems{}, sums: map[string]string{}}
	d, root := r.open(Root)
	if root == nil {
		return out
	}
	f := d.object(root, rootForm)
	if zone, err := day.ZoneOf(f.text("timezone")); err == nil {
		out.Zone = zone
	}
	r.readSigning(f)
	r.readDeciders(f)
	out.Signing, out.Deciders = r.Signing, r.Deciders
	before := r.Problems.Errors()
	if r.readRecord(f); r.Record != nil {
		out.Record = r.Record
		if out.Record.Organization = f.text("organization"); r.Problems.Errors() > before {
			out.Record.Err = sayRecordUnread()
		}
	}
	return out
}

// readRecord reads where the record is kept.
func (r *Repo) readRecord(of values) {
	if !of.has("ledger") {
		return
	}
	f := of.within("ledger")
	r.Record = &Record{
		URL: f.address("postgres"), User: f.text("user"), Password: f.secret("password"), CA: f.text("ca"), Schema: "pravet",
	}
	if f.has("schema") {
		r.Record.Schema = f.text("schema")
	}
}

// sayRecordUnread is an entry ledger that cannot be read.
func sayRecordUnread() error {
	return errors.New("what pravet.yaml says under ledger cannot be read, so nobody knows where the record is; see: pravet check")
}
