package access

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// A Place is a line of a file, and who changed it last where that was asked for.
type Place struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	ChangedBy string `json:"changedBy,omitempty"`
	ChangedOn string `json:"changedOn,omitempty"` // YYYY-MM-DD
	Commit    string `json:"commit,omitempty"`
}

func place(p model.Pos) Place { return Place{File: p.File, Line: p.Line} }

// A Reason says why, and where that is said.
type Reason struct {
	Says string `json:"says"`
	Place
}

func reason(r plan.Reason) Reason { return Reason{r.Says, Place{File: r.File, Line: r.Line}} }

// An Item is a thing, where the person stands with it, and what it brings along.
type Item struct {
	Thing string `json:"thing"` // APPLICATION/KIND/NAME
	State string `json:"state"` // one of Has, ToCome, ToGo, Kept, NotDue
	// Rejected says until when, by whom and why it was rejected that this comes or goes.
	Rejected string `json:"rejected,omitempty"`
	Place
	Brings []Item `json:"brings"`
}

// A HeldKit is a kit that a person has: by which rule, and what it gives.
type HeldKit struct {
	Kit     string   `json:"kit"`
	Title   string   `json:"title"`
	Reasons []Reason `json:"reasons"` // nearest cause first
	Gives   []Item   `json:"gives"`
}

// An Account is where a person stands in one application.
type Account struct {
	App     string `json:"app"`
	Title   string `json:"title"`
	Account string `json:"account"` // "" where there is none
	State   string `json:"state"`   // open, blocked, none, or not read
	Should  string `json:"should"`  // what should become of it, and why

	verb model.Verb // by which that comes about, where acts
	acts bool
}

// An Answer says what a person has, should have, and why.
type Answer struct {
	ID       string `json:"id"`
	UserName string `json:"userName"`
	Name     string `json:"name"`
	Title    string `json:"title"`
	Stage    string `json:"stage"`
	Place
	Thing    string    `json:"thing,omitempty"` // the one that was asked for
	Accounts []Account `json:"accounts"`
	Kits     []HeldKit `json:"kits"`
	Others   []Item    `json:"others"`             // what the person has and no kit of theirs gives
	Defaults []Item    `json:"defaults,omitempty"` // what they should have of which everybody has one, as no kit gives another
	Lacks    []Reason  `json:"lacks"`              // of the thing that was asked for: what stands in the way, nearest first
	Apart    []Reason  `json:"apart"`              // what is kept apart and the person has or should have together
}

// Places calls f for every place of the answer.
func (a *Answer) Places(f func(*Place)) {
	f(&a.Place)
	var items func([]Item)
	items = func(list []Item) {
		for i := range list {
			f(&list[i].Place)
			items(list[i].Brings)
		}
	}
	for i := range a.Kits {
		for j := range a.Kits[i].Reasons {
			f(&a.Kits[i].Reasons[j].Place)
		}
		items(a.Kits[i].Gives)
	}
	items(a.Others)
	items(a.Defaults)
	for _, list := range [][]Reason{a.Lacks, a.Apart} {
		for i := range list {
			f(&list[i].Place)
		}
	}
}

// Why answers for one person; with a thing, only what has to do with it.
// O(kits · things) besides what Look has cost.
func (v *View) Why(p int, thing *model.AppThing) *Answer {
	out := &Answer{
		ID:       v.People.Get(p, "id"),
		UserName: v.People.Get(p, "userName"),
		Name:     v.name(p),
		Title:    v.People.Get(p, "title"),
		Stage:    v.stageWords(p),
		Place:    place(v.People.Pos(p)),
		Accounts: []Account{},
		Kits:     []HeldKit{},
		Others:   []Item{},
		Lacks:    []Reason{},
		Apart:    v.apart(p, thing),
	}
	if thing != nil {
		out.Thing = v.Apps[thing.App].Address(thing.Thing).String()
	}
	for a := range v.Apps {
		if thing == nil && (v.account(p, a) >= 0 || v.due(p, a).Given) || thing != nil && thing.App == a {
			out.Accounts = append(out.Accounts, v.accountOf(p, a))
		}
	}
	held := v.Due.Classes[v.Due.Of[p]].Kits
	for _, h := range held {
		kit := v.Kits[h.Kit]
		k := HeldKit{Kit: kit.Name, Title: kit.Title, Gives: []Item{}}
		for _, r := range v.Explain.Has(h, held) {
			k.Reasons = append(k.Reasons, reason(r))
		}
		for _, g := range kit.Gives {
			for i, t := range g.Things {
				if x, ok := v.item(p, g.App, t, g.Pos[i], thing); ok {
					k.Gives = append(k.Gives, x)
				}
			}
		}
		if thing == nil || len(k.Gives) > 0 {
			out.Kits = append(out.Kits, k)
		}
	}
	for a := range v.Apps {
		v.others(p, a, thing, out)
	}
	if thing != nil && v.state(p, thing.App, thing.Thing) != Has && v.state(p, thing.App, thing.Thing) != ToCome {
		out.Lacks = v.lacks(p, thing)
	}
	return out
}

