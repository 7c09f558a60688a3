// Package report answers what auditors and heads ask: who has access, who never uses it, who is
// from outside, who may administer, what it costs, what was changed and who approved it. Each
// answer is a table, and sometimes a few bars; nothing is drawn and nothing is read here.
//
//	for _, r := range report.Kinds { t := r.Of(in) }
package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/money"
	"pravet/internal/core/stage"
	"pravet/internal/core/table"
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
	Of          func(in *Input) *Table
}

// Kinds are all kinds of reports, in their order.
var Kinds = []Kind{
	{"access", "Who has access to what", accessTable},
	{"administrators", "Who may do what is sensitive", administrators},
	{"idle", "Accounts that nobody uses", idle},
	{"never", "Accounts that nobody has ever signed in to", never},
	{"outsiders", "Outsiders, and who answers for them", outsiders},
	{"strays", "Accounts that belong to nobody", strays},
	{"pending", "Accounts that are to come", pending},
	{"leaving", "Accounts on their way out", leaving},
	{"seats", "Seats, and what they cost by department", seats},
	{"separation", "Separated duties, and their exceptions", separation},
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

// accounts are the applications whose exports were read.
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
		Name: "access", Title: "Who has access to what",
		About:   "Each person who has an account somewhere, with what the account holds in the end, also by what brings it along.",
		Columns: []string{"id", "name", "department", "type", "stage"}, Unit: "open accounts",
		None: "Nobody has an account anywhere.",
	}
	for _, a := range apps {
		open := 0
		for i := range v.Accounts[a].Len() {
			if v.Accounts[a].Open(i) && v.PersonOf[a][i] >= 0 {
				open++
			}
		}
		t.Columns = append(t.Columns, v.Apps[a].ID)
		t.Bars = append(t.Bars, Bar{v.Apps[a].ID, float64(open), model.Keeps})
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
		Name: "administrators", Title: "Who may do what is sensitive",
		About:   "Every account that has something in the end that a catalog marks as sensitive, and the line that gives it.",
		Columns: []string{"thing", "account", "person", "name", "open", "through", "by", "line", "state"}, Unit: "accounts",
		None: "Nobody has anything sensitive.",
	}
	var rows [][]string
	for _, a := range read(v) {
		for n := range v.Apps[a].Things {
			if !v.Apps[a].Things[n].Sensitive {
				continue
			}
			address := v.Apps[a].Address(int32(n)).String()
			holders := v.Holders(model.AppThing{App: a, Thing: int32(n)}, true)
			for i := range holders {
				h := &holders[i]
				rows = append(rows, []string{
					address, h.Account, h.Person, h.Name, yesNo(h.Open), strings.Join(h.Through, ", "), strings.Join(h.Kits, ", "),
					strings.Join(h.Places, ", "), h.State,
				})
			}
			if len(holders) > 0 {
				t.Bars = append(t.Bars, Bar{address, float64(len(holders)), model.Widens})
			}
		}
	}
	t.Rows = list(rows)
	return t
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// owner is who an account belongs to.
func owner(v *access.View, a, at int) (id, name, department string) {
	p := int(v.PersonOf[a][at])
	if p < 0 {
		return "", "nobody", ""
	}
	return v.People.Get(p, "id"), v.People.Called(p), v.People.Get(p, "department")
}

// signedIn calls f for each account of an application that shows when somebody was there last.
func signedIn(v *access.View, f func(a, at int, last string)) (blind []string) {
	for _, a := range read(v) {
		n := v.Apps[a].Attr(model.LastActive)
		if n < 0 || v.Accounts[a].Attrs[n] == nil || empty(v.Accounts[a].Attrs[n]) {
			blind = append(blind, v.Apps[a].ID)
			continue
		}
		col := v.Accounts[a].Attrs[n]
		for at := range v.Accounts[a].Len() {
			f(a, at, col.At(at))
		}
	}
	return blind
}

// empty reports whether a column has no value at all: then the export does not show it.
func empty(col *table.Column) bool {
	for i := range col.Len() {
		if col.At(i) != "" {
			return false
		}
	}
	return true
}

// shows says which applications do not show when somebody was there last.
func shows(blind []string) string {
	if len(blind) == 0 {
		return ""
	}
	return " Not shown by the export of " + strings.Join(blind, ", ") + " (lastActive)."
}

