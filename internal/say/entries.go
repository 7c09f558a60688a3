package say

import (
	"fmt"
	"strings"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/ledger"
)

// Minute writes an entry's time to the minute; JSON has the seconds.
func Minute(at string) string {
	if len(at) < len("2026-11-24T09:00") {
		return at
	}
	return at[:10] + " " + at[11:16]
}

// Name leaves out the address behind a name; JSON has it.
func Name(by string) string {
	name, _, _ := strings.Cut(by, " <")
	return name
}

// Entry is an entry of the ledger in words.
func Entry(e *ledger.Entry) string {
	var text string
	var err error
	switch e.Kind {
	case ledger.ExportSeen:
		var x ledger.Export
		x, err = ledger.Decode[ledger.Export](e)
		text = fmt.Sprintf("%s, taken %s", model.Count(x.Accounts, "account", "accounts"), Minute(x.TakenAt))
	case ledger.StoodSince:
		var x ledger.Stood
		x, err = ledger.Decode[ledger.Stood](e)
		text = stood(&x)
	case ledger.PlanDrafted:
		var x ledger.Plan
		x, err = ledger.Decode[ledger.Plan](e)
		text = fmt.Sprintf(
			"drafted for %s: %s, %d held, %d set aside",
			x.AsOf,
			model.Count(x.Totals.Changes, "change", "changes"),
			x.Totals.Held,
			x.SetAside,
		)
		if x.Environment != "" {
			text += ", for the environment " + x.Environment
		}
	case ledger.Decided:
		var x ledger.Decision
		x, err = ledger.Decode[ledger.Decision](e)
		text = decision(&x)
	case ledger.RunStarted:
		var x ledger.Run
		x, err = ledger.Decode[ledger.Run](e)
		text = fmt.Sprintf("began %s of plan %s", model.Count(x.Changes, "change", "changes"), x.Plan)
	case ledger.StepTaken:
		var x ledger.Step
		x, err = ledger.Decode[ledger.Step](e)
		text = fmt.Sprintf("%s: writing %s", x.App, model.Count(len(x.Changes), "change", "changes"))
	case ledger.Outcome:
		var x ledger.ChangeOutcome
		x, err = ledger.Decode[ledger.ChangeOutcome](e)
		text = "settled: " + x.What
		if !x.Settled {
			text = "not settled: " + x.What + "; " + x.Says
			if x.Result == ledger.Waiting {
				text = "waiting: " + x.What + "; " + x.Says
			}
		}
	case ledger.LetterSent:
		var x ledger.Letter
		x, err = ledger.Decode[ledger.Letter](e)
		text = letterState(&x)
	case ledger.RunEnded:
		var x ledger.RunEnd
		x, err = ledger.Decode[ledger.RunEnd](e)
		text = fmt.Sprintf(
			"%d settled, %d not settled, %d held, %d left alone",
			x.Settled,
			x.NotSettled,
			x.Held,
			x.Left,
		)
		if x.Waiting > 0 {
			text += fmt.Sprintf(", %d waiting for somebody", x.Waiting)
		}
		if x.Error != "" {
			text += "; stopped: " + x.Error
		}
		if x.After != "" {
			text += "; afterwards: " + x.After
		}
		for _, b := range x.Beside {
			text += "; changed by others meanwhile: " + b
		}
	}
	if err != nil {
		return err.Error()
	}
	return text
}

func decision(d *ledger.Decision) string {
	what := model.Count(len(d.Changes), "change", "changes")
	if d.All {
		what = "the whole plan"
	}
	switch d.Verdict {
	case "lift":
		return fmt.Sprintf("lifted %s, because %s", strings.Join(d.Guards, ", "), d.Because)
	case "trust":
		return "took the ledger for whole, as it was cut off, because " + d.Because
	case "accept":
		what = "accepted " + what
	default:
		what = "rejected " + what
		if d.Until != "" {
			what += " until " + d.Until
		}
		if d.Standing {
			what += " in standing.yaml"
		}
	}
	if len(d.Along) > 0 {
		what += fmt.Sprintf(" and %d along with them", len(d.Along))
	}
	return what + ", because " + d.Because
}

// AcceptedBy goes on after an outcome with who decided it, and why.
func AcceptedBy(by, because string) string {
	return fmt.Sprintf("; accepted by %s: %s", Name(by), because)
}

// stood says what began to be so about accounts on their way out, and what is so no more.
func stood(x *ledger.Stood) string {
	var parts []string
	add := func(before string, list []ledger.Marks) {
		for _, m := range list {
			what := "upon path " + m.Path
			switch {
			case x.Kit != "":
				parts = append(parts, before+held(strings.Count(m.People, "\n"), x.Kit, m.Step))
				continue
			case m.Path == "" && m.Step == entitle.MarkRemoved:
				what = "removed"
			case m.Path == "" && m.Step == entitle.MarkUnanswered:
				what = "with no answer to the last invitation"
			case m.Path == "" && m.Step != model.DoSuspend.String():
				what = "with " + strings.Replace(m.Step, "invited", "invitation", 1) + " pending"
			case m.Path == "":
				what = "of nobody and blocked"
			case m.Step == entitle.MarkOpened:
				what = "on path " + m.Path + " and opened by hand"
			case m.Step != "":
				what = "on path " + m.Path + " with " + m.Step + " done"
			}
			parts = append(parts, before+model.Count(len(m.Accounts), "account", "accounts")+" "+what)
		}
	}
	add("", x.Came)
	add("no more: ", x.Went)
	return strings.Join(parts, "; ")
}

// held says how many people hold a kit that lingers, or keep what it gave.
func held(n int, kit, step string) string {
	if step == ledger.Lingers {
		return model.Count(n, "person keeps", "people keep") + " what kit " + kit + " gave"
	}
	return model.Count(n, "person holds", "people hold") + " kit " + kit
}

// letterState says what became of a letter.
func letterState(x *ledger.Letter) string {
	text := "letter " + x.ID + " by " + x.Way + ": "
	switch x.State {
	case ledger.LetterBegun:
		return text + "about to be sent, with " + model.Count(len(x.Keys), "thing", "things") + " to tell"
	case ledger.LetterArrived:
		return text + "sent"
	case ledger.LetterUnknown:
		return text + "may not have arrived: " + x.Says
	}
	return text + "not sent: " + x.Says
}
