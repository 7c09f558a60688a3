// Package files reaches applications whose users live in files that they read
// themselves: CSV or SCIM JSON. Everything that Pravet does not own stays as it
// is, byte for byte. All files of an application are replaced as one: their new
// content is written and read back beside them, then all are renamed, and a step
// that was cut off between two renames is finished.
package files

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/source"
)

// Files is an application whose users live in files.
type Files struct {
	Tree *source.Tree
	Spec *export.Spec
	App  *model.App
	Now  func() time.Time // the clock by which what is written is dated; nil for the machine's

	written map[string]*connect.State // what was read of content that this process wrote, by its mark
}

// A target is one file that a step replaces.
type target struct {
	Path   string `json:"path"`
	Staged string `json:"staged"` // the name of the new content beside it
	Before string `json:"before"` // digests
	After  string `json:"after"`
}

// Read reads the files. The mark is their digest.
func (f *Files) Read(ctx context.Context) (*connect.State, error) {
	if len(f.written) > 0 {
		mark, err := f.Mark(ctx)
		if err != nil {
			return nil, err
		}
		if state := f.written[mark]; state != nil {
			return state, nil
		}
	}
	return f.read(ctx, f.Spec)
}

func (f *Files) read(ctx context.Context, from *export.Spec) (*connect.State, error) {
	return connect.ReadExport(ctx, f.Tree, f.Spec, from, f.App)
}

// Mark is the digest of the files.
func (f *Files) Mark(ctx context.Context) (string, error) { return connect.MarkOf(ctx, f.Tree, f.Spec) }

// A step is new content of all files of an application.
type step struct {
	files   *Files
	changes []*plan.Change
	refused map[string]string
	staged  []*source.Staged
	targets []target
	state   *connect.State // what the new content says
	begun   bool
}

// Prepare writes the new content of all files beside them, and reads it as the
// application's exports are read: what cannot be read is never put in place.
func (f *Files) Prepare(ctx context.Context, mark string, changes []*plan.Change) (connect.Step, error) {
	for _, p := range f.Spec.Files() {
		if err := f.Tree.Sweep(p.Text); err != nil {
			return nil, err
		}
	}
	s := &step{files: f, changes: changes}
	if err := s.stage(ctx); err != nil {
		s.Drop()
		return nil, err
	}
	if f.Now != nil {
		for _, x := range s.staged {
			if err := x.Dated(f.Now()); err != nil {
				s.Drop()
				return nil, err
			}
		}
	}
	var before, after []string
	for _, t := range s.targets {
		before, after = append(before, t.Before), append(after, t.After)
	}
	if export.Combine(before) != mark {
		s.Drop()
		return nil, &connect.MovedError{Says: f.App.ID + " was changed by someone else just now"}
	}
	state, err := f.read(ctx, f.beside(s.targets))
	if err != nil {
		s.Drop()
		return nil, fmt.Errorf("%s: what would be written could not be read again: %w", f.App.ID, err)
	}
	if state.Mark != export.Combine(after) {
		s.Drop()
		return nil, fmt.Errorf("%s: what was written beside its files has changed meanwhile", f.App.ID)
	}
	s.state = state
	return s, nil
}

// beside is the Spec by which the staged content is read.
func (f *Files) beside(targets []target) *export.Spec {
	staged := map[string]string{}
	for _, t := range targets {
		staged[t.Path] = source.Beside(t.Path, t.Staged)
	}
	move := func(spec *export.Spec) *export.Spec {
		out := *spec
		out.Paths = nil
		for _, p := range spec.Paths {
			out.Paths = append(out.Paths, model.Name{Text: staged[p.Text], Pos: p.Pos})
		}
		return &out
	}
	out := move(f.Spec)
	if f.Spec.Definitions != nil {
		out.Definitions = move(f.Spec.Definitions)
	}
	return out
}

func (s *step) stage(ctx context.Context) error {
	f := s.files
	var of, definitions []*plan.Change
	for _, c := range s.changes {
		if c.Verb.OfThing() {
			definitions = append(definitions, c)
		} else {
			of = append(of, c)
		}
	}
	e, err := newEdits(f.App, of, f.Spec.Shows(model.Removed))
	if err != nil {
		return err
	}
	w := &writer{Files: f, ctx: ctx}
	switch f.Spec.Format {
	case "csv":
		err = w.csv(e)
	case "ldif":
		err = w.ldif(e)
	default:
		err = w.scim(e)
	}
	if err == nil && f.Spec.Definitions != nil {
		err = w.definitions(definitions)
	}
	s.staged, s.targets = w.staged, w.targets
	if err == nil && f.Spec.Definitions == nil && len(definitions) > 0 {
		err = fmt.Errorf("%s: its file says nowhere where definitions are", f.App.ID)
	}
	return err
}

