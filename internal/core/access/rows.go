package access

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// Rows are people, accounts, things, kits or strays, to be selected from, sorted
// and shown. A column may have several values in a row.
type Rows struct {
	Columns []string        // all that can be asked for, in the order in which they make sense
	Also    []string        // what can be asked for besides, as person.department of an account
	Default []string        // those that are shown when none is asked for
	Several map[string]bool // columns that may have several values
	Len     int
	Values  func(row int, column string) []string // of one of Columns, as it is spelled there
}

// Subjects are what Rows can be made of.
var Subjects = []string{"people", "accounts", "things", "kits", "strays", "leaving", "invited"}

// Rows makes the rows of a subject.
func (v *View) Rows(subject string) *Rows {
	switch subject {
	case "people":
		return v.peopleRows()
	case "accounts":
		return v.accountRows(func(int, int) bool { return true })
	case "things":
		return v.thingRows()
	case "kits":
		return v.kitRows()
	case "leaving":
		return v.leavingRows()
	case "invited":
		return v.invitedRows()
	case "strays":
		return v.accountRows(func(app, at int) bool { return v.PersonOf[app][at] < 0 })
	}
	return nil
}

func set(names ...string) map[string]bool {
	out := map[string]bool{}
	for _, n := range names {
		out[n] = true
	}
	return out
}

