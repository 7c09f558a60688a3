package amend

import (
	"fmt"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/edit"
)

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

// Drop takes somebody out of those who hold a kit by name.
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

// kit finds the lines of a kit in its file.
func (a *Amendment) kit(k *model.Kit) (*edit.YAML, *yaml.Node, error) {
	y, err := a.yaml(k.Pos.File)
	if err != nil {
		return nil, nil, err
	}
	node := y.Get("kits", k.Name)
	if node == nil {
		return nil, nil, fmt.Errorf("%s: there is no kit %s in this line any more", k.Pos, k.Name)
	}
	return y, node, nil
}

func (a *Amendment) finish(l *list) error {
	y, node, err := a.kit(l.kit)
	if err != nil {
		return err
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
