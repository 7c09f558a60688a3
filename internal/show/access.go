package show

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
)

// HolderTable is who holds a thing.
func HolderTable(list []access.Holder) *Table {
	return tableOf(list, []Column{
		{Title: "person", Key: "person"}, {Title: "name", Key: "name"}, {Title: "account", Key: "account"},
		{Title: "is", Key: "open"}, {Title: "holds it", Key: "through"}, {Title: "stands", Key: "state"},
		{Title: "by kit", Key: "kits"},
	}, func(h *access.Holder) []any {
		open, how := held(h)
		state := h.State
		if h.Rejected != "" {
			state += ", " + h.Rejected
		}
		return []any{h.Person, h.Name, h.Account, open, how, state, h.Kits}
	})
}

// held is how a holder has the thing: the state of the account, and along with what.
func held(h *access.Holder) (open, how string) {
	open, how = h.Is, "directly"
	if len(h.Through) > 0 {
		how = "through " + strings.Join(h.Through, ", ")
	}
	return open, how
}

// BeforeRecord is since when someone had a thing who had it by the first export that is
// kept.
const BeforeRecord = "before the record"

// PastHolderTable is who held a thing on a past day, since when, and by whose decision.
func PastHolderTable(list []access.Holder) *Table {
	return tableOf(list, []Column{
		{Title: "person", Key: "person"}, {Title: "name", Key: "name"}, {Title: "account", Key: "account"},
		{Title: "was", Key: "open"}, {Title: "held it", Key: "through"}, {Title: "by kit", Key: "kits"},
		{Title: "line", Key: "places"}, {Title: "since", Key: "since"}, {Title: "decided by", Key: "decidedBy"},
		{Title: "because", Key: "because"},
	}, func(h *access.Holder) []any {
		open, how := held(h)
		return []any{h.Person, h.Name, h.Account, open, how, h.Kits, h.Places, h.Since, h.DecidedBy, h.Because}
	})
}

// HoldersLine counts those who hold a thing.
func HoldersLine(list []access.Holder, thing string, effective bool) string {
	open, direct := 0, 0
	for _, h := range list {
		if h.Open {
			open++
		}
		if len(h.Through) == 0 {
			direct++
		}
	}
	how := "hold " + thing + " directly"
	if len(list) == 1 {
		how = "holds " + thing + " directly"
	}
	if effective {
		how = fmt.Sprintf("%s %s, %d of them directly", model.Plural(len(list), "has", "have"), thing, direct)
	}
	return fmt.Sprintf(
		"%s %s; %d %s open.", model.Count(len(list), "account", "accounts"), how, open, model.Plural(open, "is", "are"),
	)
}

// RowTable is chosen rows in chosen columns. They are made one by one, as there may be millions.
func RowTable(r *access.Rows, rows []int, columns []string) *Table {
	return &Table{
		Columns: both(columns...),
		Each: func(yield func(row []string) bool) {
			row := make([]string, len(columns))
			for _, i := range rows {
				for n, c := range columns {
					row[n] = cellOf(r.Values(i, c))
				}
				if !yield(row) {
					return
				}
			}
		},
		Objects: func(yield func(any) bool) {
			for _, i := range rows {
				item := map[string]any{}
				for _, c := range columns {
					switch values := r.Values(i, c); {
					case r.Several[c] && values == nil:
						item[c] = []string{}
					case r.Several[c]:
						item[c] = values
					default:
						item[c] = cellOf(values)
					}
				}
				if !yield(item) {
					return
				}
			}
		},
	}
}

// GroupTable counts chosen rows by the values of a column.
func GroupTable(r *access.Rows, rows []int, column string) *Table {
	type item struct {
		Value string `json:"value"`
		Rows  int    `json:"rows"`
	}
	var items []item
	for _, g := range r.Group(rows, column) {
		items = append(items, item{g.Value, g.Rows})
	}
	return tableOf(items, []Column{{Title: column, Key: "value"}, {Title: "rows", Key: "rows", Number: true}}, func(x *item) []any {
		return []any{cmp.Or(x.Value, "(no value)"), model.Thousands(x.Rows)}
	})
}

