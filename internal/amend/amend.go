// Package amend changes the files of a repository as a person would: a value of somebody's
// row, a holder of a kit, a kit. What it leaves alone keeps every byte, comments and order
// among it. Nothing is written before Files().Write is called.
//
//	a := amend.New(ctx, repo)
//	err := a.Set(p, map[string]string{"title": "Desk lead"})
//	files, err := a.Files()
package amend

import (
	"context"
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/edit"
)

// An Amendment is what is to be changed in the files of a repository, whose people were
// read.
type Amendment struct {
	ctx    context.Context
	repo   *desired.Repo
	files  *edit.Files
	done   bool
	csvs   map[string]*edit.CSV
	yamls  map[string]*edit.YAML
	lists  []*list
	kits   map[string][]string // file → lines of kits to come
	people map[string][]string // file → lines of people to come
	gives  []given
	left   map[string]int                // file → kits that were taken out
	rows   map[string]map[int]*yaml.Node // of people in files kept by hand: file, line
	alone  map[string][]string           // file → accounts that are to be left as they are
}

// A list is a list in a file of kits that entries come into or go out of.
type list struct {
	kit  *model.Kit
	key  string
	add  []Entry
	drop map[string]bool
}

// New is no change of a repository so far.
func New(ctx context.Context, repo *desired.Repo) *Amendment {
	return &Amendment{
		ctx: ctx, repo: repo, files: edit.Open(repo.Tree),
		csvs: map[string]*edit.CSV{}, yamls: map[string]*edit.YAML{}, rows: map[string]map[int]*yaml.Node{},
		kits: map[string][]string{}, people: map[string][]string{}, alone: map[string][]string{}, left: map[string]int{},
	}
}

// Files are the files with all that was asked for by now; nothing more can be asked for then.
func (a *Amendment) Files() (*edit.Files, error) {
	if a.done {
		return a.files, nil
	}
	a.done = true
	for _, x := range a.csvs {
		if err := x.Finish(); err != nil {
			return nil, err
		}
	}
	for _, l := range a.lists {
		if err := a.finish(l); err != nil {
			return nil, err
		}
	}
	if err := a.finishAlone(); err != nil {
		return nil, err
	}
	for _, g := range a.gives {
		if err := a.give(g); err != nil {
			return nil, err
		}
	}
	for key, files := range map[string]map[string][]string{"kits": a.kits, "people": a.people} {
		for file, lines := range files {
			y, err := a.yaml(file)
			if err != nil {
				return nil, err
			}
			if err := y.AddEntry(key, lines); err != nil {
				return nil, err
			}
		}
	}
	return a.files, nil
}

func (a *Amendment) yaml(file string) (*edit.YAML, error) {
	if y := a.yamls[file]; y != nil {
		return y, nil
	}
	t, err := a.files.Text(a.ctx, file, "")
	if err != nil {
		return nil, err
	}
	y, err := edit.ReadYAML(t)
	if err != nil {
		return nil, err
	}
	a.yamls[file] = y
	return y, nil
}

func (a *Amendment) csv(file string) (*edit.CSV, desired.Layout, error) {
	l := a.repo.Layout(file)
	if x := a.csvs[file]; x != nil {
		return x, l, nil
	}
	t, err := a.files.Text(a.ctx, file, l.Encoding)
	if err != nil {
		return nil, l, err
	}
	x, err := edit.ReadCSV(t, l.Delimiter)
	if err != nil {
		return nil, l, err
	}
	a.csvs[file] = x
	return x, l, nil
}

// Set gives a person other values of attributes; "" takes a value away. An attribute that
// the person's file does not have yet becomes a column of it.
func (a *Amendment) Set(p int, values map[string]string) error {
	if len(values) == 0 {
		return nil
	}
	pos := a.repo.People.Pos(p)
	if !strings.HasSuffix(pos.File, ".csv") {
		return a.setYAML(p, pos, values)
	}
	x, l, err := a.csv(pos.File)
	if err != nil {
		return err
	}
	own, err := a.own(x, l, pos.File, values)
	if err != nil {
		return err
	}
	return x.Set(pos.Line, own)
}