func idle(in *Input) *Table {
	v := in.View
	before := v.Today.Back(in.Idle)
	t := &Table{
		Name: "idle", Title: "Accounts that nobody uses",
		Columns: []string{"app", "account", "person", "name", "department", "last", "days"}, Right: map[int]bool{6: true},
		Unit: "idle accounts", None: "No open account is idle.",
	}
	var rows [][]string
	counts := map[string]int{}
	blind := signedIn(v, func(a, at int, last string) {
		d, err := day.Parse(last[:min(len(last), len("2006-01-02"))])
		if err != nil || d > before || !v.Accounts[a].Open(at) {
			return
		}
		id, name, department := owner(v, a, at)
		rows = append(rows, []string{
			v.Apps[a].ID, v.Accounts[a].Key.At(at), id, name, department, d.String(), fmt.Sprint(int(v.Today - d)),
		})
		counts[v.Apps[a].ID]++
	})
	slices.SortStableFunc(rows, func(x, y []string) int { return strings.Compare(x[5], y[5]) })
	t.About = fmt.Sprintf("Open accounts to which nobody has signed in since %s (%s).%s", before, in.Idle, shows(blind))
	t.Rows, t.Bars = list(rows), bars(counts)
	return t
}

func never(in *Input) *Table {
	v := in.View
	t := &Table{
		Name: "never", Title: "Accounts that nobody has ever signed in to",
		Columns: []string{"app", "account", "person", "name", "department", "stage"}, Unit: "accounts",
		None: "Somebody has signed in to every open account.",
	}
	var rows [][]string
	counts := map[string]int{}
	blind := signedIn(v, func(a, at int, last string) {
		if last != "" || !v.Accounts[a].Open(at) {
			return
		}
		id, name, department := owner(v, a, at)
		where := ""
		if p := v.PersonOf[a][at]; p >= 0 {
			where = v.Stages[p].String()
		}
		rows = append(rows, []string{v.Apps[a].ID, v.Accounts[a].Key.At(at), id, name, department, where})
		counts[v.Apps[a].ID]++
	})
	t.About = "Open accounts without a day on which somebody was there last." + shows(blind)
	t.Rows, t.Bars = list(rows), bars(counts)
	return t
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
		Name: "outsiders", Title: "Outsiders, and who answers for them",
		About:   "Who is from outside, as outsiders in pravet.yaml says, with the last day, whoever answers for them, and where they have accounts.",
		Columns: []string{"id", "name", "type", "stage", "ends", "sponsor", "answers", "accounts"},
		None:    "Nobody is an outsider.",
	}
	if in.Outsiders == nil {
		t.About += " pravet.yaml does not say who that is, so whoever is a Contractor is listed."
	}
	var rows [][]string
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
		if !is || v.Stages[p] == stage.Gone && len(held) == 0 {
			continue
		}
		sponsor, answers := get("sponsor"), "nobody"
		if s := named(sponsor); sponsor != "" && s >= 0 {
			if answers = people.Called(s); v.Stages[s] != stage.Here {
				answers += ", who is not here"
			}
		}
		rows = append(rows, []string{
			get("id"), people.Called(p), get("userType"), v.Stages[p].String(), get("ends"), sponsor, answers, strings.Join(held, ", "),
		})
	}
	t.Rows = list(rows)
	return t
}

func strays(in *Input) *Table {
	v := in.View
	t := &Table{
		Name: "strays", Title: "Accounts that belong to nobody",
		About:   "Accounts whose name is that of no person, and accounts that are left alone until somebody decides.",
		Columns: []string{"app", "account", "state", "holds", "why"}, Unit: "accounts of nobody",
		None: "Every account belongs to somebody.",
	}
	var rows [][]string
	counts := map[string]int{}
	for _, a := range read(v) {
		for at := range v.Accounts[a].Len() {
			key := v.Accounts[a].Key.At(at)
			why := ""
			switch _, protected := v.Apps[a].Protected(key); {
			case v.PersonOf[a][at] < 0 && protected:
				why = "protected"
			case v.PersonOf[a][at] < 0:
				why = "nobody's"
				counts[v.Apps[a].ID]++
			}
			if pos, alone := v.Apps[a].IsAlone(key); alone {
				why = "left alone, " + pos.String()
			}
			if why == "" {
				continue
			}
			rows = append(rows, []string{
				v.Apps[a].ID, key, v.Accounts[a].States[at].String(), strings.Join(v.Effective(a, v.Accounts[a].Held[at]), ", "), why,
			})
		}
	}
	t.Rows, t.Bars = list(rows), bars(counts)
	return t
}

