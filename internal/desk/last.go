package desk

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// lastDraft is what was drafted last in this clone, and by whichever terminal: a plan that is the same as an older one is not
// put on record again, and a draft that failed is not at all.
type lastDraft struct {
	Plan   string `json:"plan,omitempty"`
	Failed string `json:"failed,omitempty"` // why a later draft came to nothing; "" where none has
	At     string `json:"at,omitempty"`     // when it failed, RFC 3339
}

func (d *Desk) lastFile() string {
	name := "drafted.json"
	if d.Environment != "" {
		name = "drafted-" + d.Environment + ".json"
	}
	return filepath.Join(d.Dir, ".pravet", name)
}

func (d *Desk) readLast() (x lastDraft) {
	data, err := source.ReadFile(d.lastFile(), ".pravet", 1<<16)
	if err != nil || json.Unmarshal(data, &x) != nil {
		return lastDraft{}
	}
	return x
}

// noteLast notes what was drafted last. It is only a convenience: where it cannot be written, the record tells.
func (d *Desk) noteLast(x lastDraft) {
	if _, err := os.Stat(filepath.Dir(d.lastFile())); d.Dir == "" || err != nil {
		return
	}
	if data, err := json.Marshal(x); err == nil {
		_ = source.WriteFile(d.lastFile(), bytes.NewReader(data), 0o600)
	}
}

// failed notes that a draft came to nothing, where it did.
func (d *Desk) failed(err error) error {
	if err != nil && d.ctx.Err() == nil {
		x := d.readLast()
		x.Failed, x.At = d.secrets.Clean(err.Error()), d.Now().UTC().Format("2006-01-02T15:04:05Z")
		d.noteLast(x)
	}
	return err
}

// Last is the plan that was drafted last in this clone and is still there, else the newest on record; with why a draft after it
// came to nothing, "" where none has.
func (d *Desk) Last() (id, failed string, err error) {
	x := d.readLast()
	if x.Failed != "" {
		failed = sayDraftFailed(d.zone.MinuteOf(x.At), x.Failed)
	}
	if x.Plan != "" {
		l, err := d.Book()
		if err != nil {
			return "", "", err
		}
		known := false
		err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Subject: x.Plan}, func(*ledger.Entry) error {
			known = true
			return ledger.ErrStop
		})
		if err != nil {
			return "", "", err
		}
		_, err = prepare.FindPlan(d.Dir, d.Dir, x.Plan)
		if no := (*prepare.NoPlan)(nil); known && err == nil {
			return x.Plan, failed, nil
		} else if err != nil && !errors.As(err, &no) {
			return "", "", err
		}
	}
	id, err = d.Newest()
	return id, failed, err
}

// Named is the plan that is named first or, where none is, what Last says.
func (d *Desk) Named(names []string) (p *plan.Plan, failed string, err error) {
	if len(names) > 0 {
		p, err = d.Plan(names[0])
		return p, "", err
	}
	id, failed, err := d.Last()
	if err == nil {
		p, err = d.Plan(id)
	}
	return p, failed, err
}

// sayDraftFailed is a draft that came to nothing, after the plan that is shown.
func sayDraftFailed(at, why string) string {
	return fmt.Sprintf("The draft of %s failed, so this is the plan from before it: %s", at, why)
}
