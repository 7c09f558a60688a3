// Package plan is the plan as a value and as a file: ordered changes with
// their reasons, in canonical JSON (RFC 8785) under a SHA-256 digest. A plan
// never changes once it is drafted; what people decide about it is kept
// elsewhere (core/decide).
package plan

import (
	"slices"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// Format names the format of plan files that this program writes and reads.
const Format = "pravet.plan/2"

// A Plan is the ordered changes from some exports to the desired state.
type Plan struct {
	Format       string            `json:"format"`
	ID           string            `json:"id"`
	Digest       string            `json:"digest"` // "sha256:" and hexadecimal, over the canonical form without it
	Organization string            `json:"organization"`
	AsOf         string            `json:"asOf"` // YYYY-MM-DD
	Selection    *Selection        `json:"selection,omitempty"`
	Desired      Desired           `json:"desired"`
	Exports      []Export          `json:"exports"`
	People       map[string]string `json:"people"` // id → display name, of the people in changes
	Changes      []Change          `json:"changes"`
	Reasons      []Reason          `json:"reasons"` // each once; changes name them by their numbers
	SetAside     []SetAside        `json:"setAside"`
	Notices      []Notice          `json:"notices"`
	Totals       Totals            `json:"totals"`
	Costs        []Cost            `json:"costs,omitempty"`
	Undoes       string            `json:"undoes,omitempty"` // the run that this is the back-out of
}

// A Cost is what the seats in use cost a month in one currency, before the plan
// and after it, with two digits. Currencies are never added.
type Cost struct {
	After    string `json:"after"`
	Before   string `json:"before"`
	Currency string `json:"currency"`
}

// Selection says what the plan was limited to when it was drafted.
type Selection struct {
	Apps []string `json:"apps,omitempty"`
	Only string   `json:"only,omitempty"`
}

// Desired identifies the desired state that the plan leads to.
type Desired struct {
	// Environment is the one that the plan is for, "" for the usual one: it is carried out in
	// no other.
	Environment string `json:"environment,omitempty"`

	Revision string `json:"revision"` // Git commit, or "" outside Git
	// Zone is the time zone by whose days it was drafted, as IANA names it, "" for UTC.
	Zone    string `json:"timezone,omitempty"`
	Clean   bool   `json:"clean"` // no uncommitted change in the files
	Digest  string `json:"digest"`
	People  int    `json:"people"`
	Suspect bool   `json:"suspect,omitempty"` // the roster has shrunk beyond its limit
}

// Export identifies an export that the plan starts from.
type Export struct {
	App      string `json:"app"`
	Title    string `json:"title,omitempty"`
	Digest   string `json:"digest"`
	TakenAt  string `json:"takenAt"` // RFC 3339, UTC
	Accounts int    `json:"accounts"`
	Suspect  bool   `json:"suspect,omitempty"` // empty, or shrunken beyond its limit
}

// A Change is one step on one account. Members that say nothing are left out of the
// file. The members of Change and of what it holds stand in the order of their
// names, so that encoding/json writes them in canonical order (see canonical).
type Change struct {
	Account   string       `json:"account,omitempty"`
	After     Value        `json:"after,omitzero"`
	Also      []Thing      `json:"also,omitempty"` // what else comes or goes with it in the end
	App       string       `json:"app"`
	Attribute string       `json:"attribute,omitempty"`
	Before    Value        `json:"before,omitzero"`
	Blocked   bool         `json:"blocked,omitempty"` // of a create: before the person's first day, so that nobody may sign in
	Effect    model.Effect `json:"effect"`
	First     bool         `json:"first,omitempty"` // nobody had one of the things that it gives
	ForGood   bool         `json:"forGood,omitempty"`
	Holds     []Hold       `json:"holds,omitempty"`
	ID        string       `json:"id"`
	Needs     []string     `json:"needs,omitempty"`
	Person    string       `json:"person,omitempty"` // id, or none for an account of nobody
	Reach     *Reach       `json:"reach,omitempty"`  // of a redefinition
	Reasons   []int        `json:"reasons"`          // numbers in Plan.Reasons, nearest cause first
	Second    bool         `json:"second,omitempty"` // the account is not the one that counts of the person's
	Stays     bool         `json:"stays,omitempty"`  // the thing itself was there before in another way, or stays so
	Thing     *Thing       `json:"thing,omitempty"`
	Until     string       `json:"until,omitempty"` // of a removal: the last day on which the account can be restored
	Verb      model.Verb   `json:"verb"`
}

// Because lists the reasons of a change, nearest cause first. A number that the plan
// has no reason for, which its digest would not allow, is left out.
func (p *Plan) Because(c *Change) []Reason {
	out := make([]Reason, 0, len(c.Reasons))
	for _, n := range c.Reasons {
		if n >= 0 && n < len(p.Reasons) {
			out = append(out, p.Reasons[n])
		}
	}
	return out
}

// Thing names what is gained or lost.
type Thing struct {
	Kind      model.Kind `json:"kind"`
	Name      string     `json:"name"`
	Sensitive bool       `json:"sensitive,omitempty"` // marked so in the catalog
}

// Reach is whom a redefinition gives something or takes it: how many accounts,
// and the first of their people by id, or accounts of nobody by name.
type Reach struct {
	Accounts int      `json:"accounts"`
	Holders  int      `json:"holders"` // open accounts that have the thing before the plan
	People   []string `json:"people"`
}

// MaxReach is how many people a Reach names.
const MaxReach = 1000

// A Reason says why, and which line of which file causes it: as facts, and in
// words.
type Reason struct {
	Facts *fact.Fact `json:"facts"`
	File  string     `json:"file"`
	Line  int        `json:"line"`
	Says  string     `json:"says"`
}

// A Hold says why a change may not be carried out as things are.
type Hold struct {
	Facts fact.Fact `json:"facts"`
	Guard string    `json:"guard"`
	Says  string    `json:"says"`
}

// SetAside is a difference that the plan leaves alone, because it was
// rejected or needs one that was.
type SetAside struct {
	Because string `json:"because"`
	By      string `json:"by"`
	Change  Change `json:"change"`
	Until   string `json:"until"` // the last day it counts, or "" for as long as the difference stays the same
}

// A Notice is worth knowing and changes nothing. App is "" for the whole plan.
type Notice struct {
	App   string    `json:"app"`
	Facts fact.Fact `json:"facts"`
	Says  string    `json:"says"`
}

// Totals count the changes.
type Totals struct {
	Changes int `json:"changes"`
	Widens  int `json:"widens"`
	Narrows int `json:"narrows"`
	Keeps   int `json:"keeps"`
	ForGood int `json:"forGood"`
	Held    int `json:"held"`
}

// Count totals up changes.
func Count(changes []Change) Totals {
	t := Totals{Changes: len(changes)}
	for i := range changes {
		t.Add(&changes[i])
	}
	return t
}

// Add counts one change, Changes aside.
func (t *Totals) Add(c *Change) {
	switch c.Effect {
	case model.Widens:
		t.Widens++
	case model.Narrows:
		t.Narrows++
	default:
		t.Keeps++
	}
	if c.ForGood {
		t.ForGood++
	}
	if len(c.Holds) > 0 {
		t.Held++
	}
}

// Sensitive reports whether a thing that comes or goes with the change is marked
// sensitive.
func (c *Change) Sensitive() bool {
	return c.Thing != nil && c.Thing.Sensitive || slices.ContainsFunc(c.Also, func(t Thing) bool { return t.Sensitive })
}

// Address is the thing or the account that the change is about.
func (c *Change) Address() model.Address {
	if c.Thing != nil {
		return model.Address{App: c.App, Kind: c.Thing.Kind.String(), Name: c.Thing.Name}
	}
	return model.Address{App: c.App, Kind: "account", Name: c.Account}
}
