package live_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

var desk = func() *model.App {
	app := &model.App{
		ID: "desk", Match: "userName", Attrs: []model.Attr{
			{Name: "userName", Person: "userName"}, {Name: "title", Person: "title"},
		},
		Things: []model.Thing{{Kind: model.Role, Name: "seller", Seats: -1}, {Kind: model.Group, Name: "quay", Seats: -1}},
	}
	app.Index()
	return app
}()

const settle = 400 * time.Millisecond

// A room is an application whose answers are lost, that is too busy, says no, and shows what was changed some time
// later; what is asked of it twice it does twice.
type room struct {
	mu      sync.Mutex
	rand    *rand.Rand
	is      map[string]*account.Value
	was     map[string]*account.Value // as it is shown until then
	until   map[string]time.Time
	done    map[string]int // change → how often it was carried out
	asked   int            // requests
	at      int            // requests in flight
	most    int
	silent  int // every so many answers are lost; 0 for none
	busy    int
	refuses int
	lag     time.Duration
	down    bool
}

func newRoom(seed uint64) *room {
	r := &room{
		rand: rand.New(rand.NewPCG(seed, 3)), is: map[string]*account.Value{}, was: map[string]*account.Value{},
		until: map[string]time.Time{}, done: map[string]int{},
	}
	for i := range 6 {
		v := account.New(fmt.Sprintf("user%d", i))
		v.Attrs["title"] = "Mate"
		if i%2 == 0 {
			v.Gain(model.Role, "seller")
		}
		r.is[v.Named] = v
	}
	return r
}

// seen is an account as it is shown just now.
func (r *room) seen(name string) *account.Value {
	if time.Now().Before(r.until[name]) {
		return r.was[name]
	}
	return r.is[name]
}

