package entitle_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// TestTheTableOfWhatIsDue is the table of docs/plans.md, cell by cell.
func TestTheTableOfWhatIsDue(t *testing.T) {
	act := func(v model.Verb, h entitle.Holdings) entitle.Duty {
		return entitle.Duty{Verb: v, Acts: true, Holdings: h}
	}
	withdraw := entitle.Duty{Verb: model.Withdraw, Acts: true}
	only := func(h entitle.Holdings) entitle.Duty { return entitle.Duty{Holdings: h} }
	for _, row := range []struct {
		stage                        entitle.Stage
		due                          bool
		none, open, blocked, invited entitle.Duty
	}{
		{entitle.Here, true, act(model.Create, entitle.Align), only(entitle.Align), act(model.Restore, entitle.Align), only(entitle.Align)},
		{entitle.Here, false, entitle.Duty{}, act(model.Suspend, entitle.Strip), only(entitle.Strip), withdraw},
		{entitle.Away, true, entitle.Duty{}, act(model.Suspend, entitle.Keep), only(entitle.Keep), entitle.Duty{}},
		{entitle.NotYet, true, entitle.Duty{}, act(model.Suspend, entitle.Keep), only(entitle.Keep), withdraw},
		{entitle.Gone, true, entitle.Duty{}, act(model.Suspend, entitle.Keep), only(entitle.Keep), withdraw},
		{entitle.Gone, false, entitle.Duty{}, act(model.Suspend, entitle.Keep), only(entitle.Keep), withdraw},
	} {
		require.Equal(t, row.invited, entitle.DutyOf(row.stage, row.due, model.Invited), "%v", row)
		removed := entitle.Duty{}
		if row.stage == entitle.Here && row.due {
			removed = act(model.Restore, entitle.Align)
		}
		require.Equal(t, removed, entitle.DutyOf(row.stage, row.due, model.Removed), "%v", row)
		require.Equal(t, row.none, entitle.DutyOf(row.stage, row.due, model.NoAccount), "%v", row)
		require.Equal(t, row.open, entitle.DutyOf(row.stage, row.due, model.Open), "%v", row)
		require.Equal(t, row.blocked, entitle.DutyOf(row.stage, row.due, model.Blocked), "%v", row)
	}
}
