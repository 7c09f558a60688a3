// Package ledger is the record of what happened: exports seen, plans drafted,
// decisions, runs and the outcome of every change. It is only ever appended
// to. Each entry carries the SHA-256 of the one before it, so that a changed,
// removed or inserted entry is found (Verify).
//
// Ledger is what the rest of the program knows of it. It is kept in SQLite, in the file
// .pravet/ledger.db of a repository, or, for a team, in PostgreSQL (Server).
//
// Secrets are never recorded; nothing that is recorded comes from one.
package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"pravet/internal/core/day"
	"pravet/internal/core/plain"
)

// A Ledger is the record of one repository. All methods may be called by
// several goroutines and several processes at a time.
type Ledger interface {
	Entries
	Leases
	Heads
	// Zone is where the organization is, which tells the days of entries.
	Zone() day.Zone
	// Shared reports whether others, on other machines, keep their record in the same ledger.
	Shared() bool
	Close() error
}

// Entries are what a ledger holds. A callback may call any method, Append among them: it sees
// the entries that were there when it began.
type Entries interface {
	// Append adds entries, all or none, in one transaction. Like Begin it fails with a *CutError
	// where entries are gone that were there before.
	Append(records ...Record) error
	// Begin records that a run begins, and gives it its name: "run-7" is the
	// seventh run of the repository. The name and the entry come from one
	// transaction, so that no two runs share a name.
	Begin(run Run) (name string, err error)
	// Scan calls f for the entries that a query asks for, in their order. An
	// error of f ends it and is returned; ErrStop ends it without an error.
	Scan(q Query, f func(*Entry) error) error
	// Last decodes the newest entry of a kind and a subject ("" for any) into
	// body; ok is false when there is none.
	Last(kind Kind, subject string, body any) (ok bool, err error)

	// Keep keeps what an export held, under its digest, once. It is no entry: the
	// digest in an entry proves it.
	Keep(k Kept) error
	// Kept is what was kept under a digest; ok is false where nothing was.
	Kept(digest string) (k Kept, ok bool, err error)
}

// Leases keep those apart who would do the same at the same time. A lease ends with the process that has it, however that ends.
type Leases interface {
	// Lease makes this process the only one that changes some applications; what says
	// what for. It takes all or none of them; the error is a *Leased when another process has one.
	Lease(apps []string, what string) (Lease, error)
	// Holder is who has the lease of one of the applications, of any where none is named; nil when nobody has.
	Holder(apps ...string) *Holder
	// Sending makes this process the only one that sends letters; it is no lease, and keeps no run waiting.
	// The error is a *Leased when another process sends some.
	Sending() (release func() error, err error)
	// Exclusive calls f while no other process is within Exclusive; it waits
	// for its turn. Whoever writes a file of the repository does so in it.
	Exclusive(f func() error) error
}

// A Lease is what this process alone may change.
type Lease interface {
	// Number is how often the lease of an application was taken, by anybody: whoever comes later has a greater one.
	// It is 0 where only processes of one machine can have it.
	Number(app string) int64
	// Holds makes sure that this process still has the lease of an application, before it goes on to change it: a machine
	// that slept, or was cut off from the record, may have lost it to another. The error is a *Lost then.
	Holds(app string) error
	// Append adds entries as Entries does, and makes sure in the same transaction that the leases of some applications last
	// (else a *Lost), and that nobody has added what unless asks for (else ErrOvertaken).
	Append(apps []string, unless *Query, records ...Record) error
	Release() error
}

// ErrOvertaken says that somebody else was faster; nothing was added.
var ErrOvertaken = errors.New("somebody else has added something meanwhile")

// Lost says that this process was away for too long.
type Lost struct {
	App string
	By  *Holder // who has taken its place; nil for nobody
}

func (l *Lost) Error() string {
	if l.By == nil {
		return fmt.Sprintf("the lease of %s ran out while nobody could renew it, so nothing more is changed there", l.App)
	}
	return fmt.Sprintf("the lease of %s ran out, and was taken by another (%s), so nothing more is changed there", l.App, l.By)
}

// Heads tell whether a ledger is what it was.
type Heads interface {
	// Head is the newest entry's number and hash; both are empty in a new ledger.
	Head() (Head, error)
	// At is the hash of the entry with a number; "" where there is none.
	At(seq int64) (hash string, err error)
	// Cut reports that entries which were there before are gone: an error of
	// type *CutError, or nil.
	Cut() error
	// Trust records the decision that it is right that they are gone.
	Trust(d Decision) error
	// Verify recomputes the whole chain, in O(entries).
	Verify() (*Verdict, error)
}