// A writer stages the files of one step.
type writer struct {
	*Files
	ctx     context.Context
	defines bool // the rows are definitions
	staged  []*source.Staged
	targets []target
}

func (w *writer) add(s *source.Staged, path, before string) {
	w.staged = append(w.staged, s)
	w.targets = append(w.targets, target{path, s.Name(), before, s.Digest()})
}

func (s *step) Refused() map[string]string { return s.refused }

func (s *step) After() string { return s.state.Mark }

func (s *step) Journal() json.RawMessage {
	out, err := json.Marshal(s.targets)
	if err != nil {
		panic(err) // texts always marshal
	}
	return out
}

// Commit puts the new content of all files in place. Once one is, an error
// leaves the rest beside the others, for Resume to finish.
func (s *step) Commit(ctx context.Context, done func(*plan.Change, error)) error {
	if err := connect.Still(ctx); err != nil {
		s.Drop()
		return err
	}
	for _, x := range s.staged {
		if err := x.Unchanged(); err != nil {
			s.Drop()
			return &connect.MovedError{Says: err.Error()}
		}
	}
	for i, x := range s.staged {
		if err := x.Commit(); err != nil {
			if i == 0 {
				s.Drop()
				return err
			}
			return fmt.Errorf("%w; %s is half-way, and the next run finishes it", err, s.files.App.ID)
		}
		s.begun = true
	}
	if s.files.written == nil {
		s.files.written = map[string]*connect.State{}
	}
	clear(s.files.written)
	s.files.written[s.state.Mark] = s.state
	for _, c := range s.changes {
		done(c, nil)
	}
	return nil
}

func (s *step) Drop() {
	if s.begun {
		return
	}
	for _, x := range s.staged {
		x.Drop()
	}
}

// Resume looks how far a step has come: where no file is replaced, it is given
// up; where some are, the others are replaced too.
func (f *Files) Resume(ctx context.Context, journal json.RawMessage) (taken bool, err error) {
	var targets []target
	if err := json.Unmarshal(journal, &targets); err != nil {
		return false, fmt.Errorf("%s: the ledger's note of an interrupted step cannot be read: %w", f.App.ID, err)
	}
	now, err := export.Digests(ctx, f.Tree, f.Spec)
	if err != nil {
		return false, err
	}
	is := map[string]string{}
	for _, d := range now {
		is[d.Path] = d.Digest
	}
	begun := false
	for _, t := range targets {
		begun = begun || t.After != t.Before && is[t.Path] == t.After
	}
	if !begun {
		return false, f.sweep(targets)
	}
	for _, t := range targets {
		if is[t.Path] == t.After {
			continue
		}
		if is[t.Path] != t.Before {
			return true, &connect.MovedError{
				Says: fmt.Sprintf(
					"%s: a step was cut off half-way, and %s was changed by someone else since; put it right by hand",
					f.App.ID,
					t.Path,
				),
			}
		}
		if sum, err := f.digest(ctx, source.Beside(t.Path, t.Staged)); err != nil || sum != t.After {
			return true, fmt.Errorf(
				"%s: a step was cut off half-way, and what it was about to write to %s is gone; put it right by hand",
				f.App.ID,
				t.Path,
			)
		}
		if err := f.Tree.Finish(t.Path, t.Staged); err != nil {
			return true, err
		}
	}
	return true, f.sweep(targets)
}

// sweep removes what stands beside the files of a step.
func (f *Files) sweep(targets []target) error {
	var errs []error
	for _, t := range targets {
		// By its name, as another machine may have left it.
		errs = append(errs, f.Tree.Remove(source.Beside(t.Path, t.Staged)), f.Tree.Sweep(t.Path))
	}
	return errors.Join(errs...)
}

func (f *Files) digest(ctx context.Context, name string) (string, error) {
	r, err := f.Tree.Open(ctx, name)
	if err != nil {
		return "", err
	}
	defer r.Close()
	return r.Digest()
}
