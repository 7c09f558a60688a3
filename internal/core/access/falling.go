package access

import (
	"cmp"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
)

// A Falling is something that falls due on a day.
type Falling struct {
	On     string    `json:"on"` // YYYY-MM-DD
	Kind   fact.Kind `json:"kind"`
	App    string    `json:"app,omitempty"`
	Person string    `json:"person,omitempty"` // id
	Says   string    `json:"says"`
	File   string    `json:"file,omitempty"`
	Line   int       `json:"line,omitempty"`
	Facts  fact.Fact `json:"facts"`

	on day.Day
}

// Stood is what stands until a day.
type Stood struct {
	Rejections []decide.Rejection
	Lifts      []decide.Lift
	Kept       []model.Kept
}

// falling gathers what falls due from today to a day.
type falling struct {
	v   *View
	to  day.Day
	ids *table.Index // of people
	out []Falling
}

func (f *falling) add(on day.Day, app, person string, pos model.Pos, x fact.Fact) {
	if on == day.None || on < f.v.Today || on > f.to {
		return
	}
	f.out = append(f.out, Falling{
		On: on.String(), Kind: x.Kind, App: app, Person: person, Says: words.Of(&x), File: pos.File, Line: pos.Line,
		Facts: x, on: on,
	})
}

// Falling lists what falls due from today to a day, day by day: starts and ends, steps of
// those who leave, what is held or stands until a day, and seats that run short.
// O(people + accounts + what is found · log of that), and for seats what Ahead costs.
func (v *View) Falling(to day.Day, stood Stood) []Falling {
	f := &falling{v: v, to: to, out: []Falling{}}
	f.people()
	f.leads()
	f.steps()
	f.invitations()
	f.missing()
	f.kits()
	f.lingering()
	f.standing(stood)
	f.seats()
	f.closings()
	f.rules()
	slices.SortStableFunc(f.out, func(x, y Falling) int {
		return cmp.Or(
			cmp.Compare(x.on, y.on), cmp.Compare(x.App, y.App), cmp.Compare(x.Person, y.Person),
			cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.Says, y.Says),
		)
	})
	return f.out
}

// dayOf is a day of a person, day.None where they have none.
func (f *falling) dayOf(p int, attr string) day.Day {
	d, err := day.Parse(f.v.People.Get(p, attr))
	if err != nil {
		return day.None
	}
	return d
}

// people are those who start, end, go away and come back.
func (f *falling) people() {
	columns := map[string]fact.Kind{
		"starts": fact.FallsStart, "ends": fact.FallsEnd, "away.from": fact.FallsAway, "away.to": fact.FallsBack,
	}
	for attr, kind := range columns {
		if f.v.People.Column(attr) == nil {
			delete(columns, attr)
			continue
		}
		for p := range f.v.People.Len() {
			on := f.dayOf(p, attr)
			if on == day.None || on < f.v.Today || on > f.to {
				continue
			}
			id := f.v.People.Get(p, "id")
			f.add(on, "", id, f.v.People.Place(p, attr), fact.Fact{Kind: kind, Person: f.v.called(p)})
			if attr == "starts" {
				f.lacking(p, on)
			}
		}
	}
}

// leads are the accounts that are made before somebody's first day.
func (f *falling) leads() {
	v := f.v
	for a, app := range v.Apps {
		if app.Lead == (day.Duration{}) || v.Accounts[a] == nil {
			continue
		}
		for p := range v.People.Len() {
			starts := f.dayOf(p, "starts")
			if starts == day.None || starts <= v.Today || !v.due(p, a).Account() || v.account(p, a) >= 0 {
				continue
			}
			on := starts.Back(app.Lead)
			for starts > on.Add(app.Lead) { // months are of different lengths
				on++
			}
			f.add(on, app.ID, v.People.Get(p, "id"), v.People.Place(p, "starts"), fact.Fact{
				Kind: fact.FallsLead, App: app.ID, Person: v.called(p), Until: starts.String(),
			})
		}
	}
}

// lacking is what the licenses of somebody who starts need first and is not there.
func (f *falling) lacking(p int, on day.Day) {
	v := f.v
	for a, app := range v.Apps {
		for _, t := range v.Sets[a].Members(v.due(p, a).Want) {
			for _, need := range app.Things[t].Needs {
				n := app.Attr(need)
				if n < 0 || app.Attrs[n].Person == "" || v.People.Get(p, app.Attrs[n].Person) != "" {
					continue
				}
				id := v.People.Get(p, "id")
				f.add(on, app.ID, id, v.People.Pos(p), fact.Fact{
					Kind: fact.FallsLacking, Person: v.called(p), App: app.ID, Thing: app.Things[t].String(),
					Attribute: app.Attrs[n].Person,
				})
			}
		}
	}
}

// steps are those of accounts on their way out.
func (f *falling) steps() {
	v := f.v
	if len(v.Paths) == 0 {
		return
	}
	for a, accounts := range v.Accounts {
		if accounts == nil {
			continue
		}
		for at := range accounts.Len() {
			p := int(v.PersonOf[a][at])
			s := v.pathComing(a, at, p, f.to)
			if s == nil || s.Due == day.None {
				continue
			}
			id, next := "", s.Next()
			if p >= 0 {
				id = v.People.Get(p, "id")
			}
			x := fact.Fact{
				Kind: fact.FallsStep, App: v.Apps[a].ID, Account: accounts.Key.At(at), Other: s.Path.Name,
				Value: next.Do.String(), Until: s.Due.String(),
			}
			f.add(max(s.Due, v.Today), x.App, id, next.Pos, x)
			if next.Warn != (day.Duration{}) {
				x.Kind = fact.FallsWarning
				f.add(s.Due.Back(next.Warn), x.App, id, next.Pos, x)
			}
		}
	}
}

