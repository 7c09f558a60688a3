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
	"slices"
	"strings"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/export"
	"pravet/internal/source"
	"pravet/internal/way"
)

// Upload is an application that is changed by uploads. It implements connect.Later.
type Upload struct {
	Tree   *source.Tree
	Export *export.Spec
	App    *model.App
	Spec   *way.Spec
	Now    func() time.Time
}

var _ connect.Later = (*Upload)(nil)

// Where is the folder that files to load and checklists are put in.
func (u *Upload) Where() string { return u.Spec.Upload.Folder }

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
		fmt.Sprintf("%s-%s-%s", u.App.ID, u.Now().UTC().Format(time.DateOnly), plan.Name(ids...)),
	)
	w := &writer{
		Upload: u, accounts: state.Accounts, index: table.NewIndex(state.Accounts.Key, nil), covered: map[*plan.Change]bool{},
	}
	s := &step{of: u, changes: changes, refused: map[string]string{}}
	var text []byte
	ending := "." + u.Spec.Upload.Format
	switch u.Spec.Upload.Format {
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
func (s *step) Commit(_ context.Context, done func(*plan.Change, error)) error {
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
	accounts *model.Accounts
	index    *table.Index
	covered  map[*plan.Change]bool // by the file
}

// An account is one as it is to be, and what is to be done to it.
type account struct {
	name    string
	action  string // create, change or remove
	record  *export.Record
	changes []*plan.Change
}

// wanted puts changes together by account, in the order of the first of each.
func (w *writer) wanted(changes []*plan.Change) (out []*account) {
	by := map[string]*account{}
	for _, c := range changes {
		if c.Verb.OfThing() {
			continue
		}
		a := by[c.Account]
		if a == nil {
			a = &account{name: c.Account, action: "change", record: w.record(c.Account)}
			by[c.Account] = a
			out = append(out, a)
		}
		a.changes = append(a.changes, c)
		a.do(w.App, c)
	}
	return out
}

// record is an account as the export shows it.
func (w *writer) record(name string) *export.Record {
	r := &export.Record{Account: name, State: model.Open.String(), Attributes: map[string]string{}}
	i := w.index.Spelled(name)
	if i < 0 {
		return r
	}
	r.State = w.accounts.States[i].String()
	for n, attr := range w.App.Attrs {
		r.Attributes[attr.Name] = w.accounts.Attr(n, i)
	}
	for _, t := range w.accounts.Sets.Members(w.accounts.Has(i)) {
		r.Hold(w.App.Things[t].Kind, w.App.Things[t].Name)
	}
	return r
}

// do brings an account to what a change makes of it.
func (a *account) do(app *model.App, c *plan.Change) {
	switch c.Verb {
	case model.Create, model.Invite:
		a.action = "create"
		if attrs, ok := c.After.(map[string]any); ok {
			for name, v := range attrs {
				a.record.Attributes[name] = fmt.Sprint(v)
			}
		}
		if c.Blocked {
			a.record.State = model.Blocked.String()
		}
	case model.Remove, model.Withdraw:
		a.action = "remove"
	case model.Suspend:
		a.record.State = model.Blocked.String()
	case model.Restore:
		a.record.State = model.Open.String()
	case model.Update:
		a.record.Attributes[c.Attribute] = ""
		if c.After != nil {
			a.record.Attributes[c.Attribute] = fmt.Sprint(c.After)
		}
		if c.Attribute == app.Match {
			a.record.Account = fmt.Sprint(c.After)
		}
	case model.HandOver:
	default:
		if c.Thing == nil {
			return
		}
		names := slices.DeleteFunc(
			slices.Clone(a.record.Held(c.Thing.Kind)),
			func(n string) bool { return n == c.Thing.Name },
		)
		if c.Verb == model.Gaining(c.Thing.Kind) {
			names = append(names, c.Thing.Name)
		}
		switch c.Thing.Kind {
		case model.Group:
			a.record.Groups = names
		case model.Role:
			a.record.Roles = names
		default:
			a.record.Licenses = names
		}
	}
}

// value is what a field of an upload says of an account; ok is false for a name that means
// nothing.
func (w *writer) value(a *account, name string) (v string, ok bool) {
	r := a.record
	switch name {
	case "action":
		return a.action, true
	case "state":
		return r.State, true
	case "groups":
		return strings.Join(r.Groups, ";"), true
	case "roles":
		return strings.Join(r.Roles, ";"), true
	case "licenses":
		return strings.Join(r.Licenses, ";"), true
	case w.App.Match:
		return r.Account, true
	}
	return r.Attributes[name], w.App.Attr(name) >= 0
}