func one(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

func (v *View) peopleRows() *Rows {
	columns := slices.Clone(v.People.Attributes())
	columns = append(columns, "stage", "kits", "applications", "file", "line")
	return &Rows{
		Columns: columns,
		Default: present(columns, "id", "displayName", "title", "department", "stage", "kits"),
		Several: set("kits", "applications"),
		Len:     v.People.Len(),
		Values: func(p int, column string) []string {
			switch column {
			case "stage":
				return one(v.Stages[p].String())
			case "kits":
				return v.kitsOf(p)
			case "applications":
				return v.appsOf(p)
			case "file":
				return one(v.People.Pos(p).File)
			case "line":
				return one(fmt.Sprint(v.People.Pos(p).Line))
			}
			return one(v.People.Get(p, column))
		},
	}
}

func present(columns []string, wanted ...string) (out []string) {
	for _, w := range wanted {
		if slices.Contains(columns, w) {
			out = append(out, w)
		}
	}
	return out
}

func (v *View) kitsOf(p int) (out []string) {
	for _, h := range v.Due.Classes[v.Due.Of[p]].Kits {
		out = append(out, v.Kits[h.Kit].Name)
	}
	return out
}

func (v *View) appsOf(p int) (out []string) {
	for a, app := range v.Apps {
		if _, account := v.Should(p, a); account {
			out = append(out, app.ID)
		}
	}
	return out
}

// ofPerson begins the name of an attribute of the person whom a row is about.
const ofPerson = "person."

// ofPeople are the attributes of people, as rows about something of theirs name them.
func (v *View) ofPeople() (out []string) {
	for _, a := range v.People.Attributes() {
		out = append(out, ofPerson+a)
	}
	return out
}

// accountRows lists the accounts that a test chooses, application by
// application.
func (v *View) accountRows(which func(app, at int) bool) *Rows {
	type row struct {
		app int32
		at  int32
	}
	var rows []row
	var attrs []string
	for a, accounts := range v.Accounts {
		if accounts == nil {
			continue
		}
		for n, attr := range v.Apps[a].Attrs {
			if accounts.Attrs[n] != nil && attr.Name != v.Apps[a].Match && !slices.Contains(attrs, attr.Name) {
				attrs = append(attrs, attr.Name)
			}
		}
		for i := range accounts.Len() {
			if which(a, i) {
				rows = append(rows, row{int32(a), int32(i)})
			}
		}
	}
	columns := append(
		[]string{
			"app", "account", "person", "name", "stage", "active", "state", "groups", "roles", "licenses",
			"effective",
		},
		attrs...)
	several := set("groups", "roles", "licenses", "effective")
	for _, app := range v.Apps {
		for _, k := range app.Kinds() {
			if k.Own() && !several[k.Plural()] {
				columns = append(columns, k.Plural())
				several[k.Plural()] = true
			}
		}
	}
	columns = append(columns, "file", "line")
	return &Rows{
		Columns: columns,
		Also:    v.ofPeople(),
		Default: []string{"app", "account", "person", "name", "active", "groups", "roles", "licenses"},
		Several: several,
		Len:     len(rows),
		Values:  func(i int, column string) []string { return v.accountValues(int(rows[i].app), int(rows[i].at), column) },
	}
}

func (v *View) accountValues(a, at int, column string) []string {
	if attr, ok := strings.CutPrefix(column, ofPerson); ok {
		if p := v.PersonOf[a][at]; p >= 0 {
			return one(v.People.Get(int(p), attr))
		}
		return nil
	}
	accounts, p := v.Accounts[a], int(v.PersonOf[a][at])
	switch column {
	case "app":
		return one(v.Apps[a].ID)
	case "account":
		return one(accounts.Key.At(at))
	case "active":
		return one(fmt.Sprint(accounts.Open(at)))
	case "state":
		return one(accounts.States[at].String())
	case "person", "name", "stage":
		if p < 0 {
			return nil
		}
		return one(
			map[string]string{"person": v.People.Get(p, "id"), "name": v.name(p), "stage": v.Stages[p].String()}[column],
		)
	case "effective":
		return v.names(a, v.reach[a].Full(accounts.Held[at]), -1)
	case "groups":
		return v.names(a, accounts.Held[at], int(model.Group))
	case "roles":
		return v.names(a, accounts.Held[at], int(model.Role))
	case "licenses":
		return v.names(a, accounts.Held[at], int(model.License))
	case "file":
		return one(accounts.File)
	case "line":
		if line := accounts.Pos(at).Line; line > 0 {
			return one(fmt.Sprint(line))
		}
		return nil
	}
	if n := v.Apps[a].Attr(column); n >= 0 {
		return one(accounts.Attr(n, at))
	}
	if kind, ok := model.ParseKind(column); ok && kind.Own() {
		return v.names(a, accounts.Held[at], int(kind))
	}
	return nil
}

// names lists the things of a set, of one kind or, with -1, of all with their
// kind.
func (v *View) names(a int, set uint32, kind int) (out []string) {
	for _, t := range v.Sets[a].Members(set) {
		x := &v.Apps[a].Things[t]
		switch kind {
		case -1:
			out = append(out, x.String())
		case int(x.Kind):
			out = append(out, x.Name)
		}
	}
	return out
}

func (v *View) thingRows() *Rows {
	type row struct {
		model.AppThing
		holders, active, due int
	}
	var rows []row
	people := inClasses(v.Due, func(p int) bool { return v.Stages[p] == entitle.Here })
	for a, app := range v.Apps {
		for t := range app.Things {
			x := row{AppThing: model.AppThing{App: a, Thing: int32(t)}}
			if v.Accounts[a] != nil {
				x.holders, x.active = v.reach[a].Holders(
					v.Accounts[a],
					int32(t),
				), v.reach[a].Active(v.Accounts[a], int32(t))
			}
			for c := range v.Due.Classes {
				if d := &v.Due.Classes[c].Apps[a]; people[c] > 0 && d.Account() && v.Sets[a].Has(d.Reach, int32(t)) {
					x.due += people[c]
				}
			}
			rows = append(rows, x)
		}
	}
	return &Rows{
		Columns: []string{
			"app", "kind", "name", "title", "sensitive", "atLeast", "seats", "price", "brings", "kits", "holders",
			"active", "due", "file", "line",
		},
		Default: []string{"app", "kind", "name", "title", "brings", "kits", "holders", "due"},
		Several: set("brings", "kits"),
		Len:     len(rows),
		Values: func(i int, column string) []string {
			x := rows[i]
			app := v.Apps[x.App]
			t := &app.Things[x.Thing]
			switch column {
			case "app":
				return one(app.ID)
			case "kind":
				return one(t.Kind.String())
			case "name":
				return one(t.Name)
			case "title":
				return one(t.Title)
			case "sensitive":
				return one(fmt.Sprint(t.Sensitive))
			case "atLeast":
				return count(t.AtLeast, 0)
			case "seats":
				return count(t.Seats, -1)
			case "price":
				return one(t.Price.String())
			case "brings":
				return v.names(x.App, v.Sets[x.App].Of(v.graphs[x.App].Along(x.Thing)), -1)
			case "kits":
				return v.kitsGiving(x.AppThing)
			case "holders", "active":
				if v.Accounts[x.App] == nil {
					return nil
				}
				return one(fmt.Sprint(map[string]int{"holders": x.holders, "active": x.active}[column]))
			case "due":
				return one(fmt.Sprint(x.due))
			case "file":
				return one(t.Pos.File)
			}
			return one(fmt.Sprint(t.Pos.Line))
		},
	}
}

// count is a number, or nothing where it is the one that stands for none.
func count(n, none int) []string {
	if n == none {
		return nil
	}
	return one(fmt.Sprint(n))
}

func (v *View) kitsGiving(x model.AppThing) (out []string) {
	for _, g := range v.Explain.Givers(int32(x.App), x.Thing) {
		out = append(out, v.Kits[g.Kit].Name)
	}
	slices.Sort(out)
	return out
}

func (v *View) kitRows() *Rows {
	holders := make([]int, len(v.Kits))
	people := inClasses(v.Due, func(int) bool { return true })
	for c := range v.Due.Classes {
		for _, h := range v.Due.Classes[c].Kits {
			holders[h.Kit] += people[c]
		}
	}
	return &Rows{
		Columns: []string{"name", "title", "rule", "rank", "matches", "people", "gives", "with", "file", "line"},
		Default: []string{"name", "title", "rule", "people", "gives"},
		Several: set("gives", "with"),
		Len:     len(v.Kits),
		Values: func(i int, column string) []string {
			k := v.Kits[i]
			switch column {
			case "name":
				return one(k.Name)
			case "title":
				return one(k.Title)
			case "rule":
				return one(k.Rule())
			case "rank":
				return count(k.Rank, 0)
			case "matches":
				if !k.HasRule() {
					return nil
				}
				return one(fmt.Sprint(v.Due.Matches[i]))
			case "people":
				return one(fmt.Sprint(holders[i]))
			case "gives":
				return v.gives(k)
			case "with":
				return names(k.With)
			case "file":
				return one(k.Pos.File)
			}
			return one(fmt.Sprint(k.Pos.Line))
		},
	}
}

func (v *View) gives(k *model.Kit) (out []string) {
	for _, g := range k.Gives {
		for _, t := range g.Things {
			out = append(out, v.Apps[g.App].Address(t).String())
		}
	}
	return out
}

func names(list []model.Name) (out []string) {
	for _, n := range list {
		out = append(out, n.Text)
	}
	return out
}
