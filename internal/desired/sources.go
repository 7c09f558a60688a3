package desired

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/connect"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/form"
	"pravet/internal/source"
)

var (
	sourceForm = &form.Object{
		Name: "the source", Doc: "A spreadsheet, or what a program prints; see many.md",
		Keys: []form.Key{
			{Name: "file", Is: form.Text("the path of a file"), Doc: "The spreadsheet"},
			{Name: "program", Is: form.ListOf(0, form.Text("")), Doc: "The program and its arguments"},
			{
				Name: "variables", Is: connect.Variables.Is, With: form.With("program"), Doc: connect.Variables.Doc,
			},
			{
				Name: "into", Is: form.Text("the path of a file of people"), Need: true, Doc: "Where new people come into",
				Lacks: "new people need a file to come into", Add: "into: people/NAME.csv",
			},
			{
				Name: "columns", Is: form.MapOf("an attribute of people", followsShape),
				Doc: "Their column, or a rule over columns; guessed unless given",
			},
			{Name: "format", Is: form.OneOf("csv", "ldif", "scim"), Doc: "By the file's ending unless given"},
			{Name: "encoding", Is: form.Text("an encoding"), Doc: "As IANA names it; UTF-8 unless given"},
			{Name: "delimiter", Is: form.Simple(form.Char), Doc: "What the header has most of unless given"},
			{Name: "date", Is: form.Text("a form of dates"), Doc: "How dates are written, for example DD.MM.YYYY"},
			{Name: "owns", Is: form.Simple(form.Filter), Doc: "Whose rows it has, as a filter over people"},
			{
				Name: "missing", Is: form.OneOf("report", "end"), Doc: "What becomes of who is missing, of those that it owns",
			},
			{Name: "number", Is: form.Text("a pattern, like E####"), Doc: "How new ids are made"},
			{Name: "newcomers", Is: form.OneOf("here", "away"), Doc: "Whether new people are here at once"},
			{
				Name: "newcomersFor", Is: form.Simple(form.Filter), With: []form.Cond{{Key: "newcomers", Value: "away"}},
				Doc: "Which new people are away at first, as a filter over them; all unless given",
			},
			{Name: "empty", Is: form.OneOf("leaves", "clears"), Doc: "Whether an empty cell takes the value away"},
		},
		Some: []form.Choice{{
			Keys: []string{"file", "program"}, Just: true, Check: "two-rules",
			Says: "a source is a file or a program", Hint: "add file: PATH, or program: [NAME, WORD], and only one of them",
		}},
	}
	fieldForm = &form.Object{
		Name: "the field", Doc: "An attribute of the organization's own",
		Keys: []form.Key{
			{Name: "title", Is: form.Text(""), Doc: "What it is called where people read it"},
			{Name: "type", Is: form.OneOf("text", "number", "date", "boolean"), Doc: "What its values are"},
			{Name: "values", Is: form.Names("values"), Doc: "No others pass"},
			{
				Name: "required", Is: form.Any(form.Simple(form.Bool), form.Simple(form.Filter)),
				Doc: "Whether everybody needs one, or those whom the filter fits",
			},
		},
	}
)

// A Source is where people come from again and again: a spreadsheet, or what a program prints.
type Source struct {
	Name      string
	Pos       model.Pos
	File      string   // below the repository
	Program   []string // whose output it is, instead of a file
	Variables []string // that the program gets besides the usual ones
	Into      string   // the file of people that new ones come into
	Columns   []Mapped // nil where they are guessed
	Format    string
	Encoding  string
	Delimiter rune // 0 for the one that the header has most of
	Date      string
	Owns      *filter.Filter // whose rows it has; nil for nobody's
	Ends      bool           // whoever is missing ends
	Number    string
	Arrive    string // a value that new people get of away
	ArriveFor *filter.Filter
	Clear     bool // an empty cell takes the value away
}

// A Mapped is an attribute of people and the column, or the rule over columns, that it comes
// from.
type Mapped struct {
	Attr, Column string
	Rule         *model.Rule // nil for a column as it is
	Pos          model.Pos
}

