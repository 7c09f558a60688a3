package decisions

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/entitle"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/signing"
)

// A Statement is what somebody signs who decides.
type Statement struct {
	Organization string          `json:"organization"`
	Environment  string          `json:"environment"`
	Day          string          `json:"day"`
	By           string          `json:"by"` // the id of a person, or what the file of keys calls one
	Decision     ledger.Decision `json:"decision"`
}

// Message is the text that is signed: JSON, with two spaces a level and a line end.
func (s *Statement) Message() ([]byte, error) {
	data, err := json.MarshalIndent(s, "", "  ")
	return append(data, '\n'), err
}

// A Bench tells which decisions count, and whose they are.
type Bench struct {
	repo  *desired.Repo
	today day.Day

	seen  map[string]bool // signatures that were met in this reading
	known *known
}

// known is what stays the same from one reading of the record to the next: a run reads it before each step.
type known struct {
	rules  map[string]*proving // by the revision of the files that a plan was drafted from
	plans  map[string]drafted
	proofs map[string]proof // by signature and revision
	kits   map[day.Day]*entitle.Result
}

// proof is what became of proving a signed decision.
type proof struct {
	decision []byte // as it was on record
	person   string
	no       error
}

// proving is by what decisions are proved under some revision of the files.
type proving struct {
	signing *desired.Signing
	keys    *signing.Keys
	rules   []decide.Rule // who decided; nil for the files as they are
	err     error
}

// drafted is who drafted a plan, from which revision, and from which the plan was that had been carried out last by then: who
// decides by changed rules, or with changed keys, has to be one of those who could before.
type drafted struct{ revision, by, before string }

// benchOf is the bench of a repository.
func benchOf(repo *desired.Repo) *Bench { return &Bench{repo: repo.All()} }

// reading is the bench for one reading of the record; nil where anybody's word counts, and did when something was carried out
// last.
func (b *Bench) reading(l ledger.Ledger, today day.Day) (*Bench, error) {
	if b == nil {
		return nil, nil
	}
	if b.repo.Signing == nil && len(b.repo.Deciders) == 0 {
		p, err := lastCarriedOut(l, math.MaxInt64)
		if err != nil || !p.Decides {
			return nil, err
		}
	}
	return b.on(today), nil
}

// on is the bench for one reading of the record.
func (b *Bench) on(today day.Day) *Bench {
	if b == nil {
		return nil
	}
	b.repo.ReadPeople()
	kept, _ := b.repo.Remembers("decisions", func() any {
		return &known{map[string]*proving{}, map[string]drafted{}, map[string]proof{}, map[day.Day]*entitle.Result{}}
	}).(*known)
	return &Bench{repo: b.repo, today: today, seen: map[string]bool{}, known: kept}
}

// drafted is who drafted a plan, and from which revision.
func (b *Bench) drafted(l ledger.Ledger, id string) (drafted, error) {
	if d, ok := b.known.plans[id]; ok {
		return d, nil
	}
	var d drafted
	found, seq := false, int64(0)
	err := l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Subject: id}, func(e *ledger.Entry) error {
		p, err := ledger.Decode[ledger.Plan](e)
		d, found = drafted{revision: p.Revision, by: b.person(e.By)}, true
		if seq == 0 {
			seq = e.Seq
		}
		return err
	})
	if found && err == nil {
		var last ledger.Plan
		last, err = lastCarriedOut(l, seq)
		if last.Decides {
			d.before = last.Revision
		}
	}
	if found && err == nil {
		b.known.plans[id] = d
	}
	return d, err
}

// lastCarriedOut is the plan of which something was carried out last before an entry; an empty one for none.
func lastCarriedOut(l ledger.Ledger, before int64) (p ledger.Plan, err error) {
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunEnded}, Newest: true}, func(e *ledger.Entry) error {
		end, err := ledger.Decode[ledger.RunEnd](e)
		if err != nil || e.Seq > before || end.Settled == 0 {
			return err
		}
		if _, err := l.Last(ledger.PlanDrafted, end.Plan, &p); err != nil {
			return err
		}
		return ledger.ErrStop
	})
	return p, err
}

