package edit

import (
	"errors"
	"strings"
	"unicode/utf8"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/source"
)

// A YAML is a text as nodes with their places.
type YAML struct {
	Root *yaml.Node // nil where the file holds nothing

	text *Text
}

// ReadYAML parses a text.
func ReadYAML(t *Text) (*YAML, error) {
	var doc yaml.Node
	if err := yaml.Load(t.Old, &doc, yaml.WithUniqueKeys(false)); err != nil {
		var le *yaml.LoadError
		pos := model.Pos{File: t.Name}
		if errors.As(err, &le) {
			pos.Line = le.Mark.Line
		}
		if len(strings.TrimSpace(string(t.Old))) > 0 && !onlyComments(t.Old) {
			return nil, source.NewProblem(pos, "not-yaml", "this is not YAML: "+err.Error(), "correct it first")
		}
	}
	root := &doc
	for root.Kind == yaml.DocumentNode && len(root.Content) > 0 {
		root = root.Content[0]
	}
	if root.Kind == 0 || root.Kind == yaml.DocumentNode || root.Tag == "!!null" {
		root = nil
	}
	return &YAML{Root: root, text: t}, nil
}

func onlyComments(data []byte) bool {
	for line := range strings.SplitSeq(string(data), "\n") {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			return false
		}
	}
	return true
}

// Get follows keys through mappings; nil where one is not there.
func (y *YAML) Get(keys ...string) *yaml.Node { return Get(y.Root, keys...) }

// Get follows keys through mappings from a node.
func Get(n *yaml.Node, keys ...string) *yaml.Node {
	for _, k := range keys {
		_, n = entry(n, k)
	}
	return n
}

// entry is the key and the value of a mapping's entry, or nil.
func entry(n *yaml.Node, key string) (k, v *yaml.Node) {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil, nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i], n.Content[i+1]
		}
	}
	return nil, nil
}

// Key is the node of a mapping's key, nil where it has none of that name.
func Key(m *yaml.Node, name string) *yaml.Node {
	k, _ := entry(m, name)
	return k
}

// at is the offset of a node.
func (y *YAML) at(n *yaml.Node) int {
	from := y.text.begin(n.Line)
	row := y.text.Old[from:]
	if n.Line == 1 {
		row = []byte(strings.TrimPrefix(string(row), mark))
		from = len(y.text.Old) - len(row)
	}
	for i := 1; i < n.Column && len(row) > 0; i++ {
		_, size := utf8.DecodeRune(row)
		row = row[size:]
		from += size
	}
	return from
}

// flow reports whether a list or a mapping stands in brackets.
func flow(n *yaml.Node) bool { return n.Style&yaml.FlowStyle != 0 }

// unclear says that a place is written in a way that is left to people.
func (y *YAML) unclear(n *yaml.Node) error {
	return source.NewProblem(
		model.Pos{File: y.text.Name, Line: n.Line, Column: n.Column}, "by-hand",
		"this is written in a way that cannot be changed without changing the rest", "change it by hand",
	)
}

// end is the offset behind a scalar of one line, or behind the bracket that
// closes a list or a mapping.
func (y *YAML) end(n *yaml.Node) (int, error) {
	from, text := y.at(n), y.text.Old
	switch {
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return 0, y.unclear(n)
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		end := quoted(text, from)
		if end < 0 {
			return 0, y.unclear(n)
		}
		return end, nil
	case n.Kind == yaml.ScalarNode:
		if !strings.HasPrefix(string(text[from:]), n.Value) {
			return 0, y.unclear(n)
		}
		return from + len(n.Value), nil
	case flow(n):
		depth := 0
		for i := from; i < len(text); i++ {
			switch c := text[i]; {
			case c == '"', c == '\'' && (i == 0 || strings.IndexByte("[{,: \n", text[i-1]) >= 0):
				if i = quoted(text, i) - 1; i < 0 {
					return 0, y.unclear(n)
				}
			case c == '#' && (text[i-1] == ' ' || text[i-1] == '\n'):
				for i+1 < len(text) && text[i+1] != '\n' {
					i++
				}
			case c == '[', c == '{':
				depth++
			case c == ']', c == '}':
				if depth--; depth == 0 {
					return i + 1, nil
				}
			}
		}
	}
	return 0, y.unclear(n)
}

// last is the last line of what is indented below a column (from 0), beginning
// at a line; blank lines and comments at its end are not part of it.
func (y *YAML) last(line, column int) int {
	n := line + 1
	for ; n <= y.text.count(); n++ {
		row := y.text.row(n)
		trimmed := strings.TrimLeft(row, " ")
		if strings.TrimSpace(trimmed) == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		if len(row)-len(trimmed) <= column {
			break
		}
	}
	for n--; n > line; n-- {
		if row := strings.TrimSpace(y.text.row(n)); row != "" && !strings.HasPrefix(row, "#") {
			break
		}
	}
	return n
}

// insertAfter puts lines after a line.
func (y *YAML) insertAfter(line int, lines []string) {
	at, end := y.text.begin(line+1), y.text.End()
	with := strings.Join(lines, end) + end
	if at > 0 && y.text.Old[at-1] != '\n' {
		with = end + strings.TrimSuffix(with, end)
	}
	y.text.Replace(at, at, with)
}

// indented puts spaces before lines.
func indented(by int, lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		if l != "" {
			out[i] = strings.Repeat(" ", by) + l
		}
	}
	return out
}

