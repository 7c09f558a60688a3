package show_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image/png"
	"strings"
	"testing"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/show"
	"pravet/internal/source"
)

func TestSARIFIsValid(t *testing.T) {
	problems := []*source.Problem{
		source.NewProblem(
			model.Pos{File: "kits/a b.yaml", Line: 4, Column: 10},
			"bad-filter",
			"a comparison is expected",
			"write eq",
		),
		source.NewProblem(model.Pos{File: "people"}, "missing-file", "there is no people file", ""),
		{
			Pos:      model.Pos{File: "kits/a b.yaml", Line: 9},
			Severity: source.Warning,
			Rule:     "bad-filter",
			Says:     "matches nobody",
		},
	}
	for _, list := range [][]*source.Problem{problems, nil} {
		var b bytes.Buffer
		require.NoError(t, show.SARIF(&b, list, "v1"))
		report, err := sarif.FromBytes(b.Bytes())
		require.NoError(t, err)
		require.NoError(t, report.Validate())
		require.Len(t, report.Runs[0].Results, len(list))
		if len(list) > 0 {
			first := report.Runs[0].Results[0]
			require.Equal(t, "kits/a%20b.yaml", *first.Locations[0].PhysicalLocation.ArtifactLocation.URI)
			require.Equal(t, 4, *first.Locations[0].PhysicalLocation.Region.StartLine)
			require.Len(t, report.Runs[0].Tool.Driver.Rules, 2)
		}
	}
}

// TestNothingFromAnExportReachesTheTerminalOrASpreadsheetAsACommand.
func TestNothingFromAnExportRunsAnywhere(t *testing.T) {
	p := &plan.Plan{
		AsOf:    "2026-11-24",
		Exports: []plan.Export{{App: "tickets"}},
		People:  map[string]string{"E1": "=cmd()\x1b[2J"},
	}
	c := plan.Change{
		ID:        "abc",
		App:       "tickets",
		Verb:      model.Update,
		Account:   "@x\u009b1m",
		Person:    "E1",
		Attribute: "title",
		Before:    plan.Text("+1"),
		After:     plan.Text("a|b<script>"),
		Effect:    model.Keeps,
		Reasons:   []int{0},
	}
	p.Reasons = []plan.Reason{{File: "p.csv", Line: 1, Says: "-\x07"}}
	v := &show.PlanView{Plan: p, Changes: []*plan.Change{&c}}
	var out bytes.Buffer
	pr := show.NewPrinter(&out, []string{"TERM=xterm-256color", "COLORTERM=truecolor", "CLICOLOR_FORCE=1"})
	pr.Plan(v)
	require.NoError(t, pr.Err())
	text := out.String()
	require.NotContains(t, text, "\x1b[2J")
	require.NotContains(t, text, "\u009b")
	require.NotContains(t, text, "\x07")

	out.Reset()
	require.NoError(t, show.PrintCSV(&out, show.PlanTable(v)))
	rows, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	for _, cell := range rows[1] {
		require.False(t, cell != "" && strings.ContainsAny(cell[:1], "=+-@"), cell)
	}

	out.Reset()
	require.NoError(t, show.PlanMarkdown(&out, v, false))
	require.Contains(t, out.String(), `a\|b&lt;script&gt;`)
}

// TestColourIsForTerminalsThatWantIt.
func TestColourIsForTerminalsThatWantIt(t *testing.T) {
	for _, c := range []struct {
		env    []string
		colour bool
	}{
		{[]string{"TERM=xterm-256color"}, false}, // no terminal
		{[]string{"TERM=xterm-256color", "COLORTERM=truecolor", "CLICOLOR_FORCE=1"}, true},
		{[]string{"TERM=xterm-256color", "CLICOLOR_FORCE=1", "NO_COLOR=1"}, false},
	} {
		var out bytes.Buffer
		show.NewPrinter(&out, c.env).Line(show.Effect(model.Widens, "widens"))
		require.Equal(t, c.colour, strings.Contains(out.String(), "38;"), "%v: %q", c.env, out.String())
		require.Contains(t, out.String(), "widens")
	}
}

