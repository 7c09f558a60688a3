package past_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// memory is a ledger that keeps what stood, and nothing else.
type memory struct {
	ledger.Ledger
	entries []*ledger.Entry
}

func (m *memory) Scan(q ledger.Query, f func(*ledger.Entry) error) error {
	for _, e := range m.entries {
		if slices.Contains(q.Kinds, e.Kind) && (q.Subject == "" || q.Subject == e.Subject) {
			if err := f(e); err != nil {
				return err
			}
		}
	}
	return nil
}

// add puts something on record, on a day.
func (m *memory) add(t *testing.T, r ledger.Record, on day.Day) {
	body, err := json.Marshal(r.Body)
	require.NoError(t, err)
	m.entries = append(m.entries, &ledger.Entry{
		Kind: r.Kind, Subject: r.Subject, Body: body, At: on.Time().Format(time.RFC3339),
	})
}

// A leaver is one person with one account, and the path on which it ends.
type leaver struct {
	app    *model.App
	path   *model.Path
	waits  [4]int // before suspending, moving, stripping and removing
	ended  bool
	there  bool // the account
	open   bool
	held   bool // a role
	place  string
	owned  int
	kept   bool // a legal hold
	ledger *memory
}

func (l *leaver) people(today day.Day) *model.People {
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("ends")}
	ends := ""
	if l.ended {
		ends = (today - 1).String()
	}
	people.Add(people.File("people.csv"), 2, attrs, []string{"1", "ann", ends})
	people.Close()
	return people
}

func (l *leaver) accounts() *model.Accounts {
	out := &model.Accounts{Attrs: []*table.Column{{}, {}, {}}, Sets: model.NewSets()}
	out.Key = out.Attrs[0]
	if l.there {
		out.Key.Append("ann")
		out.Attrs[1].Append(l.place)
		out.Attrs[2].Append(strconv.Itoa(l.owned))
		out.States = append(out.States, model.StateOf(l.open))
		var held []int32
		if l.held {
			held = []int32{0}
		}
		out.Held = append(out.Held, out.Sets.Of(held))
	}
	return out
}

// draft drafts a plan as the program does, and records what stands.
func (l *leaver) draft(t *testing.T, today day.Day) *plan.Plan {
	stood, err := past.Stood(l.ledger, "till")
	require.NoError(t, err)
	var kept []model.Kept
	if l.kept {
		kept = []model.Kept{{Person: "1", Until: day.None, Because: "the harbour inquiry"}}
	}
	in := draft.Input{
		People: l.people(today), Apps: []*model.App{l.app}, Today: today, Clock: today, PeopleBefore: -1,
		Kits: []*model.Kit{{
			Name: "all", Everyone: true, Gives: []model.Give{{App: 0, Things: []int32{0}, Pos: []model.Pos{{}}}},
		}},
		Guards: model.Guards{
			Suspensions: model.Limit{Count: 9, Set: true}, Narrowing: model.Limit{Count: 9, Set: true},
			ExportAge: day.Duration{Days: 9}, ExportAgeSet: true, ExportShrink: model.Limit{Count: 9, Set: true},
		},
		Exports: []*draft.Export{{Accounts: l.accounts(), Day: today, Before: -1}},
		Paths:   []*model.Path{l.path}, Past: entitle.Past{stood}, Kept: kept,
	}
	p, err := draft.Draft(in)
	require.NoError(t, err)
	l.stands(t, today)
	// Drafted again on the same day, it is the same.
	again, err := past.Stood(l.ledger, "till")
	require.NoError(t, err)
	in.People, in.Exports[0].Accounts, in.Past = l.people(today), l.accounts(), entitle.Past{again}
	second, err := draft.Draft(in)
	require.NoError(t, err)
	require.Equal(t, p.Changes, second.Changes)
	return p
}

