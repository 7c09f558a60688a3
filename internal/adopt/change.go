package adopt

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/source"
)

// A Changes says how changes of a plan are written into the files instead, so that the
// applications stay as they are.
type Changes struct {
	Repo    *desired.Repo
	View    *access.View
	Amend   *amend.Amendment
	Because string // with who and when

	made  map[[2]int32]*madeKit // application and thing → the kit that is new for it
	order []*madeKit
	kept  map[[2]string]bool // application and person who keep something by name
}

// Adopt puts what makes some changes unnecessary into the amendment. An error names the first
// change that cannot be, and why.
func (c *Changes) Adopt(changes []*plan.Change) error {
	c.made, c.order, c.kept = map[[2]int32]*madeKit{}, nil, map[[2]string]bool{}
	for _, ch := range changes {
		if ch.Verb.Deed().Loses && ch.Person != "" {
			c.kept[[2]string{ch.App, ch.Person}] = true
		}
	}
	lacking := map[[2]string][]int32{} // application and person → things that are not to be given
	for _, ch := range changes {
		a := c.Repo.App(ch.App)
		if a < 0 {
			return fmt.Errorf("there is no application %s any more", ch.App)
		}
		var err error
		switch deed := ch.Verb.Deed(); {
		case deed.Loses:
			err = c.held(a, ch)
		case deed.Gains:
			if t := c.Repo.Apps[a].Thing(ch.Thing.Kind, ch.Thing.Name); t >= 0 {
				lacking[[2]string{ch.App, ch.Person}] = append(lacking[[2]string{ch.App, ch.Person}], t)
			}
		case ch.Verb == model.Update:
			err = c.value(a, ch)
		case ch.Verb == model.Suspend:
			if !c.due(ch) { // what is kept by name keeps the account open
				err = c.Amend.Alone(c.Repo.Apps[a], ch.Account, c.Because)
			}
		case deed.Moves && !deed.Makes, ch.Verb == model.HandOver:
			err = c.Amend.Alone(c.Repo.Apps[a], ch.Account, c.Because)
		default:
			err = fmt.Errorf(
				"%s",
				"what the application has is to be written into the files by hand: "+c.Repo.Apps[a].Pos.File,
			)
		}
		if err != nil {
			return fmt.Errorf("change %s (%s %s): %w", ch.ID, ch.Verb, ch.Account, err)
		}
	}
	byText := func(x, y [2]string) int { return slices.Compare(x[:], y[:]) }
	for _, key := range slices.SortedFunc(maps.Keys(lacking), byText) {
		things := lacking[key]
		if err := c.without(key[0], key[1], things); err != nil {
			return err
		}
	}
	c.write()
	return nil
}

// due reports whether the account of a change stays open by what its person keeps by name.
func (c *Changes) due(ch *plan.Change) bool {
	p := c.Repo.People.Named(ch.Person)
	return p >= 0 && c.View.Stages[p] == entitle.Here && c.kept[[2]string{ch.App, ch.Person}]
}

// held lets somebody hold by name what the application gave.
func (c *Changes) held(a int, ch *plan.Change) error {
	app := c.Repo.Apps[a]
	if ch.Person == "" {
		return c.Amend.Alone(app, ch.Account, c.Because)
	}
	t := app.Thing(ch.Thing.Kind, ch.Thing.Name)
	e := amend.Entry{Person: ch.Person, Until: day.None, Because: c.Because}
	for _, k := range c.Repo.Kits {
		if !k.HasRule() && len(k.With) == 0 && len(k.Gives) == 1 && k.Gives[0].App == a &&
			len(k.Gives[0].Set) == 0 && slices.Equal(k.Gives[0].Things, []int32{t}) {
			c.Amend.Hold(k, e)
			return nil
		}
	}
	key := [2]int32{int32(a), t}
	k := c.made[key]
	if k == nil {
		name := c.free(app.ID + "-" + edit.Slug(ch.Thing.Name))
		k = &madeKit{app: app.ID, kind: ch.Thing.Kind, thing: ch.Thing.Name, name: name}
		c.made[key] = k
		c.order = append(c.order, k)
	}
	k.holders = append(k.holders, e)
	return nil
}

