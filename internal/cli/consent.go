package cli

import (
	"bufio"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desk"
	"pravet/internal/show"
)

// outlook says what will be carried out, and what will be left alone.
func (c *program) outlook(out *show.Printer, r *desk.Run) {
	var t plan.Totals
	for i := range r.Plan.Changes {
		if r.States[i] == decide.Ready {
			ch := r.Plan.Changes[i]
			ch.Holds = nil // lifted, or it would not be ready
			t.Changes++
			t.Add(&ch)
		}
	}
	out.Linef("%s of %s, %s", show.Strong("Plan "+r.Plan.ID), r.Plan.AsOf, r.Plan.Organization)
	if r.Plan.Undoes != "" {
		out.Linef("Undoes %s", show.Strong(r.Plan.Undoes))
	}
	out.Line("To carry out: " + show.TotalsLine(t))
	for _, state := range leftAlone {
		if text := sayLeftAlone(state, r.Count(state), r.Today.String()); text != "" {
			out.Line("  " + text)
			c.named(out, r, state)
		}
	}
}

// leftAlone are the states in which changes are not carried out, in the order in which they
// are told.
var leftAlone = []decide.State{
	decide.Completed, decide.NotAccepted, decide.StateRejected, decide.Held, decide.Lacking,
	decide.AwaitingPerson, decide.NoLongerDue,
}

// maxNamed is how many changes of a state are named before a run.
const maxNamed = 12

// named names the changes that are left alone for a reason that the plan does
// not show.
func (c *program) named(out *show.Printer, r *desk.Run, state decide.State) {
	n := 0
	for i := range r.Plan.Changes {
		ch := &r.Plan.Changes[i]
		why := r.Why[ch.ID].Says
		if r.States[i] != state || state == decide.Held && why == "" || state != decide.Held && state != decide.NoLongerDue {
			continue
		}
		if n++; n > maxNamed {
			continue
		}
		if state == decide.NoLongerDue {
			out.Line("    " + words.Sentence(r.Plan, ch))
		} else {
			out.Linef("    %s: %s", words.Sentence(r.Plan, ch), why)
		}
	}
	if n > maxNamed {
		out.Line("    " + sayMore(n-maxNamed))
	}
}

// consent makes sure that someone wants the run: by an accepted plan, by --yes, or by an
// answer; and that whoever does knows how much of it cannot be undone.
func (c *program) consent(out *show.Printer, r *desk.Run, yes bool, counted int) error {
	forGood := r.ForGood()
	switch {
	case forGood > 0 && counted != forGood && (counted >= 0 || yes || !c.Terminal):
		return usage(sayCountForGood(forGood))
	case yes || forGood > 0 && counted == forGood:
		return nil
	case !c.Terminal && r.Accepted:
		return nil
	case !c.Terminal:
		return usage(sayNotAccepted(c.inEnv(r.Plan.ID)))
	}
	question, want := sayQuestion(), "yes"
	if forGood > 0 {
		question, want = sayHowMany(), strconv.Itoa(forGood)
	}
	if err := out.Err(); err != nil {
		return err
	}
	fmt.Fprint(c.Stderr, question)
	answer, err := c.answer()
	switch {
	case c.ctx.Err() != nil:
		fmt.Fprintln(c.Stderr)
		return sayInterrupted()
	case err != nil && answer == "":
		fmt.Fprintln(c.Stderr)
		return sayNoAnswer()
	case strings.TrimSpace(answer) != want:
		return sayNotConfirmed()
	}
	return nil
}

// answer reads a line of standard input, or gives up when the user interrupts.
func (c *program) answer() (string, error) {
	type line struct {
		text string
		err  error
	}
	read := make(chan line, 1)
	go func() {
		text, err := bufio.NewReader(c.Stdin).ReadString('\n')
		read <- line{text, err}
	}()
	select {
	case l := <-read:
		return l.text, l.err
	case <-c.ctx.Done():
		return "", c.ctx.Err()
	}
}

// sayNotAccepted is a plan that nobody accepted, where nobody can be asked.
func sayNotAccepted(plan string) error {
	return fmt.Errorf(
		"the plan is not accepted, and there is no terminal to ask on; accept it first with: pravet accept %s "+
			"--because 'why', or use --yes", plan,
	)
}

// sayNoAnswer is a question that was not answered.
func sayNoAnswer() error { return errors.New("there was no answer; nothing was changed") }

// sayNotConfirmed is an answer other than the one that was asked for.
func sayNotConfirmed() error { return errors.New("not confirmed; nothing was changed") }

// sayQuestion asks whether to carry out a plan.
func sayQuestion() string { return "Carry this out? Type yes: " }

// sayHowMany asks for the number of changes that cannot be undone.
func sayHowMany() string {
	return "Some of these changes cannot be undone. To carry out the plan, type how many: "
}

// sayCountForGood is a run that would do what cannot be undone, of which nobody has said how
// much that is.
func sayCountForGood(n int) error {
	return fmt.Errorf(
		"%s cannot be undone, and nothing was changed; add --yes-for-good %d, or reject what is not meant",
		model.Count(n, "change", "changes"), n,
	)
}
