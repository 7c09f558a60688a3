package desk

import (
	"cmp"
	"errors"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/intake"
	"pravet/internal/prepare"
)

// A FirstDay is what people who come from a spreadsheet get on their first day.
type FirstDay struct {
	On     string   `json:"on"`     // YYYY-MM-DD
	People []string `json:"people"` // those who get the same, as NAME (ID)
	Gets   []string `json:"gets"`   // accounts and things, as APPLICATION/KIND/NAME; nothing for none
	// Waiting are accounts under alone that may be theirs: nothing happens to those until somebody decides.
	Waiting []string      `json:"waiting,omitempty"`
	Short   []ShortOfSeat `json:"short,omitempty"`
}

// A ShortOfSeat is a license of which more seats are needed on a day than were bought.
type ShortOfSeat struct {
	License string `json:"license"` // as APPLICATION/license/NAME
	Needed  int    `json:"needed"`
	Bought  int    `json:"bought"`
}

// FirstDays says of new people what each gets on the first day, by the files as they would be: those who get the same on the same
// day together, the nearest day first.
func (d *Desk) FirstDays(repo *desired.Repo, a *amend.Amendment, x *Intake) (out []FirstDay, err error) {
	files, err := a.Files()
	if err != nil {
		return nil, err
	}
	contents, err := files.Contents()
	if err != nil || len(contents) == 0 {
		return nil, err
	}
	starters := map[day.Day][]string{}
	for i := range x.Outcome.Entries {
		if e := &x.Outcome.Entries[i]; e.State == intake.New {
			on := d.today
			if starts, err := day.Parse(e.Values["starts"]); err == nil && starts > on {
				on = starts
			}
			starters[on] = append(starters[on], e.Values["id"])
		}
	}
	would := prepare.Rules(d.ctx, repo.Tree.With(contents))
	for on, ids := range starters {
		v, _, err := would.Look(d.ctx, nil, on)
		if errors.Is(err, prepare.ErrProblems) {
			return nil, &WouldNotPass{would.Errors()}
		}
		if err != nil {
			return nil, err
		}
		short := map[string]ShortOfSeat{}
		for _, s := range v.Seats() {
			if s.Bought >= 0 && s.Needed > s.Bought {
				name := v.Apps[s.App].Address(s.Thing).String()
				short[name] = ShortOfSeat{name, s.Needed, s.Bought}
			}
		}
		same := map[string]int{}
		for _, id := range ids {
			p := v.People.Named(id)
			if p < 0 {
				continue
			}
			day := FirstDay{On: on.String(), Gets: []string{}}
			for app := range v.Apps {
				set, account := v.Should(p, app)
				if !account {
					continue
				}
				day.Gets = append(day.Gets, v.Apps[app].ID+"/account")
				for _, t := range v.Sets[app].Members(set) {
					name := v.Apps[app].Address(t).String()
					day.Gets = append(day.Gets, name)
					if s, ok := short[name]; ok {
						day.Short = append(day.Short, s)
					}
				}
				for i := range v.Apps[app].Alone {
					if alone := v.Apps[app].Alone[i].Text; theirs(v.People.Get, p, alone) {
						day.Waiting = append(day.Waiting, v.Apps[app].ID+"/account/"+alone)
					}
				}
			}
			key := strings.Join(append(slices.Clone(day.Gets), day.Waiting...), "\n")
			who := v.People.Called(p) + " (" + id + ")"
			if at, ok := same[key]; ok {
				out[at].People = append(out[at].People, who)
				continue
			}
			day.People = []string{who}
			same[key] = len(out)
			out = append(out, day)
		}
	}
	slices.SortStableFunc(out, func(x, y FirstDay) int { return cmp.Or(cmp.Compare(x.On, y.On), cmp.Compare(x.People[0], y.People[0])) })
	return out, nil
}

// theirs reports whether an account is called like a person: by user name, email, id, or the name.
func theirs(get func(p int, attr string) string, p int, account string) bool {
	for _, attr := range []string{"userName", "email", "id"} {
		if v := get(p, attr); v != "" && table.Fold(v) == table.Fold(account) {
			return true
		}
	}
	name := get(p, "displayName")
	return name != "" && table.Likeness(name) == table.Likeness(account)
}
