package decisions

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// A decision can travel as a small text file: by mail, by chat, in Git. It has the statement as it is signed, and the
// signature; both can be handed to ssh-keygen as they stand there.

// sheetTitle begins each decision of such a file.
const sheetTitle = "Pravet decision, form 1"

const (
	sigBegin = "-----BEGIN SSH SIGNATURE-----"
	sigEnd   = "-----END SSH SIGNATURE-----"
)

// MaxSheet is how long a file of decisions may be, in bytes.
const MaxSheet = 16 << 20

// sheet writes a decision as text; it is signed already, where somebody signs.
func (m *Maker) sheet(b *bytes.Buffer, d ledger.Decision) error {
	message, signature := "", ""
	if d.Signed != nil {
		message, signature = d.Signed.Message, d.Signed.Signature
	} else {
		s := Statement{
			Organization: m.Repo.Organization, Environment: m.Repo.Here(), Day: m.Today.String(), By: m.By, Decision: d,
		}
		data, err := s.Message()
		if err != nil {
			return err
		}
		message = string(data)
	}
	fmt.Fprintf(b, "%s\n%s", sheetTitle, message)
	if signature != "" {
		b.WriteString(strings.TrimRight(signature, "\n") + "\n")
	}
	return nil
}

// A Taken is a decision that was read from a file.
type Taken struct {
	Decision ledger.Decision
	By       string // the person who made it, by the signature or by name
	Signed   bool
	Again    bool // it is on record already, and was not recorded once more
}

// Bare reports whether a file is a statement alone, as a page writes it: without a title, its signature in a file beside it.
func Bare(data []byte) bool { return bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) }

// Sheet is the text of a decision that came as a statement and a signature, which is empty where there is none.
func Sheet(statement, signature []byte) []byte {
	text := sheetTitle + "\n" + strings.TrimRight(strings.ReplaceAll(string(statement), "\r\n", "\n"), "\n") + "\n"
	return append([]byte(text), signature...)
}

// ReadSheet reads the decisions of a file, unproved.
func ReadSheet(data []byte) (out []ledger.Decision, by []string, err error) {
	text := strings.ReplaceAll(string(data), "\r\n", "\n")
	parts := strings.Split("\n"+text, "\n"+sheetTitle+"\n")
	if len(parts) < 2 || strings.TrimSpace(parts[0]) != "" {
		return nil, nil, sayNoSheet()
	}
	for i, part := range parts[1:] {
		message, signature, signed := strings.Cut(part, sigBegin)
		message = strings.TrimRight(message, "\n") + "\n"
		var s Statement
		dec := json.NewDecoder(strings.NewReader(message))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&s); err != nil {
			return nil, nil, fmt.Errorf("decision %d of the file cannot be read: %w", i+1, err)
		}
		d := s.Decision
		if d.Signed != nil || d.Of != "" {
			return nil, nil, fmt.Errorf("decision %d of the file cannot be read: it says who signed it within what is signed", i+1)
		}
		if signed {
			body, _, whole := strings.Cut(signature, sigEnd)
			if !whole {
				return nil, nil, fmt.Errorf("the signature of decision %d is cut off", i+1)
			}
			d.Signed = &ledger.Signature{Message: message, Signature: sigBegin + body + sigEnd + "\n"}
		}
		out, by = append(out, d), append(by, s.By)
	}
	return out, by, nil
}

// Take proves the decisions of a file and puts those on record that are not there yet, all or none. Its plans must be on
// record.
func Take(l ledger.Ledger, repo *desired.Repo, today day.Day, data []byte) (out []Taken, err error) {
	all, by, err := ReadSheet(data)
	if err != nil {
		return nil, err
	}
	bench := (&Bench{repo: repo}).on(today)
	known := map[string]bool{}
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Decided}}, func(e *ledger.Entry) error {
		d, err := ledger.Decode[ledger.Decision](e)
		known[mark(&d)] = true
		return err
	})
	var records []ledger.Record
	for i := range all {
		if err != nil {
			return nil, err
		}
		d := all[i]
		if err := drafts(l, &d); err != nil {
			return nil, err
		}
		x := Taken{By: by[i], Signed: d.Signed != nil}
		if d.Signed == nil {
			if err := unsigned(repo, &d, by[i]); err != nil {
				return nil, err
			}
			d.Of = by[i]
		}
		x.Decision, x.Again = d, known[mark(&d)]
		if !x.Again {
			person, no, err := bench.Counts(l, &ledger.Entry{By: by[i]}, &d)
			if err != nil {
				return nil, err
			}
			if no != nil {
				return nil, fmt.Errorf("decision %d of the file counts for nothing, and was not recorded: %w", i+1, no)
			}
			x.By, known[mark(&d)] = person, true
			records = append(records, ledger.Record{Kind: ledger.Decided, Subject: d.Plan, Body: d})
		}
		out = append(out, x)
	}
	if err == nil {
		err = l.Append(records...)
	}
	return out, err
}

// mark is what a decision is known by, so that it is recorded once.
func mark(d *ledger.Decision) string {
	if d.Signed != nil {
		return d.Signed.Signature
	}
	data, err := json.Marshal(d)
	if err != nil {
		return ""
	}
	return string(data)
}

// drafts makes sure that a decision is about a plan that is on record, as it is there.
func drafts(l ledger.Ledger, d *ledger.Decision) error {
	var p ledger.Plan
	ok, err := l.Last(ledger.PlanDrafted, d.Plan, &p)
	switch {
	case err != nil:
		return err
	case !ok:
		return sayPlanUnknown(d.Plan)
	case p.Digest != d.Digest:
		return sayPlanOtherwise(d.Plan)
	}
	return nil
}

// unsigned makes sure that a decision may be taken that nobody has signed.
func unsigned(repo *desired.Repo, d *ledger.Decision, by string) error {
	if repo.Signing != nil && repo.Signing.Required {
		return sayUnsigned()
	}
	if d.Unattended || by == "" {
		return sayNoStatement()
	}
	return nil
}

// sayNoSheet is a file that is no decision.
func sayNoSheet() error {
	return errors.New("this is no file of decisions, as accept and reject write them with --out")
}

// sayPlanUnknown is a decision about a plan that is not on record here.
func sayPlanUnknown(plan string) error {
	return fmt.Errorf("plan %s is not on record here; take it first, as a file or by drafting it, and then the decision", plan)
}

// sayPlanOtherwise is a decision about another plan with the same id.
func sayPlanOtherwise(plan string) error {
	return fmt.Errorf("plan %s is another one here than the one that was decided about; nothing was recorded", plan)
}
