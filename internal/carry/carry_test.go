package carry

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// TestSettledIsWhatTheApplicationShows is a table of every verb on an account
// that is as it should be, and on ones that are not.
func TestSettledIsWhatTheApplicationShows(t *testing.T) {
	app := &model.App{ID: "tickets", Match: "userName", Attrs: []model.Attr{{Name: "userName"}, {Name: "title"}},
		Things: []model.Thing{{Kind: model.Role, Name: "seller"}, {Kind: model.Group, Name: "desk"}, {Kind: model.License, Name: "seat"}}}
	app.Index()
	accounts := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	add := func(name, title string, open bool, things ...int32) {
		accounts.Attrs[0].Append(name)
		accounts.Attrs[1].Append(title)
		accounts.Open = append(accounts.Open, open)
		accounts.Held = append(accounts.Held, accounts.Sets.Of(things))
	}
	seller, desk, seat := app.Thing(model.Role, "seller"), app.Thing(model.Group, "desk"), app.Thing(model.License, "seat")
	add("full", "Mate", true, seller, desk, seat)
	add("empty", "", false)
	seen := newReadBack(app, accounts)
	thing := func(kind, name string) *plan.Thing { return &plan.Thing{Kind: kind, Name: name} }
	attrs := func(title string) map[string]any { return map[string]any{"userName": "full", "title": title} }
	for _, c := range []struct {
		change plan.Change
		says   string // "" when it is settled
	}{
		{plan.Change{Verb: "suspend", Account: "empty"}, ""},
		{plan.Change{Verb: "suspend", Account: "full"}, "the account is still open"},
		{plan.Change{Verb: "restore", Account: "full"}, ""},
		{plan.Change{Verb: "restore", Account: "empty"}, "the account is still blocked"},
		{plan.Change{Verb: "remove", Account: "gone"}, ""},
		{plan.Change{Verb: "remove", Account: "full"}, "the account is still there"},
		{plan.Change{Verb: "create", Account: "full", After: attrs("Mate")}, ""},
		{plan.Change{Verb: "create", Account: "full", After: attrs("Captain")}, `title is "Mate" and not "Captain"`},
		{plan.Change{Verb: "create", Account: "empty", After: map[string]any{}}, "the account is there, and blocked"},
		{plan.Change{Verb: "create", Account: "gone"}, "the account is not there"},
		{plan.Change{Verb: "update", Account: "full", Attribute: "title", After: "Mate"}, ""},
		{plan.Change{Verb: "update", Account: "full", Attribute: "title", After: nil}, `title is "Mate" and not ""`},
		{plan.Change{Verb: "update", Account: "empty", Attribute: "title", After: nil}, ""},
		{plan.Change{Verb: "grant", Account: "full", Thing: thing("role", "seller")}, ""},
		{plan.Change{Verb: "grant", Account: "empty", Thing: thing("role", "seller")}, "the account does not hold role seller"},
		{plan.Change{Verb: "join", Account: "full", Thing: thing("group", "desk")}, ""},
		{plan.Change{Verb: "assign", Account: "empty", Thing: thing("license", "seat")}, "the account does not hold license seat"},
		{plan.Change{Verb: "revoke", Account: "full", Thing: thing("role", "seller")}, "the account still holds role seller"},
		{plan.Change{Verb: "leave", Account: "empty", Thing: thing("group", "desk")}, ""},
		{plan.Change{Verb: "release", Account: "full", Thing: thing("license", "seat")}, "the account still holds license seat"},
		{plan.Change{Verb: "grant", Account: "full", Thing: thing("role", "unknown")}, "the account does not hold role unknown"},
	} {
		ok, says := seen.settled(&c.change)
		require.Equal(t, c.says, says, "%s %s", c.change.Verb, c.change.Account)
		require.Equal(t, c.says == "", ok)
	}
}

