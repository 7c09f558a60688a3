package words

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A Teller tells the reasons of changes, and remembers what it has said of kits:
// many changes follow from few rules. It is used by one goroutine at a time;
// several may share an Explainer.
type Teller struct {
	*Explainer
	rules   map[int]plan.Reason      // kit → that its rule matches
	lacks   map[lacking]plan.Reason  // that a rule does not, by a value
	follows map[[2]int32]plan.Reason // application, attribute → what it follows
	givers  map[[2]int32][]Giver     // application, thing → kits; see kits
}

// lacking is what there is to say of a kit that someone does not have.
type lacking struct {
	kit                   *model.Kit
	kind                  fact.Kind
	via, attribute, value string
}

// Teller returns a Teller that remembers nothing yet.
func (e *Explainer) Teller() *Teller {
	return &Teller{
		e,
		map[int]plan.Reason{},
		map[lacking]plan.Reason{},
		map[[2]int32]plan.Reason{},
		map[[2]int32][]Giver{},
	}
}

// has says why a kit is held, as Has does.
func (t *Teller) has(h entitle.Held, held []entitle.Held) []plan.Reason {
	if h.With >= 0 || h.Holder != nil || h.Linger != nil {
		return t.Has(h, held)
	}
	r, ok := t.rules[h.Kit]
	if !ok {
		r = t.Has(h, held)[0]
		t.rules[h.Kit] = r
	}
	return []plan.Reason{r}
}

// lack says why a person does not have a kit, as Lacks does.
func (t *Teller) lack(kit *model.Kit, p int32, via string) plan.Reason {
	pos, f := t.Explainer.lack(kit, p, via)
	if f.Kind != fact.KitLacks && f.Kind != fact.KitByName {
		return at(pos, f)
	}
	key := lacking{kit, f.Kind, via, f.Attribute, f.Value}
	r, ok := t.lacks[key]
	if !ok {
		r = at(pos, f)
		t.lacks[key] = r
	}
	return r
}

// attribute says what an attribute of accounts follows.
func (t *Teller) attribute(c *diff.Change) plan.Reason {
	key := [2]int32{c.App, c.Attr}
	r, ok := t.follows[key]
	if !ok {
		a := t.Apps[c.App].Attrs[c.Attr]
		r = at(a.Pos, fact.Fact{Kind: fact.Follows, Attribute: a.Name, Other: a.Person})
		t.follows[key] = r
	}
	return r
}

// maxKits is how many kits a change names that would give a thing, but not to
// this person.
const maxKits = 3

