package show

import (
	"bytes"
	"strings"
	"testing"

	"pravet/internal/core/outline"
	"pravet/internal/core/plan"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
)

// TestATableFitsANarrowTerminal: columns in which nothing stands are left out, cells are broken between words, and where that is
// not enough the first cell has a line of its own, or each has. No id and no amount is ever broken, and no line is too long.
func TestATableFitsANarrowTerminal(t *testing.T) {
	table := &Table{Columns: columns("license", "bought", "used", "note", "a seat", "who")}
	table.Columns[1].Number = true
	table.add("berths/license/planning-seat", 6, 5, "", "38 EUR/month", "farah.linden@marrowick.example and three more")
	table.add("tickets/license/till-seat", 12, 12, "", "11.50 EUR/month", "tomas.quill@marrowick.example")
	for _, x := range []struct {
		columns int
		want    string
	}{
		{120, `license                       bought  used  note  a seat           who
berths/license/planning-seat       6  5           38 EUR/month     farah.linden@marrowick.example and three more
tickets/license/till-seat         12  12          11.50 EUR/month  tomas.quill@marrowick.example
`},
		{86, `license                       bought  used  a seat     who
berths/license/planning-seat       6  5     38         farah.linden@marrowick.example
                                            EUR/month  and three more
tickets/license/till-seat         12  12    11.50      tomas.quill@marrowick.example
                                            EUR/month
`},
		{66, `license
  bought  used  a seat           who
berths/license/planning-seat
       6  5     38 EUR/month     farah.linden@marrowick.example
                                 and three more
tickets/license/till-seat
      12  12    11.50 EUR/month  tomas.quill@marrowick.example
`},
		{44, `berths/license/planning-seat
  bought  6
  used    5
  a seat  38 EUR/month
  who     farah.linden@marrowick.example
          and three more
tickets/license/till-seat
  bought  12
  used    12
  a seat  11.50 EUR/month
  who     tomas.quill@marrowick.example
`},
	} {
		var b bytes.Buffer
		p := &Printer{w: &b, columns: x.columns, narrow: true}
		require.Equal(t, 2, p.Print(table))
		got := ansi.Strip(b.String())
		require.Equal(t, x.want, got, "%d columns", x.columns)
		for line := range strings.SplitSeq(got, "\n") {
			require.LessOrEqual(t, width(line), x.columns, line)
		}
	}
}

// TestATitleOfAGroupIsWhole: a long title is broken between words; what a group is referred to by is not broken.
func TestATitleOfAGroupIsWhole(t *testing.T) {
	var b bytes.Buffer
	p := &Printer{w: &b, columns: 60}
	p.Groups(&PlanView{Plan: &plan.Plan{}}, []outline.Group{{Changes: []string{"a", "b"}}}, func(string) (string, string) {
		return "kits/ashore.yaml:41, changed by Farah Linden on 2026-09-01 in 500a4fe9", ":2qe9t"
	}, false)
	require.Contains(t, ansi.Strip(b.String()), `
kits/ashore.yaml:41, changed by Farah Linden on 2026-09-01
in 500a4fe9  :2qe9t  2 changes
`)
}
