package upload

import (
	"fmt"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// checklist is what a person is to do, in the plan's order, with boxes to tick (Markdown).
// name is the file that is to be loaded, "" where there is none.
func (w *writer) checklist(changes []*plan.Change, name string) []byte {
	var b strings.Builder
	title := w.App.Title
	if title == "" {
		title = w.App.ID
	}
	fmt.Fprintf(&b, "# %s: %s\n\n", marked(title), model.Count(len(changes), "change", "changes"))
	b.WriteString("Tick what is done. Then export the application again, and draft: what is in the export is\n" +
		"settled, and what is missing is said.\n\n")
	byHand := 0
	for _, c := range changes {
		if !w.covered[c] {
			byHand++
		}
	}
	if name != "." && name != "" {
		fmt.Fprintf(
			&b,
			"- [ ] Load the file `%s`. It carries out %s, which are marked “by the file” below.\n\n",
			name,
			words.Clean(model.Count(len(changes)-byHand, "change", "changes")),
		)
	}
	for i, c := range changes {
		how := ""
		if w.covered[c] {
			how = " (by the file)"
		}
		who := ""
		if c.Account != "" {
			who = "**" + marked(c.Account) + "**: "
		}
		fmt.Fprintf(&b, "%d. [ ] %s%s%s\n", i+1, who, marked(words.What(c)), how)
		if with := words.With(c); with != "" {
			fmt.Fprintf(&b, "   %s\n", marked(with))
		}
	}
	return []byte(b.String())
}

// special are the characters that mean something in Markdown or HTML.
var special = strings.NewReplacer(
	`\`,
	`\\`,
	"`",
	"\\`",
	"*",
	`\*`,
	"_",
	`\_`,
	"[",
	`\[`,
	"]",
	`\]`,
	"<",
	"&lt;",
	">",
	"&gt;",
	"&",
	"&amp;",
	"|",
	`\|`,
	"#",
	`\#`,
)

// marked writes a text so that it stands in Markdown as it is, without control characters.
func marked(s string) string { return special.Replace(words.Clean(s)) }
