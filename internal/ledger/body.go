package ledger

import (
	"cmp"
	"encoding/json"

	"pravet/internal/core/plan"
)

// A Body is what an entry says. About names what it can be found by.
type Body interface{ About() About }

// About is what an entry can be found by: the ids of a plan, of changes, and of
// people.
type About struct {
	Plan    string
	Changes []string
	People  []string
}

// Export is an export that was read for a plan.
type Export struct {
	App      string `json:"app"`
	Digest   string `json:"digest"`
	TakenAt  string `json:"takenAt"`
	Accounts int    `json:"accounts"`
	Suspect  bool   `json:"suspect,omitempty"` // shrunken or empty: no measure for the next one
	Held     string `json:"held,omitempty"`    // digest under which it is kept what it held
	Fetched  bool   `json:"fetched,omitempty"` // from a live application
	After    string `json:"after,omitempty"`   // the run after whose step it was read back: it is of that moment
}

// About of an export is nothing but its application, the entry's subject.
func (Export) About() About { return About{} }

// Stood is what began to be so about accounts of an application that are on their way out,
// or of nobody, and what is so no more, as it was seen on the day of the entry.
type Stood struct {
	App  string  `json:"app,omitempty"`
	Kit  string  `json:"kit,omitempty"` // of who holds a kit that lingers, instead of App
	Came []Marks `json:"came,omitempty"`
	Went []Marks `json:"went,omitempty"`
}

// Marks are accounts that are upon a path (Step is ""), or of which one of its steps is
// done; Path is "" for accounts of nobody that are blocked, for those that are removed, and
// for invitations. Of a kit, People hold it or keep what it gave: they may be many, and one text is
// read faster than many.
type Marks struct {
	Path     string   `json:"path,omitempty"`
	Step     string   `json:"step,omitempty"`
	Accounts []string `json:"accounts,omitempty"`
	People   string   `json:"people,omitempty"` // of a kit, ids of people instead, each with a line end after it
}

// The steps of marks about people and kits: who holds one other than by name, and who
// keeps for a while what one gave.
const (
	Holds   = "held"
	Lingers = "lingers"
)

// About of what stood is nothing but its application, the entry's subject.
func (Stood) About() About { return About{} }

// Plan is a plan that was drafted.
type Plan struct {
	Plan        string      `json:"plan"`
	Digest      string      `json:"digest"`
	File        string      `json:"file"`
	AsOf        string      `json:"asOf"`
	Revision    string      `json:"revision"`
	Desired     string      `json:"desired"`
	Environment string      `json:"environment,omitempty"` // "" for the usual one
	People      int         `json:"people"`
	Suspect     bool        `json:"suspect,omitempty"` // the roster had shrunk: no measure for the next one
	Whole       bool        `json:"whole"`             // not limited to some applications or people
	SetAside    int         `json:"setAside"`
	Undoes      string      `json:"undoes,omitempty"`  // the run that it is the back-out of
	Decides     bool        `json:"decides,omitempty"` // its files say who decides, or how that is proved
	Totals      plan.Totals `json:"totals"`
}

// About of a plan is the plan.
func (p Plan) About() About { return About{Plan: p.Plan} }

