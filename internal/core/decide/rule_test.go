package decide_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
)

// TestWhoHasToDecide: each rule that covers a change waits until as many as it takes of those whom it names have accepted it.
func TestWhoHasToDecide(t *testing.T) {
	covers := func(r *decide.Rule, c *plan.Change) bool { return r.Kit != "other" }
	may := func(r *decide.Rule, c *plan.Change, person string) bool {
		return r.Kit == "desk" && (person == "E1" || person == "E2" || person == "E3") || r.Owner && person == "E9"
	}
	for name, x := range map[string]struct {
		rules    []decide.Rule
		accepted []string
		left     []int // of each rule that waits
	}{
		"without a rule anybody's word is enough": {nil, nil, nil},
		"a rule about something else":             {[]decide.Rule{{Kit: "other", Count: 2}}, nil, nil},
		"nobody yet":                              {[]decide.Rule{{Kit: "desk", Count: 2}}, nil, []int{2}},
		"one of two":                              {[]decide.Rule{{Kit: "desk", Count: 2}}, []string{"E1"}, []int{1}},
		"two of two":                              {[]decide.Rule{{Kit: "desk", Count: 2}}, []string{"E1", "E2"}, nil},
		"somebody else does not count":            {[]decide.Rule{{Kit: "desk", Count: 1}}, []string{"E9"}, []int{1}},
		"the drafter does not":                    {[]decide.Rule{{Kit: "desk", Count: 1, NotDrafter: true}}, []string{"E3"}, []int{1}},
		"whom it is about does not":               {[]decide.Rule{{Kit: "desk", Count: 1, NotSubject: true}}, []string{"E2"}, []int{1}},
		"anybody but those":                       {[]decide.Rule{{Count: 1, NotSubject: true, NotDrafter: true}}, []string{"E2", "E3", "E7"}, nil},
		"two rules are two": {
			[]decide.Rule{{Kit: "desk", Count: 2}, {Owner: true, Count: 1}}, []string{"E1", "E9"}, []int{1},
		},
	} {
		var left []int
		for _, w := range decide.Waits(x.rules, covers, &plan.Change{App: "tickets", Person: "E2"}, x.accepted, "E3", may) {
			left = append(left, w.Left())
		}
		require.Equal(t, x.left, left, name)
	}
}
