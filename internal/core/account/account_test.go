package account_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// till is an application with a group, a role, a license, and a kind of which everybody has one.
func till(t *testing.T) (*model.App, model.Kind) {
	policy, ok := model.OwnKind("policy")
	require.True(t, ok)
	app := &model.App{
		ID: "till", Match: "userName", OwnedSplit: ";",
		Attrs: []model.Attr{{Name: "userName"}, {Name: "title"}, {Name: model.Owned}},
		Things: []model.Thing{
			{Kind: model.Group, Name: "desk"}, {Kind: model.Role, Name: "clerk"}, {Kind: model.License, Name: "seat"},
			{Kind: policy, Name: "guest"}, {Kind: policy, Name: "strict"},
		},
	}
	app.One[policy] = true
	app.Index()
	return app, policy
}

// ada is an account with one thing of each kind.
func ada(policy model.Kind) *account.Value {
	v := account.New("ada")
	v.Attrs["userName"], v.Attrs["title"], v.Attrs[model.Owned] = "ada", "Clerk", "r1;r2"
	v.Gain(model.Group, "desk")
	v.Gain(model.Role, "clerk")
	v.Gain(model.License, "seat")
	v.Gain(policy, "guest")
	return v
}

// book holds accounts by their names.
func book(app *model.App, keeps bool, all ...*account.Value) *account.Book {
	return &account.Book{App: app, Keeps: keeps, Look: func(name string) *account.Value {
		for _, v := range all {
			if v.Named == name {
				return v
			}
		}
		return nil
	}}
}

// find looks into a book as an application is looked at: an account that is not there is nil.
func find(b *account.Book) func(string) account.Seen {
	return func(name string) account.Seen {
		if v := b.Get(name); v != nil {
			return v
		}
		return nil
	}
}

// A step is a change with the accounts that it meets.
type step struct {
	name   string
	from   []*account.Value
	change plan.Change
}

// steps has each verb that is about an account at least once.
func steps(policy model.Kind) []step {
	in := func(state model.State) *account.Value { v := ada(policy); v.Is = state; return v }
	bare := func() *account.Value { return account.New("ada") }
	of := func(verb model.Verb) plan.Change { return plan.Change{App: "till", Verb: verb, Account: "ada"} }
	thing := func(verb model.Verb, kind model.Kind, name string) plan.Change {
		c := of(verb)
		c.Thing = &plan.Thing{Kind: kind, Name: name}
		return c
	}
	with := func(c plan.Change, attr, before, after string) plan.Change {
		c.Attribute, c.Before, c.After = attr, plan.Text(before), plan.Text(after)
		return c
	}
	made := func(c plan.Change) plan.Change {
		c.After = plan.Fields(map[string]string{"userName": "ada", "title": "Clerk"})
		return c
	}
	shut := made(of(model.Create))
	shut.Blocked = true
	exchange := thing(model.Join, policy, "strict")
	exchange.Before = plan.Text("guest")
	hand := of(model.HandOver)
	hand.Before, hand.After = plan.List([]string{"r1", "r2"}), plan.Text("bo")
	return []step{
		{"create", nil, made(of(model.Create))},
		{"create, blocked", nil, shut},
		{"create, once removed", []*account.Value{in(model.Removed)}, made(of(model.Create))},
		{"invite", nil, made(of(model.Invite))},
		{"withdraw", []*account.Value{in(model.Invited)}, of(model.Withdraw)},
		{"suspend", []*account.Value{in(model.Open)}, of(model.Suspend)},
		{"restore", []*account.Value{in(model.Blocked)}, of(model.Restore)},
		{"restore what was removed", []*account.Value{in(model.Removed)}, of(model.Restore)},
		{"remove", []*account.Value{in(model.Blocked)}, of(model.Remove)},
		{"update", []*account.Value{in(model.Open)}, with(of(model.Update), "title", "Clerk", "Lead")},
		{"update to nothing", []*account.Value{in(model.Open)}, with(of(model.Update), "title", "Clerk", "")},
		{"rename", []*account.Value{in(model.Open)}, with(of(model.Update), "userName", "ada", "ada.fell")},
		{"rename in case", []*account.Value{in(model.Open)}, with(of(model.Update), "userName", "ada", "Ada")},
		{"hand over", []*account.Value{in(model.Blocked), account.New("bo")}, hand},
		{"join", []*account.Value{bare()}, thing(model.Join, model.Group, "desk")},
		{"grant", []*account.Value{bare()}, thing(model.Grant, model.Role, "clerk")},
		{"assign", []*account.Value{bare()}, thing(model.Assign, model.License, "seat")},
		{"leave", []*account.Value{in(model.Open)}, thing(model.Leave, model.Group, "desk")},
		{"revoke", []*account.Value{in(model.Open)}, thing(model.Revoke, model.Role, "clerk")},
		{"release", []*account.Value{in(model.Blocked)}, thing(model.Release, model.License, "seat")},
		{"exchange", []*account.Value{in(model.Open)}, exchange},
	}
}