// Kept is what an export held: whole, where Base is "", or as it differs from what is
// kept under the digest Base. Depth is how many differences lie between it and one
// that is whole. Data is compressed by whoever keeps it.
type Kept struct {
	Digest, Base string
	Depth        int
	Data         []byte
}

// ErrStop ends a Scan.
var ErrStop = errors.New("enough")

// A Query says which entries are wanted: those that fit all that is set. Plan,
// Person and Change are looked up in an index.
type Query struct {
	Kinds   []Kind
	Subject string
	Plan    string // id of a plan
	Person  string // id of a person
	Change  string // id of a change
	After   int64  // only entries with greater numbers
	Others  string // a subject that is not wanted: what is of others
	Newest  bool   // the newest first
	Limit   int    // no more than so many; 0 for all
}

// A Kind is what an entry records.
type Kind string

// The kinds of entries and the bodies they carry.
const (
	ExportSeen  Kind = "export"   // Export; subject: application
	StoodSince  Kind = "stood"    // Stood; subject: application, or kit/NAME
	PlanDrafted Kind = "plan"     // Plan; subject: plan
	Decided     Kind = "decision" // Decision; subject: plan
	RunStarted  Kind = "run"      // Run; subject: run
	StepTaken   Kind = "step"     // Step; subject: run
	Outcome     Kind = "outcome"  // ChangeOutcome; subject: run
	RunEnded    Kind = "run-end"  // RunEnd; subject: run
	LetterSent  Kind = "letter"   // Letter; subject: to whom
	MovedTo     Kind = "moved"    // Moved: the last entry of a ledger that is kept elsewhere from then on
)

// An Entry is one record.
type Entry struct {
	Seq     int64           `json:"seq"`
	At      string          `json:"at"` // RFC 3339, UTC
	By      string          `json:"by"` // who acted
	Kind    Kind            `json:"kind"`
	Subject string          `json:"subject"`
	Body    json.RawMessage `json:"body"`
	Prev    string          `json:"prev"` // hash of the entry before, 64 zeros for the first
	Hash    string          `json:"hash"`
}

var zero = hex.EncodeToString(make([]byte, sha256.Size))

// Line is what the hash of an entry is of: the hash before it and the entry's fields as a JSON list.
func (e *Entry) Line() string {
	fields, err := json.Marshal(
		[]string{e.Prev, fmt.Sprint(e.Seq), e.At, e.By, string(e.Kind), e.Subject, string(e.Body)},
	)
	if err != nil {
		panic(err) // strings always marshal
	}
	return string(fields)
}

// sum is the hash of an entry: SHA-256 over its line.
func (e *Entry) sum() string {
	s := sha256.Sum256([]byte(e.Line()))
	return hex.EncodeToString(s[:])
}

// chain makes entries of records, each upon the one before; the first comes after the head. It tells also what they can
// be found by.
func (o *Options) chain(head Head, records []Record) (entries []Entry, about []aboutRow, err error) {
	e := Entry{Seq: head.Seq, Hash: head.Hash}
	if e.Seq == 0 {
		e.Hash = zero
	}
	at := o.Now().UTC().Format(time.RFC3339)
	for _, r := range records {
		body, err := json.Marshal(r.Body)
		if err != nil {
			return nil, nil, err
		}
		e = Entry{Seq: e.Seq + 1, At: at, By: o.By, Kind: r.Kind, Subject: r.Subject, Body: body, Prev: e.Hash}
		e.Hash = e.sum()
		entries, about = append(entries, e), r.Body.About().rows(e.Seq, about)
	}
	return entries, about, nil
}

// nextRun gives a run the name after that of the newest one, "" for none.
func nextRun(newest string) (string, error) {
	n := 0
	if newest != "" {
		if _, err := fmt.Sscanf(newest, "run-%d", &n); err != nil {
			return "", fmt.Errorf("the newest run has the name %q", newest)
		}
	}
	return fmt.Sprintf("run-%d", n+1), nil
}

// A Record is what to append.
type Record struct {
	Kind    Kind
	Subject string
	Body    Body
}

// A Head is the newest entry of a ledger.
type Head struct {
	Seq  int64  `json:"seq"`
	Hash string `json:"hash"`
}

// A Holder is who has a lease, as far as is known.
type Holder struct {
	PID     int    `json:"pid"`
	Machine string `json:"machine,omitempty"` // "" for this one
	By      string `json:"by"`
	Since   string `json:"since"` // RFC 3339, UTC
	What    string `json:"what"`
	App     string `json:"app,omitempty"` // one of which it is
}

