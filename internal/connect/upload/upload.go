// Package upload is for applications that only load files, and for those that only people
// change: it writes a file for somebody to load, in the application's own form, and a
// checklist of everything in the plan's order. What somebody carries out is seen in an export
// to come; until then the changes wait.
package upload

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/account"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/source"
)

// Upload is an application that is changed by uploads. It implements connect.Later.
type Upload struct {
	Tree   *source.Tree
	Export *export.Spec
	App    *model.App
	Spec   *connect.Spec
	Now    func() time.Time
	Zone   day.Zone
}

var _ connect.Later = (*Upload)(nil)

// Where is the folder that files to load and checklists are put in.
func (u *Upload) Where() string { return of(u.Spec).Folder }

// Read reads the export.
func (u *Upload) Read(ctx context.Context) (*connect.State, error) {
	return connect.ReadExport(ctx, u.Tree, u.Export, u.Export, u.App)
}

// Mark is the digest of the export.
func (u *Upload) Mark(ctx context.Context) (string, error) {
	return connect.MarkOf(ctx, u.Tree, u.Export)
}

// A step is files that are to be written.
type step struct {
	of      *Upload
	changes []*plan.Change
	files   []file
	refused map[string]string
}

type file struct {
	name string
	text []byte
}

// Prepare makes the files. Their names follow from the changes, so that a step which is taken
// twice leaves the same files.
func (u *Upload) Prepare(ctx context.Context, _ string, changes []*plan.Change) (connect.Step, error) {
	state, err := u.Read(ctx)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, c := range changes {
		ids = append(ids, c.ID)
	}
	base := path.Join(
		u.Where(),
		fmt.Sprintf("%s-%s-%s", u.App.ID, u.Zone.Day(u.Now()), plan.Name(ids...)),
	)
	w := &writer{Upload: u, accounts: account.In(u.App, state.Accounts), covered: map[*plan.Change]bool{}}
	s := &step{of: u, changes: changes, refused: map[string]string{}}
	var text []byte
	ending := "." + of(u.Spec).Format
	switch of(u.Spec).Format {
	case "ldif":
		text = w.ldif(changes)
	case "scim":
		ending = ".json"
		text, err = w.bulk(ctx, changes)
	default:
		text, err = w.csv(changes)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", u.App.ID, err)
	}
	name := ""
	if len(w.covered) > 0 {
		name = base + ending
		s.files = append(s.files, file{name, text})
	}
	s.files = append(s.files, file{base + ".md", w.checklist(changes, path.Base(name))})
	return s, nil
}

func (s *step) Refused() map[string]string { return s.refused }

func (s *step) After() string { return "" }

func (s *step) Drop() {}

// Journal is the names of the files.
func (s *step) Journal() json.RawMessage {
	var names []string
	for _, f := range s.files {
		names = append(names, f.name)
	}
	out, err := json.Marshal(names)
	if err != nil {
		panic(err) // texts always marshal
	}
	return out
}

// Commit writes the files, the checklist last.
func (s *step) Commit(ctx context.Context, done func(*plan.Change, error)) error {
	if err := connect.Still(ctx); err != nil {
		return err
	}
	for _, f := range s.files {
		if err := s.of.Tree.MakeFolder(f.name); err != nil {
			return err
		}
		staged, err := s.of.Tree.Stage(f.name, 0o600, func(w io.Writer) error {
			_, err := w.Write(f.text)
			return err
		})
		if err != nil {
			return err
		}
		if err := staged.Commit(); err != nil {
			return err
		}
	}
	for _, c := range s.changes {
		done(c, nil)
	}
	return nil
}

// Resume reports whether the checklist was written. Without it nobody was told anything, and
// the step is given up.
func (u *Upload) Resume(_ context.Context, journal json.RawMessage) (taken bool, err error) {
	var names []string
	if err := json.Unmarshal(journal, &names); err != nil || len(names) == 0 {
		return false, errors.New(u.App.ID + ": the ledger's note of an interrupted step cannot be read")
	}
	return u.Tree.Exists(names[len(names)-1])
}

// A writer puts changes into files.
type writer struct {
	*Upload
	accounts *account.Accounts
	covered  map[*plan.Change]bool // by the file
}

// An entry is an account as it is to be, and what is to be done to it.
type entry struct {
	name    string
	action  string // create, change or remove
	is      *account.Value
	changes []*plan.Change
}

// wanted puts changes together by account, in the order of the first of each.
func (w *writer) wanted(changes []*plan.Change) (out []*entry) {
	look := func(name string) *account.Value {
		if v := w.accounts.Value(name); v != nil {
			return v
		}
		return account.New(name) // it is in no export yet
	}
	book, by := &account.Book{App: w.App, Keeps: true, Look: look}, map[string]*entry{}
	for _, c := range changes {
		if c.Verb.OfThing() {
			continue
		}
		e := by[c.Account]
		if e == nil {
			e = &entry{name: c.Account, action: "change", is: book.Get(c.Account)}
			by[c.Account] = e
			out = append(out, e)
		}
		e.changes = append(e.changes, c)
		if c.Verb == model.HandOver {
			continue // the checklist has it
		}
		_ = book.Do(c) // every account is found
		switch deed := c.Verb.Deed(); {
		case deed.Clears:
			e.action = "remove"
		case deed.Makes:
			e.action = "create"
		}
		if name, ok := account.Renames(w.App, c); ok {
			e.is = book.Get(name)
		} else if v := book.Get(c.Account); v != nil {
			e.is = v
		}
	}
	return out
}

// value is what a field of an upload says of an account; ok is false for a name that means
// nothing. The things of each kind are named by the kind's plural.
func (w *writer) value(e *entry, name string) (v string, ok bool) {
	switch name {
	case "action":
		return e.action, true
	case "state":
		return e.is.Is.String(), true
	case w.App.Match:
		return e.is.Named, true
	}
	for k := range model.Kinds {
		if name == k.Plural() {
			return strings.Join(e.is.Held[k], ";"), true
		}
	}
	return e.is.Attrs[name], w.App.Attr(name) >= 0
}