// Decision is an accept, a reject or a lift.
type Decision struct {
	Plan     string   `json:"plan,omitempty"`
	Digest   string   `json:"digest,omitempty"`  // the plan's
	Verdict  string   `json:"verdict"`           // accept, reject, lift; trust, of a ledger that was cut off
	All      bool     `json:"all"`               // the whole plan
	ForGood  bool     `json:"forGood,omitempty"` // with what cannot be undone
	Changes  []string `json:"changes,omitempty"`
	What     []string `json:"what,omitempty"`   // of each of Changes, in words
	Marks    []string `json:"marks,omitempty"`  // of each of Changes, what it meant; see plan.Plan.Meaning
	People   []string `json:"people,omitempty"` // whom Changes are about, each once
	Things   []string `json:"things,omitempty"` // which things or accounts, as APPLICATION/KIND/NAME, each once
	Along    []string `json:"along,omitempty"`  // decided along with them, as one needs the other
	Guards   []string `json:"guards,omitempty"`
	Until    string   `json:"until,omitempty"`
	Because  string   `json:"because"`
	Standing bool     `json:"standing,omitempty"` // to be written to standing.yaml

	Of     string     `json:"of,omitempty"`     // who decided, where somebody else put it on record, unsigned
	Signed *Signature `json:"signed,omitempty"` // by whoever decided; nil where nobody signs

	Unattended bool `json:"unattended,omitempty"` // accepted by the rule for runs with nobody there: for this plan only

	AtRun bool `json:"atRun,omitempty"` // asked for when a part was carried out, of just that part: it says nothing about the rest

	// More are decisions about the same plan that were made together with this one: recorded as a whole, and signed once. They
	// leave out Plan, Digest, Of, Signed and More, which are those of this one.
	More []Decision `json:"more,omitempty"`
}

// Parts are the decisions that were made together, this one first.
func (d *Decision) Parts() []Decision {
	first := *d
	first.More = nil
	out := append(make([]Decision, 0, 1+len(d.More)), first)
	for _, x := range d.More {
		x.Plan, x.Digest, x.Of, x.Signed, x.More = d.Plan, d.Digest, d.Of, d.Signed, nil
		out = append(out, x)
	}
	return out
}

// Together makes one decision of several about the same plan; nil of none.
func Together(all []Decision) *Decision {
	if len(all) == 0 {
		return nil
	}
	first := all[0]
	for _, x := range all[1:] {
		x.Plan, x.Digest = "", ""
		first.More = append(first.More, x)
	}
	return &first
}

// Maker is whose decision it is: who signed it, by what was signed; who wrote it in a file that somebody else took; else who
// put it on record. Whether a signature holds is for whoever counts it.
func (d *Decision) Maker(recorded string) string {
	var s struct{ By string }
	if d.Signed != nil && json.Unmarshal([]byte(d.Signed.Message), &s) == nil && s.By != "" {
		return s.By
	}
	return cmp.Or(d.Of, recorded)
}

// A Signature proves a decision: a message, which says the same as the decision and more, and an armored signature of it, as
// OpenSSH makes them.
type Signature struct {
	Message   string `json:"message"`
	Signature string `json:"signature"`
}

// About of a decision is what was decided, with what goes along.
func (d Decision) About() About {
	out := About{Plan: d.Plan}
	people := map[string]bool{}
	for _, x := range d.Parts() {
		out.Changes = append(append(out.Changes, x.Changes...), x.Along...)
		for _, id := range x.People {
			if !people[id] {
				people[id] = true
				out.People = append(out.People, id)
			}
		}
	}
	return out
}

// Run is the beginning of a carrying-out.
type Run struct {
	Run     string `json:"run"`
	Plan    string `json:"plan"`
	Digest  string `json:"digest"`
	People  int    `json:"people"`  // whom the files name; 0 where that is suspiciously few
	Changes int    `json:"changes"` // to be carried out
	// Open are runs whose books were still open when this one began.
	Open []string `json:"open,omitempty"`
	Apps []string `json:"apps,omitempty"` // of which it has the leases until it ends
}

// About of a run is its plan.
func (r Run) About() About { return About{Plan: r.Plan} }

// Step is written before an application is changed, so that an interrupted run
// can be settled.
type Step struct {
	Run     string   `json:"run"`
	Plan    string   `json:"plan"`
	App     string   `json:"app"`
	Changes []string `json:"changes"`
	People  []string `json:"people,omitempty"`
	// Journal is the application's own note of what it is about to do.
	Journal json.RawMessage `json:"journal,omitempty"`
	After   string          `json:"after,omitempty"` // the application's mark once it is done
	// Lease is the number of the lease under which the step is taken, 0 where only one machine can take it: in a record that
	// others share, a step of a lease that has ended is refused.
	Lease int64 `json:"lease,omitempty"`
}

