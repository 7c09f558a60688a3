package entitle

import (
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// The steps of marks that are of no path.
const (
	MarkRemoved    = "remove"     // the application shows that it was removed
	MarkUnanswered = "unanswered" // no invitation was accepted
	MarkOpened     = "opened"     // an account that was blocked as idle was opened by hand; of a path
	MarkBlocked    = "blocked"    // it is seen blocked
	MarkEnded      = "ended"      // it was taken to the end of a path, and is not there any more
	markEarly      = "early "     // and a step: it is seen done before its time
	sent           = "invited "   // and how often
)

// An Invitation is one that nobody has accepted yet.
type Invitation struct {
	Sent    int     // how often
	Since   day.Day // the last time, as the ledger knows
	Expires day.Day // the first day on which it cannot be accepted any more
}

// Invitation is that of an account to which somebody is invited.
func (in *Leaving) Invitation(app, account int) (x Invitation) {
	x.Sent = 1
	if n := in.Apps[app].Attr(model.Sent); n >= 0 {
		if times, err := strconv.Atoi(in.Accounts[app].Attr(n, account)); err == nil && times > 0 {
			x.Sent = times
		}
	}
	known := false
	if x.Since, known = in.Past[app][invited(in.Accounts[app].Key.At(account), x.Sent)]; !known {
		x.Since = in.Clock
	}
	x.Expires = day.None
	if i := in.Apps[app].Invites; i != nil {
		x.Expires = x.Since.Add(i.Valid)
	}
	return x
}

func invited(account string, times int) Mark { return Mark{account, "", sent + strconv.Itoa(times)} }

// Unanswered reports whether invitations to an account that is not there were not
// answered, as the ledger knows.
func (in *Leaving) Unanswered(app int, account string) bool {
	_, known := in.Past[app][Mark{account, "", MarkUnanswered}]
	return known
}

// Removed is since when an account has been seen removed: from today on where nobody has
// seen that before.
func (in *Leaving) Removed(app, account int) day.Day {
	if since, known := in.Past[app][Mark{in.Accounts[app].Key.At(account), "", MarkRemoved}]; known {
		return since
	}
	return in.Clock
}

// Restorable reports whether a removed account can still be restored.
func (in *Leaving) Restorable(app, account int) bool {
	within := in.Apps[app].Restores
	return within != (day.Duration{}) && in.Today <= in.Removed(app, account).Add(within)
}

// States lists what stands now of an application's accounts that are removed, or to which
// somebody is invited. O(accounts), and nothing where the application has no such states.
func (in *Leaving) States(app int) (out []Mark) {
	a := in.Apps[app]
	out = in.opened(app)
	if a.Restores == (day.Duration{}) && a.Invites == nil {
		return out
	}
	for i, state := range in.Accounts[app].States {
		key := in.Accounts[app].Key.At(i)
		switch state {
		case model.Removed:
			out = append(out, Mark{key, "", MarkRemoved})
		case model.Invited:
			x := in.Invitation(app, i)
			out = append(out, invited(key, x.Sent))
			if a.Invites != nil && x.Sent > a.Invites.Again && x.Expires <= in.Today {
				out = append(out, Mark{key, "", MarkUnanswered})
			}
		}
	}
	return out
}

// opened lists the accounts that were blocked as idle and are open again. It looks at those
// only that are on record.
func (in *Leaving) opened(app int) (out []Mark) {
	index := (*table.Index)(nil)
	for _, p := range in.Paths {
		if p.When != model.WhenIdle || !p.In(app) {
			continue
		}
		seen := map[string]bool{}
		for m := range in.Past[app] {
			if m.Path != p.Name || m.Step != MarkOpened && m.Step != model.DoSuspend.String() || seen[m.Account] {
				continue
			}
			seen[m.Account] = true
			if index == nil {
				index = table.NewIndex(in.Accounts[app].Key, nil)
			}
			if at := index.Find(m.Account); at >= 0 && in.idle(p, app, at) && in.Opened(p, app, at) != day.None {
				out = append(out, Mark{m.Account, p.Name, MarkOpened})
			}
		}
	}
	return out
}

// Lasting lists what stays on record while there is nothing to be seen of an account: that invitations to
// it were not answered, and that it was taken to the end of a path. It lasts until there is an account
// again, or until the path is for it no longer. O(marks).
func (in *Leaving) Lasting(app int) (out []Mark) {
	if len(in.Past[app]) == 0 {
		return nil
	}
	index := table.NewIndex(in.Accounts[app].Key, nil)
	absent := func(name string, but ...model.State) bool {
		at := index.Find(name)
		return at < 0 || slices.Contains(but, in.Accounts[app].States[at])
	}
	for m := range in.Past[app] {
		switch m.Step {
		case MarkUnanswered:
			if m.Path == "" && in.Apps[app].Invites != nil && absent(m.Account) {
				out = append(out, m)
			}
		case "", MarkEnded:
			if m.Path != "" && in.ends(app, m.Path) && absent(m.Account, model.Removed) {
				out = append(out, Mark{m.Account, m.Path, MarkEnded})
			}
		}
	}
	slices.SortFunc(out, func(x, y Mark) int { return strings.Compare(x.Account+x.Path, y.Account+y.Path) })
	return slices.Compact(out)
}

// ends reports whether a path of that name takes accounts of somebody who is here to their end in an
// application.
func (in *Leaving) ends(app int, name string) bool {
	return slices.ContainsFunc(in.Paths, func(p *model.Path) bool {
		return p.Name == name && p.In(app) && p.When != model.WhenEnded && p.When != model.WhenStray &&
			slices.ContainsFunc(p.Steps, func(s model.Step) bool { return s.Do == model.DoRemove })
	})
}

// An End is why somebody who is here is to get no account: their last was taken to the end of a path.
type End struct {
	Path *model.Path
	On   day.Day // since when that is known; day.None where nobody has seen it
	Line int     // of the path's list that they are still on, 0 for none
}

// Ended tells by whom, of the people who have no account in an application or a removed one, that was
// taken to the end of a path that they are on still, or whose account is on the list of one: nil for
// nobody else. A list counts as long as they are on it; any other path until somebody decides. account is
// -1 where there is none, and name is how one would be called.
func (in *Leaving) Ended(app, account, person int, name string) *End {
	if in == nil || person < 0 {
		return nil
	}
	if account >= 0 {
		name = in.Accounts[app].Key.At(account)
	}
	for _, p := range in.Paths {
		if !p.In(app) || !in.isFor(p, person) {
			continue
		}
		if p.When == model.WhenListed {
			line := p.List.Lines[in.People.Get(person, "id")]
			if line == 0 {
				line = p.List.Lines[model.Listed(in.Apps[app].ID, name)]
			}
			if line > 0 {
				return &End{p, day.None, line}
			}
			continue
		}
		if !in.ends(app, p.Name) {
			continue
		}
		if on, known := in.Past[app][Mark{name, p.Name, MarkEnded}]; known {
			return &End{p, on, 0}
		}
		if on, known := in.Past[app][Mark{name, p.Name, ""}]; known && account < 0 {
			return &End{p, on, 0} // it has gone since
		}
		if account >= 0 && p.When == model.WhenIdle && in.Accounts[app].States[account] == model.Removed &&
			in.idle(p, app, account) {
			return &End{p, day.None, 0}
		}
	}
	return nil
}
