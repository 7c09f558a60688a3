package desk_test

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/carry"
	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desk"
)

// run carries out what of a plan is about some applications, and returns how many changes were settled.
func (p *place) run(drafted *plan.Plan, only string) (settled int) {
	p.at(func(d *desk.Desk) {
		r, err := d.Run(drafted, nil)
		require.NoError(p.t, err)
		require.NoError(p.t, r.Mean(only))
		require.NoError(p.t, r.Consent("as agreed"))
		res, err := r.Go(func(carry.Progress) {})
		require.NoError(p.t, err)
		settled = res.Settled
	})
	return settled
}

// replace changes a text of a file, once.
func (p *place) replace(file, old, with string) {
	name := filepath.Join(p.dir, file)
	text, err := os.ReadFile(name)
	require.NoError(p.t, err)
	require.Contains(p.t, string(text), old)
	require.NoError(p.t, os.WriteFile(name, []byte(strings.Replace(string(text), old, with, 1)), 0o644))
}

// does are what changes do, in a plan's order.
func does(changes []plan.Change, app string) (out []string) {
	for _, c := range changes {
		if app == "" || c.App == app {
			thing := ""
			if c.Thing != nil {
				thing = c.Thing.Kind.String() + " " + c.Thing.Name
			}
			out = append(
				out, strings.Join([]string{c.App, c.Verb.String(), c.Account, thing, c.Attribute, c.After.String()}, " "),
			)
		}
	}
	return out
}

// TestAPlanThatIsNotThere is a wrong question; a folder of plans that cannot be read is none.
func TestAPlanThatIsNotThere(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	p.at(func(d *desk.Desk) {
		var wrong *desk.Wrong
		_, err := d.Plan("zzzz")
		require.ErrorAs(t, err, &wrong)
		found, err := d.Plan(drafted.ID[:4])
		require.NoError(t, err)
		require.Equal(t, drafted.ID, found.ID)
		newest, err := d.Newest()
		require.NoError(t, err)
		require.Equal(t, drafted.ID, newest)
		require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "plans")))
		require.NoError(t, os.WriteFile(filepath.Join(p.dir, "plans"), []byte("no folder"), 0o644))
		_, err = d.Plan(drafted.ID)
		require.Error(t, err)
		require.False(t, errors.As(err, &wrong), "%v", err)
		require.NoError(t, os.Remove(filepath.Join(p.dir, "plans")))
		_, err = d.Newest()
		require.Error(t, err, "the plan is on record, and its file is gone")
		_, err = d.Backout("run-9", desk.Drafting{On: d.Today()})
		require.ErrorAs(t, err, &wrong)
	})
}

// TestABackOutBringsBackWhatWas: carried out, the next draft has the same changes as the first.
func TestABackOutBringsBackWhatWas(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	settled := p.run(drafted, `app eq "rosters"`)
	require.Positive(t, settled)
	var back *plan.Plan
	p.at(func(d *desk.Desk) {
		x, err := d.Backout("run-1", desk.Drafting{On: d.Today()})
		require.NoError(t, err)
		back = x.Plan
		require.Equal(t, "run-1", back.Undoes)
		runs, err := d.Runs()
		require.NoError(t, err)
		require.Len(t, runs, 1)
		require.Equal(t, "run-1", runs[0][0])
	})
	require.NotEmpty(t, back.Changes)
	for _, c := range back.Changes {
		require.Equal(t, "rosters", c.App)
	}
	held := 0
	for _, c := range back.Changes {
		if len(c.Holds) > 0 {
			held++
		}
	}
	require.Equal(t, len(back.Changes)-held, p.run(back, ""))
	if held == 0 {
		require.Equal(t, does(drafted.Changes, "rosters"), does(p.draft().Changes, "rosters"))
	}
}

// TestWhatIfIsTheDraftOfFilesThatSaySo: what somebody would gain and lose with another department is what a draft has
// for them once the file says so.
func TestWhatIfIsTheDraftOfFilesThatSaySo(t *testing.T) {
	p := newPlace(t)
	for _, c := range []struct{ id, name, then string }{
		{"E0056", "department", "Planning"},
		{"E0056", "title", "Berth planner"},
	} {
		var would *access.Would
		var now string
		p.at(func(d *desk.Desk) {
			w, err := d.WhatIf(c.id, []string{c.name + "=" + c.then}, d.Today())
			require.NoError(t, err)
			would = w.View.Would(w.Person, w.With, w.IsNew, w.Now, w.Then)
			repo, err := d.Whole()
			require.NoError(t, err)
			now = repo.People.Get(repo.People.Named(c.id), c.name)
			require.False(t, would.New)
		})
		line, was := p.lineOf(c.id)
		p.replace("people/ashore.csv", was, strings.Replace(was, ","+now+",", ","+c.then+",", 1))
		var ids []string
		for _, x := range p.draft().Changes {
			if x.Person == c.id {
				ids = append(ids, x.ID)
			}
		}
		p.replace("people/ashore.csv", strings.Replace(was, ","+now+",", ","+c.then+",", 1), was)
		var said []string
		for _, x := range slices.Concat(would.Gains, would.Loses, would.Changes, would.Anyway) {
			said = append(said, x.ID)
		}
		require.ElementsMatch(t, ids, said, "%s of line %d", c.name, line)
	}
	p.at(func(d *desk.Desk) { // somebody who is not in the files
		w, err := d.WhatIf("new.hand", []string{"department=Deck", "userType=Employee"}, d.Today())
		require.NoError(t, err)
		would := w.View.Would(w.Person, w.With, w.IsNew, w.Now, w.Then)
		require.True(t, would.New)
		require.NotEmpty(t, would.Gains)
		require.Empty(t, would.Loses)
		require.Empty(t, would.Keeps)
		for _, x := range would.Gains {
			require.Equal(t, model.Widens, x.Effect)
			require.Equal(t, "new.hand", x.Person)
		}
	})
}