// Reasons returns why a change is wanted, nearest cause first.
func (t *Teller) Reasons(c *diff.Change) []plan.Reason {
	app := t.Apps[c.App]
	switch c.Why {
	case diff.Gives:
		return t.gives(c)
	case diff.IsShut, diff.Invites:
		return t.gives(c)
	case diff.Unanswered:
		x := t.Leaving.Invitation(int(c.App), int(c.Account))
		return []plan.Reason{at(app.Invites.Pos, fact.Fact{
			Kind: fact.InvitedFor, Account: c.Key, Count: x.Sent, On: x.Since.String(), Limit: app.Invites.Valid.Words(),
		})}
	case diff.Registered:
		own := t.Own[[2]int32{c.App, c.Person}]
		return []plan.Reason{at(t.Accounts[c.App].Pos(int(own)), fact.Fact{
			Kind: fact.Registered, Person: t.Name(c.Person), Account: t.Accounts[c.App].Key.At(int(own)),
		})}
	case diff.NotGiven:
		return t.notGiven(c)
	case diff.NothingDue:
		if c.Thing != diff.None {
			return t.notGiven(c)
		}
		return []plan.Reason{t.person(c.Person, fact.Fact{Kind: fact.NoKit, Person: t.Name(c.Person), App: app.ID})}
	case diff.OutOfScope:
		return []plan.Reason{t.OutOfScope("scope", c.Person, app)}
	case diff.IsAway:
		attr := "away"
		for _, a := range []string{"away.from", "away.to"} {
			if t.People.Get(int(c.Person), a) != "" {
				attr = a
			}
		}
		return []plan.Reason{t.said(c.Person, attr, fact.Fact{Kind: fact.Away, Person: t.Name(c.Person)})}
	case diff.IsNotYet:
		out := []plan.Reason{t.day(c.Person, "starts", fact.NotYet)}
		if c.Ahead() {
			out = append(out, t.gives(c)...)
		}
		return out
	case diff.IsGone:
		return []plan.Reason{t.day(c.Person, "ends", fact.Ended)}
	case diff.KitSets:
		for _, s := range t.due(c).Set {
			if s.Attr == app.Attrs[c.Attr].Name {
				return []plan.Reason{
					at(
						s.Pos,
						fact.Fact{Kind: fact.KitSets, Kit: t.Kits[s.Kit].Name, Attribute: s.Attr, Value: s.Value},
					),
				}
			}
		}
	case diff.Follows:
		a := app.Attrs[c.Attr]
		return []plan.Reason{
			t.said(
				c.Person,
				a.Person,
				fact.Fact{Kind: fact.HasValue, Attribute: a.Person, Value: t.People.Get(int(c.Person), a.Person)},
			),
			t.attribute(c),
		}
	case diff.KeyIsOld:
		if c.Person == diff.None {
			if x := app.Integration(app.Says(t.Accounts[c.App], int(c.Account)), t.Today); x != nil {
				return []plan.Reason{at(x.Pos, fact.Fact{Kind: fact.KeyOld, On: c.Before, Limit: x.Every.Words()})}
			}
		}
		return []plan.Reason{
			at(app.Keys.Pos, fact.Fact{Kind: fact.KeyOld, On: c.Before, Limit: app.Keys.Every.Words()}),
		}
	case diff.IsAsked:
		return []plan.Reason{
			t.said(c.Person, model.NewPassword, fact.Fact{
				Kind: fact.PasswordAsked, On: t.People.Get(int(c.Person), model.NewPassword),
			}),
			at(app.Passwords, fact.Fact{Kind: fact.PasswordsMade, App: app.ID}),
		}
	case diff.ForInsiders:
		thing := &app.Things[c.Thing]
		if gone := c.Exchanged(app); gone >= 0 {
			thing = &app.Things[gone] // what comes instead is for anybody
		}
		return []plan.Reason{at(thing.Pos, fact.Fact{
			Kind: fact.ForInsiders, Thing: thing.String(), Person: t.Name(c.Person),
		})}
	case diff.IsUsual:
		thing := &app.Things[c.Thing]
		return []plan.Reason{at(app.OnePos[thing.Kind], fact.Fact{
			Kind: fact.UsualThing, Thing: thing.Name, Other: thing.Kind.String(),
		})}
	case diff.IsUndone:
		return []plan.Reason{{
			Facts: &fact.Fact{Kind: fact.Undoes, Other: t.Undoes.Run, Value: c.Def.Undoes.String()},
			File:  "plans/" + t.Undoes.Plan + ".json", Line: 1,
			Says: Of(&fact.Fact{Kind: fact.Undoes, Other: t.Undoes.Run, Value: c.Def.Undoes.String()}),
		}}
	case diff.IsDouble:
		return t.double(c)
	case diff.MakesRoom:
		return t.bringing(c, fact.Fact{Kind: fact.MakesRoom, Other: app.Things[c.Thing].Kind.Plural()})
	case diff.IsDefined:
		return t.defined(c)
	case diff.IsClosed:
		x := app.ClosedFor(t.Get(c.Person), t.Today)
		return []plan.Reason{at(x.Pos, fact.Fact{
			Kind: fact.Closed, App: app.ID, On: x.From.String(), Until: x.To.String(), Because: x.Because,
		})}
	case diff.OnPath:
		return t.onPath(c)
	case diff.IsStray:
		return []plan.Reason{
			at(
				app.StraysPos,
				fact.Fact{Kind: fact.Stray, Value: app.Strays, Attribute: app.MatchPerson(), Account: c.Key},
			),
		}
	}
	return nil
}

