package report_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/report"
	"pravet/internal/core/table"
)

const folk = `
id  userName  displayName department userType   starts     ends       sponsor
P1  anna.moe  Anna.Moe    Harbour    Employee   2020-01-01 -          -
P2  bo.lind   Bo.Lind     Harbour    Contractor 2020-01-01 2027-01-31 P1
P3  cy.dahl   Cy.Dahl     Tickets    Employee   2020-01-01 2026-10-31 -
P4  di.kron   Di.Kron     Tickets    Employee   2026-12-01 -          -
P5  eve.holm  Eve.Holm    -          Contractor 2020-01-01 -          P3
P6  fay.berg  Fay.Berg    Tickets    Employee   2020-01-01 -          -
P7  gil.frost Gil.Frost   Tickets    Employee   2020-01-01 -          -
`

const till = `
userName  lastActive state   holds
anna.moe  2026-11-20 open    boss,seat
bo.lind   2026-06-01 open    clerk,seat
cy.dahl   2026-08-24 open    clerk
eve.holm  -          invited -
fay.berg  -          open    seat
who.else  2026-08-23 open    clerk
root      -          open    boss
`

func rows(text string) (header []string, out [][]string) {
	for i, line := range strings.Split(strings.TrimSpace(text), "\n") {
		fields := strings.Fields(line)
		for n := range fields {
			fields[n] = strings.TrimSuffix(strings.ReplaceAll(fields[n], ".", dot(n)), "-")
		}
		if i == 0 {
			header = fields
			continue
		}
		out = append(out, fields)
	}
	return header, out
}

// dot is what a dot stands for: displayName, the third column, is written with dots.
func dot(column int) string {
	if column == 2 {
		return " "
	}
	return "."
}

// world is an application with roles that exclude each other, seats that cost, and accounts
// of all sorts.
func world(t *testing.T) *report.Input {
	people := model.NewPeople()
	header, list := rows(folk)
	var attrs []int
	for _, h := range header {
		attrs = append(attrs, people.Attribute(h))
	}
	file := people.File("people.csv")
	for i, row := range list {
		require.True(t, people.Add(file, i+2, attrs, row))
	}
	people.Close()

	price, err := model.Parse("10 EUR/month")
	require.NoError(t, err)
	app := &model.App{
		ID: "till", Match: "userName", Protect: []model.Name{{Text: "root"}},
		Attrs: []model.Attr{{Name: "userName", Person: "userName"}, {Name: model.LastActive}},
		Things: []model.Thing{
			{Kind: model.License, Name: "seat", Seats: 4, Price: price},
			{Kind: model.Role, Name: "boss", Seats: -1, Sensitive: true},
			{Kind: model.Role, Name: "clerk", Seats: -1},
		},
	}
	app.Index()
	kinds := map[string]model.Kind{"seat": model.License, "boss": model.Role, "clerk": model.Role}
	thing := func(name string) int32 { return app.Thing(kinds[name], name) }
	app.Things[thing("boss")].Implies = []int32{thing("clerk")}

	accounts := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	_, list = rows(till)
	for _, row := range list {
		accounts.Attrs[0].Append(row[0])
		accounts.Attrs[1].Append(row[1])
		accounts.States = append(accounts.States, model.ParseState(row[2]))
		var held []int32
		for name := range strings.SplitSeq(row[3], ",") {
			if name != "" {
				held = append(held, thing(name))
			}
		}
		accounts.Held = append(accounts.Held, accounts.Sets.Of(held))
	}
	give := func(names ...string) []model.Give {
		g := model.Give{App: 0}
		for _, name := range names {
			g.Things, g.Pos = append(g.Things, thing(name)), append(g.Pos, model.Pos{File: "kits.yaml", Line: 3})
		}
		return []model.Give{g}
	}
	everyone := &model.Kit{Name: "seats", Everyone: true, Gives: give("seat")}
	bosses := &model.Kit{
		Name: "bosses", Gives: give("boss"),
		Holders: []model.Holder{{Person: "P1", Until: day.None, Pos: model.Pos{File: "kits.yaml", Line: 9}}},
	}
	today, err := day.Parse("2026-11-24")
	require.NoError(t, err)
	idle, err := day.ParseDuration("P3M")
	require.NoError(t, err)
	boss, clerk := model.AppThing{App: 0, Thing: thing("boss")}, model.AppThing{App: 0, Thing: thing("clerk")}
	v := access.Look(access.Input{
		People: people, Apps: []*model.App{app}, Kits: []*model.Kit{everyone, bosses},
		Accounts: []*model.Accounts{accounts}, Today: today,
		Separations: []model.Separation{{Name: "four-eyes", Apart: []model.AppThing{boss, clerk}}},
		Exceptions: []model.Exception{
			{Separation: "four-eyes", Person: "P1", Until: day.None, Because: "a small harbour"},
		},
	})
	return &report.Input{
		View: v, Idle: idle, From: today - 30, To: today,
		Changes: []report.Change{
			{On: "2026-11-02", App: "till", Verb: "grant", Account: "bo.lind", Person: "P2", Effect: "widens"},
			{On: "2026-11-03", App: "till", Verb: "revoke", Account: "bo.lind", Person: "P2", Effect: "narrows"},
			{On: "2026-11-04", App: "till", Verb: "grant", Account: "cy.dahl", Person: "P3", Effect: "widens"},
		},
		Decisions: []report.Decision{
			{On: "2026-11-02", By: "anna", Verdict: "accept", Plan: "a"},
			{On: "2026-11-03", By: "bo", Verdict: "accept", Plan: "b"},
			{On: "2026-11-04", By: "bo", Verdict: "reject", Plan: "c", Because: "too early"},
		},
	}
}

