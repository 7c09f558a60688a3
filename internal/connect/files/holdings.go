package files

import (
	"encoding/csv"
	"io"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

// A thing is a group, a role or a license by its name.
type thing struct {
	kind model.Kind
	name string
}

// A spread says how an account lies in a CSV with a row for each holding: an account without
// any has a row all the same.
type spread struct {
	rows  int // of it
	seen  int // of these, by the writing
	stay  int // rows in which something is left
	gains []thing
}

// spreadOut reads the files of an export with a row for each holding once, as what becomes of
// a row depends on the others of its account.
func (f *writer) spreadOut(e *edits) error {
	if !f.Spec.ByHolding || f.defines {
		return nil
	}
	has := map[*edit]map[thing]bool{}
	for _, path := range f.Spec.Paths {
		src, err := f.Tree.OpenAs(f.ctx, path.Text, f.Spec.Encoding)
		if err != nil {
			return err
		}
		err = f.spreadIn(e, has, export.NewCSV(src, f.Spec), path.Text)
		src.Close()
		if err != nil {
			return err
		}
	}
	for x := range has {
		for k := range x.gain {
			for _, name := range x.gain[k] {
				if t := (thing{model.Kind(k), name}); !has[x][t] {
					x.rows.gains = append(x.rows.gains, t)
				}
			}
		}
	}
	return nil
}

func (f *writer) spreadIn(e *edits, has map[*edit]map[thing]bool, rd *csv.Reader, name string) error {
	layout, err := export.ReadLayout(rd, name, f.Spec, f.App)
	if err != nil {
		return err
	}
	for {
		row, err := rd.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return source.CSVError(name, err)
		}
		if err := fits(layout, rd, name, row); err != nil {
			return err
		}
		x := e.byKey[row[layout.Key]]
		if x == nil {
			continue
		}
		if x.rows == nil {
			x.rows, has[x] = &spread{}, map[thing]bool{}
		}
		x.rows.rows++
		names := f.holdings(layout, row)
		for _, t := range names {
			has[x][t] = true
		}
		if x.stays(names) {
			x.rows.stay++
		}
	}
}

// holdings are what a row says that its account holds.
func (f *writer) holdings(layout *export.Layout, row []string) (out []thing) {
	for k, at := range layout.Kinds {
		if at < 0 {
			continue
		}
		names := []string{row[at]}
		if split := f.Spec.Column(model.Kind(k).Plural()).Split; split != "" {
			names = strings.Split(row[at], split)
		}
		for _, name := range names {
			if name = strings.TrimSpace(name); name != "" {
				out = append(out, thing{model.Kind(k), name})
			}
		}
	}
	return out
}

// stays reports whether any of these is not lost.
func (x *edit) stays(names []thing) bool {
	return slices.ContainsFunc(names, func(t thing) bool { return !slices.Contains(x.lose[t.kind], t.name) })
}

// changeHolding writes a row of an account that has one for each holding, and behind the last
// of them a row for everything that it gains. A row in which nothing is left goes, unless it
// is all that there is of the account.
func (o *csvWriter) changeHolding(raw []byte, line int, rd *csv.Reader, row []string, x *edit) error {
	s := x.rows
	s.seen++
	last := s.seen == s.rows
	if x.anew {
		if last {
			return o.create([]*edit{x})
		}
		return nil
	}
	rest := *x
	rest.gain = [model.Kinds][]string{}
	if x.stays(o.files.holdings(o.layout, row)) || last && s.stay == 0 && len(s.gains) == 0 {
		err := o.rewrite(raw, line, rd, row, func(i int) (string, bool) { return o.field(i, row[i], &rest) })
		if err != nil || !last {
			return err
		}
	}
	if !last {
		return nil
	}
	for _, t := range s.gains {
		err := o.rewrite(raw, line, rd, row, func(i int) (string, bool) {
			switch k := slices.Index(o.layout.Kinds[:], i); {
			case k < 0:
				return o.field(i, row[i], &rest)
			case model.Kind(k) == t.kind:
				return t.name, t.name != row[i]
			}
			return "", row[i] != ""
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// byHolding parts new accounts into rows for what they hold.
func byHolding(toCreate []*edit) (out []*edit) {
	for _, x := range toCreate {
		none := true
		for k := range x.gain {
			for _, name := range x.gain[k] {
				one := *x
				one.gain = [model.Kinds][]string{}
				one.gain[k] = []string{name}
				out, none = append(out, &one), false
			}
		}
		if none {
			out = append(out, x)
		}
	}
	return out
}