// TestATableIsTheSameInEveryFormat: JSON and CSV hold what the text shows.
func TestATableIsTheSameInEveryFormat(t *testing.T) {
	people := model.NewPeople()
	attrs := []int{
		people.Attribute("id"),
		people.Attribute("userName"),
		people.Attribute("displayName"),
		people.Attribute("title"),
	}
	for _, row := range [][]string{
		{"1", "ada", "Ada, the first", "Mate"}, {"2", "bo", "=cmd()", ""}, {"3", "cy", "Cy", "Mate"},
	} {
		people.Add(people.File("p"), 1, attrs, row)
	}
	people.Close()
	v := access.Look(access.Input{People: people, Today: 20000})
	rows := v.Rows("people")
	all := rows.Select(nil, 20000)
	rows.Sort(all, []access.SortBy{{Column: "title"}, {Column: "id", Down: true}})
	table := show.RowTable(rows, all, []string{"id", "displayName", "title", "kits"})
	for format, want := range map[string]string{
		"table": "id  displayName     title  kits\n2   =cmd()\n3   Cy              Mate\n1   Ada, the first  Mate\n",
		"csv":   "id,displayName,title,kits\r\n2,'=cmd(),,\r\n3,Cy,Mate,\r\n1,\"Ada, the first\",Mate,\r\n",
	} {
		var b bytes.Buffer
		require.NoError(t, show.Output(&b, []string{"NO_COLOR=1"}, format, table))
		require.Equal(t, want, b.String())
	}
	var b bytes.Buffer
	require.NoError(t, show.Output(&b, nil, "json", table))
	var items []map[string]any
	require.NoError(t, json.Unmarshal(b.Bytes(), &items))
	require.Equal(
		t,
		map[string]any{"id": "2", "displayName": "=cmd()", "title": "", "kits": []any{}},
		items[0],
		"JSON has the values themselves",
	)
	require.Len(t, items, 3)

	groups := show.GroupTable(rows, all, "title")
	require.Equal(t, [][]any{{"Mate", "2"}, {"(no value)", "1"}}, groups.Rows)
}

// TestALargeTableReadsAsASmallOne, and has every row.
func TestALargeTableReadsAsASmallOne(t *testing.T) {
	table := &show.Table{Columns: []show.Column{{Title: "name"}, {Title: "title"}}}
	for i := range 5000 {
		table.Rows = append(table.Rows, []any{fmt.Sprintf("user %04d", i), strings.Repeat("x", i%7)})
	}
	lines := func() []string {
		var b bytes.Buffer
		require.NoError(t, show.Output(&b, []string{"NO_COLOR=1"}, "table", table))
		return strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
	}
	large := lines()
	require.Len(t, large, 5001)
	table.Rows = table.Rows[:1000]
	require.Equal(t, lines(), large[:1001])
}

// TestAPlotIsAPictureOfItsFormat, the same each time, and says what it cannot do.
func TestAPlotIsAPictureOfItsFormat(t *testing.T) {
	app := &model.App{ID: "till", Match: "userName"}
	view := func(licenses int) *access.View {
		app.Things = nil
		for i := range licenses {
			app.Things = append(
				app.Things,
				model.Thing{Kind: model.License, Name: fmt.Sprintf("seat %d", i), Seats: i - 1},
			)
		}
		app.Index()
		people := model.NewPeople()
		people.Attribute("id")
		people.Close()
		return access.Look(
			access.Input{People: people, Apps: []*model.App{app}, Accounts: []*model.Accounts{nil}, Today: 20000},
		)
	}
	for _, licenses := range []int{1, 3, 4, 12} {
		v := view(licenses)
		months := v.Ahead(20000 + 365)
		require.Len(t, months, 13)
		for name, head := range map[string]string{"a.png": "\x89PNG\r\n", "a.PNG": "\x89PNG\r\n", "a.svg": "<?xml"} {
			first, err := show.SeatsPlot(v, months, name)
			require.NoError(t, err)
			require.True(t, bytes.HasPrefix(first, []byte(head)), name)
			again, err := show.SeatsPlot(v, months, name)
			require.NoError(t, err)
			require.True(t, bytes.Equal(first, again), name)
			if head == "\x89PNG\r\n" {
				picture, err := png.DecodeConfig(bytes.NewReader(first))
				require.NoError(t, err)
				require.Equal(t, [2]int{1280, 800}, [2]int{picture.Width, picture.Height})
			}
		}
	}
	v := view(0)
	_, err := show.SeatsPlot(v, v.Ahead(20010), "a.png")
	require.ErrorContains(t, err, "there is no license to draw")
	v = view(13)
	_, err = show.SeatsPlot(v, v.Ahead(20010), "a.png")
	require.ErrorContains(t, err, "there are 13 licenses, and a plot shows 12; choose with --app")
}
