package desired

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/form"
)

// followsShape is an attribute of people, or a rule by which a value follows.
var followsShape = form.Any(form.Text("an attribute of people, or a column"), form.In(ruleForm))

var ruleForm = &form.Object{
	Name: "the rule", Doc: "A value that follows from others",
	Keys: []form.Key{
		{Name: "from", Is: form.Text("an attribute"), Doc: "The attribute that it follows"},
		{
			Name: "map", Is: form.MapOf("a value", form.Text("what it becomes")), With: form.With("from"),
			Doc: "A table; case does not count",
		},
		{Name: "else", Is: form.Text(""), Doc: "What it is where the table has no line, or there is no value"},
		{Name: "constant", Is: form.Text(""), Doc: "The same for everybody"},
		{Name: "join", Is: form.Names("attributes"), Doc: "Attributes whose values are joined"},
		{Name: "with", Is: form.Text(""), With: form.With("join"), Doc: "What stands between them"},
		{Name: "case", Is: form.OneOf("lower", "upper"), Doc: "How it is written"},
		{Name: "plain", Is: form.Simple(form.Bool), Doc: "Unaccented letters, digits, and . - _ only"},
	},
	Some: []form.Choice{{
		Keys: []string{"from", "constant", "join"}, Just: true, Check: "two-rules",
		Says: "a rule has one of from, join and constant",
		Hint: "write {from: ATTRIBUTE, map: {VALUE: VALUE}}, {join: [ATTRIBUTE, ATTRIBUTE]} or {constant: VALUE}",
	}},
}

// rule reads how a value follows from others: {from: A, map: {X: Y}, else: Z},
// {constant: X} or {join: [A, B], with: "."}, with case and plain. nil after a problem.
func (d *doc) rule(e entry) *model.Rule {
	before := d.probs.Errors()
	f := d.entry(e, ruleForm, "of")
	if d.probs.Errors() > before {
		return nil
	}
	r := &model.Rule{With: f.text("with"), Plain: f.yes("plain")}
	if n := f.node("from"); n != nil {
		r.From = []string{d.text(n, "from")}
	}
	for _, name := range f.names("join") {
		r.From = append(r.From, name.Text)
	}
	r.Constant = f.text("constant")
	if n := f.node("else"); n != nil {
		r.Else, r.HasElse = d.text(n, "else"), true
	}
	if f.has("case") {
		switch f.word("case") {
		case "lower":
			r.Case = model.Lower
		case "upper":
			r.Case = model.Upper
		}
	}
	if f.has("map") {
		r.Map = []model.Pair{}
		seen := map[string]bool{}
		for _, p := range f.entries("map") {
			if seen[table.Fold(p.name)] {
				d.problem(
					p.key,
					"duplicate-key",
					fmt.Sprintf("%s stands in the table twice, case aside", p.name),
					"keep one of them",
				)
			}
			seen[table.Fold(p.name)] = true
			r.Map = append(r.Map, model.Pair{Value: p.name, Becomes: d.text(p.value, p.name)})
		}
	}
	if len(r.From) == 0 && !f.has("constant") {
		d.problem(
			e.value,
			"missing-key",
			"nothing is said that the value follows from",
			"add from: ATTRIBUTE or join: [ATTRIBUTE, ATTRIBUTE]",
		)
		return nil
	}
	return r
}

// said is how a rule is spoken of: it is the name of the column that it makes.
func (d *doc) said(r *model.Rule, n *yaml.Node) string {
	at := d.pos(n)
	at.Column = 0
	switch {
	case len(r.From) == 0:
		return "the constant of " + at.String()
	case r.Map != nil:
		return r.From[0] + " by the table of " + at.String()
	case len(r.From) == 1:
		return r.From[0] + " as written by " + at.String()
	}
	return strings.Join(r.From, " and ") + ", joined by " + at.String()
}

// readOwnNames reads people whose account is not called as those of others: the attribute that
// accounts are matched by is theirs then.
func (r *Repo) readOwnNames(app *model.App, of values) {
	d, n := of.d, of.node("named")
	if n == nil {
		return
	}
	app.Index()
	base := app.MatchPerson()
	names := map[string]string{}
	seen := map[string]string{}
	for _, e := range of.entries("named") {
		name := d.text(e.value, e.name)
		if other, ok := seen[table.Fold(name)]; ok {
			d.problem(
				e.value,
				"two-people",
				fmt.Sprintf("the account %s is that of %s already", name, other),
				"correct one of them",
			)
		}
		seen[table.Fold(name)], names[e.name] = e.name, name
		r.refs = append(r.refs, personRef{e.name, d.pos(e.key)})
	}
	said := d.pos(n)
	said.Column = 0
	column := base + ", or as named by " + said.String()
	r.People.Derive(column, func(get func(string) string) string {
		if name, ok := names[get("id")]; ok {
			return name
		}
		return get(base)
	}, []string{"id", base})
	if i := app.Attr(app.Match); i >= 0 {
		app.Attrs[i].Person = column
	} else {
		app.Attrs = append(app.Attrs, model.Attr{Name: app.Match, Person: column, Pos: d.pos(n)})
	}
}

// follow makes a rule's values a column of people that no file gives, and returns the name by
// which they are found.
func (r *Repo) follow(d *doc, e entry) string {
	rule := d.rule(e)
	if rule == nil {
		return ""
	}
	ok := true
	for _, from := range rule.From {
		ok = r.attribute(from, func(says, hint string) { d.problem(e.value, "unknown-attribute", says, hint) }) && ok
	}
	if !ok {
		return ""
	}
	name := d.said(rule, e.value)
	r.People.Derive(name, rule.Value, slices.Clone(rule.From))
	return name
}