// apart says which things that are kept apart the person has or should have
// together; with a thing, only of those that it is, or brings along.
func (v *View) apart(p int, only *model.AppThing) []Reason {
	out := []Reason{}
	for i := range v.Separations {
		sep := &v.Separations[i]
		var both []string
		concerns := only == nil
		for _, x := range sep.Break(func(x model.AppThing) bool {
			should, _ := v.Should(p, x.App)
			return v.Sets[x.App].Has(v.has(p, x.App), x.Thing) || v.Sets[x.App].Has(should, x.Thing)
		}) {
			both = append(both, v.Apps[x.App].Address(x.Thing).String()+", "+v.state(p, x.App, x.Thing))
			concerns = concerns || only.App == x.App && v.graphs[x.App].Chain(only.Thing, x.Thing) != nil
		}
		if len(both) < 2 || !concerns {
			continue
		}
		r := Reason{fmt.Sprintf("kept apart, %s: %s", sep.Name, strings.Join(both, "; ")), place(sep.Pos)}
		for n := range v.Exceptions {
			if x := &v.Exceptions[n]; x.Separation == sep.Name && x.Person == v.People.Get(p, "id") && x.On(v.Today) {
				r = Reason{fmt.Sprintf("%s; allowed until %s: %s", r.Says, x.Until, x.Because), place(x.Pos)}
			}
		}
		out = append(out, r)
	}
	return out
}

// item is a thing with what it brings along; with only, no more than what leads
// to that.
func (v *View) item(p, app int, t int32, pos model.Pos, only *model.AppThing) (Item, bool) {
	a := v.Apps[app]
	if only != nil && (only.App != app || v.graphs[app].Chain(t, only.Thing) == nil) {
		return Item{}, false
	}
	out := Item{Thing: a.Address(t).String(), State: v.state(p, app, t), Place: place(pos), Brings: []Item{}}
	if only == nil || only.Thing != t {
		for _, next := range v.graphs[app].Brings(t) {
			if x, ok := v.item(p, app, next, a.Things[t].Pos, only); ok {
				out.Brings = append(out.Brings, x)
			}
		}
	}
	return out, true
}

// others adds what the person holds directly and no kit of theirs gives here, and the defaults that they should have.
func (v *View) others(p, app int, only *model.AppThing, out *Answer) {
	given := map[int32]bool{}
	a, due := v.Apps[app], v.due(p, app)
	usuals := slices.Clone(due.Usuals)
	for k := range a.Usual {
		if t := a.UsualThing(model.Kind(k)); t >= 0 && v.instead(p, app, t) {
			usuals = append(usuals, t)
		}
	}
	for _, t := range usuals {
		if x, ok := v.item(p, app, t, a.OnePos[a.Things[t].Kind], only); ok && due.Account() {
			given[t] = true
			out.Defaults = append(out.Defaults, x)
		}
	}
	at := v.account(p, app)
	if at < 0 {
		return
	}
	for _, h := range v.Due.Classes[v.Due.Of[p]].Kits {
		for _, g := range v.Kits[h.Kit].Gives {
			if g.App == app {
				for _, t := range g.Things {
					given[t] = true
				}
			}
		}
	}
	for _, t := range v.Sets[app].Members(v.Accounts[app].Held[at]) {
		if given[t] {
			continue
		}
		if x, ok := v.item(p, app, t, v.Accounts[app].Pos(at), only); ok {
			out.Others = append(out.Others, x)
		}
	}
}

func (v *View) stageWords(p int) string {
	switch v.Stages[p] {
	case entitle.Away:
		return "away"
	case entitle.NotYet:
		return "starts on " + v.People.Get(p, "starts")
	case entitle.Gone:
		return "ended on " + v.People.Get(p, "ends")
	}
	return "here"
}

// stagePlace is where it is said that a person is not here.
func (v *View) stagePlace(p int) Place {
	attr := map[entitle.Stage]string{entitle.Away: "away", entitle.NotYet: "starts", entitle.Gone: "ends"}[v.Stages[p]]
	return place(v.People.Place(p, attr))
}

