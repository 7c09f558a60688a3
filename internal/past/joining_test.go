package past_test

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// A newcomer is one person, and an application that invites them, or in which they keep
// for a while what a kit gave.
type newcomer struct {
	app    *model.App
	kit    *model.Kit
	desk   bool // the kit's rule matches
	ended  bool
	state  model.State
	sent   int
	held   bool
	ledger *memory
}

func newNewcomer(t *testing.T) *newcomer {
	n := &newcomer{desk: true, ledger: &memory{Ledger: ledger.Nothing()}}
	n.app = &model.App{ID: "till", Match: "userName", Attrs: []model.Attr{
		{Name: "userName", Person: "userName"}, {Name: model.Sent, Observed: true},
	}, Things: []model.Thing{{Kind: model.Role, Name: "seller", Seats: -1}}}
	n.app.Index()
	rule, err := filter.OfPeople(`department eq "Desk"`)
	require.NoError(t, err)
	n.kit = &model.Kit{
		Name: "desk", For: rule, Gives: []model.Give{{App: 0, Things: []int32{0}, Pos: []model.Pos{{}}}},
	}
	return n
}

func (n *newcomer) people(today day.Day) *model.People {
	people := model.NewPeople()
	var attrs []int
	for _, a := range []string{"id", "userName", "department", "ends"} {
		attrs = append(attrs, people.Attribute(a))
	}
	department, ends := "Office", ""
	if n.desk {
		department = "Desk"
	}
	if n.ended {
		ends = (today - 1).String()
	}
	people.Add(people.File("people.csv"), 2, attrs, []string{"1", "ann", department, ends})
	people.Close()
	return people
}

func (n *newcomer) accounts() *model.Accounts {
	out := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	out.Key = out.Attrs[0]
	if n.state != model.NoAccount {
		out.Key.Append("ann")
		out.Attrs[1].Append(strconv.Itoa(n.sent))
		out.States = append(out.States, n.state)
		var held []int32
		if n.held {
			held = []int32{0}
		}
		out.Held = append(out.Held, out.Sets.Of(held))
	}
	out.Key.Append("zed") // nobody's, so that the export is not empty
	out.Attrs[1].Append("")
	out.States, out.Held = append(out.States, model.Open), append(out.Held, out.Sets.Of(nil))
	return out
}

// draft drafts a plan as the program does, and records what stands.
func (n *newcomer) draft(t *testing.T, today day.Day) *plan.Plan {
	stood, err := past.Stood(n.ledger, "till")
	require.NoError(t, err)
	people := n.people(today)
	was, err := past.Lingering(n.ledger, []*model.Kit{n.kit}, people)
	require.NoError(t, err)
	var marks []entitle.Mark
	in := draft.Input{
		People: people, Apps: []*model.App{n.app}, Today: today, Clock: today, PeopleBefore: -1, Kits: []*model.Kit{n.kit},
		Guards: model.Guards{
			Suspensions: model.Limit{Count: 9, Set: true}, Narrowing: model.Limit{Count: 9, Set: true},
			ExportAge: day.Duration{Days: 9}, ExportAgeSet: true, ExportShrink: model.Limit{Count: 9, Set: true},
		},
		Exports: []*draft.Export{{Accounts: n.accounts(), Day: today, Before: -1}},
		Past:    entitle.Past{stood}, Was: was,
		Stood: func(_ int, all []entitle.Mark) { marks = all },
	}
	if was != nil {
		in.Held = func(ruled entitle.Ruled, keeps []entitle.Lingering) {
			for _, r := range past.Held([]*model.Kit{n.kit}, people, was, ruled, keeps) {
				n.ledger.add(t, r, today)
			}
		}
	}
	p, err := draft.Draft(in)
	require.NoError(t, err)
	if r, changed := past.Standing("till", stood, marks); changed {
		n.ledger.add(t, r, today)
	}
	return p
}

// readBack records what stands, as after a run.
func (n *newcomer) readBack(t *testing.T, today day.Day) {
	stood, err := past.Stood(n.ledger, "till")
	require.NoError(t, err)
	people, accounts := n.people(today), n.accounts()
	of := make([]int32, accounts.Len())
	of[len(of)-1] = -1
	in := entitle.Leaving{
		People: people, Apps: []*model.App{n.app}, Accounts: []*model.Accounts{accounts},
		Stages: entitle.StagesOf(people, today), Past: entitle.Past{stood}, Today: today, Clock: today,
	}
	if r, changed := past.Standing("till", stood, in.Marks(0, of)); changed {
		n.ledger.add(t, r, today)
	}
}

// inviting is the reference: what is known of an invitation, as simply as can be.
type inviting struct {
	valid, again int
	since, times int // since when that many invitations have been seen; times is 0 for none
	silent       bool
}

// see takes in what is to be seen on a day; drafted reports whether a draft saw it.
func (x *inviting) see(n *newcomer, today int) {
	switch {
	case n.state == model.Invited:
		if x.times != n.sent {
			x.since, x.times = today, n.sent
		}
		x.silent = x.times > x.again && today >= x.since+x.valid
	case n.state == model.NoAccount:
		x.times = 0
	default:
		x.times, x.silent = 0, false
	}
}