// TestWhatIsDoneShows: before a change is done it fits and does not show; afterwards it shows, and does not
// fit a second time. That holds whether or not the application keeps what was removed.
func TestWhatIsDoneShows(t *testing.T) {
	app, policy := till(t)
	for _, keeps := range []bool{true, false} {
		for _, s := range steps(policy) {
			b := book(app, keeps, s.from...)
			ok, says := account.Fits(app, find(b), &s.change)
			require.True(t, ok, "%s fits: %s", s.name, says)
			ok, _ = account.Shows(app, find(b), &s.change)
			require.False(t, ok, "%s shows before it is done", s.name)
			require.Empty(t, b.Do(&s.change), s.name)
			ok, says = account.Shows(app, find(b), &s.change)
			require.True(t, ok, "%s does not show: %s", s.name, says)
			switch {
			case s.change.Verb == model.HandOver, s.change.Verb == model.Remove: // nothing is asked of these
			default:
				ok, _ = account.Fits(app, find(b), &s.change)
				require.False(t, ok, "%s fits twice", s.name)
			}
		}
	}
}

// TestNothingElseChanges: a change of one thing or attribute leaves all others as they were.
func TestNothingElseChanges(t *testing.T) {
	app, policy := till(t)
	for _, s := range steps(policy) {
		if s.change.Thing == nil && s.change.Attribute != "title" || len(s.from) == 0 {
			continue
		}
		was := *s.from[0]
		was.Attrs = map[string]string{"title": was.Attrs["title"], model.Owned: was.Attrs[model.Owned]}
		b := book(app, true, s.from...)
		require.Empty(t, b.Do(&s.change), s.name)
		is := b.Get("ada")
		require.Equal(t, was.Is, is.Is, s.name)
		for _, k := range []model.Kind{model.Group, model.Role, model.License, policy} {
			if s.change.Thing == nil || s.change.Thing.Kind != k {
				require.Equal(t, was.Held[k], is.Held[k], "%s: %s", s.name, k)
			}
		}
		if s.change.Attribute != "title" {
			require.Equal(t, was.Attrs["title"], is.Attrs["title"], s.name)
		}
		require.Equal(t, was.Attrs[model.Owned], is.Attrs[model.Owned], s.name)
	}
}

// TestNobodyIsWithout: of a kind of which everybody has one, an exchange leaves just the new one.
func TestNobodyIsWithout(t *testing.T) {
	app, policy := till(t)
	b := book(app, true, ada(policy))
	require.Empty(t, b.Do(&plan.Change{
		Verb: model.Join, Account: "ada", Thing: &plan.Thing{Kind: policy, Name: "strict"}, Before: plan.Text("guest"),
	}))
	require.Equal(t, []string{"strict"}, b.Get("ada").Held[policy])
}

// TestWhatSomebodyDidMeanwhileIsSaid in words for each sort of change.
func TestWhatSomebodyDidMeanwhileIsSaid(t *testing.T) {
	app, policy := till(t)
	now := map[string]struct {
		is   []*account.Value
		says string
	}{
		"create":   {[]*account.Value{ada(policy)}, "somebody has made the account ada meanwhile"},
		"suspend":  {nil, "the account ada is not there any more"},
		"restore":  {[]*account.Value{ada(policy)}, "somebody has opened the account meanwhile"},
		"update":   {[]*account.Value{account.New("ada")}, `somebody has changed title to "" meanwhile, where the plan has "Clerk"`},
		"join":     {[]*account.Value{ada(policy)}, "somebody has given it meanwhile"},
		"revoke":   {[]*account.Value{account.New("ada")}, "somebody has taken it away meanwhile"},
		"withdraw": {[]*account.Value{ada(policy)}, "nobody is invited any more: the account is open"},
	}
	met := 0
	for _, s := range steps(policy) {
		if x, asked := now[s.name]; asked {
			ok, says := account.Fits(app, find(book(app, true, x.is...)), &s.change)
			require.False(t, ok, s.name)
			require.Equal(t, x.says, says, s.name)
			met++
		}
	}
	require.Equal(t, len(now), met)
}

