package say

import (
	"fmt"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
)

// Lifted is a guard that was taken away for a plan.
func Lifted(guard, plan string, held int) string {
	return fmt.Sprintf(
		"Lifted the guard %s for plan %s; it held %s.",
		guard,
		plan,
		model.Count(held, "change", "changes"),
	)
}

// AcceptedPlan is a whole plan that was accepted: of all its changes, those that were
// not rejected.
func AcceptedPlan(plan string, accepted, all int) string {
	if accepted == all {
		return fmt.Sprintf("Accepted the whole plan %s, %s.", plan, model.Count(all, "change", "changes"))
	}
	return fmt.Sprintf(
		"Accepted %s of %s changes, the whole plan %s but for %s rejected.",
		model.Thousands(accepted), model.Thousands(all), plan, model.Count(all-accepted, "that was", "that were"),
	)
}

// Accepted is the title of changes that were accepted by themselves.
func Accepted(n int, plan string) string {
	return fmt.Sprintf("Accepted %s of plan %s:", model.Count(n, "change", "changes"), plan)
}

// LeftForGood counts what cannot be undone and was not accepted with the rest.
func LeftForGood(n int) string {
	return fmt.Sprintf(
		"Not accepted: %s that cannot be undone. Name %s by id or number, or add --for-good.",
		model.Count(n, "change", "changes"), model.Plural(n, "it", "them"),
	)
}

// LeftRejected is said above what a selection would accept, and was rejected.
func LeftRejected(n int) string {
	return "Not accepted, because " + model.Plural(n, "it was", "they were") +
		" rejected earlier; to accept one, name it by its id:"
}

// AllRejected is a selection of nothing but what was rejected.
func AllRejected(n int, id string) error {
	return fmt.Errorf(
		"nothing was accepted: %s rejected earlier; to accept one, name it by its id, for example %s",
		model.Count(n, "change that fits was", "changes that fit were"), id,
	)
}

// AcceptedAlong is the title of what those need.
func AcceptedAlong() string { return "Along with them, as they need it:" }

// TakenUp counts what was set aside before.
func TakenUp(n int) string {
	return fmt.Sprintf(
		"%s set aside before; draft again to have what was taken up.", model.Count(n, "of them was", "of them were"),
	)
}

// TooLateToReject is the title of what was carried out already.
func TooLateToReject(n int) string {
	return fmt.Sprintf(
		"%s carried out already, so it is too late to reject:", model.Count(n, "change was", "changes were"),
	)
}

// Rejected is the title of what was rejected, until a day or "".
func Rejected(n int, plan, until string, standing bool) string {
	where := "remembered"
	switch {
	case standing:
		where = "written to standing.yaml"
	case until != "":
		where += " until " + until
	}
	return fmt.Sprintf("Rejected %s of plan %s, %s:", model.Count(n, "change", "changes"), plan, where)
}

// StandsAlready counts rejections that were in standing.yaml before.
func StandsAlready(n int) string {
	if n == 1 {
		return "1 of them stands there already, word for word, and was not written again."
	}
	return model.Thousands(n) + " of them stand there already, word for word, and were not written again."
}

// RejectedAlong is the title of what needs something that was rejected.
func RejectedAlong() string { return "Also rejected, because they need one of these:" }

// Remaining is where the changes of a plan stand now.
func Remaining(counts map[decide.State]int) string {
	var parts []string
	for _, x := range []struct {
		state decide.State
		says  string
	}{
		{decide.Ready, "accepted and ready"},
		{decide.Waiting, "undecided"},
		{decide.Refused, "rejected"},
		{decide.Held, "held"},
		{decide.Lacking, "waiting for one of those"},
		{decide.Completed, "done"},
	} {
		if n := counts[x.state]; n > 0 {
			parts = append(parts, model.Thousands(n)+" "+x.says)
		}
	}
	return "The plan now: " + strings.Join(parts, ", ") + "."
}

// RejectedBy is an earlier rejection, beside what it is about.
func RejectedBy(r *decide.Rejection) string {
	text := "rejected"
	if r.Until != day.None {
		text += " until " + r.Until.String()
	}
	return text + " by " + Name(r.By) + ": " + r.Because
}
