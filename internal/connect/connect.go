// Package connect carries changes to applications. Each way of reaching one
// takes a batch of changes and says, once everything is prepared and before
// anything is replaced, what it is about to do, so that the caller can record
// it first.
package connect

import (
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/source"
)

// A FileStep says which content a file has and is about to have.
type FileStep struct {
	Path   string `json:"path"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Files reaches an application whose users live in files that it reads itself:
// CSV or SCIM JSON. Everything that Pravet does not own stays as it is, byte
// for byte.
type Files struct {
	Dir  string
	Spec *export.Spec
	App  *model.App

	defines bool // the rows are definitions
}

// Apply carries changes out, in their order, by replacing each file as a
// whole. It may be repeated: what is already as wanted stays so. about is
// called with what the files are and will be, after everything is written
// beside them; when it returns an error, nothing is replaced.
func (f *Files) Apply(changes []*plan.Change, about func([]FileStep) error) error {
	of, definitions := []*plan.Change{}, []*plan.Change{}
	for _, c := range changes {
		if verb, _ := model.ParseVerb(c.Verb); verb.OfThing() {
			definitions = append(definitions, c)
		} else {
			of = append(of, c)
		}
	}
	e, err := newEdits(f.App, of)
	if err != nil {
		return err
	}
	var staged []*source.Staged
	var steps []FileStep
	if f.Spec.Format == "csv" {
		staged, steps, err = f.csv(e)
	} else {
		staged, steps, err = f.scim(e)
	}
	if err == nil && (f.Spec.Definitions != nil || len(definitions) > 0) {
		var more []*source.Staged
		var step []FileStep
		more, step, err = f.definitions(definitions)
		staged, steps = append(staged, more...), append(steps, step...)
	}
	drop := func() {
		for _, s := range staged {
			s.Drop()
		}
	}
	if err != nil {
		drop()
		return err
	}
	if err := about(steps); err != nil {
		drop()
		return err
	}
	for i, s := range staged {
		if err := s.Commit(); err != nil {
			for _, rest := range staged[i:] {
				rest.Drop()
			}
			return err
		}
	}
	return nil
}