// TestWhatIsNotThereIsNotChanged: what is to go is gone, and all else is refused.
func TestWhatIsNotThereIsNotChanged(t *testing.T) {
	app, policy := till(t)
	for _, s := range steps(policy) {
		deed := s.change.Verb.Deed()
		if deed.Makes {
			continue
		}
		says := book(app, true).Do(&s.change)
		if deed.Clears {
			require.Empty(t, says, s.name)
		} else {
			require.Equal(t, "the account is not there", says, s.name)
		}
	}
}

// TestAHandOverGivesNamesOnce: what the successor owns already is not doubled, and nobody else's names go.
func TestAHandOverGivesNamesOnce(t *testing.T) {
	app, policy := till(t)
	bo := account.New("bo")
	bo.Attrs[model.Owned] = "r2;r9"
	b := book(app, true, ada(policy), bo)
	hand := &plan.Change{
		Verb: model.HandOver, Account: "ada", Before: plan.List([]string{"r1", "r2"}), After: plan.Text("bo"),
	}
	require.Empty(t, b.Do(hand))
	require.Equal(t, "r2;r9;r1", b.Get("bo").Attrs[model.Owned])
	require.Empty(t, b.Get("ada").Attrs[model.Owned])
	require.Equal(t, "the successor has no account", book(app, true, ada(policy)).Do(hand))
}

// TestAnAccountIsTheSameInItsColumnsAndAsAValue: whichever way an export's account is looked at, it says the
// same of itself.
func TestAnAccountIsTheSameInItsColumnsAndAsAValue(t *testing.T) {
	app, policy := till(t)
	app.Things[app.Thing(model.Group, "desk")].Implies = []int32{app.Thing(model.Role, "clerk")}
	of := &model.Accounts{Key: &table.Column{}, Sets: model.NewSets(), States: []model.State{model.Blocked}}
	of.Key.Append("ada")
	title, owned := &table.Column{}, &table.Column{}
	title.Append("Clerk")
	owned.Append("r1")
	of.Attrs = []*table.Column{of.Key, title, owned}
	of.Held = []uint32{of.Sets.Of([]int32{app.Thing(model.Group, "desk"), app.Thing(policy, "guest")})}
	all := account.In(app, of)
	seen, value := all.Find("ada"), all.Value("ada")
	require.Equal(t, "ada", all.Find("ADA").Name(), "case is ignored where nobody else is spelled so")
	require.Nil(t, all.Value("bo"))
	for _, attr := range []string{"userName", "title", model.Owned, "none"} {
		require.Equal(t, seen.Attr(attr), value.Attr(attr), attr)
	}
	require.Equal(t, seen.State(), value.State())
	for i := range app.Things {
		k, name := app.Things[i].Kind, app.Things[i].Name
		require.Equal(t, seen.Has(k, name), value.Has(k, name), name)
	}
	require.False(t, seen.Has(model.Role, "clerk"))
	require.True(t, seen.Gives(model.Role, "clerk"), "it comes along with the group")
}

// TestEachVerbIsToldWhole: what the table of deeds says of a verb agrees with itself.
func TestEachVerbIsToldWhole(t *testing.T) {
	_, policy := till(t)
	var met []model.Verb
	for _, s := range steps(policy) {
		v, deed := s.change.Verb, s.change.Verb.Deed()
		met = append(met, v)
		require.Equal(t, deed.Gains || deed.Loses, s.change.Thing != nil, s.name)
		require.False(t, deed.Gains && deed.Loses, s.name)
		require.False(t, deed.Makes && deed.Clears, s.name)
		if deed.Gains || deed.Loses {
			require.Equal(t, v, v.Undo().Undo(), s.name)
			require.Equal(t, v.Effect().Opposite(), v.Undo().Effect(), s.name)
		}
	}
	slices.Sort(met)
	met = slices.Compact(met)
	for _, v := range met {
		require.False(t, v.OfThing())
	}
	require.Len(t, met, 14, "each verb that is about an account is met")
}
