package intake

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/export"
	"pravet/internal/sheet"
	"pravet/internal/source"
)

// A Column is an attribute of people and where it comes from in a spreadsheet.
type Column struct {
	Attr string `json:"attribute"`
	From string `json:"from"` // the column, or several with commas; "" for a constant
	How  string `json:"how"`  // why it is taken so

	at   int         // of the column; -1 for a rule
	rule *model.Rule // nil for a column as it is
}

// A Mapping is how a spreadsheet is understood.
type Mapping struct {
	Columns []Column
	Parts   []Column // that rules need, and nobody has as an attribute
	Left    []string // columns that are not taken

	table *sheet.Table
}

// synonyms are what columns of people are called, besides the names of attributes; without
// case, spaces and punctuation.
var synonyms = map[string][]string{
	"id": {
		"personid", "employeeid", "staffid", "staffnumber", "staffno", "personnelnumber", "personnelno", "personno",
		"employeeno",
	},
	"userName": {
		"login", "loginname", "user", "username", "account", "accountname", "uid", "samaccountname", "userid",
		"logon",
	},
	"displayName":     {"name", "fullname", "displayname", "cn", "commonname", "person"},
	"name.givenName":  {"firstname", "givenname", "forename", "given"},
	"name.familyName": {"lastname", "surname", "familyname", "sn", "family"},
	"email":           {"mail", "emailaddress", "mailaddress", "workemail", "businessemail"},
	"phone":           {"telephone", "telephonenumber", "mobile", "phonenumber"},
	"title":           {"jobtitle", "position", "role", "function", "job"},
	"department":      {"dept", "unit", "orgunit", "team", "ou", "departmentnumber"},
	"location":        {"site", "office", "workplace", "place", "l"},
	"userType":        {"type", "contract", "employmenttype", "employeetype", "persontype"},
	"manager":         {"linemanager", "supervisor", "reportsto", "boss"},
	"costCenter":      {"costcentre", "costcenter"},
	"starts":          {"start", "startdate", "firstday", "joined", "from", "hiredate", "begins", "entry"},
	"ends":            {"end", "enddate", "lastday", "leaves", "until", "to", "leavingdate", "exit"},
	"country":         {"countrycode", "c"},
	"extra.birth":     {"birth", "birthdate", "dateofbirth", "born", "birthday"},
}

// Understand says which column is which attribute: what was said first, then by the name of
// the column. With only, no column is guessed. A column that was named and is not there, and
// two columns for one attribute, are errors.
func Understand(t *sheet.Table, repo *desired.Repo, said []desired.Mapped, only bool) (*Mapping, error) {
	m := &Mapping{table: t}
	used, taken := map[int]bool{}, map[string]bool{}
	for _, s := range said {
		if taken[table.Fold(s.Attr)] {
			return nil, fmt.Errorf("%s is mapped twice; keep one", s.Attr)
		}
		taken[table.Fold(s.Attr)] = true
		c := Column{Attr: s.Attr, at: -1, rule: s.Rule, From: s.Column, How: asSaid}
		if s.Rule != nil {
			c.From = strings.Join(s.Rule.From, ", ")
		} else if c.at = t.Column(s.Column); c.at < 0 {
			return nil, missing(t, s)
		} else {
			used[c.at] = true
		}
		m.Columns = append(m.Columns, c)
	}
	for i, h := range t.Header {
		if used[i] || h == "" || only {
			continue
		}
		if attr, how := guess(repo, h); attr != "" && !taken[table.Fold(attr)] {
			taken[table.Fold(attr)], used[i] = true, true
			m.Columns = append(m.Columns, Column{Attr: attr, From: h, How: how, at: i})
		}
	}
	for _, c := range m.Columns {
		if c.rule == nil {
			continue
		}
		for _, from := range c.rule.From {
			at := t.Column(from)
			if at < 0 && !taken[table.Fold(from)] {
				return nil, missing(t, desired.Mapped{Attr: c.Attr, Column: from})
			}
			if at >= 0 {
				used[at] = true
			}
		}
	}
	m.part(repo)
	for i, h := range t.Header {
		if !used[i] {
			m.Left = append(m.Left, h)
		}
	}
	return m, nil
}

