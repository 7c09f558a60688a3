package ledger

import "pravet/internal/core/plan"

// Export is an export that was read for a plan.
type Export struct {
	App      string `json:"app"`
	Digest   string `json:"digest"`
	TakenAt  string `json:"takenAt"`
	Accounts int    `json:"accounts"`
	Suspect  bool   `json:"suspect,omitempty"` // shrunken or empty: no measure for the next one
}

// Plan is a plan that was drafted.
type Plan struct {
	Plan     string      `json:"plan"`
	Digest   string      `json:"digest"`
	File     string      `json:"file"`
	AsOf     string      `json:"asOf"`
	Revision string      `json:"revision"`
	Desired  string      `json:"desired"`
	People   int         `json:"people"`
	Suspect  bool        `json:"suspect,omitempty"` // the roster had shrunk: no measure for the next one
	Whole    bool        `json:"whole"`             // not limited to some applications or people
	SetAside int         `json:"setAside"`
	Totals   plan.Totals `json:"totals"`
}

// Decision is an accept, a reject or a lift.
type Decision struct {
	Plan     string   `json:"plan"`
	Verdict  string   `json:"verdict"` // accept, reject, lift
	All      bool     `json:"all"`     // the whole plan
	Changes  []string `json:"changes,omitempty"`
	Along    []string `json:"along,omitempty"` // decided along with them, as one needs the other
	Guards   []string `json:"guards,omitempty"`
	Until    string   `json:"until,omitempty"`
	Because  string   `json:"because"`
	Standing bool     `json:"standing,omitempty"` // written to standing.yaml
}

// Run is the beginning of a carrying-out.
type Run struct {
	Run     string `json:"run"`
	Plan    string `json:"plan"`
	Digest  string `json:"digest"`
	People  int    `json:"people"`
	Changes int    `json:"changes"` // to be carried out
}

// Step is written before an application's file is replaced, so that an
// interrupted run can be continued.
type Step struct {
	Run     string     `json:"run"`
	Plan    string     `json:"plan"`
	App     string     `json:"app"`
	Files   []StepFile `json:"files"`
	Changes []string   `json:"changes"`
}

// StepFile says which content a file has before a step and after it.
type StepFile struct {
	Path   string `json:"path"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// ChangeOutcome is what became of one change, as read back from the
// application.
type ChangeOutcome struct {
	Run     string `json:"run"`
	Plan    string `json:"plan"`
	App     string `json:"app"`
	Change  string `json:"change"`
	What    string `json:"what"`
	Settled bool   `json:"settled"`
	Says    string `json:"says,omitempty"`
}

// RunEnd is the end of a run.
type RunEnd struct {
	Run        string `json:"run"`
	Plan       string `json:"plan"`
	Settled    int    `json:"settled"`
	NotSettled int    `json:"notSettled"`
	Held       int    `json:"held"`
	Left       int    `json:"left"` // not accepted, rejected, or lacking what they need
	Error      string `json:"error,omitempty"`
}
