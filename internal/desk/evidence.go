package desk

import (
	"bytes"
	"errors"

	"pravet/internal/core/day"
	"pravet/internal/evidence"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// Evidence writes an archive of what is on record from a day to another, for somebody who trusts nobody's word.
func (d *Desk) Evidence(fromText, toText, file string, pseudonyms bool) (*evidence.Summary, error) {
	repo, err := d.Whole()
	if err != nil {
		return nil, err
	}
	from, err := dayIn("from", fromText, day.None)
	if err != nil {
		return nil, err
	}
	to, err := dayIn("to", toText, d.today)
	if err != nil {
		return nil, err
	}
	if from == day.None || to < from {
		return nil, wrongIn("from", sayWhichDays())
	}
	l, err := d.proven()
	if err != nil {
		return nil, err
	}
	var packed bytes.Buffer
	out, err := evidence.Write(d.ctx, &packed, evidence.Input{
		Ledger: l, Repo: repo, From: from, To: to, Pseudonyms: pseudonyms, Plan: func(id string) []byte { return prepare.PlanFile(l, d.Dir, id) },
	})
	if err != nil {
		return nil, err
	}
	return out, source.WriteFile(d.path(file), &packed, 0o600)
}

// sayWhichDays is an archive of no time.
func sayWhichDays() error {
	return errors.New("say from which day, and to which: --from 2026-11-01 --to 2026-11-30")
}
