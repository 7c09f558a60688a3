package draft

import (
	"fmt"
	"maps"
	"slices"
	"sort"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// withoutNeed names those who have a thing without the value that it needs: it was given before it did, or
// by somebody else. O(accounts) for each such thing.
func (d *drafter) withoutNeed(a int, add func(fact.Fact)) {
	app, accounts := d.in.Apps[a], d.accounts[a]
	for t := range app.Things {
		thing := &app.Things[t]
		if len(thing.Needs) == 0 || d.in.Only != nil {
			continue
		}
		has := d.states.Before(a).Giving(int32(t))
		for _, need := range thing.Needs {
			n := app.Attr(need)
			var names []string
			for i, set := range accounts.Held {
				if !has[set] || !accounts.Open(i) {
					continue
				}
				value := ""
				switch p := d.personOf[a][i]; {
				case n >= 0 && accounts.Attrs[n] != nil:
					value = accounts.Attr(n, i)
				case p != diff.None:
					value = d.in.People.Get(int(p), need)
				}
				if value == "" {
					names = append(names, accounts.Key.At(i))
				}
			}
			if len(names) > 0 {
				add(fact.Fact{
					Kind: fact.HeldWithout, Thing: thing.String(), Attribute: need, Count: len(names), Names: guard.First(names),
				})
			}
		}
	}
}

// closedNotice names the accounts of nobody that stay open while an application is closed.
func (d *drafter) closedNotice(a int, found *diff.Result, add func(fact.Fact)) {
	app := d.in.Apps[a]
	closed := app.ClosedFor(func(string) string { return "" }, d.in.Today)
	if closed == nil || d.in.Only != nil {
		return
	}
	var open []string
	for _, c := range found.Strays {
		if int(c.App) == a && d.accounts[a].Open(int(c.Account)) {
			open = append(open, c.Key)
		}
	}
	if len(open) > 0 {
		add(fact.Fact{
			Kind: fact.StaysOpen, Count: len(open), Names: guard.First(open), On: closed.From.String(),
			Until: closed.To.String(), Place: closed.Pos.String(),
		})
	}
}

func (d *drafter) appNotices(a int, found *diff.Result, add func(fact.Fact)) {
	accounts, app := d.accounts[a], d.in.Apps[a]
	if n := len(accounts.Unnamed); n > 0 {
		add(fact.Fact{Kind: fact.NameLess, Count: n, Attribute: app.Match})
	}
	var strays []string
	for _, c := range found.Strays {
		if int(c.App) == a {
			strays = append(strays, c.Key)
		}
	}
	if len(strays) > 0 && d.in.Only == nil {
		add(fact.Fact{Kind: fact.OfNobody, Count: len(strays), Names: guard.First(strays)})
	}
	if app.EndsAll {
		n := 0
		for i := range found.Changes {
			if c := &found.Changes[i]; int(c.App) == a && c.Verb == model.Suspend {
				n++
			}
		}
		if n > 0 {
			add(fact.Fact{Kind: fact.EndsSessions, Count: n})
		}
	}
	d.ownerless(a, add)
	for t := range app.Things {
		if thing := &app.Things[t]; thing.Blind != nil {
			add(fact.Fact{Kind: fact.FollowsBlind, Thing: thing.String(), Other: thing.Blind.String(), Place: thing.Blind.Pos.String()})
		}
	}
	d.aloneNotice(a, add)
	d.closedNotice(a, found, add)
	d.unfit(a, add)
	d.withoutNeed(a, add)
	for _, x := range found.Ended {
		if int(x.App) == a {
			add(fact.Fact{
				Kind: fact.OnList, Person: d.explainer.Name(x.Person), Other: x.End.Path.Name, Count: x.End.Line,
				Place: x.End.Path.Pos.String(),
			})
		}
	}
	for k := range model.Kinds {
		var names []string
		held := 0
		for u, n := range accounts.Unmanaged {
			if u.Kind == model.Kind(k) {
				names = append(names, u.Name)
				held += n
			}
		}
		if held > 0 {
			add(fact.Fact{
				Kind:  fact.Unmanaged,
				Whole: held,
				Thing: model.Kind(k).String(),
				Count: len(names),
				Names: guard.First(names),
			})
		}
	}
	d.doubleNotices(a, found, add)
	var anew, later []string
	last := day.None
	for at, s := range found.Stands[a] {
		if seen := d.leaving.Latest(a, int(at), s.Path); seen > d.in.Today {
			later, last = append(later, accounts.Key.At(int(at))), max(last, seen)
		}
		if s.Done > 0 && !s.Known {
			anew = append(anew, accounts.Key.At(int(at)))
		}
	}
	d.joining(a, found, add)
	d.warned(a, found, add)
	d.handOvers(a, found, add)
	d.unreadable(a, add)
	if slices.Sort(anew); len(anew) > 0 && d.in.Only == nil {
		add(fact.Fact{Kind: fact.WaitsAnew, Count: len(anew), Names: guard.First(anew)})
	}
	if slices.Sort(later); len(later) > 0 {
		add(fact.Fact{Kind: fact.SeenLater, Count: len(later), Names: guard.First(later), On: last.String()})
	}
	d.nestingNotices(a, add)
	for t := range app.Things {
		if thing := &app.Things[t]; thing.Retire && accounts.Definitions != nil && accounts.Definitions.Of[t] == nil {
			add(fact.Fact{Kind: fact.RetiredGone, Thing: thing.String(), Place: thing.Pos.String()})
		}
	}
}

// ownerless names the accounts of programs for which nobody answers who is here.
func (d *drafter) ownerless(a int, add func(fact.Fact)) {
	app, accounts := d.in.Apps[a], d.accounts[a]
	for n := range app.Integrations {
		x := &app.Integrations[n]
		p := -1
		if ids, _ := d.in.People.Index("id"); ids != nil {
			p = ids.Spelled(x.Owner)
		}
		if p >= 0 && d.leaving.Stages[p] != entitle.Gone || d.in.Only != nil {
			continue
		}
		var names []string
		for i := range accounts.Len() {
			if app.Integration(app.Says(accounts, i), d.in.Today) == x {
				names = append(names, accounts.Key.At(i))
			}
		}
		if len(names) > 0 {
			add(fact.Fact{
				Kind: fact.Ownerless, Count: len(names), Names: guard.First(names), Other: x.Owner, Place: x.Pos.String(),
			})
		}
	}
}

// aloneNotice counts the accounts that are left as they are.
func (d *drafter) aloneNotice(a int, add func(fact.Fact)) {
	app, accounts := d.in.Apps[a], d.accounts[a]
	if len(app.Alone)+len(app.AloneBy) == 0 || d.in.Only != nil {
		return
	}
	var names []string
	for i := range accounts.Len() {
		if _, yes := app.IsAlone(accounts.Key.At(i)); yes {
			names = append(names, accounts.Key.At(i))
		}
	}
	if len(names) > 0 {
		add(fact.Fact{Kind: fact.LeftAlone, Count: len(names), Names: guard.First(names)})
	}
}

// costs adds up what the seats in use cost, before the plan and after it.
func (d *drafter) costs(checked *guard.Result) []plan.Cost {
	before, after := model.Sum{}, model.Sum{}
	for i := range checked.Uses {
		use := &checked.Uses[i]
		price := d.in.Apps[use.App].Things[use.Thing].Price
		before.Add(price, use.Before)
		after.Add(price, use.After)
	}
	var out []plan.Cost
	all := maps.Clone(before)
	maps.Copy(all, after)
	for _, currency := range all.Currencies() {
		out = append(out, plan.Cost{Currency: currency, Before: before.Of(currency), After: after.Of(currency)})
	}
	return out
}

// nestingNotices points out groups that are within others in the application, or
// are not, other than the catalog says; access follows the application. It also
// points out members of groups whom no account is there for.
func (d *drafter) nestingNotices(a int, add func(fact.Fact)) {
	app, accounts := d.in.Apps[a], d.accounts[a]
	if accounts.Nested != nil {
		for t := range app.Things {
			child := &app.Things[t]
			if child.Kind != model.Group {
				continue
			}
			should := slices.DeleteFunc(
				slices.Clone(child.Implies),
				func(x int32) bool { return app.Things[x].Kind != model.Group },
			)
			for _, parent := range model.Without(accounts.Nested[t], should) {
				add(fact.Fact{Kind: fact.NestedMore, Thing: child.String(), Via: app.Things[parent].String()})
			}
			for _, parent := range model.Without(should, accounts.Nested[t]) {
				add(fact.Fact{Kind: fact.NestedLess, Thing: child.String(), Via: app.Things[parent].String()})
			}
		}
	}
	for _, inner := range accounts.Inner {
		add(fact.Fact{Kind: fact.NestedInner, Via: "group " + inner.Member, Thing: "group " + inner.Group})
	}
	var gone []string
	for _, x := range accounts.Dangling {
		gone = append(gone, fmt.Sprintf("%s in %s", x.Member, x.Group))
	}
	if n := len(gone); n > 0 {
		add(fact.Fact{Kind: fact.Dangling, Count: n, Names: guard.First(gone)})
	}
}

// doubleNotices points out what is held directly although something brings it.
func (d *drafter) doubleNotices(a int, found *diff.Result, add func(fact.Fact)) {
	app := d.in.Apps[a]
	by := map[int32][]string{}
	for _, x := range found.Doubles {
		if int(x.App) == a {
			by[x.Thing] = append(by[x.Thing], d.accounts[a].Key.At(int(x.Account)))
		}
	}
	for t, keys := range by {
		thing := app.Things[t]
		add(fact.Fact{Kind: fact.DoubleHeld, Thing: thing.String(), Count: len(keys), Names: guard.First(keys)})
	}
}

// handOvers is what people must hand over themselves, as the application cannot.
func (d *drafter) handOvers(a int, found *diff.Result, add func(fact.Fact)) {
	accounts := d.accounts[a]
	for at, s := range found.Stands[a] {
		for _, step := range s.Wants() {
			owned, _ := d.in.Apps[a].Owns(accounts, int(at))
			if step.Do != model.DoHand || owned == 0 {
				continue
			}
			f := fact.Fact{
				Kind: fact.HandOver, Account: accounts.Key.At(int(at)), Count: owned, Place: step.Pos.String(),
			}
			if len(d.handed(a, at)) > 0 {
				continue // a change does that
			}
			to, why := d.leaving.Successor(a, &step, int(d.personOf[a][at]))
			if f.Because = why; to >= 0 {
				f.Other = d.called(int32(to))
			}
			add(f)
		}
	}
}

// handed lists what a change hands over of what an account owns.
func (d *drafter) handed(a int, account int32) []string {
	app := d.in.Apps[a]
	if app.OwnedSplit == "" {
		return nil
	}
	return model.OwnedNames(d.accounts[a].Attr(app.Attr(model.Owned), int(account)), app.OwnedSplit)
}

// unreadable is where an export should tell when somebody signed in last and does not:
// nobody is idle by that.
func (d *drafter) unreadable(a int, add func(fact.Fact)) {
	accounts, app := d.accounts[a], d.in.Apps[a]
	if !slices.ContainsFunc(d.in.Paths, func(p *model.Path) bool { return p.When == model.WhenIdle && p.In(a) }) {
		return
	}
	for _, name := range []string{model.LastActive, model.Created} {
		n := app.Attr(name)
		if n < 0 || accounts.Attrs[n] == nil {
			continue
		}
		var odd []string
		for at := range accounts.Len() {
			text := accounts.Attr(n, at)
			if on, ok := day.ParseLoose(text); text != "" && (!ok || on > d.in.Clock) {
				odd = append(odd, accounts.Key.At(at))
			}
		}
		if len(odd) > 0 {
			add(fact.Fact{Kind: fact.NoDate, Attribute: name, Count: len(odd), Names: guard.First(odd)})
		}
	}
}

// warned is what will be removed soon, as far ahead as the step wants to be told.
func (d *drafter) warned(a int, found *diff.Result, add func(fact.Fact)) {
	var names []string
	first := day.None
	for at, s := range found.Stands[a] {
		next := s.Next()
		if next == nil || next.Do != model.DoRemove || s.Due <= d.in.Today || s.Due.Back(next.Warn) > d.in.Today {
			continue
		}
		names = append(names, d.accounts[a].Key.At(int(at)))
		if first == day.None || s.Due < first {
			first = s.Due
		}
	}
	if slices.Sort(names); len(names) > 0 {
		add(fact.Fact{Kind: fact.RemovedSoon, Count: len(names), Names: guard.First(names), On: first.String()})
	}
}

// notices gathers what is worth knowing, sorted by application.
func (d *drafter) notices(found *diff.Result, checked *guard.Result) []plan.Notice {
	out := slices.Clone(checked.Notices)
	if d.in.Undo != nil {
		out = nil // a back-out says what it leaves alone; how things are is for a draft to say
	}
	for a := range d.in.Apps {
		if d.accounts[a] != nil && d.in.Undo == nil {
			d.appNotices(a, found, func(f fact.Fact) { out = append(out, guard.Notice(d.in.Apps[a].ID, f)) })
		}
	}
	if d.in.Undo == nil {
		out = append(out, d.lingering(found)...)
	}
	for in, n := range d.lifted {
		l := &d.in.Lifts[in.lift]
		out = append(
			out,
			guard.Notice(in.app, fact.Fact{
				Kind:    fact.GuardLifted,
				Thing:   l.Guard,
				Until:   l.Until.String(),
				Because: l.Because,
				Count:   n,
			}),
		)
	}
	sort.SliceStable(out, func(i, j int) bool {
		if out[i].App != out[j].App {
			return out[i].App < out[j].App
		}
		return out[i].Says < out[j].Says
	})
	return slices.CompactFunc(out, func(x, y plan.Notice) bool { return x.App == y.App && x.Says == y.Says })
}