// want is what a draft should do on a day.
func (x *inviting) want(n *newcomer, today int) string {
	due := n.desk && !n.ended
	since := x.since
	if x.times != n.sent {
		since = today
	}
	switch {
	case n.state == model.NoAccount && due && x.silent:
		return "held"
	case n.state == model.NoAccount && due:
		return "invite"
	case n.state == model.Invited && !due:
		return "withdraw"
	case n.state == model.Invited && today >= since+x.valid && n.sent > x.again:
		return "withdraw"
	case n.state == model.Invited && today >= since+x.valid:
		return "again"
	}
	return ""
}

// did is what a plan does about an invitation.
func did(p *plan.Plan) string {
	for i := range p.Changes {
		switch c := &p.Changes[i]; {
		case c.Verb == model.Invite && len(c.Holds) > 0:
			return "held"
		case c.Verb == model.Invite && c.Attribute != "":
			return "again"
		case c.Verb == model.Invite || c.Verb == model.Withdraw:
			return c.Verb.String()
		}
	}
	return ""
}

// TestNoInvitationIsHurriedOrForgotten: histories of one invitation under any sequence of
// days, runs, failures, moves, returns, answers and lost ledgers, against the reference.
func TestNoInvitationIsHurriedOrForgotten(t *testing.T) {
	for seed := range histories() / 2 {
		r := rand.New(rand.NewPCG(uint64(seed), 11))
		n := newNewcomer(t)
		x := &inviting{valid: 1 + r.IntN(20), again: r.IntN(3)}
		n.app.Invites = &model.Invitation{Valid: day.Duration{Days: x.valid}, Again: x.again}
		today := 20000
		var told []string
		for range 8 + r.IntN(20) {
			today += r.IntN(14)
			switch r.IntN(14) {
			case 0:
				n.desk = !n.desk
			case 1:
				n.ended = !n.ended
			case 2:
				n.ledger.entries = nil
				*x = inviting{valid: x.valid, again: x.again}
			case 3:
				if n.state == model.Invited && r.IntN(3) == 0 {
					n.state = model.Open
				}
			case 4:
				if n.state == model.Invited {
					n.sent++ // somebody sent it again by hand
				}
			}
			want := x.want(n, today)
			got := did(n.draft(t, day.Day(today)))
			told = append(told, fmt.Sprintf(
				"%d: desk %v, ended %v, %s %d: %s", today, n.desk, n.ended, n.state, n.sent, got,
			))
			require.Equal(t, want, got, "seed %d, valid %d, again %d, %v", seed, x.valid, x.again, told)
			x.see(n, today)
			if n.state == model.Open || n.state == model.Blocked {
				break
			}
			if r.IntN(4) == 0 {
				continue // nothing is carried out
			}
			switch got {
			case "invite":
				n.state, n.sent = model.Invited, 1
			case "again":
				n.sent++
			case "withdraw":
				n.state, n.sent = model.NoAccount, 0
			case "held":
				if r.IntN(4) == 0 { // somebody accepted it by name
					n.state, n.sent = model.Invited, 1
				}
			}
			n.readBack(t, day.Day(today))
			x.see(n, today)
		}
	}
}

// TestWhatLingersIsNeitherCutShortNorKept: histories of one person whom a rule matches and
// does not match, against a reference of three numbers.
func TestWhatLingersIsNeitherCutShortNorKept(t *testing.T) {
	for seed := range histories() / 2 {
		r := rand.New(rand.NewPCG(uint64(seed), 12))
		n := newNewcomer(t)
		n.state = model.Open
		linger := 1 + r.IntN(30)
		n.kit.Linger = day.Duration{Days: linger}
		today, known, since := 20000, false, -1 // the kit was seen held; since when it lingers
		var told []string
		for range 8 + r.IntN(20) {
			today += r.IntN(12)
			switch r.IntN(10) {
			case 0, 1, 2:
				n.desk = !n.desk
			case 3:
				n.held = !n.held // by hand
			case 4:
				n.ledger.entries = nil
				known, since = false, -1
			}
			began := since
			if began < 0 {
				began = today
			}
			lingers := !n.desk && (known || since >= 0) && today < began+linger
			due := n.desk || lingers
			want := ""
			switch {
			case due && !n.held:
				want = "grant"
			case !due && n.held:
				want = "revoke"
			}
			got := ""
			p := n.draft(t, day.Day(today))
			for i := range p.Changes {
				if v := p.Changes[i].Verb; v == model.Grant || v == model.Revoke {
					got = v.String()
				}
			}
			told = append(told, fmt.Sprintf("%d: desk %v, held %v: %s", today, n.desk, n.held, got))
			require.Equal(t, want, got, "seed %d, linger %d, %v", seed, linger, told)
			if known = n.desk; lingers {
				since = began
			} else {
				since = -1
			}
			if r.IntN(4) > 0 {
				n.held = due
			}
		}
	}
}