func (v *View) accountOf(p, app int) Account {
	a := v.Apps[app]
	out := Account{App: a.ID, Title: a.Title, State: "not read"}
	if v.AccountOf[app] != nil {
		out.State = "none"
	}
	at, state := v.account(p, app), model.NoAccount
	if at >= 0 {
		state = v.Accounts[app].States[at]
		out.Account, out.State = v.Accounts[app].Key.At(at), state.String()
	}
	if pos, yes := a.IsAlone(out.Account); yes && at >= 0 {
		out.Should = "is left alone, as " + pos.String() + " says"
		return out
	}
	if s := v.pathState(app, at, p); s != nil {
		v.onPath(&out, s)
		return out
	}
	d := v.due(p, app)
	stands := v.Stages[p]
	closing := a.ClosedFor(func(attr string) string { return v.People.Get(p, attr) }, v.Today)
	if closing != nil && stands == entitle.Here {
		stands = entitle.Away
	} else {
		closing = nil
	}
	do, shut := entitle.DutyOf(stands, d.Account(), state).For(
		a, func(attr string) string { return v.People.Get(p, attr) }, v.Today,
	)
	ahead := v.ahead(p, app)
	if ahead {
		do.Verb, do.Acts = model.Create, true
	}
	out.verb, out.acts = do.Verb, do.Acts
	switch {
	case v.AccountOf[app] == nil && do.Holdings == entitle.Align:
		out.Should = "is due"
	case do.Acts:
		out.Should = map[model.Verb]string{
			model.Create:   "is to be created",
			model.Invite:   "is to be invited",
			model.Restore:  "is to be restored",
			model.Suspend:  "is to be suspended",
			model.Withdraw: "is to be withdrawn",
		}[do.Verb]
		if shut {
			out.Should += ", blocked until somebody says that it is opened"
		}
		if ahead {
			out.Should += ", blocked until the first day"
		}
	case state == model.Open:
		out.Should = "stays open"
	case state == model.Blocked:
		out.Should = "stays blocked"
	case state == model.Invited:
		out.Should = "waits until the invitation is accepted, which expires on " + v.expiry(app, at)
		if waits := v.waits(p, app); len(waits) > 0 {
			out.Should += "; until then these wait: " + strings.Join(waits, ", ")
		}
	default:
		out.Should = "none is due"
	}
	if do.Holdings != entitle.Align && !shut {
		switch {
		case closing != nil:
			out.Should += fmt.Sprintf(": closed until %s: %s", closing.To, closing.Because)
		case v.Stages[p] != entitle.Here:
			out.Should += ": " + map[entitle.Stage]string{
				entitle.Away:   "away",
				entitle.NotYet: "not yet here",
				entitle.Gone:   "no longer here",
			}[v.Stages[p]]
		case !d.InScope:
			out.Should += ": the scope leaves this person out"
		default:
			out.Should += ": no kit gives anything here"
		}
	}
	return out
}

// lacks says what stands between a person and a thing: the nearest reason first.
func (v *View) lacks(p int, thing *model.AppThing) []Reason {
	app := v.Apps[thing.App]
	var out []Reason
	if v.Stages[p] != entitle.Here {
		out = append(out, Reason{fmt.Sprintf("%s is not here today: %s", v.name(p), v.stageWords(p)), v.stagePlace(p)})
	}
	if d := v.due(p, thing.App); !d.InScope {
		out = append(out, reason(v.Explain.OutOfScope("the scope of "+app.ID, int32(p), app)))
	}
	givers := v.Explain.Givers(int32(thing.App), thing.Thing)
	type near struct {
		giver  words.Giver
		misses int
	}
	var all []near
	for _, g := range givers {
		kit := v.Kits[g.Kit]
		if slices.ContainsFunc(v.Due.Classes[v.Due.Of[p]].Kits, func(h entitle.Held) bool { return h.Kit == g.Kit }) {
			continue // the person has it, so it is the stage or the scope
		}
		n := near{g, 1 << 20} // by name only
		if kit.For != nil {
			n.misses = kit.For.Misses(v.Explain.Get(int32(p)), v.Today)
		}
		all = append(all, n)
	}
	slices.SortStableFunc(all, func(x, y near) int { return cmp.Compare(x.misses, y.misses) })
	for _, n := range all {
		kit := v.Kits[n.giver.Kit]
		via := ""
		if n.giver.Via >= 0 {
			via = app.Things[n.giver.Via].String()
		}
		out = append(out, reason(v.Explain.Lacks(kit, int32(p), via)))
	}
	if len(givers) == 0 {
		t := app.Things[thing.Thing]
		out = append(out, Reason{fmt.Sprintf("no kit gives %s %s to anyone", t.Kind, t.Name), place(t.Pos)})
	}
	return out
}
