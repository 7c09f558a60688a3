package show

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/money"
	"pravet/internal/core/words"
)

// HolderTable is who holds a thing.
func HolderTable(list []access.Holder) *Table {
	t := &Table{Headers: []string{"person", "name", "account", "is", "holds it", "stands", "by kit"},
		Keys: []string{"person", "name", "account", "open", "through", "state", "kits"}, Items: list}
	for _, h := range list {
		open, how := "blocked", "directly"
		if h.Open {
			open = "open"
		}
		if len(h.Through) > 0 {
			how = "through " + strings.Join(h.Through, ", ")
		}
		state := h.State
		if h.Rejected != "" {
			state += ", " + h.Rejected
		}
		t.Rows = append(t.Rows, []string{h.Person, h.Name, h.Account, open, how, state, strings.Join(h.Kits, ", ")})
	}
	return t
}

// BeforeRecord is since when someone had a thing who had it by the first export that is
// kept. It is "" for one who came to it later and by no change of a run: by hand, or as
// what they held began to bring it along.
const BeforeRecord = "before the record"

// PastHolderTable is who held a thing on a past day, since when, and by whose decision.
func PastHolderTable(list []access.Holder) *Table {
	t := &Table{
		Headers: []string{"person", "name", "account", "was", "held it", "by kit", "line", "since", "decided by", "because"},
		Keys: []string{
			"person", "name", "account", "open", "through", "kits", "places", "since", "decidedBy", "because",
		},
		Items: list,
	}
	for _, h := range list {
		open, how := "blocked", "directly"
		if h.Open {
			open = "open"
		}
		if len(h.Through) > 0 {
			how = "through " + strings.Join(h.Through, ", ")
		}
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
		how = fmt.Sprintf("in the end have %s, %d of them directly", thing, direct)
	}
	return fmt.Sprintf("%s %s; %d of them open.", model.Count(len(list), "account", "accounts"), how, open)
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
	used, bought, idle := money.Sum{}, money.Sum{}, money.Sum{}
	for i := range list {
		s := &list[i]
		used.Add(v.Price(s), s.Used)
		bought.Add(v.Price(s), max(s.Bought, 0))
		idle.Add(v.Price(s), s.Blocked+s.Nobodys)
	}
	if len(used) == 0 {
		return "No license has a price."
	}
	return fmt.Sprintf(
		"Seats in use cost %s, those bought %s; seats of blocked accounts and of nobody cost %s.",
		used,
		bought,
		idle,
	)
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
				cost = ", " + thing.Price.Times(most)
			}
			lines = append(
				lines,
				fmt.Sprintf(
					"%s is short from %s on, by %s at the most%s.",
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

// Difference says in words what differs.
func difference(d *access.Difference) string {
	if d.Detail != "" {
		return words.Clean(d.Detail)
	}
	says := "may no longer sign in"
	if d.Effect == model.Widens {
		says = "may sign in"
	}
	if d.Kind != "account" {
		says = "loses " + d.Kind + " " + words.Clean(d.Thing)
		if d.Effect == model.Widens {
			says = "gains " + d.Kind + " " + words.Clean(d.Thing)
		}
		if d.Through != "" {
			says += ", along with " + words.Clean(d.Through)
		}
		if d.Sensitive {
			says += " (sensitive)"
		}
	}
	return says
}

// DifferencesLine counts what differs.
func DifferencesLine(list []access.Difference) string { return differencesLine(list, Effect) }

func differencesLine(list []access.Difference, effect func(effect model.Effect, text string) string) string {
	if len(list) == 0 {
		return "Nobody gains or loses any access, and no definition differs."
	}
	people := map[model.Effect]map[string]bool{model.Widens: {}, model.Narrows: {}, model.Keeps: {}}
	for i := range list {
		if list[i].Person != "" {
			people[list[i].Effect][list[i].Person] = true
			people[model.Keeps][list[i].Person] = true
		}
	}
	return fmt.Sprintf(
		"%s of %s: %s, %s.",
		model.Count(len(list), "difference", "differences"),
		model.Count(len(people[model.Keeps]), "person", "people"),
		effect(
			model.Widens,
			model.Count(len(people[model.Widens]), "person gains", "people gain")+" access",
		),
		effect(model.Narrows, model.Count(len(people[model.Narrows]), "person loses", "people lose")+" it"),
	)
}

// Differences writes what differs, person by person.
func (p *Printer) Differences(list []access.Difference) {
	p.Line(DifferencesLine(list))
	wide := 8
	for i := range list {
		wide = max(wide, lipgloss.Width(words.Clean(list[i].App)))
	}
	for i := range list {
		d := &list[i]
		if i == 0 || list[i-1].Person != d.Person {
			p.Line()
			if d.Person == "" {
				p.Line("  " + Strong("Definitions, for all who have them"))
			} else {
				p.Line("  " + Strong(words.Clean(d.Name)) + "  " + Dim(words.Clean(d.Person)))
			}
		}
		app := lipgloss.NewStyle().Width(wide + 2).Render(words.Clean(d.App))
		p.Line("    " + Effect(d.Effect, fmt.Sprintf("%-9s", d.Effect)) + app + difference(d))
		// A cause is said once for all that follow from it.
		if i+1 == len(list) || list[i+1].Person != d.Person || list[i+1].Because != d.Because {
			p.wrapped(gutter+strings.Repeat(" ", wide+2), because(&d.Because), Dim)
		}
	}
}

// DifferencesFolded writes alike differences of one cause as one.
func (p *Printer) DifferencesFolded(list []access.Folded) {
	people := map[model.Effect]int{}
	for i := range list {
		people[list[i].Effect] += max(list[i].People, 1)
	}
	p.Linef(
		"%s: %s, %s", model.Count(people[model.Widens]+people[model.Narrows]+people[model.Keeps], "difference", "differences"),
		Effect(model.Widens, model.Count(people[model.Widens], "widens", "widen")+" access"),
		Effect(model.Narrows, model.Count(people[model.Narrows], "narrows", "narrow")+" it"),
	)
	counts := 1
	for i := range list {
		counts = max(counts, len(model.Thousands(list[i].People)))
	}
	margin := strings.Repeat(" ", counts+4+9)
	for i := range list {
		f := &list[i]
		d := access.Difference{Kind: f.Kind, Thing: f.Thing, Effect: f.Effect, Through: f.Through, Detail: f.Detail}
		head := fmt.Sprintf("  %*s  ", counts, model.Thousands(f.People))
		who := words.Clean(strings.Join(f.Names, ", "))
		if more := f.People - len(f.Names); more > 0 {
			who += " and " + model.Thousands(more) + " more"
		}
		text := words.Clean(f.App) + ": " + difference(&d)
		if who != "" {
			text += ": " + who
		}
		left := p.columns - len(margin)
		p.Line(head + Effect(f.Effect, fmt.Sprintf("%-9s", f.Effect)) + room(text, left))
		reason := f.Because
		if f.Apart {
			reason.File = ""
		}
		p.wrapped(margin, because(&reason), Dim)
	}
	p.Line(Dim("person by person: --full"))
}

func because(r *access.Reason) string {
	if r.File == "" {
		return words.Clean(r.Says)
	}
	return fmt.Sprintf("%s:%d  %s", words.Clean(r.File), r.Line, words.Clean(r.Says))
}

// DifferenceTable is what differs as a table.
func DifferenceTable(list []access.Difference) *Table {
	keys := []string{"person", "name", "app", "effect", "kind", "thing", "through", "detail", "because", "file", "line"}
	t := &Table{Headers: keys, Keys: keys, Items: list}
	for _, d := range list {
		t.Rows = append(t.Rows, []string{
			d.Person,
			d.Name,
			d.App,
			d.Effect.String(),
			d.Kind,
			d.Thing,
			d.Through,
			d.Detail,
			d.Because.Says,
			d.Because.File,
			line(d.Because.Line),
		})
	}
	return t
}

// DifferencesMarkdown writes what differs for a merge request, by effect: who
// gains what first.
func DifferencesMarkdown(w io.Writer, list []access.Difference, title string) error {
	p := &Printer{w: w, columns: usualColumns}
	p.Linef("### %s", markdown(title))
	p.Line()
	p.Line(differencesLine(list, func(_ model.Effect, text string) string { return text }))
	for _, effect := range []model.Effect{model.Widens, model.Narrows, model.Keeps} {
		if !slices.ContainsFunc(list, func(d access.Difference) bool { return d.Effect == effect }) {
			continue
		}
		p.Line()
		p.Line(
			"#### " + map[model.Effect]string{
				model.Widens:  "Who gains access",
				model.Narrows: "Who loses access",
				model.Keeps:   "What changes besides",
			}[effect],
		)
		p.Line()
		p.Line("| who | application | what | why |")
		p.Line("| --- | --- | --- | --- |")
		for i := range list {
			if d := &list[i]; d.Effect == effect {
				p.Linef(
					"| %s (%s) | %s | %s | %s |",
					markdown(d.Name),
					markdown(d.Person),
					markdown(d.App),
					markdown(difference(d)),
					markdown(because(&d.Because)),
				)
			}
		}
	}
	return p.Err()
}