// TestSettledDefinitionsAreWhatTheApplicationShows is the table for changes of
// definitions.
func TestSettledDefinitionsAreWhatTheApplicationShows(t *testing.T) {
	app := &model.App{ID: "till", Match: "userName", Things: []model.Thing{{Kind: model.Role, Name: "lead"}, {Kind: model.Role, Name: "gone"}}}
	app.Index()
	lead := app.Thing(model.Role, "lead")
	defs := &model.Definitions{Of: make([]*model.Definition, 2), Titles: true, Permissions: true, Brings: true}
	defs.Of[lead] = &model.Definition{Kind: model.Role, Name: "lead", Title: "Leads", Permissions: []string{"a", "b"}, Brings: []string{"role seller"}}
	accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Definitions: defs}
	seen := newReadBack(app, accounts)
	of := func(verb, name, attr string, after any) *plan.Change {
		return &plan.Change{Verb: verb, Thing: &plan.Thing{Kind: "role", Name: name}, Attribute: attr, After: after}
	}
	list := func(names ...any) []any { return names }
	whole := func(title string, permissions, brings []any) map[string]any {
		return map[string]any{"title": title, "permissions": permissions, "brings": brings}
	}
	for _, c := range []struct {
		change *plan.Change
		says   string
	}{
		{of("define", "lead", "", whole("Leads", list("a", "b"), list("role seller"))), ""},
		{of("define", "lead", "", whole("Led", list("a", "b"), list("role seller"))), `its title is "Leads" and not "Led"`},
		{of("define", "lead", "", whole("Leads", list("a"), list("role seller"))), `its permissions are ["a" "b"]`},
		{of("define", "lead", "", whole("Leads", list("a", "b"), list())), `it brings ["role seller"] along`},
		{of("define", "gone", "", whole("", nil, nil)), "the definition is not there"},
		{of("define", "lead", "", nil), "the plan does not say what it should be"},
		{of("redefine", "lead", "title", "Leads"), ""},
		{of("redefine", "lead", "permissions", list("a", "b")), ""},
		{of("redefine", "lead", "permissions", list("b")), `its permissions are ["a" "b"]`},
		{of("redefine", "lead", "brings", list("role seller")), ""},
		{of("redefine", "gone", "brings", list()), "the definition is not there"},
		{of("retire", "gone", "", nil), ""},
		{of("retire", "lead", "", nil), "the definition is still there"},
		{of("retire", "unknown", "", nil), "the export shows no definitions"},
	} {
		ok, says := seen.settled(c.change)
		require.Equal(t, c.says == "", ok, "%+v: %s", c.change, says)
		if !ok {
			require.Equal(t, c.says, says)
		}
	}
	defs.Titles, defs.Permissions, defs.Brings = false, false, false
	ok, _ := seen.settled(of("define", "lead", "", whole("Other", list("x"), list("role x"))))
	require.True(t, ok, "what the export does not show cannot be asked")
}

// TestSuccessorsComeBeforeTheLastAdministratorGoes, in what is carried out too:
// what narrows last is written after what widens.
func TestSuccessorsComeBeforeTheLastAdministratorGoes(t *testing.T) {
	j := &Job{Plan: &plan.Plan{}}
	for _, c := range []struct{ app, id, effect string }{
		{"a", "1", "narrows"}, {"b", "2", "narrows"}, {"a", "3", "widens"}, {"a", "4", "keeps"}, {"b", "5", "keeps"}, {"a", "6", "narrows"}, {"b", "7", "widens"},
	} {
		j.Plan.Changes = append(j.Plan.Changes, plan.Change{App: c.app, ID: c.id, Effect: c.effect})
		j.States = append(j.States, decide.Ready)
	}
	var got []string
	for _, b := range j.batches() {
		ids := b.app + ":"
		for _, c := range b.changes {
			ids += " " + c.ID
		}
		got = append(got, ids)
	}
	require.Equal(t, []string{"a: 1", "b: 2", "a: 3 4", "b: 5 7", "a: 6"}, got)
}

// A stage is the example with its plan drafted.
type stage struct {
	dir    string
	ledger *ledger.Ledger
	plan   *plan.Plan
	today  day.Day
}

