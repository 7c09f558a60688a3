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
	only := func(h duty.Holdings) duty.Duty { return duty.Duty{Holdings: h} }
	for _, row := range []struct {
		stage               stage.Stage
		due                 bool
		none, open, blocked duty.Duty
	}{
		{stage.Here, true, act(model.Create, duty.Align), only(duty.Align), act(model.Restore, duty.Align)},
		{stage.Here, false, duty.Duty{}, act(model.Suspend, duty.Strip), only(duty.Strip)},
		{stage.Away, true, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep)},
		{stage.NotYet, true, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep)},
		{stage.Gone, true, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep)},
		{stage.Gone, false, duty.Duty{}, act(model.Suspend, duty.Keep), only(duty.Keep)},
	} {
		require.Equal(t, row.none, duty.Of(row.stage, row.due, model.NoAccount), "%v", row)
		require.Equal(t, row.open, duty.Of(row.stage, row.due, model.Open), "%v", row)
		require.Equal(t, row.blocked, duty.Of(row.stage, row.due, model.Blocked), "%v", row)
	}
}
