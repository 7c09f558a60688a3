package access

import (
	"maps"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// Seats is how the seats of a license are used today.
type Seats struct {
	App     int
	Thing   int32
	Bought  int // -1 without a number of seats
	Used    int // accounts that have it in the end, open or blocked
	Blocked int // of those, blocked ones of people
	Nobodys int // of those, of accounts of nobody
	Needed  int // people who are due it today, or keep it while away
}

// Free is how many seats nobody has; below zero where more are held than were
// bought.
func (s *Seats) Free() int { return s.Bought - s.Used }

// Price is the price of one seat.
func (v *View) Price(s *Seats) model.Price { return v.Apps[s.App].Things[s.Thing].Price }

// Licenses lists the licenses of all applications, or those that Only leaves.
func (v *View) Licenses() (out []model.AppThing) {
	for a, app := range v.Apps {
		if len(v.only) > 0 && !slices.Contains(v.only, app.ID) {
			continue
		}
		for t := range app.Things {
			if app.Things[t].Kind == model.License {
				out = append(out, model.AppThing{App: a, Thing: int32(t)})
			}
		}
	}
	return out
}

// Seats counts the seats of the licenses whose exports were read.
// O(licenses · accounts + people).
func (v *View) Seats() (out []Seats) {
	needed := v.needed(v.Due, v.Stages, v.Licenses())
	for i, x := range v.Licenses() {
		accounts := v.Accounts[x.App]
		if accounts == nil {
			continue
		}
		s := Seats{App: x.App, Thing: x.Thing, Bought: v.Apps[x.App].Things[x.Thing].Seats, Needed: needed[i]}
		has := v.reach[x.App].Giving(x.Thing)
		for at, set := range accounts.Held {
			if !has[set] {
				continue
			}
			s.Used++
			switch {
			case v.PersonOf[x.App][at] < 0:
				s.Nobodys++
			case accounts.States[at] == model.Blocked:
				s.Blocked++
			}
		}
		out = append(out, s)
	}
	return out
}

// needed counts the people who need each license, here or away.
func (v *View) needed(due *entitle.Result, stages []entitle.Stage, licenses []model.AppThing) []int {
	people := inClasses(due, func(p int) bool { return stages[p] == entitle.Here || stages[p] == entitle.Away })
	out := make([]int, len(licenses))
	for c := range due.Classes {
		if people[c] == 0 {
			continue
		}
		for i, x := range licenses {
			if d := &due.Classes[c].Apps[x.App]; d.Account() && v.Sets[x.App].Has(d.Reach, x.Thing) {
				out[i] += people[c]
			}
		}
	}
	return out
}

// inClasses counts the people of each class that a test chooses.
func inClasses(due *entitle.Result, which func(p int) bool) []int {
	people := make([]int, len(due.Classes))
	for p, class := range due.Of {
		if which(p) {
			people[class]++
		}
	}
	return people
}

// A Month is how many seats of each of Licenses are needed from a day on, as
// far as starts, ends, and the last days of holders and exceptions are known.
type Month struct {
	From   day.Day
	Needed []int
}

// Ahead counts the seats that will be needed: today, and on the first of every
// month up to a day. It costs O(months) times what a View does.
func (v *View) Ahead(to day.Day) (out []Month) {
	licenses := v.Licenses()
	for from := v.Today; from <= to; from = from.NextMonth() {
		out = append(out, v.needs(from, licenses))
	}
	return out
}

// needs counts the seats that are needed on a day: those of people who are due them, and those that nobody
// would free by then, of accounts of nobody and of people who have left.
func (v *View) needs(on day.Day, licenses []model.AppThing) Month {
	due := entitle.Compute(
		entitle.Input{People: v.People, Apps: v.Apps, Graphs: v.graphs, Kits: v.Kits, Sets: v.Sets, Today: on},
	)
	stages := entitle.StagesOf(v.People, on)
	m := Month{on, v.needed(due, stages, licenses)}
	for i, x := range licenses {
		accounts := v.Accounts[x.App]
		if accounts == nil {
			continue
		}
		has := v.reach[x.App].Giving(x.Thing)
		for at, set := range accounts.Held {
			p := v.PersonOf[x.App][at]
			if !has[set] || p >= 0 && stages[p] != entitle.Gone && stages[p] != entitle.NotYet {
				continue
			}
			if frees := v.frees(x.App, at, int(p)); frees == day.None || on < frees {
				m.Needed[i]++
			}
		}
	}
	return m
}

// frees is the day on which the path that an account is upon takes its licenses, day.None where nothing
// does. Later steps are taken to come in their time.
func (v *View) frees(app, at, person int) day.Day {
	s := v.pathState(app, at, person)
	if s == nil {
		return day.None
	}
	on := s.Due
	for n := s.Done; n < len(s.Path.Steps) && on != day.None; n++ {
		step := &s.Path.Steps[n]
		if n > s.Done {
			on = on.Add(step.After)
		}
		if step.Do == model.DoRemove || step.Do == model.DoStrip && !step.Keep[model.License] {
			return on
		}
	}
	return day.None
}

// Turns lists the days, after today and up to a day, on which somebody may come to need a seat or need none
// any more: starts, ends, absences, and the last days of holders.
func (v *View) Turns(to day.Day) (out []day.Day) {
	seen := map[day.Day]bool{}
	note := func(on day.Day, after day.Day) {
		if on != day.None && on+after > v.Today && on+after <= to {
			seen[on+after] = true
		}
	}
	for _, attr := range []string{"starts", "ends", "away.from", "away.to"} {
		column := v.People.Column(attr)
		if column == nil {
			continue
		}
		for p := range column.Len() {
			if d, err := day.Parse(column.At(p)); err == nil {
				note(d, map[string]day.Day{"ends": 1, "away.to": 1}[attr])
			}
		}
	}
	for a, accounts := range v.Accounts {
		for at := 0; accounts != nil && len(v.Paths) > 0 && at < accounts.Len(); at++ {
			note(v.frees(a, at, int(v.PersonOf[a][at])), 0)
		}
	}
	for _, k := range v.Kits {
		for _, h := range slices.Concat(k.Holders, k.Except) {
			note(h.Until, 1)
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// Only leaves the licenses of some applications; with none named, all.
func (v *View) Only(apps []string) { v.only = apps }
