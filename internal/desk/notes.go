package desk

import (
	"encoding/json"
	"fmt"
	"time"

	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/signing"
)

// A note is the newest entry of a record, as Git keeps it for every clone: what was noted once must be in the record for ever,
// and no command says otherwise.
type note struct {
	Environment string `json:"environment,omitempty"` // "" for the usual one
	Seq         int64  `json:"seq"`
	Hash        string `json:"hash"`
	By          string `json:"by"`
	At          string `json:"at"`                  // RFC 3339, UTC
	Signature   string `json:"signature,omitempty"` // of all this without it, where somebody signs
}

// message is what of a note is signed.
func (n note) message() ([]byte, error) {
	n.Signature = ""
	return json.Marshal(n)
}

// notes reports whether the files ask for notes.
func (d *Desk) notes() bool { return d.early.Signing != nil && d.early.Signing.Notes }

// note notes the newest entry in Git.
func (d *Desk) note(l ledger.Ledger) error {
	if !d.notes() {
		return nil
	}
	head, err := l.Head()
	if err != nil || head.Seq == 0 {
		return err
	}
	n := note{
		Environment: d.Environment, Seq: head.Seq, Hash: head.Hash, By: ledger.Who(d.Actor()), At: d.Now().UTC().Format(time.RFC3339),
	}
	message, err := n.message()
	if err == nil {
		n.Signature, err = d.signer().Message(d.ctx, message)
	}
	var line []byte
	if err == nil {
		line, err = json.Marshal(n)
	}
	if err == nil {
		err = l.Exclusive(func() error { return gitrepo.AddNote(d.Dir, string(line)) })
	}
	if err != nil {
		d.Ear.Log(sayNotNoted(head.Seq, err))
	}
	return nil // what was done is on record; the next one is noted instead
}

// noted makes sure that whatever was noted in Git is in the record.
func (d *Desk) noted(l ledger.Ledger) error {
	if !d.notes() {
		return nil
	}
	lines, err := gitrepo.Notes(d.Dir)
	if err != nil {
		return err
	}
	for _, line := range lines {
		var n note
		if json.Unmarshal([]byte(line), &n) != nil || n.Seq <= 0 {
			return sayBadNote(line)
		}
		if n.Environment != d.Environment {
			continue
		}
		if err := d.provenNote(&n); err != nil {
			return err
		}
		hash, err := l.At(n.Seq)
		if err != nil {
			return err
		}
		if hash != n.Hash {
			return sayNotAsNoted(&n)
		}
	}
	return nil
}

// provenNote makes sure that a note that is signed is so.
func (d *Desk) provenNote(n *note) error {
	if n.Signature == "" {
		return nil
	}
	message, err := n.message()
	if err == nil {
		_, err = signing.Prove(message, n.Signature)
	}
	if err != nil {
		return sayNoteNotProved(n, err)
	}
	return nil
}

// sayNoteNotProved is a note that was changed after it was signed.
func sayNoteNotProved(n *note, err error) error {
	return fmt.Errorf("the note in Git of entry %d of the record (by %s, %s) is not as it was signed: %w", n.Seq, n.By, n.At, err)
}

// sayNotNoted is a head that could not be noted.
func sayNotNoted(seq int64, err error) string {
	return fmt.Sprintf("entry %d of the record was not noted in Git: %s; the next decision or run notes a later one", seq, err)
}

// sayBadNote is a note that is none of ours.
func sayBadNote(line string) error {
	return fmt.Errorf("the notes of the record in Git (refs/notes/pravet) have a line that is no entry: %.60q; take it out with: git notes --ref=pravet edit", line)
}

// sayNotAsNoted is a record that lacks what Git has noted of it.
func sayNotAsNoted(n *note) error {
	return fmt.Errorf(
		"entry %d of the record was noted in Git (by %s, %s), and the record does not hold it as it was: it was cut, replaced or put "+
			"back from before that. Put the whole record back; no command makes it good", n.Seq, n.By, n.At,
	)
}
