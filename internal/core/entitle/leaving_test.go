package entitle_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// A stop is one account of an application, and what is known of it.
type stop struct {
	ends, active string      // of its person, and when they signed in last; "" for none
	nobodys      bool        // the account
	state        model.State // open unless given
	roles        bool        // the account holds a role
	path         *model.Path
	past         string // marks of the ledger: step=day, separated by spaces; upon= for the account upon its path
	today        int    // days after the first of March
	ahead        int    // of today, where the question is about a day to come
}

const march = day.Day(20513) // 2026-03-01

// leaver is: suspended at once, stripped three days later, removed ten days after that.
func leaver() *model.Path {
	return &model.Path{Name: "leavers", When: model.WhenEnded, Steps: []model.Step{
		{Do: model.DoSuspend}, {Do: model.DoStrip, After: day.Duration{Days: 3}},
		{Do: model.DoRemove, After: day.Duration{Days: 10}},
	}}
}

// sleeper is: who did not sign in for thirty days is suspended, and removed sixty days later.
func sleeper() *model.Path {
	return &model.Path{Name: "sleepers", When: model.WhenIdle, Idle: day.Duration{Days: 30}, Steps: []model.Step{
		{Do: model.DoSuspend}, {Do: model.DoRemove, After: day.Duration{Days: 60}},
	}}
}

func (s *stop) looked(t *testing.T) (*entitle.Leaving, int) {
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("ends")}
	people.Add(people.File("people.csv"), 2, attrs, []string{"1", "ada", s.ends})
	people.Close()
	app := &model.App{
		ID: "till", Match: "userName", Attrs: []model.Attr{
			{Name: "userName", Person: "userName"}, {Name: model.LastActive, Observed: true},
		},
		Things: []model.Thing{{Kind: model.Role, Name: "seller", Seats: -1}},
	}
	app.Index()
	accounts := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	accounts.Key.Append("ada")
	accounts.Attrs[1].Append(s.active)
	if accounts.States = []model.State{s.state}; s.state == model.NoAccount {
		accounts.States[0] = model.Open
	}
	held := []int32{}
	if s.roles {
		held = []int32{0}
	}
	accounts.Held = []uint32{accounts.Sets.Of(held)}
	past := map[entitle.Mark]day.Day{}
	for _, word := range strings.Fields(s.past) {
		step, on, _ := strings.Cut(word, "=")
		if step == "upon" {
			step = ""
		}
		d, err := day.Parse(on)
		require.NoError(t, err)
		past[entitle.Mark{Account: "ada", Path: s.path.Name, Step: step}] = d
	}
	today := march + day.Day(s.today)
	person := 0
	if s.nobodys {
		person = -1
	}
	return &entitle.Leaving{
		People: people, Apps: []*model.App{app}, Accounts: []*model.Accounts{accounts}, Paths: []*model.Path{s.path},
		Stages: entitle.StagesOf(people, today+day.Day(s.ahead)), Past: entitle.Past{past}, Today: today + day.Day(s.ahead), Clock: today,
		AccountOf: [][]int32{{0}},
	}, person
}

// said is where an account stands, in words.
func said(s *entitle.Stand) string {
	if s == nil {
		return "on no path"
	}
	var wants []string
	for _, step := range s.Wants() {
		wants = append(wants, step.Do.String())
	}
	text := s.Path.Name + ", " + strings.Repeat("+", s.Done)
	if s.Due != day.None {
		text += " due " + s.Due.String()
	}
	if len(wants) > 0 {
		text += " wants " + strings.Join(wants, " and ")
	}
	return text
}

// TestWhereAnAccountStands: a wait counts from the day on which the step before was seen done, and from nothing else.
func TestWhereAnAccountStands(t *testing.T) {
	for name, c := range map[string]struct {
		stop
		want string
	}{
		"somebody who is here": {stop{path: leaver()}, "on no path"},
		"the first day after":  {stop{ends: "2026-02-28", path: leaver()}, "leavers,  due 2026-03-01 wants suspend"},
		"suspended, and not on record yet": {
			stop{ends: "2026-02-28", state: model.Blocked, roles: true, path: leaver(), today: 5},
			"leavers, + due 2026-03-09",
		},
		"suspended three days ago": {
			stop{ends: "2026-02-28", state: model.Blocked, roles: true, path: leaver(), today: 3, past: "upon=2026-03-01 suspend=2026-03-01"},
			"leavers, + due 2026-03-04 wants strip",
		},
		"suspended late, so stripped late": {
			stop{ends: "2026-02-28", state: model.Blocked, roles: true, path: leaver(), today: 6, past: "upon=2026-03-01 suspend=2026-03-06"},
			"leavers, + due 2026-03-09",
		},
		"there is nothing to strip, and its time is taken all the same": {
			stop{ends: "2026-02-28", state: model.Blocked, path: leaver(), today: 2, past: "upon=2026-03-01 suspend=2026-03-01"},
			"leavers, + due 2026-03-04",
		},
		"stripped, and to be removed": {
			stop{
				ends: "2026-02-28", state: model.Blocked, path: leaver(), today: 13,
				past: "upon=2026-03-01 suspend=2026-03-01 strip=2026-03-04",
			},
			"leavers, ++ due 2026-03-14 wants remove",
		},
		"opened by hand: it begins again": {
			stop{
				ends: "2026-02-28", state: model.Open, path: leaver(), today: 13,
				past: "upon=2026-03-01 suspend=2026-03-01 strip=2026-03-04",
			},
			"leavers,  due 2026-03-01 wants suspend",
		},
		"an invitation is on no path": {
			stop{ends: "2026-02-28", state: model.Invited, path: leaver()}, "on no path",
		},
		"a removed account has come to its end": {
			stop{ends: "2026-02-28", state: model.Removed, path: leaver()}, "on no path",
		},
		"an account of nobody is no leaver's": {stop{nobodys: true, path: leaver()}, "on no path"},
		"who signed in lately is not idle":    {stop{active: "2026-02-20", path: sleeper()}, "on no path"},
		"who did not for thirty days is": {
			stop{active: "2026-01-30", path: sleeper()}, "sleepers,  due 2026-03-01 wants suspend",
		},
		"who never told when is not": {stop{path: sleeper()}, "on no path"},
	} {
		in, person := c.looked(t)
		require.Equal(t, c.want, said(in.Of(0, 0, person)), name)
	}
}