// part moves guessed columns that only feed a rule out of the mapping: "First name" and "Last name"
// make the user name, and are not imported themselves.
func (m *Mapping) part(repo *desired.Repo) {
	m.Columns = slices.DeleteFunc(m.Columns, func(c Column) bool {
		if c.rule != nil || c.How == asSaid || repo.People.Column(c.Attr) != nil {
			return false
		}
		var needs []string
		for _, r := range m.Columns {
			if r.rule != nil && slices.ContainsFunc(r.rule.From, func(f string) bool {
				return table.Fold(f) == table.Fold(c.Attr) || table.Fold(f) == table.Fold(c.From)
			}) {
				needs = append(needs, r.Attr)
			}
		}
		if needs == nil {
			return false
		}
		c.How = c.Attr + ", needed for " + strings.Join(needs, " and ")
		m.Parts = append(m.Parts, c)
		return true
	})
}

// asSaid is how a column is taken that somebody has named.
const asSaid = "as said"

// Joined reports whether user names are made by a rule.
func (m *Mapping) Joined() bool {
	return slices.ContainsFunc(
		m.Columns,
		func(c Column) bool { return c.Attr == "userName" && c.rule != nil && len(c.rule.From) > 0 },
	)
}

func missing(t *sheet.Table, s desired.Mapped) error {
	hint := "its columns are " + strings.Join(t.Header, ", ")
	if near := table.Nearest(s.Column, t.Header); near != "" {
		hint = "did you mean " + near + "?"
	}
	where := t.File
	if len(t.Rows) > 0 || t.Delimiter != 0 {
		where += ":1"
	}
	return fmt.Errorf("%s: there is no column %q for %s; %s", where, s.Column, s.Attr, hint)
}

// guess is the attribute that a column is named like.
func guess(repo *desired.Repo, header string) (attr, how string) {
	if name, err := repo.Attribute(header); err == nil {
		return name, "named so"
	}
	like := table.Likeness(header)
	known := slices.Concat(repo.Standard(), []string{"name.givenName", "name.familyName", "costCenter", "employeeNumber"})
	for _, a := range known {
		if table.Likeness(strings.TrimPrefix(a, "extra.")) == like {
			return a, "named nearly so"
		}
	}
	var best []string
	for a, names := range synonyms {
		if slices.Contains(names, like) {
			best = append(best, a)
		}
	}
	slices.Sort(best)
	for _, a := range best {
		if strings.HasPrefix(a, "extra.") && len(repo.Fields) > 0 &&
			!slices.ContainsFunc(repo.Fields, func(f model.Field) bool { return f.Name == a }) {
			continue
		}
		return a, "usually called so"
	}
	return "", ""
}

// Attrs are the attributes that rows have values of.
func (m *Mapping) Attrs() []string {
	var out []string
	for _, c := range m.Columns {
		out = append(out, c.Attr)
	}
	return out
}

// Rows are the rows by the attributes; date is how their dates are written, as
// desired.DateForm has it, "" for ISO 8601.
// Rows that could not be read come as wrong. O(cells).
func (m *Mapping) Rows(date string) []Row {
	out := make([]Row, 0, len(m.table.Rows)+len(m.table.Problems))
	for _, p := range m.table.Problems {
		out = append(out, Row{
			Line: p.Pos.Line, Values: make([]string, len(m.Columns)),
			Wrong: []Wrong{{Rule: p.Rule, Says: p.Says, Hint: p.Hint}},
		})
	}
	byAttr := map[string]int{}
	for i, c := range m.Columns {
		byAttr[table.Fold(c.Attr)] = i
	}
	parts := map[string]int{} // attribute → column
	for _, c := range m.Parts {
		parts[table.Fold(c.Attr)] = c.at
	}
	for n := range m.table.Rows {
		r := &m.table.Rows[n]
		row := Row{Line: r.Line, Values: make([]string, len(m.Columns))}
		for i, c := range m.Columns {
			if c.rule == nil {
				row.Values[i] = m.cell(&row, c.Attr, r.Cells[c.at], date)
			}
		}
		for i, c := range m.Columns {
			if c.rule == nil {
				continue
			}
			get := func(name string) string {
				if k, ok := byAttr[table.Fold(name)]; ok && m.Columns[k].rule == nil {
					return row.Values[k]
				}
				at := m.table.Column(name)
				if k, ok := parts[table.Fold(name)]; ok {
					at = k
				}
				if at >= 0 {
					return strings.TrimSpace(r.Cells[at])
				}
				return ""
			}
			row.Values[i] = c.rule.Value(get)
			if len(c.rule.From) > 0 && c.rule.Lacks(get(c.rule.From[0])) {
				row.Wrong = append(row.Wrong, Wrong{
					Attr: c.Attr, Rule: "unknown-word", Says: fmt.Sprintf("the table for %s has no line for "+
						"%q", c.Attr, get(c.rule.From[0])),
					Hint: "add one, or else: VALUE",
				})
			}
		}
		out = append(out, row)
	}
	slices.SortStableFunc(out, func(x, y Row) int { return x.Line - y.Line })
	return out
}