// proves is by what decisions about the plans of a revision are proved: the files as they are, or as they were.
func (b *Bench) proves(revision string) *proving {
	if p := b.known.rules[revision]; p != nil {
		return p
	}
	ctx := context.Background()
	p := &proving{signing: b.repo.Signing}
	tree := b.repo.Tree
	if revision != "" {
		if was, err := gitrepo.File(tree.Dir, revision, desired.Root); err == nil {
			old := tree.With(map[string][]byte{desired.Root: was})
			early := desired.ReadEarly(ctx, old)
			p.signing, p.rules = early.Signing, early.Deciders
			contents := map[string][]byte{}
			if p.signing != nil {
				for _, file := range []string{p.signing.Keys, p.signing.Revoked} {
					if data, err := gitrepo.File(tree.Dir, revision, file); file != "" && err == nil {
						contents[file] = data
					}
				}
			}
			tree = tree.With(contents)
		}
	}
	if p.signing != nil && p.signing.Keys != "" {
		p.keys, p.err = p.signing.ReadKeys(ctx, tree)
	}
	b.known.rules[revision] = p
	return p
}

// Counts tells whose a decision is, and makes sure that it counts: that it is signed where it must be, by a key that was that
// person's on the day, about this very plan, organization and environment, and met for the first time.
// no says why it does not.
func (b *Bench) Counts(l ledger.Ledger, e *ledger.Entry, d *ledger.Decision) (person string, no, err error) {
	if b == nil {
		return e.By, nil, nil
	}
	of, err := b.drafted(l, d.Plan)
	if err != nil {
		return "", nil, err
	}
	p := b.proves(of.revision)
	before := &proving{}
	if of.before != "" && of.before != of.revision {
		before = b.proves(of.before)
	}
	if d.Signed == nil {
		if p.signing != nil && p.signing.Required || before.signing != nil && before.signing.Required {
			return "", sayUnsigned(), nil
		}
		return b.person(cmp.Or(d.Of, e.By)), nil, nil
	}
	if b.seen[d.Signed.Signature] {
		return "", sayRepeated(), nil
	}
	b.seen[d.Signed.Signature] = true
	body, err := json.Marshal(d)
	if err != nil {
		return "", nil, err
	}
	name := of.revision + " " + d.Signed.Signature
	x, ok := b.known.proofs[name]
	if !ok || !bytes.Equal(x.decision, body) {
		x = proof{decision: body}
		x.person, x.no = b.proved(p, d)
		if x.no == nil && before.signing != nil && before.signing.Required && before.keys != nil {
			if _, no := b.proved(before, d); no != nil {
				x.person, x.no = "", sayNotBefore(no)
			}
		}
		b.known.proofs[name] = x
	}
	return x.person, x.no, nil
}

// proved proves a signed decision.
func (b *Bench) proved(p *proving, d *ledger.Decision) (person string, no error) {
	var s Statement
	if err := json.Unmarshal([]byte(d.Signed.Message), &s); err != nil {
		return "", sayNoStatement()
	}
	key, err := signing.Prove([]byte(d.Signed.Message), d.Signed.Signature)
	if err != nil {
		return "", saySignature(err)
	}
	bare := *d
	bare.Signed, bare.Of = nil, ""
	switch {
	case !same(&bare, &s.Decision):
		return "", sayOtherDecision()
	case s.Organization != b.repo.Organization:
		return "", sayOtherOrganization(s.Organization)
	case s.Environment != b.repo.Here():
		return "", sayMadeForEnvironment(s.Environment)
	}
	on, err := day.Parse(s.Day)
	if err != nil {
		return "", sayNoStatement()
	}
	if p.err != nil {
		return "", p.err
	}
	if p.keys == nil {
		return "", sayNoKeysThen()
	}
	at := b.find(s.By)
	names := []string{s.By}
	if at >= 0 {
		people := b.repo.People
		names = []string{people.Get(at, "id"), people.Get(at, "userName"), people.Get(at, "email")}
	}
	if err := p.keys.Allowed(key, names, on.Time()); err != nil {
		return "", saySignature(err)
	}
	if at < 0 {
		return s.By, nil // an administrator who is nobody in the files
	}
	if ends, err := day.Parse(b.repo.People.Get(at, "ends")); err == nil && ends < on {
		return "", sayHadLeft(b.repo.People.Called(at), ends)
	}
	return b.repo.People.Get(at, "id"), nil
}