// stands records what stands, as after a draft and after a run.
func (l *leaver) stands(t *testing.T, today day.Day) {
	stood, err := past.Stood(l.ledger, "till")
	require.NoError(t, err)
	people, accounts := l.people(today), l.accounts()
	in := entitle.Leaving{
		People: people, Apps: []*model.App{l.app}, Accounts: []*model.Accounts{accounts}, Paths: []*model.Path{l.path},
		Stages: entitle.StagesOf(people, today), Past: entitle.Past{stood}, Today: today, Clock: today,
	}
	of := make([]int32, accounts.Len())
	if r, changed := past.Standing("till", stood, in.Marks(0, of)); changed {
		l.ledger.add(t, r, today)
	}
}

// The steps of the path, by their numbers.
const (
	suspending = iota
	moving
	stripping
	removing
)

// steps tells which steps the changes of a plan belong to, without those that are held.
func steps(p *plan.Plan, held bool) (out []int) {
	of := map[model.Verb]int{
		model.Suspend: suspending, model.Update: moving, model.Revoke: stripping, model.Remove: removing,
	}
	for i := range p.Changes {
		if n, ok := of[p.Changes[i].Verb]; ok && (held || len(p.Changes[i].Holds) == 0) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// A reference is the same as simply as can be: since which day each step has been seen
// done in a row with those before it, with the account upon the path.
type reference struct {
	waits [4]int
	upon  int // the day on which the account was seen upon the path; -1 for never
	seen  [4]int
	shut  int    // since when it is seen blocked, upon the path; -1 where it is not
	early [4]int // since when the step is seen done though its time had not come
}

func (r *reference) forget() {
	none := [4]int{-1, -1, -1, -1}
	*r = reference{waits: r.waits, upon: -1, seen: none, shut: -1, early: none}
}

// shown tells which steps the account shows as done.
func (l *leaver) shown() [4]bool { return [4]bool{!l.open, l.place == "Held", !l.held, false} }

// since is from when the wait before a step counts, today where nobody has seen that yet.
func (r *reference) since(n, today int) int {
	on := r.upon
	if n > 0 {
		on = r.seen[n-1]
	}
	if on < 0 && n > 0 {
		return r.first(n-1, today)
	}
	if on < 0 {
		return today
	}
	return on
}

// done counts the steps that are shown, each when its time had come.
func (r *reference) done(l *leaver, today int) (n int) {
	for l.shown()[n] && today >= r.since(n, today)+l.waits[n] {
		n++
	}
	return n
}

func (r *reference) see(l *leaver, today int) {
	if !l.ended || !l.there {
		r.forget()
		return
	}
	if r.upon < 0 {
		r.upon = today
	}
	switch {
	case l.open:
		r.shut = -1
	case r.shut < 0:
		r.shut = today
	}
	done := r.done(l, today)
	for n := range r.seen {
		switch {
		case n >= done:
			r.seen[n] = -1
		case r.seen[n] < 0:
			r.seen[n] = r.first(n, today)
		}
	}
	for n := range r.early {
		switch {
		case n > done, n == done && !l.shown()[n]:
			r.early[n] = -1
		case n == done && r.early[n] < 0:
			r.early[n] = today
		}
	}
}

// first is the day on which a step counts as done that is done on a day: its time, if it was seen done
// by then.
func (r *reference) first(n, today int) int {
	if time := r.since(n, today) + r.waits[n]; r.early[n] >= 0 && r.early[n] <= time && r.waits[n] > 0 {
		return time
	}
	return today
}

// may lists the steps that may be taken on a day.
func (r *reference) may(l *leaver, today int) (out []int) {
	if !l.ended || !l.there {
		return nil
	}
	n := r.done(l, today)
	if today < r.since(n, today)+l.waits[n] {
		return nil
	}
	out = []int{n}
	for n++; n < removing && out[0] != removing && l.waits[n] == 0; n++ {
		out = append(out, n)
	}
	return slices.DeleteFunc(out, func(n int) bool { return l.shown()[n] })
}

// histories is how many are gone through: HISTORIES=20000 goes further than usual.
func histories() int {
	if n, err := strconv.Atoi(os.Getenv("HISTORIES")); err == nil {
		return n
	}
	return 300
}

// TestNoWaitIsEverShortened: histories of one account on its way out, under any sequence
// of days, runs, failures, rejections, returns, hands and lost ledgers, against the
// reference; and in peace both come to the same end on the same day.
func TestNoWaitIsEverShortened(t *testing.T) {
	for seed := range histories() {
		r := rand.New(rand.NewPCG(uint64(seed), 9))
		l := &leaver{there: true, open: true, held: true, place: "Quay", ledger: &memory{Ledger: ledger.Nothing()}}
		l.app = &model.App{ID: "till", Match: "userName", Attrs: []model.Attr{
			{Name: "userName", Person: "userName"}, {Name: "location"}, {Name: model.Owned, Observed: true},
		}, Things: []model.Thing{{Kind: model.Role, Name: "seller", Seats: -1}}}
		l.app.Index()
		l.waits = [4]int{r.IntN(2) * r.IntN(9), r.IntN(20), r.IntN(2) * r.IntN(20), 1 + r.IntN(40)}
		l.path = &model.Path{Name: "ashore", Steps: []model.Step{
			{Do: model.DoSuspend}, {Do: model.DoMove, Set: []model.Setting{{Attr: "location", Value: "Held"}}},
			{Do: model.DoStrip}, {Do: model.DoRemove},
		}}
		for n := range l.path.Steps {
			l.path.Steps[n].After = day.Duration{Days: l.waits[n]}
		}
		var ref reference
		ref.waits = l.waits
		ref.forget()
		today := 20000
		var told []string
		note := func(format string, args ...any) {
			told = append(told, fmt.Sprintf("%d: ", today)+fmt.Sprintf(format, args...))
		}
		blocked := -1 // since when the account has been seen blocked upon the path
		round := func(peace bool) {
			p := l.draft(t, day.Day(today))
			may := ref.may(l, today)
			if l.ended {
				require.Equal(t, may, steps(p, true), "seed %d, waits %v, %v", seed, l.waits, told)
			}
			blocked = ref.shut
			ref.see(l, today)
			if !peace && r.IntN(3) == 0 {
				note("nothing is carried out")
				return
			}
			for _, n := range steps(p, false) {
				if !peace && r.IntN(4) == 0 {
					note("step %d fails", n)
					continue
				}
				switch n {
				case suspending:
					l.open = false
				case moving:
					l.place = "Held"
				case stripping:
					l.held = false
				case removing:
					require.True(t, blocked >= 0 && blocked+7 <= today, "seed %d: removed too early, %v", seed, told)
					require.False(
						t,
						l.kept || l.owned > 0,
						"seed %d: removed what is kept or owns something, %v",
						seed,
						told,
					)
					l.there = false
				}
				note("step %d is carried out", n)
			}
			l.stands(t, day.Day(today))
			ref.see(l, today)
		}
		for range 5 + r.IntN(15) {
			today += 1 + r.IntN(12)
			switch r.IntN(14) {
			case 6:
				l.kept = !l.kept
				note("kept: %v", l.kept)
			case 7:
				l.owned = r.IntN(2) * r.IntN(9)
				note("owns %d", l.owned)
			case 0, 1:
				l.ended = !l.ended
				if note("ended: %v", l.ended); !l.ended { // who is back has it all again
					l.open, l.held = true, true
				}
			case 2:
				l.open = !l.open
				note("open by hand: %v", l.open)
			case 3:
				l.held = !l.held
				note("held by hand: %v", l.held)
			case 4:
				l.place = []string{"Quay", "Held"}[r.IntN(2)]
				note("place by hand: %s", l.place)
			case 5:
				l.ledger.entries = nil
				ref.forget()
				note("the ledger is lost")
			}
			if l.there {
				round(false)
			}
		}
		for l.ended, l.kept, l.owned = true, false, 0; l.there; today++ {
			round(true)
			require.Less(t, today, 21000, "seed %d never ends, %v", seed, told)
		}
	}
}