// readSources reads where people come from.
func (r *Repo) readSources(of values) {
	d := of.d
	for _, e := range of.entries("sources") {
		f := d.entry(e, sourceForm)
		s := &Source{
			Name: e.name, Pos: d.pos(e.key), File: f.text("file"), Into: f.text("into"),
			Encoding: d.encoding(f.node("encoding")), Date: d.dateForm(f.node("date")), Number: f.text("number"),
		}
		for _, word := range f.list("program") {
			s.Program = append(s.Program, d.text(word, "a word of program"))
		}
		s.Variables = f.texts("variables")
		if !idPattern.MatchString(e.name) {
			d.problem(
				e.key,
				"bad-id",
				fmt.Sprintf("%q is not a name of a source: small letters, digits and hyphens", e.name),
				"",
			)
		}
		if s.Into != "" && (!strings.HasPrefix(s.Into, "people/") || !IsPeopleFile(s.Into)) {
			d.problem(
				f.node("into"),
				"wrong-path",
				"new people need a file to come into",
				"add into: people/NAME.csv",
			)
		}
		s.Delimiter = f.delimiter("delimiter", 0)
		if f.has("format") {
			s.Format = f.word("format")
		}
		if n := f.node("owns"); n != nil {
			s.Owns = f.filter("owns")
			r.use(d, n, s.Owns, "owns of "+s.Name)
		}
		if n := f.node("missing"); n != nil {
			s.Ends = f.word("missing") == "end"
			if s.Ends && s.Owns == nil {
				d.problem(n, "missing-key", "nobody's rows are owned, so nobody can be missing", "add owns: FILTER")
			}
		}
		if f.word("newcomers") == "away" {
			s.Arrive = "true"
			if n := f.node("newcomersFor"); n != nil {
				s.ArriveFor = f.filter("newcomersFor")
				r.use(d, n, s.ArriveFor, "newcomersFor of "+s.Name)
			}
		}
		s.Clear = f.word("empty") == "clears"
		if s.Number != "" && strings.Trim(strings.Trim(s.Number, "#"), "#") == s.Number {
			d.problem(
				f.node("number"),
				"bad-value",
				fmt.Sprintf("%q has no # where digits are to stand", s.Number),
				"write it like E####",
			)
		}
		for _, c := range f.entries("columns") {
			if m, ok := r.mapped(d, c); ok {
				s.Columns = append(s.Columns, m)
			}
		}
		r.Sources = append(r.Sources, s)
	}
}

