package edit

import (
	"regexp"
	"strings"

	yaml "go.yaml.in/yaml/v4"
)

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