// About of a step is its changes.
func (s Step) About() About { return About{Plan: s.Plan, Changes: s.Changes, People: s.People} }

// ChangeOutcome is what became of one change, as read back from the
// application.
type ChangeOutcome struct {
	Run     string `json:"run"`
	Plan    string `json:"plan"`
	App     string `json:"app"`
	Change  string `json:"change"`
	Account string `json:"account,omitempty"`
	Person  string `json:"person,omitempty"`
	What    string `json:"what"`
	Verb    string `json:"verb,omitempty"`
	Thing   string `json:"thing,omitempty"`   // APPLICATION/KIND/NAME
	Does    string `json:"does,omitempty"`    // what the change does, the same in each environment; see plan.Change.Does
	Touches string `json:"touches,omitempty"` // and to what; see plan.Change.Touches
	Settled bool   `json:"settled"`
	Result  Result `json:"result,omitempty"`
	Says    string `json:"says,omitempty"`
	Mark    string `json:"mark,omitempty"` // of one that waits: the application's, as it was then
}

// A Result is what became of a change that is not settled.
type Result string

// The results. A change that is settled was done.
const (
	Done     Result = "done"
	Refused  Result = "refused"   // the application said no
	Conflict Result = "conflict"  // somebody else had changed the same
	Failed   Result = "failed"    // it could not be sent, or was not taken
	Unknown  Result = "unknown"   // it was sent, and nobody knows what became of it
	Ignored  Result = "ignored"   // the application said yes and did nothing
	NotYet   Result = "not yet"   // the application said yes, and does not show it yet
	NotBegun Result = "not begun" // the run ended before
	Waiting  Result = "waiting"   // somebody else is to carry it out
)

// About of an outcome is its change.
func (o ChangeOutcome) About() About {
	a := About{Plan: o.Plan, Changes: []string{o.Change}}
	if o.Person != "" {
		a.People = []string{o.Person}
	}
	return a
}

// RunEnd is the end of a run.
type RunEnd struct {
	Run        string `json:"run"`
	Plan       string `json:"plan"`
	Settled    int    `json:"settled"`
	NotSettled int    `json:"notSettled"`
	Held       int    `json:"held"`
	Left       int    `json:"left"`              // not accepted, rejected, or lacking what they need
	Waiting    int    `json:"waiting,omitempty"` // for somebody to carry them out
	Error      string `json:"error,omitempty"`   // that stopped it
	After      string `json:"after,omitempty"`   // what went wrong once all was done
	// Marks are those of live applications as they were fetched at the end of the run.
	Marks map[string]string `json:"marks,omitempty"`
	// Beside is what else changed in them while it ran, in words.
	Beside []string `json:"beside,omitempty"`
}

// About of a run's end is its plan.
func (r RunEnd) About() About { return About{Plan: r.Plan} }

// Letter is what is about to be told to somebody, or what became of that.
type Letter struct {
	ID    string   `json:"id"`
	To    string   `json:"to"`
	Way   string   `json:"way"`
	Keys  []string `json:"keys,omitempty"` // what it tells; where it begins
	State string   `json:"state"`
	File  string   `json:"file,omitempty"` // which stood ready beside its place before it began
	Says  string   `json:"says,omitempty"` // why it did not arrive, or may not have
}

// The states of a letter.
const (
	LetterBegun   = "sending" // and nobody knows yet what became of it
	LetterArrived = "sent"
	LetterRefused = "refused" // it certainly did not arrive
	LetterUnknown = "unknown" // it may have arrived
)

// About of a letter is nothing that a query asks for.
func (Letter) About() About { return About{} }

// Moved says where a record is kept from then on. It is the last entry of the ledger that it left, and one among others
// of the one that it came to.
type Moved struct {
	To    string `json:"to"`    // InFile, or the id that a database gave its record
	Where string `json:"where"` // in words
}

// InFile is what a record in a file of the repository is known by.
const InFile = "file"

// About of a move is nothing that a query asks for.
func (Moved) About() About { return About{} }
