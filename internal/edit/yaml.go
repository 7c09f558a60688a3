package edit

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
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

// quoted is the offset behind a text in quotes, or -1.
func quoted(text []byte, at int) int {
	q := text[at]
	for i := at + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && q == '"':
			i++
		case text[i] == q && q == '\'' && i+1 < len(text) && text[i+1] == q:
			i++
		case text[i] == q:
			return i + 1
		}
	}
	return -1
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

// date is how a day is written, which needs no quotes where it is read as text.
var date = regexp.MustCompile(`^\d{4}-\d\d-\d\d$`)

// Scalar writes a text as a scalar of one line, in quotes where it needs them.
func Scalar(s string) string {
	if date.MatchString(s) {
		return s
	}
	n := yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s}
	if strings.ContainsAny(s, "\n\r\t") {
		n.Style = yaml.DoubleQuotedStyle
	}
	out, err := yaml.Dump(&n, yaml.WithLineWidth(-1))
	if err != nil {
		panic(err) // a plain text always dumps
	}
	return strings.TrimRight(string(out), "\n")
}

// Inline writes a text as a scalar between brackets.
func Inline(s string) string {
	out := Scalar(s)
	if !strings.HasPrefix(out, `"`) && !strings.HasPrefix(out, "'") && strings.ContainsAny(out, "[]{},") {
		return Quoted(s)
	}
	return out
}

// Quoted writes a text in double quotes.
func Quoted(s string) string {
	n := yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s, Style: yaml.DoubleQuotedStyle}
	out, err := yaml.Dump(&n, yaml.WithLineWidth(-1))
	if err != nil {
		panic(err) // a plain text always dumps
	}
	return strings.TrimRight(string(out), "\n")
}

// Slug is a name in small letters, digits and hyphens.
func Slug(name string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(name) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			b.WriteRune(r)
		} else if b.Len() > 0 && !strings.HasSuffix(b.String(), "-") {
			b.WriteByte('-')
		}
	}
	if out := strings.Trim(b.String(), "-"); out != "" {
		return out
	}
	return "thing"
}