// written are the rows and the bars of a report, as a person would read them.
func written(name string, in *report.Input) (lines, drawn []string) {
	t := report.Named(name).Of(in)
	for row := range t.Rows {
		lines = append(lines, strings.Join(row, " | "))
	}
	for _, b := range t.Bars {
		drawn = append(drawn, b.Label+strings.Repeat("*", int(b.Value)))
	}
	return lines, drawn
}

func TestEachReportAnswersItsQuestion(t *testing.T) {
	for name, want := range map[string]struct{ rows, bars []string }{
		"access": {[]string{
			"P1 | Anna Moe | Harbour | Employee | here | open: license seat; role boss; role clerk",
			"P2 | Bo Lind | Harbour | Contractor | here | open: license seat; role clerk",
			"P3 | Cy Dahl | Tickets | Employee | gone | open: role clerk",
			"P5 | Eve Holm |  | Contractor | here | invited",
			"P6 | Fay Berg | Tickets | Employee | here | open: license seat",
		}, []string{"till, open****", "till, invited*"}},
		"administrators": {[]string{
			"till/role/boss | root |  |  | yes |  |  |  | of nobody",
			"till/role/boss | anna.moe | P1 | Anna Moe | yes |  | bosses | kits.yaml:3 | has",
		}, []string{"till/role/boss**"}},
		"idle": {[]string{
			"till | bo.lind | P2 | Bo Lind | Harbour | 2026-06-01 | 176 | seat | 10.00 EUR/month",
			"till | who.else |  | nobody |  | 2026-08-23 | 93 |  | ",
			"till | cy.dahl | P3 | Cy Dahl | Tickets | 2026-08-24 | 92 |  | ",
		}, []string{"till***"}},
		"never": {[]string{
			"till | fay.berg | P6 | Fay Berg | Tickets | here",
			"till | root |  | nobody |  | ",
		}, []string{"till**"}},
		"outsiders": {[]string{
			"P2 | Bo Lind | Contractor | here | 2027-01-31 | P1 | Anna Moe | till (open)",
			"P5 | Eve Holm | Contractor | here |  | P3 | Cy Dahl, who is not here | till (invited)",
		}, nil},
		"strays": {[]string{
			"till | who.else | open | role clerk | nobody's",
			"till | root | open | role boss, role clerk | protected",
		}, []string{"till*"}},
		"pending": {[]string{
			"P4 | Di Kron | Tickets | till | comes with the first day | 2026-12-01",
			"P5 | Eve Holm |  | till | is invited | ",
			"P7 | Gil Frost | Tickets | till | is to be created | ",
		}, []string{"till***"}},
		"leaving": {[]string{"till | cy.dahl | P3 | Cy Dahl | 2026-10-31 | open |  |  | "}, nil},
		"seats": {[]string{
			"till/license/seat | Harbour | 2 | 0 | 10 EUR/month | 20.00 EUR/month |  | ",
			"till/license/seat | Tickets | 1 | 0 | 10 EUR/month | 10.00 EUR/month |  | ",
			"till/license/seat | all | 3 | 0 | 10 EUR/month | 30.00 EUR/month | 4 | 1",
		}, []string{"till/license/seat***"}},
		"separation": {[]string{
			"four-eyes | P1 | Anna Moe | till/role/boss, till/role/clerk | till/role/boss, till/role/clerk | " +
				"without end | a small harbour",
		}, nil},
		"changes": {[]string{
			"2026-11-02 | till | grant | bo.lind | P2 |  |  | ",
			"2026-11-03 | till | revoke | bo.lind | P2 |  |  | ",
			"2026-11-04 | till | grant | cy.dahl | P3 |  |  | ",
		}, []string{"widens**", "narrows*"}},
		"approvals": {[]string{
			"2026-11-02 | anna | accept | a |  | ",
			"2026-11-03 | bo | accept | b |  | ",
			"2026-11-04 | bo | reject | c |  | too early",
		}, []string{"bo**", "anna*"}},
	} {
		t.Run(name, func(t *testing.T) {
			got, drawn := written(name, world(t))
			require.Equal(t, want.rows, got)
			require.Equal(t, want.bars, drawn)
		})
	}
}