func (h *Holder) String() string {
	switch {
	case h.By == "":
		return "another process carries out a plan in this repository"
	case h.Machine != "":
		return fmt.Sprintf(
			"%s is at work in %s since %s (%s, process %d on %s)", h.By, h.App, h.Since, h.What, h.PID, h.Machine,
		)
	case h.App == "":
		return fmt.Sprintf("%s is at work since %s (%s, process %d)", h.By, h.Since, h.What, h.PID)
	}
	return fmt.Sprintf("%s is at work in %s since %s (%s, process %d)", h.By, h.App, h.Since, h.What, h.PID)
}

// Leased says that another process has the lease.
type Leased struct{ Holder *Holder }

func (e *Leased) Error() string { return e.Holder.String() + "; wait until it is done" }

// A CutError says that entries were taken away at the end of the ledger.
type CutError struct {
	Path  string
	Known Head // the newest entry that was there once
	Is    Head // the newest entry now
}

func (e *CutError) Error() string {
	return fmt.Sprintf(
		"%s: entry %d, which was the newest once, is not in the ledger any more, which ends with entry %d: "+
			"entries were taken away. "+
			"Put the whole ledger back; or, where you know why it is so, go on with: pravet log trust",
		e.Path,
		e.Known.Seq,
		e.Is.Seq,
	)
}

// A Changed says that an entry is not as it was written.
type Changed struct {
	Path  string
	Entry *Entry
}

func (e *Changed) Error() string {
	return fmt.Sprintf(
		"%s: entry %d of the ledger was changed after it was written (%s %s, by %s at %s); see: pravet log verify",
		e.Path,
		e.Entry.Seq,
		e.Entry.Kind,
		e.Entry.Subject,
		e.Entry.By,
		e.Entry.At,
	)
}

// A Verdict is what Verify found.
type Verdict struct {
	Entries int64
	Head    string // hash of the last entry
	Broken  int64  // the first entry that does not fit, or 0
	Says    string // what is wrong with it
}

// Verify recomputes the whole chain and names the first entry that does not
// fit. It finds every change to an entry, and entries that were taken away or
// put in. Whoever rewrites the whole chain can only be found by the head that
// was noted elsewhere before. all calls back with every entry in order,
// unchecked.
func verify(all func(func(*Entry) error) error, head func() (Head, error)) (*Verdict, error) {
	v := &Verdict{Head: zero}
	err := all(func(e *Entry) error {
		switch {
		case e.Seq != v.Entries+1:
			v.Broken, v.Says = v.Entries+1, fmt.Sprintf(
				"entry %d is missing; after entry %d comes entry %d",
				v.Entries+1,
				v.Entries,
				e.Seq,
			)
		case e.Prev != v.Head:
			v.Broken, v.Says = e.Seq, fmt.Sprintf("entry %d does not follow from entry %d", e.Seq, v.Entries)
		case e.sum() != e.Hash:
			v.Broken, v.Says = e.Seq, fmt.Sprintf(
				"entry %d was changed after it was written (%s %s, by %s at %s)",
				e.Seq,
				e.Kind,
				e.Subject,
				e.By,
				e.At,
			)
		}
		if v.Broken != 0 {
			return ErrStop
		}
		v.Entries, v.Head = e.Seq, e.Hash
		return nil
	})
	if err != nil || v.Broken != 0 {
		return v, err
	}
	h, err := head()
	if err != nil {
		return v, err
	}
	if h.Seq > 0 && (h.Seq != v.Entries || h.Hash != v.Head) {
		v.Broken, v.Says = v.Entries+1, fmt.Sprintf(
			"entry %d is missing: entries were taken away at the end, where %d were written",
			v.Entries+1,
			h.Seq,
		)
	}
	return v, nil
}

// Decode reads an entry's body.
func Decode[T Body](e *Entry) (T, error) {
	var v T
	if err := json.Unmarshal(e.Body, &v); err != nil {
		return v, fmt.Errorf(
			"entry %d of the ledger cannot be read: %w; check it with: pravet log verify", e.Seq, plain.JSON(err),
		)
	}
	return v, nil
}

// Who leaves out the address behind a name; JSON has it.
func Who(by string) string {
	name, _, _ := strings.Cut(by, " <")
	return name
}

// Newest is when the newest entry was made; the zero time where there is none.
func Newest(l Ledger) (at time.Time, err error) {
	err = l.Scan(Query{Newest: true, Limit: 1}, func(e *Entry) error {
		if at, err = time.Parse(time.RFC3339, e.At); err != nil {
			return fmt.Errorf("entry %d of the ledger has no time: %w", e.Seq, err)
		}
		return ErrStop
	})
	return at, err
}

// Latest is a day, or that of the newest entry where it is later: a clock that is behind makes nothing count that has
// ended.
func Latest(l Ledger, today day.Day) (day.Day, error) {
	at, err := Newest(l)
	if err != nil || at.IsZero() {
		return today, err
	}
	return max(today, l.Zone().Day(at)), nil
}
