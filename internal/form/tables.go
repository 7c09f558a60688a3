package form

import (
	"fmt"
	"strings"
)

// Tables are the keys of kinds of files in Markdown: a table for each object, in the order in which a reader comes upon
// them, each once.
func Tables(files []File) string {
	var b strings.Builder
	seen := map[*Object]bool{}
	for i, f := range files {
		if i > 0 {
			b.WriteString("\n")
		}
		pattern, says, _ := strings.Cut(f.Title, ": ")
		fmt.Fprintf(&b, "## %s\n\n%s.\n\n", pattern, upper(says))
		tables(&b, f.Is, seen)
	}
	return b.String()
}

func tables(b *strings.Builder, root *Object, seen map[*Object]bool) {
	var out []string
	var walk func(o *Object)
	walk = func(o *Object) {
		if seen[o] || o.whole != nil {
			return
		}
		seen[o] = true
		out = append(out, o.table(o == root))
		for _, k := range o.Keys {
			k.Is.objects(walk)
		}
		if o.Rest != nil {
			o.Rest.objects(walk)
		}
	}
	walk(root)
	b.WriteString(strings.Join(out, "\n"))
}

// objects visits the objects that may stand in a shape.
func (s Shape) objects(visit func(*Object)) {
	switch {
	case s.Object != nil:
		visit(s.Object)
	case s.Item != nil:
		s.Item.objects(visit)
	}
	for _, x := range s.Of {
		x.objects(visit)
	}
}

func (o *Object) table(root bool) string {
	var b strings.Builder
	if !root {
		fmt.Fprintf(&b, "### %s\n\n", upper(o.Name))
		if o.Doc != "" {
			fmt.Fprintf(&b, "%s.\n\n", o.Doc)
		}
	}
	b.WriteString("| key | value | |\n| --- | --- | --- |\n")
	for _, k := range o.Keys {
		fmt.Fprintf(&b, "| `%s`%s | %s | %s |\n", k.Name, k.standing(o), k.Is.Say(), cell(k.Doc))
	}
	if o.Rest != nil {
		fmt.Fprintf(&b, "| *%s* | %s | |\n", o.Is, o.Rest.Say())
	}
	return b.String()
}

// standing says whether a key has to be there, and beside what.
func (k *Key) standing(of *Object) string {
	if k.Need {
		return ", required"
	}
	for _, c := range of.Some {
		for i, name := range c.Keys {
			if name != k.Name {
				continue
			}
			var others []string
			for j, other := range c.Keys {
				if j != i {
					others = append(others, "`"+other+"`")
				}
			}
			return ", or " + strings.Join(others, " or ")
		}
	}
	if len(k.With) == 0 {
		return ""
	}
	var with []string
	for _, key := range keysOf(k.With) {
		var values []string
		for _, c := range k.With {
			if c.Key == key && c.Value != "" {
				values = append(values, c.Value)
			}
		}
		if len(values) == 0 {
			with = append(with, "`"+key+"`")
		} else {
			values[0] = key + ": " + values[0]
			with = append(with, ticked(values))
		}
	}
	return ", with " + strings.Join(with, " or ")
}

// Say is a shape in words.
func (s Shape) Say() string {
	switch s.Kind {
	case Scalar:
		return or(s.Is, "a text")
	case Word:
		return ticked(s.Words)
	case Whole:
		return fmt.Sprintf("a whole number, at least %d%s", s.Least, most(s.Most))
	case Positive:
		return "a number above 0"
	case Bool:
		return "`true` or `false`"
	case Filter:
		return "a SCIM filter"
	case Duration:
		return "a duration, like `" + s.Example + "`"
	case Time:
		return "a time, like `500ms` or `10s`"
	case Day:
		return "a day, YYYY-MM-DD"
	case Limit:
		return "a count, or a percentage of at most 100%"
	case Secret:
		return "`env:NAME`, `file:PATH` or `command:PROGRAM`"
	case Price:
		return "an amount, like `11.50 EUR/month`"
	case Char:
		return "one character"
	case List:
		return "a list: each " + s.Item.Say()
	case Set:
		if s.Words != nil {
			return "a list of " + ticked(s.Words)
		}
		return "a list of " + or(s.Is, "texts")
	case Map:
		return "by " + s.Is + ": " + s.Item.Say()
	case Mapping:
		o, part := s.Object, ""
		if o.whole != nil {
			o, part = o.whole, ", as far as it differs"
		}
		return "[" + o.Name + "](#" + anchor(o.Name) + ")" + part
	}
	var of []string
	for _, x := range s.Of {
		of = append(of, x.Say())
	}
	return strings.Join(of, "; or ")
}

func ticked(words []string) string {
	var b strings.Builder
	for i, w := range words {
		switch {
		case i > 0 && i == len(words)-1:
			b.WriteString(" or ")
		case i > 0:
			b.WriteString(", ")
		}
		b.WriteString("`" + w + "`")
	}
	return b.String()
}

func most(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" and at most %d", n)
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

func upper(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// cell is a text for a cell of a table.
func cell(text string) string { return strings.ReplaceAll(text, "|", `\|`) }

// anchor is how a heading is linked to.
func anchor(heading string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == ' ':
			return '-'
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		}
		return -1
	}, strings.ToLower(heading))
}