// lineOf is the line of a person in the files, and its number.
func (p *place) lineOf(id string) (n int, line string) {
	text, err := os.ReadFile(filepath.Join(p.dir, "people/ashore.csv"))
	require.NoError(p.t, err)
	for i, l := range strings.Split(string(text), "\n") {
		if strings.HasPrefix(l, id+",") {
			return i + 1, l
		}
	}
	require.Fail(p.t, "no such person", id)
	return 0, ""
}

// TestThePastIsAnsweredFromTheRecord: who held something before a run is known after it, since when, and by whom it
// went.
func TestThePastIsAnsweredFromTheRecord(t *testing.T) {
	p := newPlace(t)
	const thing = "berths/role/planner"
	names := func(list []desk.Holder) (out []string) {
		for _, h := range list {
			out = append(out, h.Account)
		}
		slices.Sort(out)
		return out
	}
	var before []string
	p.at(func(d *desk.Desk) {
		list, _, err := d.Holders(thing, true, d.Today())
		require.NoError(t, err)
		before = names(list)
		_, _, err = d.HoldersAt(thing, true, d.Today().String())
		require.ErrorContains(t, err, "this repository has no ledger yet")
	})
	drafted := p.draft()
	require.Positive(t, p.run(drafted, `app eq "berths"`))
	p.days = 3
	p.at(func(d *desk.Desk) {
		now, _, err := d.Holders(thing, true, d.Today())
		require.NoError(t, err)
		require.NotEqual(t, before, names(now))
		then, _, err := d.HoldersAt(thing, true, (d.Today() - 3).String())
		require.NoError(t, err)
		require.Equal(t, names(now), names(then), "at the end of that day the run was over")
		came := 0
		for _, h := range then {
			if slices.Contains(before, h.Account) {
				continue
			}
			came++
			require.NotNil(t, h.Given, h.Account)
			require.Equal(t, "run-1", h.Given.Run)
			require.Equal(t, "as agreed", h.Given.Because)
		}
		require.Positive(t, came)
		var wrong *desk.Wrong
		_, _, err = d.HoldersAt(thing, true, (d.Today() + 1).String())
		require.ErrorAs(t, err, &wrong, "a day to come is not past")
	})
}

// TestTheLogIsAskedFromAllSides: by kind, person, application, thing, by whom and when.
func TestTheLogIsAskedFromAllSides(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	settled := p.run(drafted, `app eq "berths"`)
	var one plan.Change
	for _, c := range drafted.Changes {
		if c.App == "berths" && c.Thing != nil && c.Person != "" {
			one = c
			break
		}
	}
	count := func(w desk.Logging) (n int) {
		p.at(func(d *desk.Desk) {
			list, err := d.Log(w)
			require.NoError(t, err)
			n = len(list)
		})
		return n
	}
	require.Equal(t, settled, count(desk.Logging{Kind: "outcome"}))
	require.Equal(t, settled, count(desk.Logging{Kind: "outcome", App: "berths"}))
	require.Equal(t, 1, count(desk.Logging{Kind: "plan"}))
	require.Equal(t, 1, count(desk.Logging{Kind: "run", By: "ad"}))
	loud := strings.ToUpper(one.Person)
	require.Equal(
		t, count(desk.Logging{Kind: "outcome", Person: one.Person}), count(desk.Logging{Kind: "outcome", Person: loud}),
	)
	thing := "berths/" + one.Thing.Kind.String() + "/" + one.Thing.Name
	require.Positive(t, count(desk.Logging{Kind: "outcome", Thing: thing}))
	require.LessOrEqual(t, count(desk.Logging{Kind: "outcome", Thing: thing}), settled)
	require.Positive(t, count(desk.Logging{Subject: "run-1"}))
	p.at(func(d *desk.Desk) {
		all, err := d.Log(desk.Logging{Kind: "outcome", SinceText: d.Today().String(), UntilText: d.Today().String()})
		require.NoError(t, err)
		require.Len(t, all, settled)
		none, err := d.Log(desk.Logging{Kind: "outcome", UntilText: (d.Today() - 1).String()})
		require.NoError(t, err)
		require.Empty(t, none)
		_, err = d.Log(desk.Logging{Subject: "run-9"})
		require.Error(t, err)
		v, err := d.Verify("")
		require.NoError(t, err)
		require.Positive(t, v.Entries)
		_, err = d.Verify(v.Head)
		require.NoError(t, err)
		_, err = d.Verify(strings.Repeat("0", len(v.Head)))
		require.Error(t, err, "a head that never was")
	})
}
