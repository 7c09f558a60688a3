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
	"maps"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/source"
)

// An Amendment is what is to be changed in the files of a repository, whose people were
// read.
type Amendment struct {
	ctx   context.Context
	repo  *desired.Repo
	files *edit.Files
	done  bool
	csvs  map[string]*edit.CSV
	yamls map[string]*edit.YAML
	lists []*list
	kits  map[string][]string // file → lines of kits to come
	gives []given
	alone map[string][]string // file → accounts that are to be left as they are
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
		csvs: map[string]*edit.CSV{}, yamls: map[string]*edit.YAML{}, kits: map[string][]string{},
		alone: map[string][]string{},
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
	for file, lines := range a.kits {
		y, err := a.yaml(file)
		if err != nil {
			return nil, err
		}
		if err := y.AddEntry("kits", lines); err != nil {
			return nil, err
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
	var node *yaml.Node
	if list := y.Get("people"); list != nil {
		for _, n := range list.Content {
			if n.Line == pos.Line {
				node = n
			}
		}
	}
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
		y, err := a.yaml(file)
		if err != nil {
			return err
		}
		var lines []string
		for _, attr := range inOrder(values) {
			lines = append(lines, "  "+attr+": "+edit.Scalar(values[attr]))
		}
		lines[0] = "-" + lines[0][1:]
		return y.AddEntry("people", lines)
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

// An Entry is a person who is to hold a kit by name, or to be left out of its rule.
type Entry struct {
	Person  string // id
	Until   day.Day
	Because string
}

// Written is the entry as a list of holders has it.
func (e Entry) Written() string {
	out := "{person: " + edit.Inline(e.Person)
	if e.Until != day.None {
		out += ", until: " + e.Until.String()
	}
	return out + ", because: " + edit.Inline(e.Because) + "}"
}

// Hold lets somebody hold a kit by name; an entry that there is already gives way.
func (a *Amendment) Hold(k *model.Kit, e Entry) { a.enter(k, "holders", e) }

// Except leaves somebody out of a kit's rule.
func (a *Amendment) Except(k *model.Kit, e Entry) { a.enter(k, "except", e) }

func (a *Amendment) enter(k *model.Kit, key string, e Entry) {
	l := a.list(k, key)
	l.add = append(l.add, e)
	l.drop[e.Person] = true
}

// Drop takes somebody out of those who hold a kit by name, Admit out of those who are left
// out of its rule.
func (a *Amendment) Drop(k *model.Kit, person string) {
	a.list(k, "holders").drop[person] = true
}

// Admit takes somebody out of those who are left out of a kit's rule.
func (a *Amendment) Admit(k *model.Kit, person string) {
	a.list(k, "except").drop[person] = true
}

func (a *Amendment) list(k *model.Kit, key string) *list {
	for _, l := range a.lists {
		if l.kit == k && l.key == key {
			return l
		}
	}
	l := &list{kit: k, key: key, drop: map[string]bool{}}
	a.lists = append(a.lists, l)
	return l
}

func (a *Amendment) finish(l *list) error {
	y, err := a.yaml(l.kit.Pos.File)
	if err != nil {
		return err
	}
	node := y.Get("kits", l.kit.Name)
	if node == nil {
		return fmt.Errorf("%s: there is no kit %s in this line any more", l.kit.Pos, l.kit.Name)
	}
	var gone []int
	has := edit.Get(node, l.key)
	if has != nil && has.Kind == yaml.MappingNode {
		return a.finishListed(l, edit.Get(has, "listed").Value)
	}
	if has != nil {
		for i, n := range has.Content {
			if who := edit.Get(n, "person"); who != nil && l.drop[who.Value] {
				gone = append(gone, i)
			}
		}
	}
	if len(gone) == 0 && len(l.add) == 0 {
		return nil
	}
	var add []string
	for _, e := range l.add {
		add = append(add, e.Written())
	}
	return y.ChangeItems(node, l.key, gone, add)
}

// finishListed changes a list that stands in a CSV file of its own.
func (a *Amendment) finishListed(l *list, file string) error {
	t, err := a.files.Text(a.ctx, file, "")
	if err != nil {
		return err
	}
	x, err := edit.ReadCSV(t, ',')
	if err != nil {
		return err
	}
	has := l.kit.Holders
	if l.key == "except" {
		has = l.kit.Except
	}
	for _, h := range has {
		if l.drop[h.Person] {
			x.Remove(h.Pos.Line)
		}
	}
	for _, e := range l.add {
		row := map[string]string{"person": e.Person, "because": e.Because}
		if e.Until != day.None {
			x.AddColumn("until")
			row["until"] = e.Until.String()
		}
		if err := x.Append(row); err != nil {
			return err
		}
	}
	return x.Finish()
}

// AddKit adds a kit to a file of kits; lines begin with its name.
func (a *Amendment) AddKit(file string, lines ...string) {
	a.kits[file] = append(a.kits[file], lines...)
}

// Take takes a thing out of all that gives it or brings it along and, where the definition
// is Pravet's own, has it ended in the application.
func (a *Amendment) Take(app int, thing int32) error {
	of := a.repo.Apps[app]
	t := &of.Things[thing]
	for _, k := range a.repo.Kits {
		for _, g := range k.Gives {
			if g.App == app && slices.Contains(g.Things, thing) {
				if err := a.takeFrom(k.Pos.File, t.Name, t.Kind.Plural(), "kits", k.Name, "gives", of.ID); err != nil {
					return err
				}
			}
		}
	}
	file := of.Pos.File
	for i := range of.Things {
		from := &of.Things[i]
		if !slices.Contains(from.Implies, thing) {
			continue
		}
		path, key := []string{from.Kind.Plural(), from.Name, "brings"}, t.Kind.Plural()
		if y, err := a.yaml(file); err != nil {
			return err
		} else if t.Kind == model.Role && y.Get(from.Kind.Plural(), from.Name, "includes") != nil {
			path, key = path[:2], "includes"
		}
		if err := a.takeFrom(file, t.Name, key, path...); err != nil {
			return err
		}
	}
	if !t.Define || t.Retire {
		return nil
	}
	y, err := a.yaml(file)
	if err != nil {
		return err
	}
	return y.SetKey(y.Get(t.Kind.Plural(), t.Name), "retire", "true")
}

// takeFrom takes a name out of the list at the end of a path of keys, and what is left empty
// by that.
func (a *Amendment) takeFrom(file, name, key string, path ...string) error {
	y, err := a.yaml(file)
	if err != nil {
		return err
	}
	m := y.Get(path...)
	list := edit.Get(m, key)
	if list == nil {
		return fmt.Errorf("%s has no %s any more", file, strings.Join(append(path, key), ", "))
	}
	i := slices.IndexFunc(list.Content, func(n *yaml.Node) bool { return n.Value == name })
	if i < 0 {
		return nil
	}
	if len(list.Content) > 1 {
		return y.ChangeItems(m, key, []int{i}, nil)
	}
	for len(m.Content) == 2 && len(path) > 1 {
		key, path = path[len(path)-1], path[:len(path)-1]
		m = y.Get(path...)
	}
	if path[0] == "kits" && len(path) == 2 { // the kit gives nothing else
		if edit.Get(m, "with") != nil {
			return y.RemoveKey(m, edit.Key(m, key))
		}
		for _, k := range a.repo.Kits {
			if slices.ContainsFunc(k.With, func(w model.Name) bool { return w.Text == path[1] }) {
				return source.NewProblem(k.Pos, "by-hand",
					fmt.Sprintf("kit %s comes with kit %s, which would give nothing any more", k.Name, path[1]),
					"take it out there first")
			}
		}
		m, key = y.Get("kits"), path[1]
	}
	return y.RemoveKey(m, edit.Key(m, key))
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

// Give lets a kit give more in an application: names by the plural of their kind.
func (a *Amendment) Give(k *model.Kit, app string, names map[string][]string) {
	a.gives = append(a.gives, given{k, app, names})
}

type given struct {
	kit   *model.Kit
	app   string
	names map[string][]string
}

func (a *Amendment) give(g given) error {
	y, err := a.yaml(g.kit.Pos.File)
	if err != nil {
		return err
	}
	node := y.Get("kits", g.kit.Name)
	if node == nil {
		return fmt.Errorf("%s: there is no kit %s in this line any more", g.kit.Pos, g.kit.Name)
	}
	if there := edit.Get(node, "gives", g.app); there != nil {
		for _, kind := range slices.Sorted(maps.Keys(g.names)) {
			var items []string
			for _, n := range g.names[kind] {
				items = append(items, edit.Inline(n))
			}
			if err := y.AddItems(there, kind, items...); err != nil {
				return err
			}
		}
		return nil
	}
	var parts []string
	for _, kind := range slices.Sorted(maps.Keys(g.names)) {
		var items []string
		for _, n := range g.names[kind] {
			items = append(items, edit.Inline(n))
		}
		parts = append(parts, kind+": ["+strings.Join(items, ", ")+"]")
	}
	written := "{" + strings.Join(parts, ", ") + "}"
	if gives := edit.Get(node, "gives"); gives != nil && len(gives.Content) > 0 {
		return y.AddKey(gives, []string{g.app + ": " + written})
	}
	return y.AddKey(node, []string{"gives:", "  " + g.app + ": " + written})
}
