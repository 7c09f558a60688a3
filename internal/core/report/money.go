package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// seats are the seats of licenses by the departments of those who have them.
func seats(in *Input) *Table {
	v := in.View
	t := &Table{
		Columns: []string{
			"license", "department", "seats", "of blocked accounts", "per seat", "cost", "bought", "free",
		},
		Right: map[int]bool{2: true, 3: true, 5: true, 6: true, 7: true}, Unit: "seats in use",
		None: "No application has a license.",
	}
	total := model.Sum{}
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
			t.row(row...)
		}
		sum := []string{address, "all", fmt.Sprint(s.Used), fmt.Sprint(s.Blocked), price.String(), "", bought, free}
		if price.Known() {
			sum[5] = price.Times(s.Used)
			total.Add(price, s.Used)
		}
		t.row(sum...)
		t.Bars = append(t.Bars, Bar{Label: address, Value: float64(s.Used)})
	}
	t.About = "Seats in use by the department of whoever has them, what they cost a month, and how many were bought."
	if text := total.String(); text != "" {
		t.About += " All together: " + text + "."
	}
	return t
}

// separation are the people on both sides of a separation, and what allows it.
func separation(in *Input) *Table {
	v := in.View
	t := &Table{
		About: "Whoever has, or by the files should have, what a separation keeps apart, and the exception " +
			"that allows it.",
		Columns: []string{"separation", "person", "name", "has", "should have", "allowed until", "because"},
		None:    "Nobody has what is kept apart.",
	}
	for i := range v.Separations {
		s := &v.Separations[i]
		for p := range v.People.Len() {
			has, should := v.Sides(p, s)
			if len(has) < 2 && len(should) < 2 {
				continue
			}
			id := v.People.Get(p, "id")
			row := []string{
				s.Name,
				id,
				v.People.Called(p),
				strings.Join(has, ", "),
				strings.Join(should, ", "),
				"not allowed",
				"",
			}
			for n := range v.Exceptions {
				if x := &v.Exceptions[n]; x.Separation == s.Name && x.Person == id && x.On(v.Today) {
					row[5], row[6] = x.Until.String(), x.Because
					if x.Until == day.None {
						row[5] = "without end"
					}
				}
			}
			t.row(row...)
		}
	}
	return t
}

func span(in *Input) string {
	return fmt.Sprintf("from %s until %s", in.From, in.To)
}

func changes(in *Input) *Table {
	t := &Table{
		About:   "Changes that runs made and the applications showed afterwards, " + span(in) + ".",
		Columns: []string{"on", "app", "verb", "account", "person", "what", "run", "by"}, Unit: "changes",
		None: "No run changed anything " + span(in) + ".",
	}
	counts := map[string]int{}
	for i := range in.Changes {
		c := &in.Changes[i]
		t.row(c.On, c.App, c.Verb, c.Account, c.Person, c.What, c.Run, c.By)
		counts[c.Effect]++
	}
	for _, e := range []model.Effect{model.Widens, model.Narrows, model.Keeps} {
		if n := counts[e.String()]; n > 0 {
			t.Bars = append(t.Bars, Bar{e.String(), float64(n), e})
		}
	}
	return t
}

func approvals(in *Input) *Table {
	t := &Table{
		About:   "Decisions about plans and changes, " + span(in) + ", by whom and why.",
		Columns: []string{"on", "by", "decided", "plan", "what", "because"}, Unit: "decisions",
		None: "Nothing was decided " + span(in) + ".",
	}
	counts := map[string]int{}
	for i := range in.Decisions {
		d := &in.Decisions[i]
		t.row(d.On, d.By, d.Verdict, d.Plan, d.What, d.Because)
		counts[d.By]++
	}
	t.Bars = bars(counts)
	slices.SortStableFunc(t.Bars, func(x, y Bar) int { return cmp.Compare(y.Value, x.Value) })
	return t
}
