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
	cf := d.fields(e.value, "a column", "column", "columns", "true", "false", "split", "date")
	if n := cf["columns"]; n != nil {
		return d.thingColumns(e, c, cf)
	}
	c.Name = d.required(cf, e.value, "column", e.name)
	c.Date = d.dateForm(cf["date"])
	c.True, c.False = d.text(cf["true"], "true"), d.text(cf["false"], "false")
	c.Split = d.text(cf["split"], "split")
	_, hasTrue := cf["true"]
	_, hasFalse := cf["false"]
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
func (d *doc) thingColumns(e entry, c export.Column, f map[string]*yaml.Node) export.Column {
	kinds := []string{model.Group.Plural(), model.Role.Plural(), model.License.Plural()}
	if !slices.Contains(kinds, e.name) {
		d.problem(
			f["columns"],
			"unknown-key",
			"only groups, roles and licenses have a column for each",
			"write column: COLUMN",
		)
	}
	c.Things = map[string]string{}
	for _, x := range d.entries(f["columns"], "columns") {
		c.Things[x.name] = d.text(x.value, x.name)
	}
	c.Name = "a column for each"
	c.True, c.False, c.Worded = d.text(f["true"], "true"), d.text(f["false"], "false"), f["true"] != nil
	if c.Worded && c.True == c.False {
		d.problem(e.value, "wrong-type", "the words for true and false are expected to be two different words", "")
	}
	for _, key := range []string{"column", "split", "date"} {
		if f[key] != nil {
			d.problem(f[key], "said-twice", key+" does not go with columns", "take one of them out")
		}
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
	keys := []string{"column"}
	for _, s := range model.States() {
		keys = append(keys, s.String())
	}
	f := d.fields(e.value, "status", keys...)
	c.Name = d.required(f, e.value, "column", "status")
	c.States = map[model.State]string{}
	for _, s := range model.States() {
		n := f[s.String()]
		if n == nil {
			if s == model.Open || s == model.Blocked {
				d.problem(e.value, "missing-key", "status has no word for "+s.String(), "add "+s.String()+": WORD")
			}
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
