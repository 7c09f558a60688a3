package show

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
)

// HolderTable is who holds a thing.
func HolderTable(list []access.Holder) *Table {
	t := &Table{Headers: []string{"person", "name", "account", "is", "holds it", "stands", "by kit"},
		Keys: []string{"person", "name", "account", "open", "through", "state", "kits"}, Items: list}
	for _, h := range list {
		open, how := held(&h)
		state := h.State
		if h.Rejected != "" {
			state += ", " + h.Rejected
		}
		t.Rows = append(t.Rows, []string{h.Person, h.Name, h.Account, open, how, state, strings.Join(h.Kits, ", ")})
	}
	return t
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
	t := &Table{
		Headers: []string{
			"person", "name", "account", "was", "held it", "by kit", "line", "since", "decided by", "because",
		},
		Keys: []string{
			"person", "name", "account", "open", "through", "kits", "places", "since", "decidedBy", "because",
		},
		Items: list,
	}
	for _, h := range list {
		open, how := held(&h)
		t.Rows = append(t.Rows, []string{
			h.Person, h.Name, h.Account, open, how, strings.Join(h.Kits, ", "), strings.Join(h.Places, ", "), h.Since, h.DecidedBy,
			h.Because,
		})
	}
	return t
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

// RowTable is chosen rows in chosen columns.
func RowTable(r *access.Rows, rows []int, columns []string) *Table {
	t := &Table{Headers: columns, Keys: columns}
	items := make([]map[string]any, 0, len(rows))
	for _, i := range rows {
		row, item := make([]string, 0, len(columns)), map[string]any{}
		for _, c := range columns {
			values := r.Values(i, c)
			row = append(row, strings.Join(values, ", "))
			switch {
			case r.Several[c] && values == nil:
				item[c] = []string{}
			case r.Several[c]:
				item[c] = values
			default:
				item[c] = strings.Join(values, ", ")
			}
		}
		t.Rows, items = append(t.Rows, row), append(items, item)
	}
	t.Items = items
	return t
}

// GroupTable counts chosen rows by the values of a column.
func GroupTable(r *access.Rows, rows []int, column string) *Table {
	t := &Table{Headers: []string{column, "rows"}, Keys: []string{"value", "rows"}, Right: map[int]bool{1: true}}
	type item struct {
		Value string `json:"value"`
		Rows  int    `json:"rows"`
	}
	items := []item{}
	for _, g := range r.Group(rows, column) {
		shown := g.Value
		if shown == "" {
			shown = "(no value)"
		}
		t.Rows = append(t.Rows, []string{shown, model.Thousands(g.Rows)})
		items = append(items, item{g.Value, g.Rows})
	}
	t.Items = items
	return t
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
	keys := []string{"thing", "title", "bought", "used", "free", "needed", "blocked", "ofNobody", "price", "cost"}
	t := &Table{
		Headers: []string{"license", "bought", "used", "free", "needed", "blocked", "of nobody", "a seat", "in use"},
		Keys:    keys,
		Right:   map[int]bool{1: true, 2: true, 3: true, 4: true, 5: true, 6: true},
	}
	items := []item{}
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
		bought, free := "", ""
		if s.Bought >= 0 {
			n := s.Free()
			x.Bought, x.Free = &s.Bought, &n
			bought, free = fmt.Sprint(s.Bought), fmt.Sprint(n)
		}
		items = append(items, x)
		row := []string{
			x.Thing,
			bought,
			fmt.Sprint(x.Used),
			free,
			fmt.Sprint(x.Needed),
			fmt.Sprint(x.Blocked),
			fmt.Sprint(x.OfNobody),
			x.Price,
			x.Cost,
		}
		t.Rows = append(t.Rows, row)
		t.CSV = append(t.CSV, slices.Insert(slices.Clone(row), 1, x.Title))
	}
	t.Items = items
	return t
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

// AheadTable is how many seats are needed month by month: on the terminal a row
// for each license, elsewhere one for each month of each.
func AheadTable(v *access.View, months []access.Month) *Table {
	type item struct {
		From   string `json:"from"`
		Thing  string `json:"thing"`
		Bought *int   `json:"bought"`
		Needed int    `json:"needed"`
		Short  int    `json:"short"`
		Cost   string `json:"cost"`
	}
	t := &Table{
		Headers: []string{"license", "bought"},
		Keys:    []string{"from", "thing", "bought", "needed", "short", "cost"},
		Right:   map[int]bool{1: true},
	}
	for i, m := range months {
		t.Headers = append(t.Headers, m.From.String()[:7])
		t.Right[2+i] = true
	}
	items := []item{}
	for i, x := range v.Licenses() {
		thing := &v.Apps[x.App].Things[x.Thing]
		bought := ""
		if thing.Seats >= 0 {
			bought = fmt.Sprint(thing.Seats)
		}
		row := []string{v.Apps[x.App].Address(x.Thing).String(), bought}
		for _, m := range months {
			it := item{From: m.From.String(), Thing: row[0], Needed: m.Needed[i], Cost: thing.Price.Times(m.Needed[i])}
			if thing.Seats >= 0 {
				it.Bought, it.Short = &thing.Seats, max(m.Needed[i]-thing.Seats, 0)
			}
			items = append(items, it)
			row = append(row, fmt.Sprint(it.Needed))
			t.CSV = append(
				t.CSV,
				[]string{it.From, it.Thing, bought, fmt.Sprint(it.Needed), fmt.Sprint(it.Short), it.Cost},
			)
		}
		t.Rows = append(t.Rows, row)
	}
	t.Items = items
	return t
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
