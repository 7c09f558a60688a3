package report

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

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
		Columns: []string{
			"app", "account", "person", "name", "department", "last", "days", "licenses", "cost",
		}, Right: map[int]bool{6: true, 8: true},
		Unit: "idle accounts", None: "No open account is idle.",
	}
	total := model.Sum{}
	blind := signedIn(v, func(a, at int, last string) {
		d, err := day.Parse(last[:min(len(last), len("2006-01-02"))])
		if err != nil || d > before || !v.Accounts[a].Open(at) {
			return
		}
		id, name, department := owner(v, a, at)
		cost, month := model.Sum{}, ""
		licenses := v.SeatsOf(a, at, cost)
		v.SeatsOf(a, at, total)
		if len(cost) > 0 {
			month = cost.String()
		}
		t.row(
			v.Apps[a].ID, v.Accounts[a].Key.At(at), id, name, department, d.String(), fmt.Sprint(int(v.Today-d)),
			strings.Join(licenses, ", "), month,
		)
		t.count(v.Apps[a].ID)
	})
	slices.SortStableFunc(t.rows, func(x, y []string) int { return strings.Compare(x[5], y[5]) })
	t.About = fmt.Sprintf("Open accounts to which nobody has signed in since %s (%s).%s", before, in.Idle, shows(blind))
	if len(total) > 0 {
		t.About += " Their seats cost " + total.String() + "."
	}
	return t
}

func never(in *Input) *Table {
	v := in.View
	t := &Table{
		Columns: []string{"app", "account", "person", "name", "department", "stage"}, Unit: "accounts",
		None: "Somebody has signed in to every open account.",
	}
	blind := signedIn(v, func(a, at int, last string) {
		if last != "" || !v.Accounts[a].Open(at) {
			return
		}
		id, name, department := owner(v, a, at)
		where := ""
		if p := v.PersonOf[a][at]; p >= 0 {
			where = v.Stages[p].String()
		}
		t.row(v.Apps[a].ID, v.Accounts[a].Key.At(at), id, name, department, where)
		t.count(v.Apps[a].ID)
	})
	t.About = "Open accounts without a day on which somebody was there last." + shows(blind)
	return t
}

func strays(in *Input) *Table {
	v := in.View
	t := &Table{
		About:   "Accounts whose name is that of no person, and accounts that are left alone until somebody decides.",
		Columns: []string{"app", "account", "state", "holds", "why"}, Unit: "accounts of nobody",
		None: "Every account belongs to somebody.",
	}
	for _, a := range read(v) {
		for at := range v.Accounts[a].Len() {
			key := v.Accounts[a].Key.At(at)
			why := ""
			switch _, protected := v.Apps[a].Protected(key); {
			case v.PersonOf[a][at] < 0 && protected:
				why = "protected"
			case v.PersonOf[a][at] < 0:
				why = "nobody's"
				t.count(v.Apps[a].ID)
			}
			if pos, alone := v.Apps[a].IsAlone(key); alone {
				why = "left alone, " + pos.String()
			}
			if why == "" {
				continue
			}
			t.row(
				v.Apps[a].ID,
				key,
				v.Accounts[a].States[at].String(),
				strings.Join(v.Effective(a, v.Accounts[a].Held[at]), ", "),
				why,
			)
		}
	}
	return t
}

func pending(in *Input) *Table {
	v := in.View
	t := &Table{
		About: "Accounts that are due and not there yet, those of people who start later, and invitations that " +
			"nobody has accepted.",
		Columns: []string{"id", "name", "department", "app", "what", "on"}, Unit: "accounts to come",
		None: "No account is to come.",
	}
	for p := range v.People.Len() {
		for _, a := range read(v) {
			_, due := v.Should(p, a)
			at, what, on := v.AccountOf[a][p], "", ""
			switch {
			case at >= 0 && v.Accounts[a].States[at] == model.Invited:
				what = "is invited"
			case at >= 0:
			case due && v.Stages[p] == entitle.Here:
				what = "is to be created"
			case v.Later(p, a):
				what, on = "comes with the first day", v.People.Get(p, "starts")
			}
			if what != "" {
				t.row(
					v.People.Get(p, "id"), v.People.Called(p), v.People.Get(p, "department"), v.Apps[a].ID, what, on,
				)
				t.count(v.Apps[a].ID)
			}
		}
	}
	return t
}

// leaving are the open accounts of people who have left, and all that are upon a path.
func leaving(in *Input) *Table {
	v := in.View
	t := &Table{
		About: "Accounts upon a leaving path, with what was done and what comes next, and open accounts of " +
			"people who have left.",
		Columns: []string{"app", "account", "person", "name", "ended", "state", "done", "next", "due"},
		None:    "No account is on its way out.",
	}
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
			t.row(
				get("app"), get("account"), id, get("name"), ended, get("state"), get("done"), get("next"), get("due"),
			)
		}
	}
	for _, a := range read(v) {
		for at := range v.Accounts[a].Len() {
			p := v.PersonOf[a][at]
			key := v.Accounts[a].Key.At(at)
			if p < 0 || v.Stages[p] != entitle.Gone || upon[[2]string{v.Apps[a].ID, key}] {
				continue
			}
			t.row(
				v.Apps[a].ID, key, v.People.Get(int(p), "id"), v.People.Called(int(p)), v.People.Get(int(p), "ends"),
				v.Accounts[a].States[at].String(), "", "", "",
			)
		}
	}
	return t
}
