package desired

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// column reads where an attribute is found.
func (d *doc) column(e entry) export.Column {
	c := export.Column{Attr: e.name, Pos: d.pos(e.value)}
	if e.value.Kind != yaml.MappingNode {
		c.Name = d.text(e.value, e.name)
		if e.name == export.Status {
			d.problem(
				e.value,
				"missing-key",
				"status needs a word for each state",
				"write {column: COLUMN, open: WORD, blocked: WORD}",
			)
		}
		return c
	}
	if e.name == export.Status {
		return d.status(e, c)
	}
	cf := d.object(e.value, export.ColumnForm)
	if cf.has("columns") {
		return d.thingColumns(e, c, cf)
	}
	c.Name = cf.text("column")
	c.Date = d.dateForm(cf.node("date"))
	c.True, c.False = cf.text("true"), cf.text("false")
	c.Split = cf.text("split")
	hasTrue, hasFalse := cf.has("true"), cf.has("false")
	c.Worded = hasTrue && hasFalse
	if (hasTrue || hasFalse) && e.name != "active" {
		d.problem(e.value, "wrong-type", "only active has words for true and false", "")
	}
	if hasTrue != hasFalse || c.Worded && c.True == c.False {
		d.problem(e.value, "wrong-type", "the words for true and false are expected to be two different words", "")
	}
	return c
}

// thingColumns reads a column for each thing of a kind, with words for yes and no.
func (d *doc) thingColumns(e entry, c export.Column, f values) export.Column {
	kinds := []string{model.Group.Plural(), model.Role.Plural(), model.License.Plural()}
	if !slices.Contains(kinds, e.name) {
		d.problem(
			f.node("columns"),
			"unknown-key",
			"only groups, roles and licenses have a column for each",
			"write column: COLUMN",
		)
	}
	c.Things = map[string]string{}
	for _, x := range f.entries("columns") {
		c.Things[x.name] = d.text(x.value, x.name)
	}
	c.Name = "a column for each"
	c.True, c.False, c.Worded = f.text("true"), f.text("false"), f.has("true")
	if c.Worded && c.True == c.False {
		d.problem(e.value, "wrong-type", "the words for true and false are expected to be two different words", "")
	}
	return c
}

// dateForm reads the form of dates: DD.MM.YYYY, with hh:mm:ss where there is a time.
func (d *doc) dateForm(n *yaml.Node) string {
	if n == nil {
		return ""
	}
	v := d.text(n, "date")
	if !strings.Contains(v, "YYYY") || !strings.Contains(v, "MM") || !strings.Contains(v, "DD") {
		d.problem(
			n,
			"wrong-date",
			fmt.Sprintf("%q is no form of a date", v),
			"write it with YYYY, MM and DD, like DD.MM.YYYY or MM/DD/YYYY hh:mm",
		)
		return ""
	}
	return dateLetters.Replace(v)
}

// status reads the column that shows the state of accounts, each by a word.
func (d *doc) status(e entry, c export.Column) export.Column {
	f := d.object(e.value, export.StatusForm)
	c.Name = f.text("column")
	c.States = map[model.State]string{}
	for _, s := range model.States() {
		n := f.node(s.String())
		if n == nil {
			continue
		}
		word := d.text(n, s.String())
		if same := c.StateOf(word); same != model.NoAccount {
			d.problem(
				n,
				"duplicate-entry",
				fmt.Sprintf("%q stands for %s already", word, same),
				"give each state a word of its own",
			)
			continue
		}
		c.States[s] = word
	}
	return c
}
