package show_test

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/show"
	"pravet/internal/source"
)

func TestSARIFIsValid(t *testing.T) {
	problems := []*source.Problem{
		source.NewProblem(model.Pos{File: "kits/a b.yaml", Line: 4, Column: 10}, "bad-filter", "a comparison is expected", "write eq"),
		source.NewProblem(model.Pos{File: "people"}, "missing-file", "there is no people file", ""),
		{Pos: model.Pos{File: "kits/a b.yaml", Line: 9}, Severity: source.Warning, Rule: "bad-filter", Says: "matches nobody"},
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
	p := &plan.Plan{AsOf: "2026-11-24", Exports: []plan.Export{{App: "tickets"}}, People: map[string]string{"E1": "=cmd()\x1b[2J"}}
	c := plan.Change{ID: "abc", App: "tickets", Verb: "update", Account: "@x\u009b1m", Person: "E1", Attribute: "title", Before: "+1", After: "a|b<script>", Effect: "keeps",
		Reasons: []plan.Reason{{File: "p.csv", Line: 1, Says: "-\x07"}}}
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
	require.NoError(t, show.PlanMarkdown(&out, v))
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
		show.NewPrinter(&out, c.env).Line(show.Effect("widens", "widens"))
		require.Equal(t, c.colour, strings.Contains(out.String(), "38;"), "%v: %q", c.env, out.String())
		require.Contains(t, out.String(), "widens")
	}
}
