package upload

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// csv writes a row for each account that the application's own columns can say something
// about (RFC 4180).
func (w *writer) csv(changes []*plan.Change) ([]byte, error) {
	fields := of(w.Spec).Fields
	if len(fields) == 0 {
		return nil, nil
	}
	says := map[string]bool{} // what the columns name
	var header []string
	for _, f := range fields {
		header = append(header, f.Name)
		names, _ := model.FieldsIn(f.Text)
		for _, name := range names {
			if _, ok := w.value(&entry{is: account.New("")}, name); !ok {
				return nil, fmt.Errorf(
					"the field %s of uploads names {%s}, and there is no such attribute of accounts; there are %s",
					f.Name, name, strings.Join(w.names(), ", "),
				)
			}
			says[name] = true
		}
	}
	var b bytes.Buffer
	out := csv.NewWriter(&b)
	out.Comma, out.UseCRLF = of(w.Spec).Delim, true
	if err := out.Write(header); err != nil {
		return nil, err
	}
	for _, a := range w.wanted(changes) {
		any := false
		for _, c := range a.changes {
			if says[spokenOf(w.App, c)] {
				w.covered[c], any = true, true
			}
		}
		if !any {
			continue
		}
		var row []string
		for _, f := range fields {
			row = append(row, model.Filled(f.Text, func(name string) string {
				v, _ := w.value(a, name)
				return v
			}))
		}
		if err := out.Write(row); err != nil {
			return nil, err
		}
	}
	out.Flush()
	return b.Bytes(), out.Error()
}

// names are all that a field can name.
func (w *writer) names() []string {
	out := []string{"action", "state"}
	for k := range model.Kinds {
		if k < model.Common || slices.Contains(w.App.Kinds(), k) {
			out = append(out, k.Plural())
		}
	}
	for _, a := range w.App.Attrs {
		out = append(out, a.Name)
	}
	if !slices.Contains(out, w.App.Match) {
		out = append(out, w.App.Match)
	}
	return out
}

// spokenOf is the field that says what a change does.
func spokenOf(app *model.App, c *plan.Change) string {
	switch deed := c.Verb.Deed(); {
	case deed.Makes:
		return app.Match
	case deed.Clears:
		return "action"
	case deed.Moves:
		return "state"
	case c.Thing != nil:
		return c.Thing.Kind.Plural()
	case c.Verb == model.Update:
		return c.Attribute
	}
	return model.Owned
}