func pending(in *Input) *Table {
	v := in.View
	t := &Table{
		Name: "pending", Title: "Accounts that are to come",
		About:   "Accounts that are due and not there yet, those of people who start later, and invitations that nobody has accepted.",
		Columns: []string{"id", "name", "department", "app", "what", "on"},
		None:    "No account is to come.",
	}
	var rows [][]string
	counts := map[string]int{}
	for p := range v.People.Len() {
		for _, a := range read(v) {
			_, due := v.Should(p, a)
			at, what, on := v.AccountOf[a][p], "", ""
			switch {
			case at >= 0 && v.Accounts[a].States[at] == model.Invited:
				what = "is invited"
			case !due || at >= 0:
			case v.Stages[p] == stage.Here:
				what = "is to be created"
			case v.Stages[p] == stage.NotYet:
				what, on = "comes with the first day", v.People.Get(p, "starts")
			}
			if what != "" {
				rows = append(rows, []string{
					v.People.Get(p, "id"), v.People.Called(p), v.People.Get(p, "department"), v.Apps[a].ID, what, on,
				})
				counts[v.Apps[a].ID]++
			}
		}
	}
	t.Rows, t.Bars, t.Unit = list(rows), bars(counts), "accounts to come"
	return t
}

// leaving are the open accounts of people who have left, and all that are upon a path.
func leaving(in *Input) *Table {
	v := in.View
	t := &Table{
		Name: "leaving", Title: "Accounts on their way out",
		About:   "Accounts upon a leaving path, with what was done and what comes next, and open accounts of people who have left.",
		Columns: []string{"app", "account", "person", "name", "ended", "state", "done", "next", "due"},
		None:    "No account is on its way out.",
	}
	var rows [][]string
	upon := map[[2]string]bool{}
	if r := v.Rows("leaving"); r != nil {
		for i := range r.Len {
			get := func(column string) string {
				if !slices.Contains(r.Columns, column) {
					return ""
				}
				return strings.Join(r.Values(i, column), ", ")
			}
			id, ended := get("person"), ""
			if p := v.People.Named(id); id != "" && p >= 0 {
				ended = v.People.Get(p, "ends")
			}
			upon[[2]string{get("app"), get("account")}] = true
			rows = append(rows, []string{get("app"), get("account"), id, get("name"), ended, get("state"), get("done"), get("next"), get("due")})
		}
	}
	for _, a := range read(v) {
		for at := range v.Accounts[a].Len() {
			p := v.PersonOf[a][at]
			key := v.Accounts[a].Key.At(at)
			if p < 0 || v.Stages[p] != stage.Gone || upon[[2]string{v.Apps[a].ID, key}] {
				continue
			}
			rows = append(rows, []string{
				v.Apps[a].ID, key, v.People.Get(int(p), "id"), v.People.Called(int(p)), v.People.Get(int(p), "ends"),
				v.Accounts[a].States[at].String(), "", "", "",
			})
		}
	}
	t.Rows = list(rows)
	return t
}