// SetText gives a scalar another text.
func (y *YAML) SetText(n *yaml.Node, value string) error {
	to, err := y.end(n)
	if err != nil {
		return err
	}
	if n.Value == value {
		return nil
	}
	out := Scalar(value)
	if n.Style&yaml.DoubleQuotedStyle != 0 && !strings.HasPrefix(out, `"`) {
		out = Quoted(value)
	}
	y.text.Replace(y.at(n), to, out)
	return nil
}

// SetKey gives a mapping's key a value that is written as it is given: a
// scalar, or something in brackets. A key that is not there comes last.
func (y *YAML) SetKey(m *yaml.Node, key, written string) error {
	if _, v := entry(m, key); v != nil {
		to, err := y.end(v)
		if err != nil {
			return err
		}
		if v.Tag == "!!null" && v.Value == "" {
			written = " " + written
		}
		y.text.Replace(y.at(v), to, written)
		return nil
	}
	return y.AddKey(m, []string{key + ": " + written})
}

// AddKey adds an entry at a mapping's end; of a mapping in brackets, it is
// given as one line.
func (y *YAML) AddKey(m *yaml.Node, lines []string) error {
	if m == nil || m.Kind != yaml.MappingNode || len(m.Content) == 0 && !flow(m) {
		return errors.New("there is nothing to add a key to")
	}
	if flow(m) {
		end, err := y.end(m)
		if err != nil || len(lines) > 1 {
			return errors.Join(err, y.unclear(m))
		}
		return y.within(end, len(m.Content) > 0, lines[0])
	}
	column := m.Content[0].Column - 1
	lastKey := m.Content[len(m.Content)-2]
	line, err := y.lastOf(lastKey, m.Content[len(m.Content)-1], column)
	if err != nil {
		return err
	}
	y.insertAfter(line, indented(column, lines))
	return nil
}

// lastOf is the last line of an entry of a mapping.
func (y *YAML) lastOf(key, value *yaml.Node, column int) (int, error) {
	if flow(value) {
		end, err := y.end(value)
		return y.text.Line(max(end-1, 0)), err
	}
	last := y.last(key.Line, column)
	if value.Kind == yaml.SequenceNode { // whose dashes may stand under the key itself
		last = max(last, y.last(value.Content[len(value.Content)-1].Line, value.Column-1))
	}
	return last, nil
}

// within puts an item before a closing bracket.
func (y *YAML) within(end int, follows bool, item string) error {
	at := end - 1
	for at > 0 && (y.text.Old[at-1] == ' ' || y.text.Old[at-1] == '\n' || y.text.Old[at-1] == '\r') {
		at--
	}
	if follows {
		item = ", " + item
		if at > 0 && y.text.Old[at-1] == ',' {
			item = item[1:]
		}
	}
	y.text.Replace(at, at, item)
	return nil
}

// afterColon is the offset behind the colon after a key.
func (y *YAML) afterColon(k *yaml.Node) int {
	end, err := y.end(k)
	if err != nil {
		return y.at(k)
	}
	for y.text.Old[end] != ':' {
		end++
	}
	return end + 1
}

// RemoveKey takes an entry out of a mapping.
func (y *YAML) RemoveKey(m, k *yaml.Node) error {
	at := -1
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i] == k {
			at = i
		}
	}
	if at < 0 || len(m.Content) == 2 {
		return y.unclear(m)
	}
	v := m.Content[at+1]
	if !flow(m) {
		last, err := y.lastOf(k, v, k.Column-1)
		if err != nil {
			return err
		}
		if y.text.Line(y.at(m)) == k.Line && y.startsItem(k) { // the dash before it goes on with the next key
			next := m.Content[2]
			y.text.Replace(y.at(k), y.at(next), "")
			return nil
		}
		first := k.Line
		if blankAt := func(n int) bool { return n > 1 && strings.TrimSpace(y.text.row(n)) == "" }; blankAt(first-1) &&
			(last == y.text.count() || blankAt(last+1)) {
			first--
		}
		y.text.Replace(y.text.begin(first), y.text.begin(last+1), "")
		return nil
	}
	from := y.at(k)
	to, err := y.end(v)
	if err != nil {
		return err
	}
	if at+2 < len(m.Content) {
		to = y.at(m.Content[at+2])
	} else if from, err = y.end(m.Content[at-1]); err != nil {
		return err
	}
	y.text.Replace(from, to, "")
	return nil
}

// startsItem reports whether a key stands behind the dash of a list.
func (y *YAML) startsItem(k *yaml.Node) bool {
	return strings.Contains(string(y.text.Old[y.text.begin(k.Line):y.at(k)]), "-")
}

// AddEntry adds lines under a key at the top of a file, at the end of what is
// there; the key is made where it is not.
func (y *YAML) AddEntry(key string, lines []string) error {
	k, v := entry(y.Root, key)
	switch {
	case k == nil:
		all := append([]string{key + ":"}, indented(2, lines)...)
		if y.text.Changed() || len(strings.TrimSpace(string(y.text.Old))) > 0 {
			all = append([]string{""}, all...)
		}
		y.text.Append(all...)
		return nil
	case v.Tag == "!!null" && v.Value == "":
		y.insertAfter(k.Line, indented(2, lines))
		return nil
	case flow(v) || len(v.Content) == 0:
		return y.unclear(v)
	}
	column := v.Column - 1
	if v.Kind == yaml.MappingNode {
		column = v.Content[0].Column - 1
	}
	first := indented(column, lines)
	last, err := y.lastOf(k, v, k.Column-1)
	if err != nil {
		return err
	}
	if v.Kind == yaml.MappingNode && strings.Contains(string(y.text.Old[y.at(v):]), "\n\n") {
		first = append([]string{""}, first...)
	}
	y.insertAfter(last, first)
	return nil
}