func (r *room) Read(_ context.Context, part *live.Part, each func(*export.Record) error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	accounts := slices.Sorted(maps.Keys(r.is))
	if part != nil {
		accounts = part.Accounts
	}
	for _, name := range accounts {
		if v := r.seen(name); v != nil {
			if err := each(export.RecordOf(v)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *room) Guards() bool                                     { return false }
func (r *room) Check(context.Context) ([]connect.Ability, error) { return nil, nil }
func (r *room) Close() error                                     { return nil }

// Requests are one for each change, those of an account one after the other.
func (r *room) Requests(_ context.Context, work []live.Work) (out []*live.Request, _ error) {
	for _, w := range work {
		for _, c := range w.Changes {
			out = append(out, &live.Request{Changes: []*plan.Change{c}, Key: w.Account, Do: r.do})
		}
	}
	return out, nil
}

func (r *room) do(_ context.Context, changes []*plan.Change) []error {
	r.mu.Lock()
	r.asked++
	r.at++
	r.most = max(r.most, r.at)
	r.mu.Unlock()
	time.Sleep(time.Millisecond)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at--
	return live.All(changes, r.one(changes[0]))
}

func (r *room) one(c *plan.Change) error {
	chance := func(one int) bool { return one > 0 && r.rand.IntN(one) == 0 }
	switch {
	case r.down:
		return &live.Again{Says: "the room is closed"}
	case chance(r.refuses):
		return &connect.Fault{Kind: connect.Refused, Says: "no"}
	case chance(r.busy):
		return &live.Again{Says: "busy", After: time.Millisecond}
	case chance(r.silent):
		if chance(2) {
			r.take(c)
		}
		return &live.Again{Says: "no answer", Sent: true}
	}
	r.take(c)
	return nil
}

// take carries a change out.
func (r *room) take(c *plan.Change) {
	r.done[c.ID]++
	b := &account.Book{App: desk, Look: func(name string) *account.Value {
		if v := r.is[name]; v != nil {
			return export.RecordOf(v).Value(desk)
		}
		return nil
	}}
	b.Do(c)
	r.was[c.Account] = r.seen(c.Account)
	if r.lag > 0 {
		r.until[c.Account] = time.Now().Add(time.Duration(r.rand.Int64N(int64(r.lag))))
	}
	b.Each(func(name string, v *account.Value) { r.is[name] = v })
}

func (r *room) reached(parallel, tries int) *live.Application {
	return &live.Application{
		App: desk, Export: &export.Spec{Format: "jsonl"},
		Spec: &connect.Spec{
			Parallel: parallel, Tries: tries, Timeout: time.Second, Limits: connect.Limits{Batch: 100, Settle: settle},
		},
		Open: func(context.Context) (live.Driver, error) { return r, nil },
	}
}

// due are changes of six accounts and of two that are to be made.
func due() (out []*plan.Change) {
	role, group := &plan.Thing{Kind: model.Role, Name: "seller"}, &plan.Thing{Kind: model.Group, Name: "quay"}
	add := func(c plan.Change) {
		c.App, c.ID = "desk", fmt.Sprint("c", len(out))
		out = append(out, &c)
	}
	for i := range 6 {
		name := fmt.Sprintf("user%d", i)
		add(plan.Change{
			Verb: model.Update, Account: name, Attribute: "title", Before: plan.Text("Mate"), After: plan.Text("Bosun"),
		})
		add(plan.Change{Verb: model.Join, Account: name, Thing: group})
		if i%2 == 0 {
			add(plan.Change{Verb: model.Revoke, Account: name, Thing: role})
		}
		if i == 5 {
			add(plan.Change{Verb: model.Suspend, Account: name})
		}
	}
	for _, name := range []string{"new0", "new1"} {
		add(plan.Change{Verb: model.Create, Account: name, After: plan.Fields(map[string]string{"title": "Cook"})})
	}
	return out
}

// answers carries changes out and returns what became of each.
func answers(t *testing.T, ctx context.Context, a *live.Application, changes []*plan.Change) map[string]error {
	s, err := a.Prepare(ctx, "", changes)
	require.NoError(t, err)
	out := map[string]error{}
	require.NoError(t, s.Commit(ctx, func(c *plan.Change, err error) {
		_, twice := out[c.ID]
		require.False(t, twice, "%s has two answers", c.ID)
		out[c.ID] = err
	}))
	require.Len(t, out, len(changes))
	return out
}

func kind(t *testing.T, err error) connect.FaultKind {
	var f *connect.Fault
	require.ErrorAs(t, err, &f)
	return f.Kind
}

// TestNothingIsDoneTwiceAndEachAnswerIsTrue: whatever an application does with requests within its settle, each change
// is carried out once at the most, yes means that it was, and no that it was not.
func TestNothingIsDoneTwiceAndEachAnswerIsTrue(t *testing.T) {
	for seed := range uint64(9) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			r := newRoom(seed)
			r.silent, r.busy, r.refuses = 3, []int{0, 4}[seed%2], []int{0, 0, 6}[seed%3]
			r.lag = []time.Duration{0, settle / 2, settle - 20*time.Millisecond}[seed%3]
			unknown := 0
			for id, err := range answers(t, t.Context(), r.reached(1+int(seed%4), 6), due()) {
				require.LessOrEqual(t, r.done[id], 1, "%s was done %d times", id, r.done[id])
				if err == nil {
					require.Equal(t, 1, r.done[id], "%s: yes, and it was not done", id)
					continue
				}
				if kind(t, err) == connect.Unknown {
					unknown++
					continue
				}
				require.Zero(t, r.done[id], "%s: %s, and it was done", id, err)
			}
			require.Less(t, unknown, 4)
		})
	}
}

// TestWhatIsDoneAlreadyIsNotSent, and neither is what somebody else has changed.
func TestWhatIsDoneAlreadyIsNotSent(t *testing.T) {
	r := newRoom(1)
	r.is["user0"].Attrs["title"] = "Bosun"
	r.is["user1"].Attrs["title"] = "Captain"
	r.is["user2"].Lose(model.Role, "seller")
	delete(r.is, "user3")
	r.is["new0"] = account.New("new0")
	got := answers(t, t.Context(), r.reached(4, 3), due())
	said := map[string]string{}
	for _, c := range due() {
		switch err := got[c.ID]; {
		case err == nil && r.done[c.ID] == 0:
			said[c.Account+" "+c.Verb.String()] = "done already"
		case err != nil:
			require.Equal(t, connect.Conflict, kind(t, err))
			require.Zero(t, r.done[c.ID])
			said[c.Account+" "+c.Verb.String()] = err.Error()
		}
	}
	require.Equal(t, "done already", said["user0 update"])
	require.Equal(t, "done already", said["user2 revoke"])
	require.Contains(t, said["user1 update"], `somebody has changed title to "Captain" meanwhile`)
	require.Contains(t, said["user1 update"], "nothing was sent. Fetch and draft again")
	require.Contains(t, said["user3 join"], "user3")
	require.Contains(t, said["new0 create"], "somebody has made the account new0 meanwhile")
	require.Len(t, said, 6)
}

