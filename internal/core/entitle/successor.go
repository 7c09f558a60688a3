package entitle

import (
	"slices"

	"pravet/internal/core/model"
)

// Successor is to whom a step hands over what somebody owned; why says what is wrong with
// them, and is "" where nothing is.
func (in *Leaving) Successor(app int, step *model.Step, person int) (to int, why string) {
	if to, why = in.successor(step, person); why != "" {
		return to, why
	}
	id := in.People.Get(to, "id")
	if !in.Due.Classes[in.Due.Of[to]].Apps[app].InScope {
		return to, "the scope of " + in.Apps[app].ID + " leaves " + id + " out"
	}
	if at := in.AccountOf[app][to]; at < 0 || !in.Accounts[app].Open(int(at)) {
		return to, id + " has no open account in " + in.Apps[app].ID
	}
	return to, ""
}

// holder is who holds a kit and is here: of several, the first by id; not the person
// whose account is handed over.
func (in *Leaving) holder(kit string, person int) (to int, why string) {
	k := slices.IndexFunc(in.Kits, func(k *model.Kit) bool { return k.Name == kit })
	to = -1
	ids := in.People.Column("id")
	for p, class := range in.Due.Of {
		if p == person || in.Stages[p] != Here || to >= 0 && ids.At(to) < ids.At(p) {
			continue
		}
		if slices.ContainsFunc(
			in.Due.Classes[class].Kits,
			func(h Held) bool { return h.Kit == k && h.Linger == nil },
		) {
			to = p
		}
	}
	if to < 0 {
		return to, "nobody who is here holds kit " + kit
	}
	return to, ""
}

func (in *Leaving) successor(step *model.Step, person int) (to int, why string) {
	if step.ToKit != "" {
		return in.holder(step.ToKit, person)
	}
	id := step.To
	if step.To == "manager" {
		if person < 0 {
			return -1, "nobody is the manager of an account of nobody"
		}
		if id = in.People.Get(person, "manager"); id == "" {
			return -1, in.People.Get(person, "id") + " has no manager"
		}
	}
	to = in.People.Named(id)
	switch {
	case to < 0:
		return -1, "there is no person " + id
	case in.Stages[to] == Gone:
		return to, in.People.Get(to, "id") + " has left, too"
	case in.Stages[to] != Here:
		return to, in.People.Get(to, "id") + " is not here"
	}
	return to, ""
}