// onPath says which step of a path a change is, and what keeps the account upon it.
func (t *Teller) onPath(c *diff.Change) (out []plan.Reason) {
	s := t.Stands[c.App][c.Account]
	for i, step := range s.Wants() {
		if !fulfils(&step, c, t.Apps[c.App]) {
			continue
		}
		f := fact.Fact{
			Kind: fact.OnPath, Other: s.Path.Name, Count: s.Number(i), Whole: len(s.Path.Steps), Attribute: step.Do.String(),
		}
		if step.After != (day.Duration{}) {
			f.Limit, f.On = step.After.Words(), s.Since.String()
		}
		out = append(out, at(step.Pos, f))
		break
	}
	return append(out, t.upon(s, c))
}

// upon says what brought an account upon a path.
func (t *Teller) upon(s *entitle.Stand, c *diff.Change) plan.Reason {
	app := t.Apps[c.App]
	switch s.Path.When {
	case model.WhenListed:
		line := t.Leaving.Listed(s.Path, int(c.App), int(c.Account), int(c.Person))
		return at(
			model.Pos{File: s.Path.List.File, Line: line},
			fact.Fact{Kind: fact.Listed, Account: c.Key, Other: s.Path.List.File},
		)
	case model.WhenIdle:
		on, ever := t.Leaving.Active(int(c.App), int(c.Account))
		f := fact.Fact{Kind: fact.Idle, Account: c.Key, On: on.String(), Limit: s.Path.Idle.Words()}
		if !ever {
			f.Kind = fact.NeverActive
		}
		return at(t.Accounts[c.App].Pos(int(c.Account)), f)
	case model.WhenMatching:
		return at(s.Path.MatchPos, fact.Fact{Kind: fact.AccountMatches, Account: c.Key, Rule: s.Path.Match.String()})
	case model.WhenStray:
		return at(s.Path.Pos, fact.Fact{Kind: fact.NobodysOwn, Attribute: app.MatchPerson(), Account: c.Key})
	}
	return t.day(c.Person, "ends", fact.Ended)
}

// fulfils reports whether a change is part of a step.
func fulfils(step *model.Step, c *diff.Change, app *model.App) bool {
	switch step.Do {
	case model.DoSuspend:
		return c.Verb == model.Suspend
	case model.DoMove:
		return c.Verb == model.Update && slices.ContainsFunc(step.Set, func(s model.Setting) bool {
			return s.Attr == app.Attrs[c.Attr].Name
		})
	case model.DoHand:
		return c.Verb == model.HandOver
	case model.DoStrip:
		return c.Thing != diff.None && !step.Keep[app.Things[c.Thing].Kind]
	}
	return c.Verb.Deed().Clears || c.Thing != diff.None
}

// defined says how a definition differs from the catalog.
func (t *Teller) defined(c *diff.Change) []plan.Reason {
	app := t.Apps[c.App]
	thing := &app.Things[c.Thing]
	defs := t.Accounts[c.App].Definitions
	if c.Verb == model.Define {
		return []plan.Reason{at(thing.Pos, fact.Fact{Kind: fact.Undefined, Thing: thing.String(), App: app.ID})}
	}
	is := defs.Of[c.Thing]
	there := model.Pos{File: defs.File, Line: is.Line}
	if c.Verb == model.Retire {
		return []plan.Reason{
			at(thing.Pos, fact.Fact{Kind: fact.Retired, Thing: thing.String()}),
			at(there, fact.Fact{Kind: fact.StillThere, App: app.ID}),
		}
	}
	want := app.Defined(c.Thing)
	in := func(kind fact.Kind, d *model.Definition) fact.Fact {
		f := fact.Fact{Kind: kind, App: app.ID, Attribute: c.Def.Field}
		switch c.Def.Field {
		case diff.Title:
			f.Other, f.Value = "text", d.Title
		case diff.Permissions:
			f.Names = d.Permissions
		default:
			f.Names = d.Brings
		}
		return f
	}
	return []plan.Reason{at(thing.Pos, in(fact.InCatalog, want)), at(there, in(fact.InApp, is))}
}

// double says what brings along that which is taken away as a double.
func (t *Teller) double(c *diff.Change) []plan.Reason {
	app := t.Apps[c.App]
	tidy := at(app.TidyPos, fact.Fact{Kind: fact.Tidy, Thing: app.Things[c.Thing].String()})
	return append([]plan.Reason{tidy}, t.bringing(c, fact.Fact{Kind: fact.BringsAlong})...)
}

