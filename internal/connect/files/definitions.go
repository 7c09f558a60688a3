package files

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// definitions writes the file of definitions anew, as a CSV file whose rows are
// the groups and roles that the application has.
func (f *writer) definitions(changes []*plan.Change) error {
	spec := f.Spec.Definitions
	of := export.DefApp(f.App)
	e := &edits{app: of, byKey: map[string]*edit{}}
	for _, c := range changes {
		if err := e.of(export.DefKey(c.Thing.Kind.String(), c.Thing.Name)).define(spec, c); err != nil {
			return err
		}
	}
	rows := &writer{Files: &Files{Tree: f.Tree, Spec: spec, App: of}, ctx: f.ctx, defines: true}
	err := rows.csv(e)
	f.staged, f.targets = append(f.staged, rows.staged...), append(f.targets, rows.targets...)
	return err
}

// define notes what a change does to a row of definitions.
func (x *edit) define(spec *export.Spec, c *plan.Change) error {
	switch c.Verb {
	case model.Retire:
		x.remove = true
		return nil
	case model.Redefine:
		return x.setField(spec, c.Attribute, c.After.Text(), c.After.List())
	}
	want := c.After.Definition()
	if want == nil {
		return fmt.Errorf("change %s defines %s and does not say what as", c.ID, c.Thing.Name)
	}
	x.create = true
	x.attrs[export.DefName], x.attrs[export.DefKind] = c.Thing.Name, c.Thing.Kind.String()
	return errors.Join(
		x.setField(spec, diff.Title, want.Title, nil),
		x.setField(spec, diff.Permissions, "", want.Permissions),
		x.setField(spec, diff.Brings, "", want.Brings),
	)
}

// setField sets what a row shows of one attribute of a definition. What has no
// column is left out.
func (x *edit) setField(spec *export.Spec, field, text string, list []string) error {
	switch field {
	case diff.Title:
		x.attrs[export.DefTitle] = text
		return nil
	case diff.Permissions:
		return x.setList(spec, export.DefPermissions, list)
	}
	by := map[string][]string{}
	for _, b := range list {
		kind, name, _ := strings.Cut(b, " ")
		by[kind] = append(by[kind], name)
	}
	for k := range model.Common {
		kind := model.Kind(k)
		if err := x.setList(spec, kind.Plural(), by[kind.String()]); err != nil {
			return err
		}
	}
	return nil
}

func (x *edit) setList(spec *export.Spec, column string, names []string) error {
	c := spec.Column(column)
	if c == nil {
		return nil
	}
	if c.Split == "" && len(names) > 1 ||
		c.Split != "" && slices.ContainsFunc(names, func(n string) bool { return strings.Contains(n, c.Split) }) {
		return fmt.Errorf("%s: the column %s cannot hold %q; name another split in its columns", x.key, c.Name, names)
	}
	x.attrs[column] = strings.Join(names, c.Split)
	return nil
}