// own are values by the columns of a file, which come into being where nobody else names
// them.
func (a *Amendment) own(
	x *edit.CSV, l desired.Layout, file string, values map[string]string,
) (map[string]string, error) {
	out := map[string]string{}
	for _, attr := range sorted(values) {
		column := attr
		if l.Columns != nil {
			theirs, ok := find(l.Columns, attr)
			if !ok {
				return nil, fmt.Errorf(
					"%s is laid out by rosters in %s, which names no column for %s; add it there first",
					file, desired.Root, attr,
				)
			}
			column = theirs
		} else if !x.Has(column) {
			if values[attr] == "" {
				continue
			}
			x.AddColumn(column)
		}
		out[column] = l.Own(attr, values[attr])
	}
	return out, nil
}

func find(columns map[string]string, attr string) (string, bool) {
	for ours, theirs := range columns {
		if table.Fold(ours) == table.Fold(attr) {
			return theirs, true
		}
	}
	return "", false
}

func sorted(values map[string]string) []string {
	var out []string
	for name := range values {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// setYAML gives a person of a hand-kept file other values.
func (a *Amendment) setYAML(p int, pos model.Pos, values map[string]string) error {
	y, err := a.yaml(pos.File)
	if err != nil {
		return err
	}
	if a.rows[pos.File] == nil {
		a.rows[pos.File] = map[int]*yaml.Node{}
		if list := y.Get("people"); list != nil {
			for _, n := range list.Content {
				a.rows[pos.File][n.Line] = n
			}
		}
	}
	node := a.rows[pos.File][pos.Line]
	if node == nil {
		return fmt.Errorf("%s: no person begins in this line any more", pos)
	}
	for _, attr := range sorted(values) {
		if err := setValue(y, node, attr, values[attr]); err != nil {
			return err
		}
	}
	return nil
}

func setValue(y *edit.YAML, m *yaml.Node, attr, value string) error {
	key, at := keyOf(m, attr)
	if first, rest, ok := strings.Cut(attr, "."); ok && at == nil {
		if _, inner := keyOf(m, first); inner != nil && inner.Kind == yaml.MappingNode {
			return setValue(y, inner, rest, value)
		}
	}
	switch {
	case value == "" && at == nil:
		return nil
	case value == "":
		return y.RemoveKey(m, key)
	case at != nil && at.Kind == yaml.ScalarNode && at.Tag != "!!null":
		return y.SetText(at, value)
	}
	if key != nil {
		attr = key.Value
	}
	return y.SetKey(m, attr, edit.Inline(value))
}

// keyOf finds an entry of a mapping, case ignored.
func keyOf(m *yaml.Node, name string) (key, value *yaml.Node) {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if table.Fold(m.Content[i].Value) == table.Fold(name) {
			return m.Content[i], m.Content[i+1]
		}
	}
	return nil, nil
}

// Add adds a person to a file of people, which is made where there is none.
func (a *Amendment) Add(file string, values map[string]string) error {
	if !strings.HasSuffix(file, ".csv") {
		var lines []string
		for _, attr := range inOrder(values) {
			lines = append(lines, "  "+attr+": "+edit.Scalar(values[attr]))
		}
		lines[0] = "-" + lines[0][1:]
		a.people[file] = append(a.people[file], lines...)
		return nil
	}
	x, l, err := a.csv(file)
	if err != nil {
		return err
	}
	if x.Header == nil {
		return fmt.Errorf("%s has no header row", file)
	}
	own, err := a.own(x, l, file, values)
	if err != nil {
		return err
	}
	return x.Append(own)
}

// Begin begins a file of people with a header of attributes.
func (a *Amendment) Begin(file string, attrs []string) error {
	t, err := a.files.Text(a.ctx, file, "")
	if err != nil {
		return err
	}
	x, err := edit.NewCSV(t, attrs)
	if err != nil {
		return err
	}
	a.csvs[file] = x
	return nil
}

// inOrder lists the names of values that are not empty: id and userName first, as people
// are read by them.
func inOrder(values map[string]string) []string {
	var out []string
	for _, name := range sorted(values) {
		if values[name] != "" && name != "id" && name != "userName" {
			out = append(out, name)
		}
	}
	return append([]string{"id", "userName"}, out...)
}

// AddKit adds a kit to a file of kits; lines begin with its name.
func (a *Amendment) AddKit(file string, lines ...string) {
	a.kits[file] = append(a.kits[file], lines...)
}

// Create makes a file that is not there yet.
func (a *Amendment) Create(file, text string) error {
	t, err := a.files.Text(a.ctx, file, "")
	if err != nil {
		return err
	}
	if len(t.Old) > 0 {
		return fmt.Errorf("%s is there already", file)
	}
	t.Replace(0, 0, text)
	return nil
}