// kits are those that are held, or withheld, by name until a day.
func (f *falling) kits() {
	for _, k := range f.v.Kits {
		for kind, list := range map[fact.Kind][]model.Holder{fact.FallsKit: k.Holders, fact.FallsExcept: k.Except} {
			for i := range list {
				h := &list[i]
				f.add(h.Until, "", h.Person, h.Pos, fact.Fact{Kind: kind, Kit: k.Name, Person: f.called(h.Person)})
			}
		}
	}
}

// lingering is what people keep for a while after a rule has stopped matching.
func (f *falling) lingering() {
	for _, x := range f.v.Due.Linger {
		kit, id := f.v.Kits[x.Kit], f.v.People.Get(int(x.Person), "id")
		f.add(x.Until, "", id, kit.LingerPos, fact.Fact{Kind: fact.FallsLinger, Kit: kit.Name, Person: f.called(id)})
	}
}

// called is how somebody is called, by their id.
func (f *falling) called(id string) string {
	if f.ids == nil {
		f.ids, _ = f.v.People.Index("id")
	}
	if f.ids == nil || id == "" {
		return id
	}
	if p := f.ids.Find(id); p >= 0 {
		return f.v.called(p)
	}
	return id
}

// standing is what stands until a day.
func (f *falling) standing(s Stood) {
	for i := range s.Rejections {
		r := &s.Rejections[i]
		f.add(r.Until, "", "", model.Pos{}, fact.Fact{Kind: fact.FallsRejection, Value: r.Change, Because: r.Because})
	}
	for i := range s.Lifts {
		l := &s.Lifts[i]
		f.add(l.Until, l.App, "", model.Pos{}, fact.Fact{
			Kind: fact.FallsLift, Thing: l.Guard, App: l.App, Because: l.Because,
		})
	}
	for i := range f.v.Exceptions {
		x := &f.v.Exceptions[i]
		f.add(x.Until, "", x.Person, x.Pos, fact.Fact{
			Kind: fact.FallsException, Person: f.called(x.Person), Other: x.Separation,
		})
	}
	for i := range s.Kept {
		k := &s.Kept[i]
		what := cmp.Or(f.called(k.Person), k.Account)
		if k.For != nil {
			what = k.For.String()
		}
		f.add(k.Until, k.App, k.Person, k.Pos, fact.Fact{Kind: fact.FallsKept, Value: what, Because: k.Because})
	}
}

// seats are the licenses that run short, each on the day on which it does first.
func (f *falling) seats() {
	licenses := f.v.Licenses()
	limited := func(x model.AppThing) bool { return f.v.Apps[x.App].Things[x.Thing].Seats >= 0 }
	if !slices.ContainsFunc(licenses, limited) {
		return
	}
	months := f.v.Ahead(f.to)
	on := f.v.Turns(f.to)
	for i, x := range licenses {
		thing := &f.v.Apps[x.App].Things[x.Thing]
		short := func(m *Month) int { return m.Needed[i] - thing.Seats }
		for n := range months {
			if thing.Seats < 0 || short(&months[n]) <= 0 {
				continue
			}
			first := months[n]
			for _, d := range on { // since the month before, when it was not short yet
				if n > 0 && months[n-1].From < d && d < first.From {
					if m := f.v.needs(d, licenses); short(&m) > 0 {
						first = m
						break
					}
				}
			}
			f.add(first.From, f.v.Apps[x.App].ID, "", thing.Pos, fact.Fact{
				Kind: fact.FallsShort, Thing: thing.String(), App: f.v.Apps[x.App].ID, Count: short(&first), Whole: thing.Seats,
			})
			break
		}
	}
}

// closings are the days on which applications close, and open again.
func (f *falling) closings() {
	for _, app := range f.v.Apps {
		for i := range app.Closed {
			c := &app.Closed[i]
			x := fact.Fact{Kind: fact.FallsClosed, App: app.ID, Until: c.To.String(), Because: c.Because}
			f.add(max(c.From, min(f.v.Today, c.To)), app.ID, "", c.Pos, x)
			if c.To != day.None {
				x.Kind = fact.FallsOpen
				f.add(c.To+1, app.ID, "", c.Pos, x)
			}
		}
	}
}

// maxTurns is for how many people a rule names the day on which it begins or ends to match.
const maxTurns = 200

// rules are those that count days: they begin or end to match people as time goes by. O(days · people) for
// each such rule.
func (f *falling) rules() {
	for _, k := range f.v.Kits {
		if k.For == nil || !k.For.CountsDays() {
			continue
		}
		n := 0
		for p := 0; p < f.v.People.Len() && n < maxTurns; p++ {
			get := func(attr string) string { return f.v.People.Get(p, attr) }
			was := k.For.Match(get, f.v.Today)
			for on := f.v.Today + 1; on <= f.to; on++ {
				is := k.For.Match(get, on)
				if is == was {
					continue
				}
				x := fact.Fact{Kind: fact.FallsMatch, Kit: k.Name, Person: f.v.called(p)}
				if !is {
					x.Kind = fact.FallsMatchEnd
				}
				f.add(on, "", get("id"), k.ForPos, x)
				was = is
				n++
			}
		}
	}
}