// seats are the seats of licenses by the departments of those who have them.
func seats(in *Input) *Table {
	v := in.View
	t := &Table{
		Name: "seats", Title: "Seats, and what they cost by department",
		Columns: []string{"license", "department", "seats", "of blocked accounts", "per seat", "cost", "bought", "free"},
		Right:   map[int]bool{2: true, 3: true, 5: true, 6: true, 7: true}, Unit: "seats in use",
		None: "No application has a license.",
	}
	var rows [][]string
	total := money.Sum{}
	for _, s := range v.Seats() {
		address := v.Apps[s.App].Address(s.Thing).String()
		price := v.Apps[s.App].Things[s.Thing].Price
		used, blocked := map[string]int{}, map[string]int{}
		for _, h := range v.Seated(model.AppThing{App: s.App, Thing: s.Thing}) {
			department := "(nobody's)"
			if p := v.PersonOf[s.App][h]; p >= 0 {
				if department = v.People.Get(int(p), "department"); department == "" {
					department = "(no department)"
				}
			}
			used[department]++
			if !v.Accounts[s.App].Open(int(h)) {
				blocked[department]++
			}
		}
		bought, free := "", ""
		if s.Bought >= 0 {
			bought, free = fmt.Sprint(s.Bought), fmt.Sprint(s.Free())
		}
		for _, b := range bars(used) {
			n := used[b.Label]
			row := []string{address, b.Label, fmt.Sprint(n), fmt.Sprint(blocked[b.Label]), price.String(), "", "", ""}
			if price.Known() {
				row[5] = price.Times(n)
			}
			rows = append(rows, row)
		}
		sum := []string{address, "all", fmt.Sprint(s.Used), fmt.Sprint(s.Blocked), price.String(), "", bought, free}
		if price.Known() {
			sum[5] = price.Times(s.Used)
			total.Add(price, s.Used)
		}
		rows = append(rows, sum)
		t.Bars = append(t.Bars, Bar{Label: address, Value: float64(s.Used)})
	}
	t.About = "Seats in use by the department of whoever has them, what they cost a month, and how many were bought."
	if text := total.String(); text != "" {
		t.About += " All together: " + text + "."
	}
	t.Rows = list(rows)
	return t
}

// separation are the people on both sides of a separation, and what allows it.
func separation(in *Input) *Table {
	v := in.View
	t := &Table{
		Name: "separation", Title: "Separated duties, and their exceptions",
		About:   "Whoever has, or by the files should have, what a separation keeps apart, and the exception that allows it.",
		Columns: []string{"separation", "person", "name", "has", "should have", "allowed until", "because"},
		None:    "Nobody has what is kept apart.",
	}
	var rows [][]string
	for i := range v.Separations {
		s := &v.Separations[i]
		for p := range v.People.Len() {
			has, should := v.Sides(p, s)
			if len(has) < 2 && len(should) < 2 {
				continue
			}
			id := v.People.Get(p, "id")
			row := []string{s.Name, id, v.People.Called(p), strings.Join(has, ", "), strings.Join(should, ", "), "not allowed", ""}
			for n := range v.Exceptions {
				if x := &v.Exceptions[n]; x.Separation == s.Name && x.Person == id && x.On(v.Today) {
					row[5], row[6] = x.Until.String(), x.Because
					if x.Until == day.None {
						row[5] = "without end"
					}
				}
			}
			rows = append(rows, row)
		}
	}
	t.Rows = list(rows)
	return t
}

func span(in *Input) string {
	return fmt.Sprintf("from %s until %s", in.From, in.To)
}

func changes(in *Input) *Table {
	t := &Table{
		Name: "changes", Title: "What was changed",
		About:   "Changes that runs made and the applications showed afterwards, " + span(in) + ".",
		Columns: []string{"on", "app", "verb", "account", "person", "what", "run", "by"}, Unit: "changes",
		None: "No run changed anything " + span(in) + ".",
	}
	var rows [][]string
	counts := map[string]int{}
	for i := range in.Changes {
		c := &in.Changes[i]
		rows = append(rows, []string{c.On, c.App, c.Verb, c.Account, c.Person, c.What, c.Run, c.By})
		counts[c.Effect]++
	}
	for _, e := range []model.Effect{model.Widens, model.Narrows, model.Keeps} {
		if n := counts[e.String()]; n > 0 {
			t.Bars = append(t.Bars, Bar{e.String(), float64(n), e})
		}
	}
	t.Rows = list(rows)
	return t
}

func approvals(in *Input) *Table {
	t := &Table{
		Name: "approvals", Title: "Who approved what",
		About:   "Decisions about plans and changes, " + span(in) + ", by whom and why.",
		Columns: []string{"on", "by", "decided", "plan", "what", "because"}, Unit: "decisions",
		None: "Nothing was decided " + span(in) + ".",
	}
	var rows [][]string
	counts := map[string]int{}
	for i := range in.Decisions {
		d := &in.Decisions[i]
		rows = append(rows, []string{d.On, d.By, d.Verdict, d.Plan, d.What, d.Because})
		counts[d.By]++
	}
	t.Rows, t.Bars = list(rows), bars(counts)
	slices.SortStableFunc(t.Bars, func(x, y Bar) int { return cmp.Compare(y.Value, x.Value) })
	return t
}
