package cli

import (
	"encoding/csv"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryTableIsAlsoData: JSON and CSV go to standard output alone, are well
// formed, and hold as many rows as each other.
func TestEveryTableIsAlsoData(t *testing.T) {
	d := atWork(t)
	require.Equal(t, Done, d.run("draft", "--on", "2026-11-24"))
	for _, c := range []struct {
		rows int // -1 where JSON is no list of them
		args []string
	}{
		{65, []string{"list", "people"}},
		{65, []string{"list", "accounts"}},
		{4, []string{"list", "strays"}},
		{15, []string{"list", "kits"}},
		{11, []string{"list", "people", "--group-by", "department"}},
		{4, []string{"holders", "tickets/role/refund-approver"}},
		{3, []string{"seats"}},
		{9, []string{"seats", "--ahead", "P2M"}},
		{2, []string{"compare", "HEAD~1"}},
		{0, []string{"compare"}},
		{4, []string{"log"}},
		{-1, []string{"why", "E0042"}},
		{-1, []string{"show", "2w57bede"}},
		{-1, []string{"check"}},
	} {
		require.Equal(t, Done, d.run(append(c.args, "--format", "csv")...), "%v: %s", c.args, d.err.String())
		records, err := csv.NewReader(&d.out).ReadAll()
		require.NoError(t, err, "%v", c.args)
		require.NotEmpty(t, records, "%v has a header", c.args)
		require.Equal(t, Done, d.run(append(c.args, "--format", "json")...), "%v: %s", c.args, d.err.String())
		var v any
		require.NoError(t, json.Unmarshal(d.out.Bytes(), &v), "%v", c.args)
		if c.rows < 0 {
			require.IsType(t, map[string]any{}, v, "%v", c.args)
			continue
		}
		require.Len(t, records[1:], c.rows, "%v", c.args)
		require.Len(t, v, c.rows, "%v", c.args)
	}
}
