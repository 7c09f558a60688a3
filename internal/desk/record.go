package desk

import (
	"bytes"
	"errors"
	"fmt"
	"os"

	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/source"
)

// database is how the database of the record is opened.
func (d *Desk) database() (ledger.Options, error) {
	o := d.options()
	if o.By = d.Actor(); o.Server == nil {
		return o, wrong(sayNoDatabase())
	}
	if err := d.early.Record.Err; err != nil {
		return o, err
	}
	return o, nil
}

// Grant is the SQL that makes the record of a team, and gives its user what it needs.
func (d *Desk) Grant() (string, error) {
	o, err := d.database()
	if err != nil {
		return "", err
	}
	return ledger.Grant(o), nil
}

// RunGrant runs that SQL as a user whose password a reference leads to.
func (d *Desk) RunGrant(user, password string) error {
	o, err := d.database()
	if err != nil {
		return err
	}
	if user == "" {
		return wrongIn("user", sayNobodyRuns())
	}
	p := &desired.Record{Password: password}
	o.Server.Password = d.secret(p)
	return ledger.RunGrant(o, user)
}

// Move moves the record from its file into the database that pravet.yaml names, or back.
func (d *Desk) Move(back bool) (*ledger.Move, error) {
	o, err := d.database()
	if err != nil {
		return nil, err
	}
	if back {
		return ledger.MoveBack(d.Dir, o)
	}
	return ledger.MoveIn(d.Dir, o)
}

// sayNoDatabase is a question about a database where the record is a file.
func sayNoDatabase() error {
	return errors.New("pravet.yaml names no database under ledger, so the record is a file of the repository; see docs/together.md")
}

// sayNobodyRuns is that it was not said who runs SQL.
func sayNobodyRuns() error {
	return errors.New("--run needs --user, who may make roles and schemas, and --password, as env:NAME or file:PATH")
}

// Take proves the decisions of files and puts those on record that are not there yet. The signature of a file that a page has
// written stands beside it, in a file whose name goes on with .sig.
func (d *Desk) Take(files []string) (out []decisions.Taken, err error) {
	repo, err := d.Whole()
	if err != nil {
		return nil, err
	}
	l, err := d.entering()
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		data, err := source.ReadFile(d.path(file), file, decisions.MaxSheet)
		if err != nil {
			return out, err
		}
		if decisions.Bare(data) {
			var signature []byte
			if _, err := os.Lstat(d.path(file) + ".sig"); err == nil {
				if signature, err = source.ReadFile(d.path(file)+".sig", file+".sig", decisions.MaxSheet); err != nil {
					return out, err
				}
			}
			data = decisions.Sheet(data, signature)
		}
		taken, err := decisions.Take(l, repo, d.today, data)
		if err != nil {
			return out, fmt.Errorf("%s: %w", file, err)
		}
		out = append(out, taken...)
	}
	return out, d.note(l)
}

// Hand writes what is decided to a file, for somebody else to take, instead of the record.
func (x *Decision) Hand(file string, decide func() (*decisions.Made, error)) (*decisions.Made, error) {
	at := x.desk.path(file)
	if _, err := os.Lstat(at); err == nil {
		return nil, wrongIn("out", sayThereAlready(file))
	}
	x.maker.Sheet = &bytes.Buffer{}
	made, err := decide()
	if err != nil {
		return made, err
	}
	return made, source.WriteFile(at, x.maker.Sheet, 0o644)
}

// sayThereAlready is a file that something else is in.
func sayThereAlready(file string) error {
	return fmt.Errorf("--out: %s is there already, and nothing was written; name another file", file)
}