// cell is the value of a cell as people have it.
func (m *Mapping) cell(row *Row, attr, cell, date string) string {
	v := strings.TrimSpace(cell)
	if v == "" {
		return ""
	}
	wrong := func(rule, says, hint string) {
		row.Wrong = append(row.Wrong, Wrong{Attr: attr, Rule: rule, Says: says, Hint: hint})
	}
	if sheet.Formula(v) {
		wrong(
			"formula",
			fmt.Sprintf("%.40q is a formula, and its value is expected", v),
			"paste the column as values, and save the sheet again",
		)
		return v
	}
	if !desired.IsDate(attr) {
		return v
	}
	if d, err := day.Parse(v); err == nil {
		return d.String()
	}
	if date != "" {
		if iso, err := (&export.Column{Name: attr, Date: date}).ISO(v); err == nil {
			return iso[:min(len(iso), len(time.DateOnly))]
		}
		wrong("wrong-date", fmt.Sprintf("%q is not a valid date in the given format", v), "correct the date, or the format (--date)")
		return v
	}
	wrong(
		"wrong-date",
		fmt.Sprintf("%q is no date like 2026-11-24", v),
		"say how dates are written, for example --date DD.MM.YYYY",
	)
	return v
}

// Place is where something wrong stands: the cell that an attribute comes from, else the row.
func (m *Mapping) Place(line int, attr string) model.Pos {
	at := -1
	for _, c := range m.Columns {
		if table.Fold(c.Attr) == table.Fold(attr) {
			at = c.at
		}
	}
	i, ok := slices.BinarySearchFunc(m.table.Rows, line, func(r sheet.Row, line int) int { return r.Line - line })
	if !ok {
		return model.Pos{File: m.table.File, Line: line}
	}
	return m.table.Pos(&m.table.Rows[i], at)
}

// Problem is something wrong with a row, with its place.
func (m *Mapping) Problem(line int, w *Wrong) *source.Problem {
	if w.Attr == "" {
		for _, p := range m.table.Problems {
			if p.Pos.Line == line && p.Rule == w.Rule {
				return p
			}
		}
	}
	return source.NewProblem(m.Place(line, w.Attr), w.Rule, w.Says, w.Hint)
}

// Source is how the spreadsheet was understood, as a source that pravet.yaml can keep.
func (m *Mapping) Source(s *desired.Source, into string) *desired.Source {
	out := *s
	out.Into, out.Columns = into, nil
	columns := map[string]string{} // attribute → column, of parts
	for _, c := range m.Parts {
		columns[c.Attr] = c.From
	}
	for _, c := range m.Columns {
		rule := c.rule
		if rule != nil {
			with := *rule
			with.From = slices.Clone(rule.From)
			for i, f := range with.From {
				if column, ok := columns[f]; ok {
					with.From[i] = column
				}
			}
			rule = &with
		}
		out.Columns = append(out.Columns, desired.Mapped{Attr: c.Attr, Column: c.From, Rule: rule})
	}
	return &out
}