// bringing says, of each thing that is due and brings along that of a change, that
// it does.
func (t *Teller) bringing(c *diff.Change, f fact.Fact) (out []plan.Reason) {
	app := t.Apps[c.App]
	for _, due := range t.Sets[c.App].Members(t.due(c).Want) {
		if slices.Contains(t.Graphs[c.App].Along(due), c.Thing) {
			by := &app.Things[due]
			f.Via, f.Thing = by.String(), app.Things[c.Thing].String()
			out = append(out, at(by.Pos, f))
		}
	}
	return out
}

func (t *Teller) due(c *diff.Change) *entitle.Due {
	return &t.Due.Classes[t.Due.Of[c.Person]].Apps[c.App]
}

// same reports whether two reasons say the same.
func same(x plan.Reason) func(plan.Reason) bool {
	return func(y plan.Reason) bool { return x.File == y.File && x.Line == y.Line && x.Says == y.Says }
}

// said is a reason at the line that gives an attribute of a person.
func (t *Teller) said(p int32, attr string, f fact.Fact) plan.Reason {
	return at(t.People.Place(int(p), attr), f)
}

// day says on which day of theirs a person is not here.
func (t *Teller) day(p int32, attr string, kind fact.Kind) plan.Reason {
	return t.said(p, attr, fact.Fact{Kind: kind, Person: t.Name(p), On: t.People.Get(int(p), attr)})
}

func (t *Teller) person(p int32, f fact.Fact) plan.Reason {
	return at(t.People.Pos(int(p)), f)
}

// gives names the kits that the person has and that give the thing, or
// anything at all in the application when the change is about the account.
func (t *Teller) gives(c *diff.Change) []plan.Reason {
	var out []plan.Reason
	held := t.Due.Classes[t.Due.Of[c.Person]].Kits
	for _, h := range held {
		kit := t.Kits[h.Kit]
		for _, g := range kit.Gives {
			if int32(g.App) != c.App {
				continue
			}
			found := c.Thing == diff.None
			for _, t := range g.Things {
				found = found || t == c.Thing
			}
			if found {
				for _, r := range t.has(h, held) {
					if !slices.ContainsFunc(out, same(r)) {
						out = append(out, r)
					}
				}
				break
			}
		}
	}
	return out
}

// notGiven says that no kit of the person gives the thing, and what keeps the
// person from the kits that do.
func (t *Teller) notGiven(c *diff.Change) []plan.Reason {
	thing := &t.Apps[c.App].Things[c.Thing]
	kits := t.kits(c)
	out := make([]plan.Reason, 0, 2+min(len(kits), maxKits))
	out = append(out, t.person(c.Person, fact.Fact{Kind: fact.NoKit, Person: t.Name(c.Person), Thing: thing.String()}))
	if len(kits) == 0 {
		return append(out, at(thing.Pos, fact.Fact{Kind: fact.NobodyGets, Thing: thing.String()}))
	}
	for i, g := range kits {
		if i == maxKits {
			out = append(out, at(model.Pos{}, fact.Fact{Kind: fact.KitsMore, Count: len(kits) - i}))
			break
		}
		via := ""
		if g.Via != diff.None {
			via = t.Apps[c.App].Things[g.Via].String()
		}
		out = append(out, t.lack(t.Kits[g.Kit], c.Person, via))
	}
	return out
}

// kits are those that give the thing of a change. One that nobody can hold by
// itself explains nothing where those that it comes with are named.
func (t *Teller) kits(c *diff.Change) []Giver {
	key := [2]int32{c.App, c.Thing}
	out, ok := t.givers[key]
	if !ok {
		all := t.Givers(c.App, c.Thing)
		out = slices.DeleteFunc(slices.Clone(all), func(g Giver) bool {
			kit := t.Kits[g.Kit]
			return !kit.HasRule() && len(kit.Holders) == 0
		})
		if len(out) == 0 {
			out = all
		}
		t.givers[key] = out
	}
	return out
}