// SeatsTable is how the seats of licenses are used.
func SeatsTable(v *access.View, list []access.Seats) *Table {
	type item struct {
		Thing    string `json:"thing"`
		Title    string `json:"title"`
		Bought   *int   `json:"bought"` // null without a number of seats
		Used     int    `json:"used"`
		Free     *int   `json:"free"`
		Needed   int    `json:"needed"`
		Blocked  int    `json:"blocked"`
		OfNobody int    `json:"ofNobody"`
		Price    string `json:"price"`
		Cost     string `json:"cost"`
	}
	var items []item
	for i := range list {
		s := &list[i]
		x := item{
			Thing:    v.Apps[s.App].Address(s.Thing).String(),
			Title:    v.Apps[s.App].Things[s.Thing].Title,
			Used:     s.Used,
			Needed:   s.Needed,
			Blocked:  s.Blocked,
			OfNobody: s.Nobodys,
			Price:    v.Price(s).String(),
			Cost:     v.Price(s).Times(s.Used),
		}
		if s.Bought >= 0 {
			n := s.Free()
			x.Bought, x.Free = &s.Bought, &n
		}
		items = append(items, x)
	}
	return tableOf(items, []Column{
		{Title: "license", Key: "thing"}, {Key: "title"}, {Title: "bought", Key: "bought", Number: true},
		{Title: "used", Key: "used", Number: true}, {Title: "free", Key: "free", Number: true},
		{Title: "needed", Key: "needed", Number: true}, {Title: "blocked", Key: "blocked", Number: true},
		{Title: "of nobody", Key: "ofNobody", Number: true}, {Title: "a seat", Key: "price"}, {Title: "in use", Key: "cost"},
	}, func(x *item) []any {
		return []any{x.Thing, x.Title, x.Bought, x.Used, x.Free, x.Needed, x.Blocked, x.OfNobody, x.Price, x.Cost}
	})
}

// SeatsLine says what seats cost together: in use, bought, and of those that
// nobody works with.
func SeatsLine(v *access.View, list []access.Seats) string {
	used, bought, idle := model.Sum{}, model.Sum{}, model.Sum{}
	for i := range list {
		s := &list[i]
		used.Add(v.Price(s), s.Used)
		bought.Add(v.Price(s), max(s.Bought, 0))
		idle.Add(v.Price(s), s.Blocked+s.Nobodys)
	}
	switch {
	case !slices.ContainsFunc(list, func(s access.Seats) bool { return v.Price(&s).Known() }):
		return "No license has a price."
	case len(idle) == 0:
		return fmt.Sprintf("Seats in use cost %s, all seats bought %s. None of that is for blocked or stray accounts.",
			used, bought)
	}
	return fmt.Sprintf("Seats in use cost %s, all seats bought %s. Of these, %s is for blocked and stray accounts.",
		used, bought, idle)
}

// A MonthTable is how many seats are needed month by month.
type MonthTable struct {
	Licenses *Table // for people: a row for each license, a column for each month
	Months   *Table // for programs: a row for each month of each license
}

// In is the table for a format.
func (m MonthTable) In(format string) *Table {
	if format == "table" {
		return m.Licenses
	}
	return m.Months
}

// AheadTable is how many seats are needed month by month.
func AheadTable(v *access.View, months []access.Month) MonthTable {
	type item struct {
		From   string `json:"from"`
		Thing  string `json:"thing"`
		Bought *int   `json:"bought"`
		Needed int    `json:"needed"`
		Short  int    `json:"short"`
		Cost   string `json:"cost"`
	}
	wide := &Table{Columns: []Column{{Title: "license"}, {Title: "bought", Number: true}}}
	for _, m := range months {
		wide.Columns = append(wide.Columns, Column{Title: m.From.String()[:7], Number: true})
	}
	var items []item
	for i, x := range v.Licenses() {
		thing := &v.Apps[x.App].Things[x.Thing]
		var bought *int
		if thing.Seats >= 0 {
			bought = &thing.Seats
		}
		address := v.Apps[x.App].Address(x.Thing).String()
		row := []any{address, bought}
		for _, m := range months {
			it := item{
				From: m.From.String(), Thing: address, Bought: bought, Needed: m.Needed[i], Cost: thing.Price.Times(m.Needed[i]),
			}
			if bought != nil {
				it.Short = max(m.Needed[i]-thing.Seats, 0)
			}
			items, row = append(items, it), append(row, it.Needed)
		}
		wide.add(row...)
	}
	return MonthTable{wide, tableOf(items, both("from", "thing", "bought", "needed", "short", "cost"), func(x *item) []any {
		return []any{x.From, x.Thing, x.Bought, x.Needed, x.Short, x.Cost}
	})}
}

// Short says for each license when seats are short first, and by how many at
// the most.
func Short(v *access.View, months []access.Month) (lines []string) {
	for i, x := range v.Licenses() {
		thing := &v.Apps[x.App].Things[x.Thing]
		if thing.Seats < 0 {
			continue
		}
		from, most := "", 0
		for _, m := range months {
			if short := m.Needed[i] - thing.Seats; short > 0 {
				if from == "" {
					from = m.From.String()
				}
				most = max(most, short)
			}
		}
		if most > 0 {
			cost := ""
			if thing.Price.Known() {
				cost = " (" + thing.Price.Times(most) + ")"
			}
			lines = append(
				lines,
				fmt.Sprintf(
					"%s runs short from %s, by up to %s%s.",
					v.Apps[x.App].Address(x.Thing),
					from,
					model.Count(most, "seat", "seats"),
					cost,
				),
			)
		}
	}
	return lines
}
