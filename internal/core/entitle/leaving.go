// This tells where accounts stand on their ways out and in. On the paths on which
// they end: which steps an application shows as done, since when, and which step is next and
// on which day. With invitations: which one is out, and until when it can be accepted. And of
// removed accounts: whether they can still be restored.
//
// A wait counts from the day on which the step before was seen done on the application,
// as the ledger knows it (Past), and from nothing else. What the ledger does not know
// begins today. So whatever is late, fails, is rejected or forgotten makes a wait longer,
// and nothing makes it shorter.

package entitle

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// A Mark is something about an account that days are counted from: that it is upon a
// path (Step is ""), or that a step of the path is done. Of an account of nobody that
// only is to be removed Path is "".
type Mark struct{ Account, Path, Step string }

// Past tells of each application since which day its marks have stood, as the ledger
// knows.
type Past []map[Mark]day.Day

// Leaving is what is looked at.
type Leaving struct {
	People    *model.People
	Apps      []*model.App
	Accounts  []*model.Accounts // nil for an application that was not read
	Paths     []*model.Path     // in the order of their ranks
	Stages    []Stage
	Past      Past
	Today     day.Day // on which steps are due
	Clock     day.Day // from which a wait counts that begins now
	Due       *Result
	Kits      []*model.Kit
	AccountOf [][]int32 // application → person → account, or -1
	Waits     []bool    // applications in which an account must have been blocked before it is removed

	gone bool // the person who is looked at counts as one who has left: it is looked at a day to come
}

// A Stand is where an account stands on a path.
type Stand struct {
	Path  *model.Path
	Done  int      // steps that the application shows as done, from the first on
	Since day.Day  // when the last of them was seen done, or the account upon the path
	Known bool     // the ledger knows that day; else it is the clock's
	Due   day.Day  // when the next step falls due; day.None after the last
	early []string // the marks of steps that are, or were, seen done before their time
	shut  bool     // the account is seen blocked
	first int      // the first step that is wanted now, with due and those that follow at once
	last  int      // the step behind the last of them
}

// Next is the next step, nil after the last.
func (s *Stand) Next() *model.Step {
	if s.Done < len(s.Path.Steps) {
		return &s.Path.Steps[s.Done]
	}
	return nil
}

// Wants are the steps that are due now: the next, and those that follow it without a
// wait. A removal comes by itself.
func (s *Stand) Wants() []model.Step { return s.Path.Steps[s.first:s.last] }

// Number is the place of a wanted step in the path, from 1.
func (s *Stand) Number(wanted int) int { return s.first + wanted + 1 }

// Of is where an account stands, nil for one that is upon no path. person is -1 for one of
// nobody.
func (in *Leaving) Of(app, account, person int) *Stand {
	if s := in.Accounts[app].States[account]; s == model.Removed || s == model.Invited {
		return nil
	}
	path := in.path(app, account, person)
	if path == nil {
		return nil
	}
	s := &Stand{Path: path}
	key := in.Accounts[app].Key.At(account)
	in.since(s, app, Mark{key, path.Name, ""})
	if !s.Known { // on a day to come, a wait counts from the first day on which the account is upon the path
		s.Since = max(s.Since, in.comes(path, app, account, person))
	}
	for s.Done < len(path.Steps) {
		step := &path.Steps[s.Done]
		if !in.shows(app, account, step) {
			break
		}
		// What is there to be seen before its time counts from its time on: a step that
		// finds nothing to do takes its wait all the same.
		time := s.Since.Add(step.After)
		early := Mark{key, path.Name, markEarly + step.Key()}
		if step.After != (day.Duration{}) && time > in.Today {
			s.early = append(s.early, early.Step)
			break
		}
		s.Done++
		if in.since(s, app, Mark{key, path.Name, step.Key()}); !s.Known {
			s.Since = max(s.Since, time) // on a day to come: it will have been there before its time
		}
		if on, seen := in.Past[app][early]; seen && on <= time {
			s.Since, s.Known = time, true // it was seen done then already
			s.early = append(s.early, early.Step)
		}
	}
	s.shut = in.Accounts[app].States[account] == model.Blocked
	s.Due, s.first, s.last = day.None, s.Done, s.Done
	if next := s.Next(); next != nil && next.Do != model.DoStay {
		if s.Due = s.Since.Add(next.After); next.After == (day.Duration{}) {
			s.Due = min(s.Due, in.Today)
		}
		if s.Due <= in.Today {
			s.last++
			for s.last < len(path.Steps) && next.Do != model.DoRemove && next.Do != model.DoHand {
				next = &path.Steps[s.last]
				if next.Do == model.DoRemove || next.Do == model.DoStay || next.After != (day.Duration{}) {
					break
				}
				s.last++
			}
		}
	}
	return s
}

