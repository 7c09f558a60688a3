package desk

import (
	"fmt"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/past"
)

// A Holder is an account that holds a thing, with what is known of how that came.
type Holder struct {
	access.Holder
	Rejection *decide.Rejection // by which it keeps the thing; nil where nothing was decided
	Given     *past.Decision    // by whose decision it has it; nil where that is not known
	Came      past.Came         // between which exports
}

// Holders lists who holds a thing, as things are on a day: all that have it in the end where effective.
// A holder who is to lose it, and whose loss was rejected, has that rejection.
func (d *Desk) Holders(address string, effective bool, on day.Day) ([]Holder, *Sight, error) {
	s, err := d.Sound()
	if err != nil {
		return nil, nil, err
	}
	thing, err := Thing(s.Repo, address)
	if err != nil {
		return nil, nil, err
	}
	app := s.Repo.Apps[thing.App]
	x, err := d.Look([]string{app.ID}, on)
	if err != nil {
		return nil, nil, err
	}
	if len(x.Missing) > 0 {
		return nil, nil, x.Missing[0]
	}
	rejected, err := d.Rejected(x)
	if err != nil {
		return nil, nil, err
	}
	of := app.Address(thing.Thing)
	kind, known := model.ParseKind(of.Kind)
	var out []Holder
	for _, h := range x.Holders(thing, effective) {
		holder := Holder{Holder: h}
		if known && h.State == access.ToGo {
			holder.Rejection = rejected(access.Open{
				App: of.App, Account: h.Account, Person: h.Person, Verb: model.Losing(kind), Kind: kind, Name: of.Name,
			})
		}
		out = append(out, holder)
	}
	return out, x, nil
}

// HoldersAt lists who held a thing at the end of a past day, since when, and by whose decision.
func (d *Desk) HoldersAt(address string, effective bool, at string) ([]Holder, *Sight, error) {
	now, err := d.Repo()
	if err != nil {
		return nil, nil, err
	}
	var apps []string
	if a, err := model.ParseAddress(address); err == nil && now.App(a.App) >= 0 {
		apps = []string{a.App}
	}
	x, err := d.Past(apps, at)
	if err != nil {
		return nil, nil, err
	}
	thing, err := Thing(x.State.Repo, address)
	if err != nil {
		return nil, nil, err
	}
	app := x.State.Repo.Apps[thing.App]
	if len(x.Missing) > 0 {
		first, err := past.First(d.book, app.ID)
		if err != nil {
			return nil, nil, err
		}
		if first == day.None {
			return nil, nil, sayNoneKept(x.Missing[0])
		}
		return nil, nil, sayKeptSince(x.Missing[0], first.String())
	}
	list := x.Holders(thing, effective)
	var accounts []string
	for i := range list {
		accounts = append(accounts, list[i].Account)
	}
	since, err := past.Since(d.book, app, thing.Thing, x.Day, accounts)
	if err != nil {
		return nil, nil, err
	}
	g := given{d, x, address, app, map[string]*past.Decision{}}
	var out []Holder
	for i := range list {
		h := Holder{Holder: list[i], Came: since[list[i].Account]}
		got, err := g.by(&list[i])
		if err != nil {
			return nil, nil, err
		}
		if got != nil && h.Came.Explains(got.Since) {
			h.Given = got
		}
		out = append(out, h)
	}
	return out, x, nil
}

// given finds by which run holders came to a thing.
type given struct {
	d         *Desk
	x         *Sight
	address   string
	app       *model.App
	redefined map[string]*past.Decision
}

// by is the run by which a holder came to the thing: by itself, by what brings it along, or as
// that began to.
func (g *given) by(h *access.Holder) (d *past.Decision, err error) {
	things := []string{g.address}
	for _, t := range h.Through {
		kind, name, _ := strings.Cut(t, " ")
		things = append(things, g.app.ID+"/"+kind+"/"+name)
	}
	for _, t := range things {
		if h.Person != "" {
			if d, err = past.Gained(g.d.book, h.Person, t, g.x.Day); d != nil || err != nil {
				return d, err
			}
		}
	}
	for _, t := range things[1:] {
		d, ok := g.redefined[t]
		if !ok {
			if d, err = past.Redefined(g.d.book, t, g.x.Day); err != nil {
				return nil, err
			}
			g.redefined[t] = d
		}
		if d != nil {
			return d, nil
		}
	}
	return nil, nil
}

// sayNoneKept is said where no export of a past day is kept; err says of which application.
func sayNoneKept(err error) error {
	return fmt.Errorf("%w; none is kept yet, and the next draft keeps what the exports hold", err)
}

// sayKeptSince is said where the exports that are kept begin later.
func sayKeptSince(err error, first string) error {
	return fmt.Errorf("%w; the first that is kept was taken on %s", err, first)
}