// TestAnApplicationThatIsDownIsNotStormed: of many changes few are sent again, and each is named as not carried out.
func TestAnApplicationThatIsDownIsNotStormed(t *testing.T) {
	r := newRoom(1)
	r.down = true
	changes := due()
	for id, err := range answers(t, t.Context(), r.reached(8, 3), changes) {
		require.Equal(t, connect.Failed, kind(t, err), id)
		require.Regexp(t, `^the room is closed, [123] times$`, err.Error())
	}
	require.Empty(t, r.done)
	require.LessOrEqual(t, r.asked, len(changes)*3)
}

// TestNoMoreAreSentAtATimeThanItTakes, and those of one account never side by side.
func TestNoMoreAreSentAtATimeThanItTakes(t *testing.T) {
	for _, parallel := range []int{1, 3} {
		r := newRoom(1)
		for id, err := range answers(t, t.Context(), r.reached(parallel, 1), due()) {
			require.NoError(t, err, id)
		}
		require.LessOrEqual(t, r.most, parallel)
	}
	r := newRoom(1)
	answers(t, t.Context(), r.reached(50, 1), due())
	require.LessOrEqual(t, r.most, 8, "there are eight accounts")
}

// TestTheRateIsKept over all that is sent.
func TestTheRateIsKept(t *testing.T) {
	r := newRoom(1)
	a := r.reached(8, 1)
	a.Spec.Rate = 100
	begin := time.Now()
	answers(t, t.Context(), a, due())
	require.GreaterOrEqual(t, time.Since(begin), time.Duration(r.asked-1)*10*time.Millisecond)
}

// TestAnInterruptedRunFinishesWhatItHasBegun, begins nothing else, and says which is which.
func TestAnInterruptedRunFinishesWhatItHasBegun(t *testing.T) {
	r := newRoom(1)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	a := r.reached(1, 3)
	s, err := a.Prepare(ctx, "", due())
	require.NoError(t, err)
	out := map[string]error{}
	require.NoError(t, s.Commit(ctx, func(c *plan.Change, err error) {
		if out[c.ID] = err; len(out) == 3 {
			stop()
		}
	}))
	require.Len(t, out, len(due()))
	begun := 0
	for id, err := range out {
		if err == nil {
			begun++
			require.Equal(t, 1, r.done[id])
			continue
		}
		require.True(t, errors.Is(err, connect.ErrNotBegun), "%s: %v", id, err)
		require.Zero(t, r.done[id])
	}
	require.LessOrEqual(t, begun, 4)
}

// TestAskTriesAgain what only reads, as often as is said, and hands on what is no such answer.
func TestAskTriesAgain(t *testing.T) {
	a := newRoom(1).reached(1, 3)
	_, err := a.Look(t.Context(), []string{"user0"}) // which opens it
	require.NoError(t, err)
	for _, c := range []struct {
		fails int
		with  error
		tries int
		says  string
	}{
		{0, nil, 1, ""},
		{2, &live.Again{Says: "busy"}, 3, ""},
		{9, &live.Again{Says: "busy"}, 3, "busy, 3 times"},
		{9, errors.New("it is another protocol"), 1, "it is another protocol"},
	} {
		tries := 0
		err := a.Ask(t.Context(), func(context.Context) error {
			if tries++; tries <= c.fails {
				return c.with
			}
			return nil
		})
		require.Equal(t, c.tries, tries)
		if c.says == "" {
			require.NoError(t, err)
			continue
		}
		require.EqualError(t, err, c.says)
	}
}

// TestALookShowsAccountsAsTheyAre, and who is not there is missing.
func TestALookShowsAccountsAsTheyAre(t *testing.T) {
	r := newRoom(1)
	a := r.reached(1, 1)
	got, err := a.Look(t.Context(), []string{"user0", "user1", "user0", "nobody"})
	require.NoError(t, err)
	require.Equal(t, 2, got.Len())
	seen := account.In(desk, got)
	require.True(t, seen.Find("user0").Has(model.Role, "seller"))
	require.False(t, seen.Find("user1").Has(model.Role, "seller"))
	require.Equal(t, "Mate", seen.Find("user1").Attr("title"))
	require.Nil(t, seen.Find("nobody"))
	require.NoError(t, a.Close())
}