// A madeKit is a kit that is new, with those who hold it by name.
type madeKit struct {
	app     string
	kind    model.Kind
	thing   string
	name    string
	holders []amend.Entry
}

// free is a name that no kit has.
func (c *Changes) free(name string) string {
	taken := func(name string) bool {
		return c.kit(name) != nil || slices.ContainsFunc(c.order, func(k *madeKit) bool { return k.name == name })
	}
	out := name
	for n := 2; taken(out); n++ {
		out = fmt.Sprint(name, "-", n)
	}
	return out
}

// write puts the kits that are new into the amendment, each with all its holders.
func (c *Changes) write() {
	for _, k := range c.order {
		gives := edit.Inline(k.thing)
		lines := []string{
			k.name + ":", "  title: " + edit.Scalar(k.kind.String()+" "+k.thing+" in "+k.app+", by name"),
			"  gives:", "    " + k.app + ": {" + k.kind.Plural() + ": [" + gives + "]}", "  holders:",
		}
		for _, e := range k.holders {
			lines = append(lines, "    - "+e.Written())
		}
		c.Amend.AddKit("kits/adopted.yaml", lines...)
	}
}

func (c *Changes) kit(name string) *model.Kit {
	for _, k := range c.Repo.Kits {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// value gives a person the value that the application has.
func (c *Changes) value(a int, ch *plan.Change) error {
	app := c.Repo.Apps[a]
	n := app.Attr(ch.Attribute)
	if n < 0 || ch.Person == "" {
		return fmt.Errorf("nobody's row says what %s is; correct it by hand", ch.Attribute)
	}
	p := c.Repo.People.Named(ch.Person)
	follows := app.Attrs[n].Person
	switch {
	case p < 0:
		return fmt.Errorf("there is no person %s any more", ch.Person)
	case follows == "":
		return fmt.Errorf("a kit sets %s; correct the kit", ch.Attribute)
	case !slices.ContainsFunc(c.Repo.People.Attributes(), func(x string) bool { return strings.EqualFold(x, follows) }):
		return fmt.Errorf("%s follows %s; correct that by hand", ch.Attribute, follows)
	case strings.EqualFold(follows, "id"):
		return fmt.Errorf("%s is the person's id, which stays as it is", ch.Attribute)
	}
	return c.Amend.Set(p, map[string]string{follows: ch.Before.Text()})
}

// without takes people out of kits by which they would get what the application does not give
// them. A kit that gives them more than that is left to people.
func (c *Changes) without(app, person string, things []int32) error {
	a, p := c.Repo.App(app), c.Repo.People.Named(person)
	if p < 0 {
		return fmt.Errorf("there is no person %s any more", person)
	}
	for _, h := range c.View.Due.Classes[c.View.Due.Of[p]].Kits {
		k := c.Repo.Kits[h.Kit]
		gives := false
		var more []string
		for _, g := range k.Gives {
			for _, t := range g.Things {
				if g.App == a && slices.Contains(things, t) {
					gives = true
				} else {
					more = append(more, c.Repo.Apps[g.App].Address(t).String())
				}
			}
		}
		if !gives {
			continue
		}
		if len(more) > 0 {
			return source.NewProblem(k.Pos, "by-hand",
				fmt.Sprintf("kit %s gives %s more than that: %s", k.Name, person, strings.Join(more, ", ")),
				"part the kit, or adopt those changes as well")
		}
		if err := c.leave(k, h, person); err != nil {
			return err
		}
	}
	return nil
}

func (c *Changes) leave(k *model.Kit, h entitle.Held, person string) error {
	switch {
	case h.With >= 0:
		return source.NewProblem(
			k.Pos,
			"by-hand",
			fmt.Sprintf("kit %s comes with kit %s", k.Name, c.Repo.Kits[h.With].Name),
			"take it out there by hand",
		)
	case h.Holder != nil:
		c.Amend.Drop(k, person)
	default:
		c.Amend.Except(k, amend.Entry{Person: person, Until: day.None, Because: c.Because})
	}
	return nil
}