func newStage(t *testing.T) *stage {
	s := &stage{dir: t.TempDir()}
	require.NoError(t, marrowick.Write(s.dir, false))
	var err error
	s.today, err = day.Parse("2026-11-24")
	require.NoError(t, err)
	s.ledger, err = ledger.Open(s.dir, "Farah", time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { s.ledger.Close() })
	state, err := prepare.Read(s.dir, nil)
	require.NoError(t, err)
	p, err := prepare.Draft(state, s.ledger, s.today, nil)
	require.NoError(t, err)
	data, err := p.Seal()
	require.NoError(t, err)
	s.plan, err = plan.Read(data)
	require.NoError(t, err)
	return s
}

func (s *stage) job(t *testing.T) *Job {
	j, err := New(s.dir, s.plan, s.ledger, s.today)
	require.NoError(t, err)
	j.Standing.All = true
	j.Refresh()
	return j
}

// TestNarrowingComesFirstInAllApplications, and the steps are on record before
// anything is replaced.
func TestNarrowingComesFirstInAllApplications(t *testing.T) {
	s := newStage(t)
	var order []string
	for _, b := range s.job(t).batches() {
		effect := b.changes[0].Effect
		for _, c := range b.changes {
			require.Equal(t, effect == "narrows", c.Effect == "narrows")
			require.Equal(t, b.app, c.App)
			require.Empty(t, c.Holds)
		}
		order = append(order, b.app+" "+effect)
	}
	require.Equal(t, []string{"tickets narrows", "tickets keeps", "berths widens", "rosters widens"}, order)
}

// TestAStepThatWasRecordedAndNotTaken is finished by the next run: the ledger
// says what was about to happen when the power went.
func TestAStepThatWasRecordedAndNotTakenIsTaken(t *testing.T) {
	s := newStage(t)
	j := s.job(t)
	b := j.batches()[0]
	file := filepath.Join(s.dir, "exports", "tickets.csv")
	old, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, j.write("run-1", b))
	require.NoError(t, os.WriteFile(file, old, 0o644)) // as if it had never been replaced

	again := s.job(t)
	require.True(t, again.Pending())
	var told []string
	res, err := again.Run(func(says string) { told = append(told, says) })
	require.NoError(t, err)
	require.Equal(t, 29, res.Settled)
	require.Zero(t, res.NotSettled)
	require.Contains(t, told[0], "finishing 10 changes that run-1 began")
	require.False(t, s.job(t).Pending())
}

// TestAnExportThatSomeoneElseChangedIsOutOfDate, also when this plan has
// changed it before.
func TestAnExportThatSomeoneElseChangedIsOutOfDate(t *testing.T) {
	s := newStage(t)
	j := s.job(t)
	require.NoError(t, j.write("run-1", j.batches()[0]))
	s.job(t) // its own change is no reason to refuse
	file := filepath.Join(s.dir, "exports", "tickets.csv")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(data, "x,X,,Open,,,,,\n"...), 0o644))
	_, err = New(s.dir, s.plan, s.ledger, s.today)
	var moved *OutOfDate
	require.ErrorAs(t, err, &moved)
	require.Equal(t, []string{"the exported state of tickets has changed since"}, moved.Moved)
}

// TestAFileThatChangesWhileItIsWrittenStopsTheRun: what others wrote stays.
func TestAFileThatChangesWhileItIsWrittenStopsTheRun(t *testing.T) {
	s := newStage(t)
	j := s.job(t)
	b := j.batches()[0]
	file := filepath.Join(s.dir, "exports", "tickets.csv")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	theirs := append(data, "x,X,,Open,,,,,\n"...)
	require.NoError(t, os.WriteFile(file, theirs, 0o644))
	require.ErrorContains(t, j.write("run-1", b), "was changed by someone else just now")
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(theirs), string(now))
}

func TestTheLockSaysWhoHoldsIt(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ledger.Folder), 0o755))
	now := time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC)
	first, err := TakeLock(dir, "Leonie Marsh", "apply abcdefgh", now)
	require.NoError(t, err)
	_, err = TakeLock(dir, "Farah Linden", "apply abcdefgh", now)
	require.ErrorContains(t, err, "Leonie Marsh holds the lock of this repository since 2026-11-24T09:00:00Z (apply abcdefgh, process ")
	require.NoError(t, first.Release())
	second, err := TakeLock(dir, "Farah Linden", "apply abcdefgh", now)
	require.NoError(t, err)
	require.NoError(t, second.Release())
}