// same reports whether two decisions say the same.
func same(x, y *ledger.Decision) bool {
	one, err1 := json.Marshal(x)
	other, err2 := json.Marshal(y)
	var a, b any
	return err1 == nil && err2 == nil && json.Unmarshal(one, &a) == nil && json.Unmarshal(other, &b) == nil && reflect.DeepEqual(a, b)
}

// find finds a person by id, user name or email; -1 where there is none.
func (b *Bench) find(name string) int {
	people := b.repo.People
	if at := people.Named(name); at >= 0 {
		return at
	}
	if col := people.Column("email"); col != nil {
		for i := range col.Len() {
			if v := col.At(i); v != "" && table.Fold(v) == table.Fold(name) {
				return i
			}
		}
	}
	return -1
}

// person is who somebody is that an entry names: a person's id, or what the entry says where nobody of the files is called so.
func (b *Bench) person(by string) string {
	name, rest, _ := strings.Cut(by, " <")
	address := strings.TrimSuffix(rest, ">")
	for _, x := range []string{address, by, name} {
		if x == "" {
			continue
		}
		if at := b.find(x); at >= 0 {
			return b.repo.People.Get(at, "id")
		}
	}
	if col := b.repo.People.Column("displayName"); col != nil {
		found := -1
		for i := range col.Len() {
			if col.At(i) == name {
				if found >= 0 {
					return by // there are two of that name
				}
				found = i
			}
		}
		if found >= 0 {
			return b.repo.People.Get(found, "id")
		}
	}
	return by
}

// sayNotBefore is a decision by a key that the files did not have when something was carried out last.
func sayNotBefore(no error) error {
	return fmt.Errorf("the keys have changed since something was carried out last, and by those of then: %w", no)
}

// sayUnsigned is a decision that nobody signed, where that is asked for.
func sayUnsigned() error {
	return fmt.Errorf("it is not signed, and decisions are signed here (decisions in pravet.yaml)")
}

// sayRepeated is a signed decision that is on record twice.
func sayRepeated() error { return fmt.Errorf("the same signed decision is on record before") }

// sayNoStatement is a signed text that is none of ours.
func sayNoStatement() error { return fmt.Errorf("what was signed is no decision") }

// saySignature is a signature that proves nothing.
func saySignature(err error) error { return fmt.Errorf("its signature does not count: %w", err) }

// sayOtherDecision is an entry that says something else than what was signed.
func sayOtherDecision() error { return fmt.Errorf("it says something else than what was signed") }

// sayOtherOrganization is a decision of another organization.
func sayOtherOrganization(of string) error {
	return fmt.Errorf("it was made for another organization, %q", of)
}

// sayMadeForEnvironment is a decision of another environment.
func sayMadeForEnvironment(of string) error {
	return fmt.Errorf("it was made for the environment %s", of)
}

// sayNoKeysThen is a signed decision about a plan of files that named no keys.
func sayNoKeysThen() error {
	return fmt.Errorf("the files that the plan was drafted from name no keys by which it could be proved")
}

// sayHadLeft is a decision of somebody who was gone.
func sayHadLeft(name string, ends day.Day) error {
	return fmt.Errorf("%s, who signed it, had left by then: the last day was %s", name, ends)
}
