// Package report answers what auditors and heads ask: who has access, who never uses it, who is
// from outside, who may administer, what it costs, what was changed and who approved it. Each
// answer is a table, and sometimes a few bars; nothing is drawn and nothing is read here.
//
//	for _, r := range report.Kinds { t := r.Of(in) }
package report

import (
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// Input is what reports are made of.
type Input struct {
	View      *access.View
	Outsiders *model.Outsiders // nil where nobody is one
	Idle      day.Duration     // after how long without a sign-in an account is idle
	From, To  day.Day          // of what was changed and decided; both count
	Changes   []Change         // that were done in the span, in their order
	Decisions []Decision       // that were made in the span
}

// A Change is one that a run made.
type Change struct {
	On, App, Verb, Account, Person, What, Run, By, Effect string
}

// A Decision is an accept, a reject or a lift.
type Decision struct {
	On, By, Verdict, Plan, What, Because string
}

// A Table is an answer.
type Table struct {
	Name    string // of its kind
	Title   string
	About   string // what it says, in a sentence
	Columns []string
	Right   map[int]bool                        // columns of numbers
	Rows    func(yield func(row []string) bool) // a row is good until the next one
	Bars    []Bar                               // at most a few; none where there is nothing to draw
	Unit    string                              // of the bars
	None    string                              // what is said where there is no row

	rows   [][]string     // where Rows is not made one by one
	counts map[string]int // of the bars, where those are not made one by one
}

func (t *Table) row(cells ...string) { t.rows = append(t.rows, cells) }

// count makes the bar of a label longer by one.
func (t *Table) count(label string) {
	if t.counts == nil {
		t.counts = map[string]int{}
	}
	t.counts[label]++
}

// A Bar is a number under a label.
type Bar struct {
	Label  string
	Value  float64
	Effect model.Effect
}

// A Kind is a kind of report.
type Kind struct {
	Name, Title string
	of          func(in *Input) *Table // all but its name and title
}

// Of is the report.
func (k *Kind) Of(in *Input) *Table {
	t := k.of(in)
	t.Name, t.Title = k.Name, k.Title
	if t.Rows == nil {
		t.Rows = list(t.rows)
	}
	if t.Bars == nil {
		t.Bars = bars(t.counts)
	}
	return t
}

// Kinds are all kinds of reports, those first whose rows ask for something to be done.
var Kinds = []Kind{
	{"administrators", "Who may do what is sensitive", administrators},
	{"separation", "Separated duties, and their exceptions", separation},
	{"outsiders", "Outsiders, and who answers for them", outsiders},
	{"strays", "Accounts that belong to nobody", strays},
	{"idle", "Accounts that nobody uses", idle},
	{"never", "Accounts that nobody has ever signed in to", never},
	{"leaving", "Accounts on their way out", leaving},
	{"pending", "Accounts that are to come", pending},
	{"seats", "Seats, and what they cost by department", seats},
	{"access", "Who has access to what", accessTable},
	{"changes", "What was changed", changes},
	{"approvals", "Who approved what", approvals},
}

// Named finds a kind by its name.
func Named(name string) *Kind {
	for i := range Kinds {
		if Kinds[i].Name == name {
			return &Kinds[i]
		}
	}
	return nil
}

// list makes rows of a list that is there already.
func list(rows [][]string) func(yield func(row []string) bool) {
	return func(yield func(row []string) bool) {
		for _, r := range rows {
			if !yield(r) {
				return
			}
		}
	}
}

// read are the applications whose exports were read.
func read(v *access.View) (out []int) {
	for a := range v.Apps {
		if v.Accounts[a] != nil {
			out = append(out, a)
		}
	}
	return out
}

// states are as many as there are of accounts, none included.
var states [model.Removed + 1]struct{}

// accessTable is person by application: whether the account is open, and what it holds in the
// end. A cell is put together once for each set of things that somebody holds.
func accessTable(in *Input) *Table {
	v := in.View
	apps := read(v)
	t := &Table{
		About: "Each person who has an account somewhere, with what the account holds in the end, also by what " +
			"brings it along.",
		Columns: []string{"id", "name", "department", "type", "stage"}, Unit: "accounts in the table",
		None: "Nobody has an account anywhere.",
	}
	for _, a := range apps {
		counts := map[model.State]int{}
		for _, at := range v.AccountOf[a] {
			if at >= 0 {
				counts[v.Accounts[a].States[at]]++
			}
		}
		t.Columns = append(t.Columns, v.Apps[a].ID)
		for state := range model.State(len(states)) {
			if n := counts[state]; n > 0 {
				t.Bars = append(t.Bars, Bar{v.Apps[a].ID + ", " + state.String(), float64(n), model.Keeps})
			}
		}
	}
	cells := make([][len(states)][]string, len(v.Apps)) // application, state, set
	cell := func(a, at int) string {
		state, set := v.Accounts[a].States[at], v.Accounts[a].Held[at]
		of := &cells[a][state]
		if int(set) >= len(*of) {
			*of = append(*of, make([]string, int(set)+1-len(*of))...)
		}
		text := (*of)[set]
		if text == "" {
			text = state.String()
			if names := v.Effective(a, set); len(names) > 0 {
				text += ": " + strings.Join(names, "; ")
			}
			(*of)[set] = text
		}
		return text
	}
	t.Rows = func(yield func(row []string) bool) {
		people := v.People
		id, dept, kind := people.Column("id"), people.Column("department"), people.Column("userType")
		row := make([]string, 5, 5+len(apps)) // used again for each person
		for p := range people.Len() {
			has := false
			for _, a := range apps {
				has = has || v.AccountOf[a][p] >= 0
			}
			if !has {
				continue
			}
			row = row[:5]
			row[0], row[1], row[4] = id.At(p), people.Called(p), v.Stages[p].String()
			row[2], row[3] = "", ""
			if dept != nil {
				row[2] = dept.At(p)
			}
			if kind != nil {
				row[3] = kind.At(p)
			}
			for _, a := range apps {
				text := ""
				if at := v.AccountOf[a][p]; at >= 0 {
					text = cell(a, int(at))
				}
				row = append(row, text)
			}
			if !yield(row) {
				return
			}
		}
	}
	return t
}

// administrators are all who have something sensitive in the end.
func administrators(in *Input) *Table {
	v := in.View
	t := &Table{
		About: "Every account that has something in the end that a catalog marks as sensitive, and the line that " +
			"gives it.",
		Columns: []string{
			"thing", "account", "person", "name", "open", "through", "by", "line", "state",
		}, Unit: "accounts",
		None: "Nobody has anything sensitive.",
	}
	for _, a := range read(v) {
		for n := range v.Apps[a].Things {
			if !v.Apps[a].Things[n].Sensitive {
				continue
			}
			address := v.Apps[a].Address(int32(n)).String()
			holders := v.Holders(model.AppThing{App: a, Thing: int32(n)}, true)
			for i := range holders {
				h := &holders[i]
				t.row(
					address,
					h.Account,
					h.Person,
					h.Name,
					yesNo(h.Open),
					strings.Join(h.Through, ", "),
					strings.Join(h.Kits, ", "),
					strings.Join(h.Places, ", "),
					h.State,
				)
			}
			if len(holders) > 0 {
				t.Bars = append(t.Bars, Bar{address, float64(len(holders)), model.Widens})
			}
		}
	}
	return t
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// bars are counts by their labels, in the order of those.
func bars(counts map[string]int) []Bar {
	var out []Bar
	for label, n := range counts {
		out = append(out, Bar{Label: label, Value: float64(n)})
	}
	slices.SortFunc(out, func(x, y Bar) int { return strings.Compare(x.Label, y.Label) })
	return out
}

func outsiders(in *Input) *Table {
	v := in.View
	t := &Table{
		About: "Who is from outside, as outsiders in pravet.yaml says, with the last day, whoever answers for " +
			"them, and where they have accounts.",
		Columns: []string{"id", "name", "type", "stage", "ends", "sponsor", "answers", "accounts"},
		None:    "Nobody is an outsider.",
	}
	if in.Outsiders == nil {
		t.About += " pravet.yaml does not say who that is, so whoever is a Contractor is listed."
	}
	people := v.People
	named := people.Names()
	for p := range people.Len() {
		get := func(attr string) string { return people.Get(p, attr) }
		is := in.Outsiders.Are(get, v.Today)
		if in.Outsiders == nil {
			is = strings.EqualFold(get("userType"), "Contractor")
		}
		var held []string
		for _, a := range read(v) {
			if at := v.AccountOf[a][p]; at >= 0 {
				held = append(held, v.Apps[a].ID+" ("+v.Accounts[a].States[at].String()+")")
			}
		}
		if !is || v.Stages[p] == entitle.Gone && len(held) == 0 {
			continue
		}
		sponsor, answers := get("sponsor"), "nobody"
		if s := named(sponsor); sponsor != "" && s >= 0 {
			if answers = people.Called(s); v.Stages[s] != entitle.Here {
				answers += ", who is not here"
			}
		}
		t.row(
			get("id"),
			people.Called(p),
			get("userType"),
			v.Stages[p].String(),
			get("ends"),
			sponsor,
			answers,
			strings.Join(held, ", "),
		)
	}
	return t
}
