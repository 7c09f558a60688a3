package files_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

func TestARowForEachHoldingComesAndGoes(t *testing.T) {
	const head = "Login,Name,State,Roles,Note\n"
	for _, c := range []struct {
		name, before, after string
		changes             []*plan.Change
	}{
		{
			"nothing to do", "a,A,Open,seller,x\n", "a,A,Open,seller,x\n",
			[]*plan.Change{role(model.Grant, "a", "seller")},
		},
		{
			"a row more, behind the last of its account", "a,A,Open,seller,x\nb,B,Open,lead,y\n",
			"a,A,Open,seller,x\na,A,Open,auditor,x\nb,B,Open,lead,y\n",
			[]*plan.Change{role(model.Grant, "a", "auditor")},
		},
		{
			"a row less", "a,A,Open,seller,x\nb,B,Open,lead,y\na,A,Open,lead,z\n", "b,B,Open,lead,y\na,A,Open,lead,z\n",
			[]*plan.Change{role(model.Revoke, "a", "seller")},
		},
		{
			"the account stays when all is lost", "a,A,Open,seller,x\na,A,Open,lead,z\n", "a,A,Open,,z\n",
			[]*plan.Change{role(model.Revoke, "a", "seller"), role(model.Revoke, "a", "lead")},
		},
		{
			"and what it gains takes the place", "a,A,Open,,x", "a,A,Open,seller,x\na,A,Open,lead,x",
			[]*plan.Change{role(model.Grant, "a", "seller"), role(model.Grant, "a", "lead")},
		},
		{
			"its attributes in every row", "a,A,Open,seller,x\na,A,Open,lead,z\n", "a,New,Blocked,seller,x\na,New,Blocked,lead,z\n",
			[]*plan.Change{update("a", "displayName", "New"), change(model.Suspend, "a")},
		},
		{
			"removed, and new ones", "b,B,Open,lead,y\na,A,Open,seller,x", "b,B,Open,lead,y\nc,,Open,lead,\nc,,Open,seller,\nd,D,Open,,\n",
			[]*plan.Change{
				change(model.Remove, "a"), create("c", map[string]string{"userName": "c"}), role(model.Grant, "c", "lead"),
				role(model.Grant, "c", "seller"), create("d", map[string]string{"userName": "d", "displayName": "D"}),
			},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			app, spec := tickets(',', "")
			spec.ByHolding = true
			after, err := apply(t, app, spec, head+c.before, c.changes...)
			require.NoError(t, err)
			require.Equal(t, head+c.after, after)
		})
	}
	t.Run("a row that was cut off meanwhile", func(t *testing.T) {
		app, spec := tickets(',', "")
		spec.ByHolding = true
		_, err := apply(t, app, spec, head+"a,A\n", change(model.Suspend, "a"))
		require.ErrorContains(t, err, "t.csv:2:1: the row has 2 fields, the header has 5")
	})
}

// TestAnyHoldingsAreChangedAsMeantAndNowhereElse draws rows in any order.
func TestAnyHoldingsAreChangedAsMeantAndNowhereElse(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		users := drawUsers(t)
		app, spec := tickets(',', "")
		spec.ByHolding = true
		row := func(u user, role string) string {
			state := map[bool]string{true: "Open", false: "Blocked"}[u.open]
			return fmt.Sprintf("%s,\"%s\",%s,%s,note", u.login, strings.ReplaceAll(u.name, `"`, `""`), state, role)
		}
		var rows []string
		of := map[string][]string{}
		for _, u := range users {
			roles := u.roles
			if len(roles) == 0 {
				roles = []string{""}
			}
			for _, r := range roles {
				of[u.login] = append(of[u.login], row(u, r))
			}
			rows = append(rows, of[u.login]...)
		}
		content := "Login,Name,State,Roles,Note\n"
		if len(rows) > 0 {
			content += strings.Join(rapid.Permutation(rows).Draw(t, "order"), "\n")
		}
		if rapid.Bool().Draw(t, "ended") {
			content += "\n"
		}
		file := filepath.Join(dir, "t.csv")
		require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
		require.Equal(t, words(users), readBack(t, dir, spec, app))

		touched, now := changed(t, dir, file, spec, app, users)
		for _, u := range users {
			if !touched[u.login] {
				for _, r := range of[u.login] {
					require.Contains(t, string(now), r, "a row that no change is about")
				}
			}
		}
	})
}
