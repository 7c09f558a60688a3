package duty_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/duty"
	"pravet/internal/core/model"
	"pravet/internal/core/stage"
)

// TestTheTableOfWhatIsDue is the table of docs/plans.md, cell by cell.
func TestTheTableOfWhatIsDue(t *testing.T) {
	act := func(v model.Verb, h duty.Holdings) duty.Duty { return duty.Duty{Verb: v, Acts: true, Holdings: h} }
	withdraw := duty.Duty{Verb: model.Withdraw, Acts: true}
	only := func(h duty.Holdings) duty.Duty { return duty.Duty{Holdings: h} }
	for _, row := range []struct {
		stage                        stage.Stage
		due                          bool
		none, open, blocked, invited duty.Duty
	}{
		{stage.Here, true, act(model.Create, duty.Align), only(duty.Align), act(model.Restore, duty.Align), only(duty.Align)},
		{stage.Here, false, duty.Duty{}, act(model.Suspend, duty.Strip), only(duty.Strip), withdraw},
		{stage.Away, true, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep), duty.Duty{}},
		{stage.NotYet, true, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep), withdraw},
		{stage.Gone, true, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep), withdraw},
		{stage.Gone, false, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep), withdraw},
	} {
		require.Equal(t, row.invited, duty.Of(row.stage, row.due, model.Invited), "%v", row)
		removed := duty.Duty{}
		if row.stage == stage.Here && row.due {
			removed = act(model.Restore, duty.Align)
		}
		require.Equal(t, removed, duty.Of(row.stage, row.due, model.Removed), "%v", row)
		require.Equal(t, row.none, duty.Of(row.stage, row.due, model.NoAccount), "%v", row)
		require.Equal(t, row.open, duty.Of(row.stage, row.due, model.Open), "%v", row)
		require.Equal(t, row.blocked, duty.Of(row.stage, row.due, model.Blocked), "%v", row)
	}
}