// Whoever reads a table by its columns finds each value under its name.
func TestEveryRowHasAllColumns(t *testing.T) {
	in := world(t)
	for i := range report.Kinds {
		k := &report.Kinds[i]
		table := k.Of(in)
		require.Equal(t, k.Name, table.Name)
		require.Equal(t, k.Title, table.Title)
		require.NotEmpty(t, table.About, k.Name)
		require.NotEmpty(t, table.None, k.Name)
		for row := range table.Rows {
			require.Len(t, row, len(table.Columns), k.Name)
		}
		for at := range table.Right {
			require.Less(t, at, len(table.Columns), k.Name)
		}
	}
}

// Who is idle is not known where an export does not show when somebody was there last, and
// nobody may take that for an answer.
func TestWhatAnExportDoesNotShowIsSaid(t *testing.T) {
	for name, hide := range map[string]func(v *access.View){
		"no such attribute": func(v *access.View) { v.Apps[0].Attrs[1].Name = "lastSeen"; v.Apps[0].Index() },
		"no column":         func(v *access.View) { v.Accounts[0].Attrs[1] = nil },
		"a column without any value": func(v *access.View) {
			v.Accounts[0].Attrs[1] = &table.Column{}
			for range v.Accounts[0].Len() {
				v.Accounts[0].Attrs[1].Append("")
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			in := world(t)
			hide(in.View)
			for _, kind := range []string{"idle", "never"} {
				got := report.Named(kind).Of(in)
				require.Contains(t, got.About, "Not shown by the export of till (lastActive)", kind)
				rows, _ := written(kind, in)
				require.Empty(t, rows, kind)
			}
		})
	}
}

// A report of nothing has no row and no bar, and says so in words.
func TestNothingIsSaidInWords(t *testing.T) {
	in := &report.Input{View: access.Look(access.Input{People: model.NewPeople()})}
	for i := range report.Kinds {
		rows, drawn := written(report.Kinds[i].Name, in)
		require.Empty(t, rows, report.Kinds[i].Name)
		require.Empty(t, drawn, report.Kinds[i].Name)
	}
	require.Nil(t, report.Named("nosuch"))
}
