package desired

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// maxYAML is how large a hand-kept file may be, in bytes.
const maxYAML = 32 << 20

// maxDepth is how deeply a file's values may be nested.
const maxDepth = 32

// A doc is one YAML file while it is read. Its methods take a node and what is
// expected there; what is not as expected becomes a problem at the node's
// place, and the zero value is returned.
type doc struct {
	file  string
	tree  *source.Tree
	probs *source.Problems
	sum   string
}

// openYAML reads a file and returns its root, or nil after a problem or
// for a file without content.
func openYAML(ctx context.Context, tree *source.Tree, file string, probs *source.Problems) (*doc, *yaml.Node) {
	d := &doc{file: file, tree: tree, probs: probs}
	data, sum, _, err := tree.ReadAll(ctx, file, maxYAML)
	if err != nil {
		var p *source.Problem
		if !errors.As(err, &p) {
			p = source.Unreadable(file, err)
		}
		probs.Add(p)
		return d, nil
	}
	d.sum = sum
	return d, d.parse(data)
}

func (d *doc) parse(data []byte) *yaml.Node {
	var docs []yaml.Node
	if err := yaml.Load(data, &docs, yaml.WithAllDocuments(), yaml.WithUniqueKeys(false)); err != nil {
		d.loadError(data, err)
		return nil
	}
	if len(docs) == 0 {
		return nil
	}
	if len(docs) > 1 {
		d.problem(
			&docs[1],
			"several-documents",
			"a second document begins here, and one file holds one",
			"move it to a file of its own",
		)
		return nil
	}
	root := &docs[0]
	for root.Kind == yaml.DocumentNode && len(root.Content) > 0 {
		root = root.Content[0]
	}
	if !d.plain(root, 0) {
		return nil
	}
	if root.Kind == yaml.DocumentNode || root.Tag == "!!null" {
		return nil
	}
	return root
}

// loadError turns the parser's error into a problem with a remedy.
func (d *doc) loadError(data []byte, err error) {
	pos, says := model.Pos{File: d.file, Line: 1}, err.Error()
	var le *yaml.LoadError
	if errors.As(err, &le) {
		says = le.Message
		mark := le.Mark
		if mark.Line == 0 {
			mark = le.ContextMark
		}
		pos.Line, pos.Column = mark.Line, mark.Column
	}
	hint := "look at the indentation and the quotes here and on the line before"
	lines := strings.Split(string(data), "\n")
	for n := max(pos.Line-2, 0); n < min(pos.Line+1, len(lines)); n++ {
		indent := lines[n][:len(lines[n])-len(strings.TrimLeft(lines[n], " \t"))]
		if i := strings.IndexByte(indent, '\t'); i >= 0 {
			pos.Line, pos.Column = n+1, i+1
			says, hint = "a tab stands in the indentation", "indent with spaces"
			break
		}
	}
	d.probs.Add(source.NewProblem(pos, "not-yaml", "this is not YAML: "+says, hint))
}

// plain refuses anchors, aliases and tags of other kinds: every value stands
// where it is used, so that it has one place, and no file grows when read.
func (d *doc) plain(n *yaml.Node, depth int) bool {
	switch {
	case n.Kind == yaml.AliasNode:
		d.problem(n, "no-aliases", "aliases (*"+n.Value+") are not read here", "write the value out")
		return false
	case n.Anchor != "":
		d.problem(n, "no-aliases", "anchors (&"+n.Anchor+") are not read here", "write each value out where it is used")
		return false
	case depth > maxDepth:
		d.problem(n, "too-deep", "the values are nested too deeply", "")
		return false
	}
	for _, c := range n.Content {
		if !d.plain(c, depth+1) {
			return false
		}
	}
	return true
}

func (d *doc) pos(n *yaml.Node) model.Pos {
	return model.Pos{File: d.file, Line: n.Line, Column: n.Column}
}

