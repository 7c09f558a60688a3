package edit

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"
)

// AddItems adds items to the list under a mapping's key, which is made where it is not
// there; each is written in one line.
func (y *YAML) AddItems(m *yaml.Node, key string, items ...string) error {
	k, list := entry(m, key)
	dashes := func(column int) []string {
		var out []string
		for _, item := range items {
			out = append(out, strings.Repeat(" ", column)+"- "+item)
		}
		return out
	}
	switch {
	case k == nil && flow(m):
		return y.AddKey(m, []string{key + ": [" + strings.Join(items, ", ") + "]"})
	case k == nil:
		return y.AddKey(m, append([]string{key + ":"}, dashes(2)...))
	case list.Tag == "!!null" && list.Value == "":
		y.insertAfter(k.Line, dashes(k.Column+1))
		return nil
	case list.Kind != yaml.SequenceNode:
		return y.unclear(list)
	case flow(list) && len(list.Content) == 0 && !flow(m):
		end, err := y.end(list)
		if err != nil {
			return err
		}
		y.text.Replace(y.afterColon(k), end, y.text.End()+strings.Join(dashes(k.Column+1), y.text.End()))
		return nil
	case flow(list):
		end, err := y.end(list)
		if err != nil {
			return err
		}
		return y.within(end, len(list.Content) > 0, strings.Join(items, ", "))
	}
	y.insertAfter(y.last(list.Content[len(list.Content)-1].Line, list.Column-1), dashes(list.Column-1))
	return nil
}

// ChangeItems takes items out of the list under a mapping's key, by their numbers in order,
// and adds others at its end. A list that is left without items goes with its key.
func (y *YAML) ChangeItems(m *yaml.Node, key string, gone []int, add []string) error {
	k, list := entry(m, key)
	if len(gone) == 0 {
		return y.AddItems(m, key, add...)
	}
	if list == nil || list.Kind != yaml.SequenceNode {
		return fmt.Errorf("%s has no list %s", y.text.Name, key)
	}
	if len(gone) == len(list.Content) {
		if len(add) == 0 {
			return y.RemoveKey(m, k)
		}
		return y.fill(list, add)
	}
	for _, i := range gone {
		if err := y.removeItem(list, i, gone); err != nil {
			return err
		}
	}
	if len(add) == 0 {
		return nil
	}
	return y.AddItems(m, key, add...)
}

// fill puts other items in the place of all of a list.
func (y *YAML) fill(list *yaml.Node, items []string) error {
	if flow(list) {
		end, err := y.end(list)
		if err == nil {
			y.text.Replace(y.at(list), end, "["+strings.Join(items, ", ")+"]")
		}
		return err
	}
	first := list.Content[0]
	last := y.last(list.Content[len(list.Content)-1].Line, list.Column-1)
	end, pad := y.text.End(), strings.Repeat(" ", list.Column-1)+"- "
	y.text.Replace(y.text.begin(first.Line), y.text.begin(last+1), pad+strings.Join(items, end+pad)+end)
	return nil
}

// removeItem takes one item out of a list of which some stay.
func (y *YAML) removeItem(list *yaml.Node, i int, gone []int) error {
	item := list.Content[i]
	if !flow(list) {
		y.text.Replace(y.text.begin(item.Line), y.text.begin(y.last(item.Line, list.Column-1)+1), "")
		return nil
	}
	from := y.at(item)
	to, err := y.end(item)
	if err != nil {
		return err
	}
	trailing := true // with all that follow, so that the comma before it goes instead
	for n := i; n < len(list.Content); n++ {
		trailing = trailing && slices.Contains(gone, n)
	}
	switch {
	case !trailing:
		to = y.at(list.Content[i+1])
	default:
		if from, err = y.end(list.Content[i-1]); err != nil {
			return err
		}
	}
	y.text.Replace(from, to, "")
	return nil
}