// comes is the first day on which somebody who leaves, or is idle, comes upon a path; day.None where
// no day tells.
func (in *Leaving) comes(path *model.Path, app, account, person int) day.Day {
	switch path.When {
	case model.WhenEnded:
		if person >= 0 {
			if last, err := day.Parse(in.People.Get(person, "ends")); err == nil {
				return last + 1
			}
		}
	case model.WhenIdle:
		if last, _ := in.Active(app, account); last != day.None {
			return last.Add(path.Idle)
		}
	}
	return day.None
}

// Coming is where an account stands when the next step that finds something to do falls due: on the
// path that it is upon or, as far as days tell, comes upon until a day; nil where there is none.
func (in *Leaving) Coming(app, account, person int, to day.Day) *Stand {
	then := *in
	s := then.Of(app, account, person)
	if s == nil {
		first := day.None
		for _, p := range in.Paths {
			on := in.comes(p, app, account, person)
			if on != day.None && on > in.Today && on <= to && (first == day.None || on < first) {
				first = on
			}
		}
		if first == day.None {
			return nil
		}
		then.Today = first
		if person >= 0 {
			last, err := day.Parse(in.People.Get(person, "ends"))
			then.gone = err == nil && last < first
		}
		s = then.Of(app, account, person)
	}
	for s != nil && s.Due != day.None && s.Due > then.Today && s.Due <= to && s.there() {
		then.Today = s.Due
		s = then.Of(app, account, person)
	}
	return s
}

// there reports whether the next step is seen done before its time.
func (s *Stand) there() bool {
	n := len(s.early)
	return n > 0 && s.early[n-1] == markEarly+s.Next().Key()
}

// Latest is the last day on which a step of a path was first seen done, as the ledger
// knows; day.None where none was.
func (in *Leaving) Latest(app, account int, path *model.Path) day.Day {
	last, key := day.None, in.Accounts[app].Key.At(account)
	for i := range path.Steps {
		if on, known := in.Past[app][Mark{key, path.Name, path.Steps[i].Key()}]; known {
			last = max(last, on)
		}
	}
	return last
}

// since notes since when a mark stands.
func (in *Leaving) since(s *Stand, app int, m Mark) {
	if s.Since, s.Known = in.Past[app][m]; !s.Known {
		s.Since = in.Clock
	}
}

// Ways reports whether any path is for an application, and whether all of those are for
// people who have left.
func (in *Leaving) Ways(app int) (any, ended bool) {
	ended = true
	if in == nil {
		return false, false
	}
	for _, p := range in.Paths {
		if p.In(app) {
			any, ended = true, ended && p.When == model.WhenEnded
		}
	}
	return any, ended
}

// Upon reports whether an account is upon a path, whatever state it is in.
func (in *Leaving) Upon(app, account, person int) bool { return in.path(app, account, person) != nil }

// path is the first that an account is upon. What is cheap to tell is asked first: most
// accounts are upon none.
func (in *Leaving) path(app, account, person int) *model.Path {
	for _, p := range in.Paths {
		if p.In(app) && in.upon(p, app, account, person) && in.isFor(p, person) {
			return p
		}
	}
	return nil
}

// upon reports whether what brings accounts upon a path is so.
func (in *Leaving) upon(p *model.Path, app, account, person int) bool {
	switch p.When {
	case model.WhenStray:
		return person < 0
	case model.WhenEnded:
		return person >= 0 && (in.gone || in.Stages[person] == Gone)
	case model.WhenListed:
		return in.Listed(p, app, account, person) > 0
	case model.WhenMatching:
		return p.Match != nil && p.Match.Match(in.Apps[app].Says(in.Accounts[app], account), in.Today)
	}
	return person >= 0 && in.idle(p, app, account) && in.Opened(p, app, account) == day.None
}

// idle reports whether nobody has signed in to an account for as long as a path says.
func (in *Leaving) idle(p *model.Path, app, account int) bool {
	last, _ := in.Active(app, account)
	return last != day.None && last.Add(p.Idle) <= in.Today
}

// Opened is the day on which an account that was blocked as idle was seen open again, as
// long as that counts like signing in; day.None for any other account. Whoever opened it
// has some time to do so.
func (in *Leaving) Opened(p *model.Path, app, account int) day.Day {
	if p.When != model.WhenIdle || !in.Accounts[app].Open(account) {
		return day.None
	}
	key := in.Accounts[app].Key.At(account)
	on, known := in.Past[app][Mark{key, p.Name, MarkOpened}]
	if _, blocked := in.Past[app][Mark{key, p.Name, model.DoSuspend.String()}]; !known {
		if !blocked {
			return day.None
		}
		on = in.Clock
	}
	if on.Add(p.Idle) <= in.Today {
		return day.None
	}
	return on
}