// TestWhatComesIsSeenAhead: the next step that finds something to do, until a day.
func TestWhatComesIsSeenAhead(t *testing.T) {
	for name, c := range map[string]struct {
		stop
		to   string
		want string
	}{
		"who leaves within that time": {
			stop{ends: "2026-03-09", path: leaver()}, "2026-03-31", "leavers,  due 2026-03-10 wants suspend",
		},
		"who leaves after it": {stop{ends: "2026-04-09", path: leaver()}, "2026-03-31", "on no path"},
		"who falls idle": {
			stop{active: "2026-02-20", path: sleeper()}, "2026-03-31", "sleepers,  due 2026-03-22 wants suspend",
		},
		"who is upon a path waits on": {
			stop{ends: "2026-02-28", state: model.Blocked, roles: true, path: leaver(), today: 1, past: "upon=2026-03-01 suspend=2026-03-01"},
			"2026-03-31", "leavers, + due 2026-03-04",
		},
		"what finds nothing to do is passed over": {
			stop{ends: "2026-02-28", state: model.Blocked, path: leaver(), today: 1, past: "upon=2026-03-01 suspend=2026-03-01"},
			"2026-03-31", "leavers, ++ due 2026-03-14",
		},
	} {
		in, person := c.looked(t)
		to, err := day.Parse(c.to)
		require.NoError(t, err)
		require.Equal(t, c.want, said(in.Coming(0, 0, person, to)), name)
	}
}

// TestADraftOfADayToComeIsNotSooner: a wait that begins on a day to come counts from that day, not from today.
func TestADraftOfADayToComeIsNotSooner(t *testing.T) {
	late := leaver()
	late.Steps[0].After = day.Duration{Days: 3}
	s := stop{ends: "2026-03-09", path: late}
	for ahead, want := range map[int]string{
		8:  "on no path",
		9:  "leavers,  due 2026-03-13",
		11: "leavers,  due 2026-03-13",
		12: "leavers,  due 2026-03-13 wants suspend",
	} {
		s.ahead = ahead
		in, person := s.looked(t)
		require.Equal(t, want, said(in.Of(0, 0, person)), "in %d days", ahead)
	}
}

// TestAPathIsForWhomItsFilterFits, and for the accounts of its list.
func TestAPathIsForWhomItsFilterFits(t *testing.T) {
	s := stop{ends: "2026-02-28", path: leaver()}
	var err error
	s.path.For, err = filter.Parse(`userName eq "bo"`)
	require.NoError(t, err)
	in, person := s.looked(t)
	require.False(t, in.Upon(0, 0, person))
	s.path.For, err = filter.Parse(`userName eq "ada"`)
	require.NoError(t, err)
	in, person = s.looked(t)
	require.True(t, in.Upon(0, 0, person))
	any, ended := in.Ways(0)
	require.True(t, any)
	require.True(t, ended)
	listed := &model.Path{Name: "list", When: model.WhenListed, Steps: leaver().Steps, List: &model.List{Lines: map[string]int{
		model.Listed("till", "ada"): 7,
	}}}
	s = stop{path: listed}
	in, person = s.looked(t)
	require.Equal(t, 7, in.Listed(listed, 0, 0, person))
	require.Equal(t, "list,  due 2026-03-01 wants suspend", said(in.Of(0, 0, person)))
	_, ended = in.Ways(0)
	require.False(t, ended, "a list is for people who are here, too")
	s = stop{nobodys: true, path: &model.Path{Name: "strays", When: model.WhenStray, Steps: leaver().Steps}}
	in, person = s.looked(t)
	require.Equal(t, "strays,  due 2026-03-01 wants suspend", said(in.Of(0, 0, person)))
}
