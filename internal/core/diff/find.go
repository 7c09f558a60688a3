package diff

import (
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// find gives people whose account is not there under their name one that is there under
// an earlier name of theirs or, where the application invites, one that they registered
// by themselves with their address. An account or a person that could be meant twice is
// left alone. O(people + accounts), and nothing where no file gives an earlier name.
func (w *walker) find() {
	w.invited, w.others = map[int32]int32{}, map[int32]bool{}
	if former := w.in.People.Column("formerly"); former != nil {
		by := map[string]int32{}
		for p := range w.accountOf {
			if text := former.At(p); text != "" && w.accountOf[p] == None {
				for _, name := range strings.Fields(text) {
					enter(by, name, int32(p))
				}
			}
		}
		w.known(by, w.accounts.Key, true)
	}
	if w.app.Invites == nil {
		return
	}
	address := slices.IndexFunc(w.app.Attrs, func(a model.Attr) bool { return strings.EqualFold(a.Person, "email") })
	if address < 0 || w.accounts.Attrs[address] == nil || w.in.People.Column("email") == nil {
		return
	}
	emails, by := w.in.People.Column("email"), map[string]int32{}
	for p, account := range w.accountOf {
		if account == None || w.accounts.States[account] == model.Invited {
			enter(by, emails.At(p), int32(p))
		}
	}
	w.known(by, w.accounts.Attrs[address], false)
}

// enter notes whom a value belongs to; None for one that several people have.
func enter(by map[string]int32, value string, person int32) {
	key := table.Fold(value)
	if _, several := by[key]; several {
		person = None
	}
	by[strings.Clone(key)] = person
}

// known gives accounts of nobody to the people whom a column tells. Where one of them was
// invited as well, the invitation is noted.
func (w *walker) known(by map[string]int32, column *table.Column, former bool) {
	if len(by) == 0 {
		return
	}
	found := map[int32][]int32{} // person → accounts
	for i, p := range w.personOf {
		if state := w.accounts.States[i]; p != None || state == model.Removed || !former && state == model.Invited {
			continue
		}
		value := column.At(i)
		if value == "" {
			continue
		}
		if person, ok := by[table.Fold(value)]; ok && person != None {
			found[person] = append(found[person], int32(i))
		}
	}
	for p := range w.accountOf {
		at := found[int32(p)]
		if len(at) != 1 {
			continue
		}
		if invitation := w.accountOf[p]; invitation != None {
			w.invited[int32(p)] = invitation
		}
		w.accountOf[p], w.personOf[at[0]] = at[0], int32(p)
		w.others[at[0]] = true
		w.out.Found = append(w.out.Found, Found{w.a, at[0], int32(p), former})
	}
}