// isFor reports whether a path is for somebody; one with a filter is for nobody else.
func (in *Leaving) isFor(p *model.Path, person int) bool {
	return p.For == nil ||
		person >= 0 && p.For.Match(func(attr string) string { return in.People.Get(person, attr) }, in.Today)
}

// Active is the day on which somebody signed in to an account last or, where nobody ever
// did, on which it was made; day.None where the export does not tell.
func (in *Leaving) Active(app, account int) (on day.Day, ever bool) {
	for _, name := range []string{model.LastActive, model.Created} {
		n := in.Apps[app].Attr(name)
		if n < 0 || in.Accounts[app].Attrs[n] == nil {
			continue
		}
		if text := in.Accounts[app].Attr(n, account); text != "" {
			d, ok := day.ParseLoose(text)
			if !ok {
				return day.None, false
			}
			return d, name == model.LastActive
		}
	}
	return day.None, false
}

// Listed is the line of a path's list that an account is on, 0 for none.
func (in *Leaving) Listed(p *model.Path, app, account, person int) int {
	if person >= 0 {
		if line := p.List.Lines[in.People.Get(person, "id")]; line > 0 {
			return line
		}
	}
	return p.List.Lines[model.Listed(in.Apps[app].ID, in.Accounts[app].Key.At(account))]
}

// shows reports whether the application shows a step as done.
func (in *Leaving) shows(app, account int, step *model.Step) bool {
	a, accounts := in.Apps[app], in.Accounts[app]
	switch step.Do {
	case model.DoSuspend:
		return !accounts.Open(account)
	case model.DoMove:
		return !slices.ContainsFunc(step.Set, func(s model.Setting) bool {
			n := a.Attr(s.Attr)
			return n >= 0 && accounts.Attrs[n] != nil && accounts.Attr(n, account) != s.Value
		})
	case model.DoStrip:
		return len(Stripped(a, accounts, account, step)) == 0
	case model.DoHand:
		owned, _ := a.Owns(accounts, account)
		return owned == 0
	}
	return false
}

// Stripped are the things that a strip takes away from an account.
func Stripped(app *model.App, accounts *model.Accounts, account int, step *model.Step) (out []int32) {
	for _, t := range accounts.Sets.Members(accounts.Held[account]) {
		if !step.Keep[app.Things[t].Kind] && !app.Lone(t) {
			out = append(out, t)
		}
	}
	return out
}

// Marks lists what stands now about the accounts of an application, for the ledger; of
// tells whose each is, or -1. O(accounts).
func (in *Leaving) Marks(app int, of []int32) (out []Mark) {
	for i := range of {
		if s := in.Of(app, i, int(of[i])); s != nil {
			out = append(out, s.Marks(in.Accounts[app].Key.At(i))...)
		} else if of[i] < 0 && in.Blocked(app, i) {
			out = append(out, Mark{in.Accounts[app].Key.At(i), "", MarkBlocked})
		}
	}
	return slices.Concat(out, in.States(app), in.Lasting(app))
}

// Marks is what stands about an account on a path.
func (s *Stand) Marks(account string) []Mark {
	out := []Mark{{account, s.Path.Name, ""}}
	for n := range s.Done {
		out = append(out, Mark{account, s.Path.Name, s.Path.Steps[n].Key()})
	}
	for _, step := range s.early {
		out = append(out, Mark{account, s.Path.Name, step})
	}
	if s.shut {
		out = append(out, Mark{account, "", MarkBlocked})
	}
	return out
}

// Blocked reports whether an account of nobody is blocked, to be removed later.
func (in *Leaving) Blocked(app, account int) bool {
	return in.Apps[app].Strays == "remove" && in.Accounts[app].States[account] == model.Blocked
}

// Suspended is since when an account has been seen blocked on its way out; known is false
// where nobody has seen that.
func (in *Leaving) Suspended(app, account, person int) (since day.Day, known bool) {
	key, path := in.Accounts[app].Key.At(account), ""
	if s := in.Of(app, account, person); s != nil {
		path = s.Path.Name
	}
	if in.Accounts[app].Open(account) {
		return day.None, false
	}
	for _, m := range []Mark{{key, "", MarkBlocked}, {key, path, model.DoSuspend.String()}, {key, "", model.DoSuspend.String()}} {
		if on, ok := in.Past[app][m]; ok && (!known || on < since) {
			since, known = on, true
		}
	}
	return since, known
}