func (d *doc) problem(n *yaml.Node, rule, says, hint string) {
	d.probs.Add(source.NewProblem(d.pos(n), rule, says, hint))
}

// An entry is one key of a mapping with its value.
type entry struct {
	name       string
	key, value *yaml.Node
}

// entries returns a mapping's entries in order. A repeated key is a problem
// at both places.
func (d *doc) entries(n *yaml.Node, what string) []entry {
	if n == nil || n.Tag == "!!null" {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		d.problem(n, "wrong-type", what+" is expected to be a list of keys with values", "write KEY: VALUE, one a line")
		return nil
	}
	first := map[string]*yaml.Node{}
	var out []entry
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if k.Kind != yaml.ScalarNode {
			d.problem(k, "wrong-type", "a key is expected here", "")
			continue
		}
		if at, ok := first[k.Value]; ok {
			d.problem(
				k,
				"duplicate-key",
				fmt.Sprintf("the key %s stands here again; the first is in line %d", k.Value, at.Line),
				"keep one of them",
			)
			d.problem(
				at,
				"duplicate-key",
				fmt.Sprintf("the key %s is also in line %d", k.Value, k.Line),
				"keep one of them",
			)
			continue
		}
		first[k.Value] = k
		out = append(out, entry{k.Value, k, v})
	}
	return out
}

// didYouMean hints at the nearest known name, or lists them when none is near
// and they are few.
func didYouMean(name string, known []string, otherwise string) string {
	if near := table.Nearest(name, known); near != "" {
		return "did you mean " + near + "?"
	}
	if len(known) == 0 || len(known) > 32 || otherwise == "" {
		return ""
	}
	names := slices.Clone(known)
	for i, n := range names {
		if strings.Contains(n, " ") {
			names[i] = strconv.Quote(n)
		}
	}
	return otherwise + strings.Join(names, ", ")
}

// text returns a scalar's text, numbers and dates as they are written.
func (d *doc) text(n *yaml.Node, what string) string {
	if n == nil || n.Tag == "!!null" {
		return ""
	}
	if n.Kind != yaml.ScalarNode {
		d.problem(
			n, "wrong-type", what+" takes a single value, but this is a list or a mapping", "write one word, or text in quotes",
		)
		return ""
	}
	return n.Value
}

func (d *doc) boolean(n *yaml.Node, what string) bool {
	if n == nil {
		return false
	}
	b, err := strconv.ParseBool(n.Value)
	if err != nil || n.Kind != yaml.ScalarNode {
		d.problem(n, "wrong-type", what+" is expected to be true or false", "")
	}
	return b
}

func (d *doc) integer(n *yaml.Node, what string, least, most int) int {
	v, err := strconv.Atoi(d.text(n, what))
	if err != nil || v < least || most > 0 && v > most {
		of := fmt.Sprintf("at least %d", least)
		if most > 0 {
			of += fmt.Sprintf(" and at most %d", most)
		}
		d.problem(
			n, "wrong-number", fmt.Sprintf("%s is expected to be a whole number of %s, not %q", what, of, n.Value), "",
		)
		return least
	}
	return v
}

func (d *doc) date(n *yaml.Node, what string) day.Day {
	v := d.text(n, what)
	if v == "" {
		return day.None
	}
	out, err := day.Parse(v)
	if err != nil {
		d.problem(n, "wrong-date", what+": "+err.Error(), "")
	}
	return out
}

// list returns the items of a list.
func (d *doc) list(n *yaml.Node, what string) []*yaml.Node {
	if n == nil || n.Tag == "!!null" {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		d.problem(n, "wrong-type", what+" is expected to be a list", "write [one, another]")
		return nil
	}
	return n.Content
}