// IsPeopleFile reports whether a name is that of a file of people.
func IsPeopleFile(name string) bool {
	return strings.HasSuffix(name, ".csv") || strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

func (r *Repo) mapped(d *doc, c entry) (Mapped, bool) {
	m := Mapped{Attr: c.name, Pos: d.pos(c.value)}
	if !r.attribute(c.name, func(says, hint string) { d.problem(c.key, "unknown-attribute", says, hint) }) {
		return m, false
	}
	if c.value.Kind == yaml.MappingNode {
		m.Rule = d.rule(c)
		return m, m.Rule != nil
	}
	m.Column = d.text(c.value, c.name)
	return m, m.Column != ""
}

// Mapping reads what follows ATTRIBUTE= in a mapping of the command line: a column, or a rule
// in braces.
func (r *Repo) Mapping(attr, text string) (Mapped, error) {
	attr, err := r.Attribute(attr)
	if err != nil {
		return Mapped{}, err
	}
	if !strings.HasPrefix(text, "{") {
		return Mapped{Attr: attr, Column: text}, nil
	}
	probs := newProblems()
	d := &doc{file: "--map " + attr, probs: probs}
	root := d.parse([]byte(text))
	var rule *model.Rule
	if root != nil {
		rule = d.rule(entry{attr, root, root})
	}
	if all := probs.Sorted(); len(all) > 0 {
		slices.SortStableFunc(all, func(x, y *source.Problem) int { // what is misspelled is the cause of the others
			return strings.Compare(y.Rule, x.Rule)
		})
		return Mapped{}, fmt.Errorf("--map %s: %s; %s", attr, all[0].Says, all[0].Hint)
	}
	return Mapped{Attr: attr, Rule: rule}, nil
}

// DateForm reads how dates are written, like DD.MM.YYYY.
func DateForm(text string) (string, error) {
	if text == "" {
		return "", nil
	}
	probs := newProblems()
	d := &doc{probs: probs}
	out := d.dateForm(&yaml.Node{Kind: yaml.ScalarNode, Value: text})
	if all := probs.Sorted(); len(all) > 0 {
		return "", fmt.Errorf("%s; %s", all[0].Says, all[0].Hint)
	}
	return out, nil
}

// Source finds a source by its name, nil where there is none.
func (r *Repo) Source(name string) *Source {
	for _, s := range r.Sources {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// readFields reads the attributes of the organization's own.
func (r *Repo) readFields(of values) {
	d := of.d
	for _, e := range of.entries("fields") {
		name := e.name
		if !strings.HasPrefix(name, "extra.") || len(name) == len("extra.") {
			d.problem(
				e.key,
				"unknown-attribute",
				fmt.Sprintf("%s is no attribute of the organization's own", name),
				"name it extra."+strings.TrimPrefix(name, "extra."),
			)
			continue
		}
		f := d.object(e.value, fieldForm, name)
		field := model.Field{Name: name, Type: "text", Pos: d.pos(e.key)}
		field.Pos.Column = 0
		if f.has("type") {
			if t := f.word("type"); t != "" {
				field.Type = t
			}
		}
		for _, v := range f.names("values") {
			field.Values = append(field.Values, v.Text)
			if says := (&model.Field{Type: field.Type}).Check(v.Text); says != "" {
				d.probs.Add(problem(v.Pos, "bad-value", says, "correct the value, or the type"))
			}
		}
		switch n := f.node("required"); {
		case n == nil:
		case n.Tag == "!!bool":
			if f.yes("required") {
				field.Required = func(func(string) string) bool { return true }
			}
		default:
			if rule := f.filter("required"); rule != nil {
				r.use(d, n, rule, "required of "+name)
				field.Required = func(get func(string) string) bool { return rule.Match(get, 0) }
			}
		}
		r.Fields = append(r.Fields, field)
	}
	r.fieldsSaid = of.has("fields")
}

// checkFields checks the attributes of the organization's own, once where values repeat; none
// that is not declared may stand beside those that are.
func (r *Repo) checkFields(all *[]finding) {
	if !r.fieldsSaid {
		return
	}
	declared := map[string]bool{}
	var names []string
	for i := range r.Fields {
		f := &r.Fields[i]
		declared[table.Fold(f.Name)] = true
		names = append(names, f.Name)
		r.validate(all, f.Name, "bad-value", func(v string) error {
			if says := f.Check(v); says != "" {
				return fmt.Errorf("%s (%s)", says, f.Pos)
			}
			return nil
		})
		if f.Required == nil {
			continue
		}
		col := r.People.Column(f.Name)
		for p := range r.People.Len() {
			if (col == nil || col.At(p) == "") && f.Required(func(a string) string { return r.People.Get(p, a) }) {
				r.find(
					all,
					p,
					f.Name,
					"missing-value",
					fmt.Sprintf("%s is required (%s), and has no value", f.Name, f.Pos),
				)
			}
		}
	}
	for _, name := range r.People.Attributes() {
		if strings.HasPrefix(table.Fold(name), "extra.") && !declared[table.Fold(name)] && r.People.Len() > 0 {
			r.fail(
				model.Pos{File: r.People.Pos(r.firstWith(name)).File}, "unknown-attribute",
				fmt.Sprintf("%s is not among the fields of %s", name, Root),
				didYouMean(name, names, "add it there, or use one of "),
			)
		}
	}
}

// firstWith is the first person who has a value of an attribute, else the first of all.
func (r *Repo) firstWith(attr string) int {
	col := r.People.Column(attr)
	for p := range r.People.Len() {
		if col.At(p) != "" {
			return p
		}
	}
	return 0
}

// Standard lists the attributes that a spreadsheet of people begins with: those that files
// give, and the organization's own.
func (r *Repo) Standard() []string {
	out := []string{"id", "userName", "displayName", "email", "title", "department", "userType", "starts", "ends"}
	seen := map[string]bool{}
	for _, a := range out {
		seen[table.Fold(a)] = true
	}
	more := slices.Clone(r.People.Attributes())
	for _, f := range r.Fields {
		more = append(more, f.Name)
	}
	for _, a := range more {
		if !seen[table.Fold(a)] && !strings.HasPrefix(a, "away") && a != formerly {
			seen[table.Fold(a)] = true
			out = append(out, a)
		}
	}
	return out
}

// SpellDate is the form of a date as files say it, the opposite of DateForm.
func SpellDate(form string) string { return dateSpelling.Replace(form) }

var dateSpelling = strings.NewReplacer("2006", "YYYY", "01", "MM", "02", "DD", "15", "hh", "04", "mm", "05", "ss")
