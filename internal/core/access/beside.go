package access

import (
	"cmp"
	"slices"
	"strings"
)

// Things calls f for every thing of the answer, and for what each brings along.
func (a *Answer) Things(f func(*Item)) {
	a.things(func(x *Item, _ string) { f(x) })
}

// things calls f for every thing with the way in which the person comes to it.
func (a *Answer) things(f func(x *Item, by string)) {
	var items func(list []Item, by string)
	items = func(list []Item, by string) {
		for i := range list {
			f(&list[i], by)
			_, thing, _ := strings.Cut(list[i].Thing, "/")
			items(list[i].Brings, by+", along with "+strings.Replace(thing, "/", " ", 1))
		}
	}
	for i := range a.Kits {
		how := "kit " + a.Kits[i].Kit
		if len(a.Kits[i].Reasons) > 0 && strings.Contains(a.Kits[i].Reasons[0].Says, "held by name") {
			how += ", by name"
		}
		items(a.Kits[i].Gives, how)
	}
	items(a.Others, "directly")
	items(a.Defaults, "by default")
}

// A Row is a thing and how two people stand with it; a state is "" where someone has
// nothing to do with it.
type Row struct {
	Thing    string `json:"thing"`
	Differs  bool   `json:"differs"`
	First    string `json:"first"` // one of Has, ToCome, ToGo, Kept, NotDue
	FirstBy  string `json:"firstBy"`
	Second   string `json:"second"`
	SecondBy string `json:"secondBy"`
}

// Two are two people side by side: what differs in what they have, or should have,
// first.
type Two struct {
	First  Side  `json:"first"`
	Second Side  `json:"second"`
	Rows   []Row `json:"rows"`
}

// A Side is who stands on one side.
type Side struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Title string `json:"title"`
	Stage string `json:"stage"`
}

// Beside puts two answers side by side.
func Beside(one, other *Answer) *Two {
	out := &Two{Rows: []Row{}}
	at := map[string]int{}
	for n, a := range []*Answer{one, other} {
		side := Side{a.ID, a.Name, a.Title, a.Stage}
		if n == 0 {
			out.First = side
		} else {
			out.Second = side
		}
		a.things(func(x *Item, by string) {
			i, ok := at[x.Thing]
			if !ok {
				i = len(out.Rows)
				at[x.Thing] = i
				out.Rows = append(out.Rows, Row{Thing: x.Thing})
			}
			r := &out.Rows[i]
			switch {
			case n == 0 && r.First == "":
				r.First, r.FirstBy = x.State, by
			case n == 1 && r.Second == "":
				r.Second, r.SecondBy = x.State, by
			}
		})
	}
	has := func(state string) bool { return state != "" && state != NotDue } // today, or once plans are carried out
	for i := range out.Rows {
		r := &out.Rows[i]
		r.Differs = has(r.First) != has(r.Second)
	}
	slices.SortStableFunc(out.Rows, func(x, y Row) int {
		if x.Differs != y.Differs {
			if x.Differs {
				return -1
			}
			return 1
		}
		return cmp.Compare(x.Thing, y.Thing)
	})
	return out
}