// names returns a list of names with their places; a repeated one is a
// problem.
func (d *doc) names(n *yaml.Node, what string) []model.Name {
	var out []model.Name
	first := map[string]int{}
	for _, item := range d.list(n, what) {
		v := d.text(item, "an entry of "+what)
		if v == "" {
			continue
		}
		if t := strings.TrimSpace(v); t != v {
			d.problem(
				item, "bad-name", fmt.Sprintf("%q begins or ends with a space, which no name has", v),
				fmt.Sprintf("write %q", t),
			)
			continue
		}
		if line, ok := first[v]; ok {
			d.problem(
				item,
				"duplicate-entry",
				fmt.Sprintf("%s is listed twice under %s; the first is in line %d", v, what, line),
				"keep one of them",
			)
			continue
		}
		first[v] = item.Line
		out = append(out, model.Name{Text: v, Pos: d.pos(item)})
	}
	return out
}

// oneOf returns a scalar that is one of a few words.
func (d *doc) oneOf(n *yaml.Node, what string, words ...string) string {
	v := d.text(n, what)
	for _, w := range words {
		if v == w {
			return v
		}
	}
	if n != nil && n.Kind == yaml.ScalarNode {
		d.problem(n, "unknown-word", fmt.Sprintf("%s cannot be %q", what, v), didYouMean(v, words, "use one of "))
	}
	return ""
}

// filter parses a filter; its errors point at the column within the file when
// the text stands on one line as it is.
func (d *doc) filter(n *yaml.Node, what string) *filter.Filter {
	f, err := filter.Parse(d.text(n, what))
	if err == nil {
		return f
	}
	var fe *filter.Error
	if errors.As(err, &fe) && n.Kind == yaml.ScalarNode {
		p := source.NewProblem(
			d.clausePos(n, fe.Column),
			"bad-filter",
			fmt.Sprintf("filter, column %d: %s", fe.Column, fe.Says),
			fe.Hint,
		)
		d.probs.Add(p)
	}
	return nil
}

// clausePos is the place of a column of a filter within the file.
func (d *doc) clausePos(n *yaml.Node, column int) model.Pos {
	pos := d.pos(n)
	switch n.Style {
	case 0:
		pos.Column += column - 1
	case yaml.SingleQuotedStyle, yaml.DoubleQuotedStyle:
		pos.Column += column
	}
	return pos
}

// limit reads a guard's limit: a count or a percentage.
func (d *doc) limit(n *yaml.Node, what string) model.Limit {
	if n == nil {
		return model.Limit{}
	}
	v := d.text(n, what)
	pct, isPct := strings.CutSuffix(v, "%")
	l := model.Limit{IsPct: isPct, Set: true, Pos: d.pos(n)}
	var err error
	if isPct {
		l.Percent, err = strconv.ParseFloat(strings.TrimSpace(pct), 64)
	} else {
		l.Count, err = strconv.Atoi(v)
	}
	if err != nil || l.Count < 0 || !(l.Percent >= 0 && l.Percent <= 100) {
		d.problem(
			n,
			"wrong-limit",
			fmt.Sprintf("%s is expected to be a count or a percentage of at most 100%%, not %q", what, v),
			"for example 5 or 10%",
		)
		return model.Limit{}
	}
	return l
}

// listFiles lists the files of a folder with one of the endings, sorted, as names
// below dir, and the others apart, hidden ones and notes aside. A missing folder
// has no files.
func listFiles(tree *source.Tree, folder string, endings ...string) (out, others []string, err error) {
	all, err := tree.List(folder)
	for _, e := range all {
		name := e.Name()
		switch {
		case strings.HasPrefix(name, "."), strings.HasSuffix(name, ".md"):
		case e.Type()&fs.ModeSymlink != 0:
			return nil, nil, source.NewProblem(
				model.Pos{File: folder + "/" + name},
				"link",
				"this is a link, and a revision of the files would not hold what it leads to",
				"put the file itself here",
			)
		case !e.IsDir() && slices.ContainsFunc(endings, func(ending string) bool { return strings.HasSuffix(name, ending) }):
			out = append(out, folder+"/"+name)
		default:
			others = append(others, folder+"/"+name)
		}
	}
	return out, others, err
}
