package adopt

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/sheet"
)

// Whether an account is open is told by what the words mean, and yes and no by the header.
func TestWhetherAnAccountIsOpenIsUnderstood(t *testing.T) {
	for _, x := range []struct{ cells, yes, no string }{
		{"Status\nActive\nInactive\n", "Active", "Inactive"},
		{"Active\nyes\nno\n", "yes", "no"},
		{"Active\nTrue\nTrue\n", "True", "False"},
		{"Active\n0\n0\n", "1", "0"},
		{"Locked\nyes\nno\n", "no", "yes"},
		{"Locked\nfalse\nfalse\n", "false", "true"},
		{"Locked\nLocked\nOpen\n", "Open", "Locked"},
		{"Disabled\nDisabled\nEnabled\n", "Enabled", "Disabled"},
		{"Blocked,Login\nX,a\n,b\n", "", "X"},
		{"Blocked,Login\nBlocked,a\n,b\n", "", "Blocked"},
	} {
		table, err := sheet.Read([]byte(x.cells), "e.csv", sheet.Options{})
		require.NoError(t, err, x.cells)
		g := &guesser{t: table, taken: map[string]bool{}, out: make([]Column, len(table.Header))}
		require.True(t, g.state(0), x.cells)
		require.Equal(t, "active", g.out[0].Attr, x.cells)
		require.Equal(t, []string{x.yes, x.no}, []string{g.out[0].Yes, g.out[0].No}, x.cells)
	}
}

func TestOtherWordsSayNothingOfAccounts(t *testing.T) {
	for _, cells := range []string{"Status\nActive\nPending\n", "Status\nA\nB\nC\n", "Town\nOpen\nBlocked\n"} {
		table, err := sheet.Read([]byte(cells), "e.csv", sheet.Options{})
		require.NoError(t, err, cells)
		g := &guesser{t: table, taken: map[string]bool{}, out: make([]Column, len(table.Header))}
		require.False(t, g.state(0), cells)
		require.Empty(t, g.out[0].Attr, cells)
	}
}
