package show

import (
	"regexp"
	"strings"
)

var (
	link     = regexp.MustCompile(`!?\[([^\]]*)\]\(([^)]*)\)`)
	emphasis = regexp.MustCompile(`\*\*([^*]+)\*\*|(?:^|\B)\*([^*\s][^*]*)\*`)
	code     = regexp.MustCompile("`([^`]+)`")
)

// MarkdownPage writes a page of Markdown as it is read on a terminal: headings stand out, links are their text, examples are
// indented, and tables have aligned columns.
func (p *Printer) MarkdownPage(text string) {
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		switch {
		case strings.HasPrefix(line, "```"):
			for i++; i < len(lines) && !strings.HasPrefix(lines[i], "```"); i++ {
				p.Line("    " + lines[i])
			}
		case strings.HasPrefix(line, "#"):
			p.Line(Strong(inline(strings.TrimLeft(line, "# "))))
		case strings.HasPrefix(line, "|"):
			first := i
			for i+1 < len(lines) && strings.HasPrefix(lines[i+1], "|") {
				i++
			}
			p.markdownTable(lines[first : i+1])
		case strings.HasPrefix(line, "!["):
			// a picture
		case strings.TrimSpace(line) == "":
			p.Line()
		default:
			// A paragraph, or an item of a list, goes on in the next lines.
			para := line
			for i+1 < len(lines) && goesOn(lines[i+1]) {
				i++
				para += " " + strings.TrimSpace(lines[i])
			}
			for l := range strings.SplitSeq(wrap(inline(para), p.columns), "\n") {
				p.Line(l)
			}
		}
	}
}

// goesOn reports whether a line belongs to the paragraph before it.
func goesOn(line string) bool {
	text := strings.TrimSpace(line)
	return text != "" && !strings.HasPrefix(text, "```") && !strings.HasPrefix(text, "#") && !strings.HasPrefix(text, "|") &&
		!strings.HasPrefix(text, "* ") && !strings.HasPrefix(text, "- ") && !strings.HasPrefix(text, "![")
}

// inline is a text without marks.
func inline(text string) string {
	text = link.ReplaceAllString(text, "$1")
	text = emphasis.ReplaceAllString(text, "$1$2")
	return code.ReplaceAllString(text, "$1")
}

// markdownTable writes a table of Markdown.
func (p *Printer) markdownTable(lines []string) {
	t := &Table{}
	for n, line := range lines {
		line = strings.TrimSuffix(strings.TrimPrefix(strings.ReplaceAll(line, `\|`, "\x00"), "|"), "|")
		var cells []any
		for cell := range strings.SplitSeq(line, "|") {
			cells = append(cells, strings.ReplaceAll(inline(strings.TrimSpace(cell)), "\x00", "|"))
		}
		switch {
		case n == 0:
			for _, c := range cells {
				t.Columns = append(t.Columns, Column{Title: cellOf(c), Key: "x"})
			}
		case n > 1 && len(cells) == len(t.Columns):
			t.add(cells...)
		}
	}
	narrow := *p
	narrow.narrow = true
	narrow.Print(t)
	p.err = narrow.err
}
