package leaving

import (
	"strconv"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/stage"
	"pravet/internal/core/table"
)

// The steps of marks that are of no path.
const (
	MarkRemoved    = "remove"     // the application shows that it was removed
	MarkUnanswered = "unanswered" // no invitation was accepted
	MarkOpened     = "opened"     // an account that was blocked as idle was opened by hand; of a path
	sent           = "invited "   // and how often
)

// An Invitation is one that nobody has accepted yet.
type Invitation struct {
	Sent    int     // how often
	Since   day.Day // the last time, as the ledger knows
	Expires day.Day // the first day on which it cannot be accepted any more
}

// Invitation is that of an account to which somebody is invited.
func (in *Input) Invitation(app, account int) (x Invitation) {
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
func (in *Input) Unanswered(app int, account string) bool {
	_, known := in.Past[app][Mark{account, "", MarkUnanswered}]
	return known
}

// Removed is since when an account has been seen removed: from today on where nobody has
// seen that before.
func (in *Input) Removed(app, account int) day.Day {
	if since, known := in.Past[app][Mark{in.Accounts[app].Key.At(account), "", MarkRemoved}]; known {
		return since
	}
	return in.Clock
}

// Restorable reports whether a removed account can still be restored.
func (in *Input) Restorable(app, account int) bool {
	within := in.Apps[app].Restores
	return within != (day.Duration{}) && in.Today <= in.Removed(app, account).Add(within)
}

// States lists what stands now of an application's accounts that are removed, or to which
// somebody is invited. O(accounts), and nothing where the application has no such states.
func (in *Input) States(app int) (out []Mark) {
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
func (in *Input) opened(app int) (out []Mark) {
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

// silent lists the invitations that were not answered of people who are here and have no
// account yet; of tells whose each account is.
func (in *Input) silent(app int, of []int32) (out []Mark) {
	people, _ := in.People.Seek(in.Apps[app].MatchPerson())
	if in.Apps[app].Invites == nil || people == nil {
		return nil
	}
	has := map[int32]bool{}
	for _, p := range of {
		has[p] = true
	}
	for m := range in.Past[app] {
		if m.Step != MarkUnanswered || m.Path != "" {
			continue
		}
		if p := people.Find(m.Account); p >= 0 && !has[int32(p)] && in.Stages[p] == stage.Here {
			out = append(out, m)
		}
	}
	return out
}
