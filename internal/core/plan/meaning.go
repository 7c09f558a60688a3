package plan

import (
	"crypto/sha256"
	"slices"
	"strings"
)

// Meaning is the digest of everything that a reader of a change is shown: what it does to whom, all
// values before and after, what comes or goes along with it, the content of a definition and whom it
// reaches, its causes (wherever in a file they stand), and the facts of each hold. A decision is about
// a meaning: an acceptance counts for the same change of another plan only while that means the same
// (SameMeaning).
//
// It has the form BODY HOLD,HOLD…, where each part is the beginning of a SHA-256.
func (p *Plan) Meaning(c *Change) string {
	body := *c
	body.ID, body.Needs, body.Holds, body.Reasons = "", nil, nil, nil
	parts := []string{string(mustJSON(body))}
	for _, r := range p.Because(c) {
		parts = append(parts, r.File, r.Says)
	}
	holds := make([]string, len(c.Holds))
	for i := range c.Holds {
		holds[i] = short(c.Holds[i].Guard, string(mustJSON(c.Holds[i].Facts)))
	}
	slices.Sort(holds)
	return short(parts...) + " " + strings.Join(slices.Compact(holds), ",")
}

// SameMeaning reports whether what a change means now is what it meant when it was decided about, and
// nothing holds it that did not hold it then.
func SameMeaning(then, now string) bool {
	was, held, _ := strings.Cut(then, " ")
	is, holds, _ := strings.Cut(now, " ")
	if was != is {
		return false
	}
	known := strings.Split(held, ",")
	return !slices.ContainsFunc(strings.Split(holds, ","), func(h string) bool {
		return h != "" && !slices.Contains(known, h)
	})
}

// subject is whom a change is about: a person or, for an account that belongs to nobody or is a second
// one, the account.
func (c *Change) subject() string {
	switch {
	case c.Person == "":
		return "account " + c.Account
	case c.Second:
		return "account " + c.Account + " of " + c.Person
	}
	return "person " + c.Person
}

// Touches names what a change is about, the same in each environment: whoever does something else to
// the same undoes it.
func (c *Change) Touches() string {
	what := c.Attribute
	if c.Thing != nil {
		what += " " + c.Thing.Kind.String() + " " + c.Thing.Name
	}
	if c.Thing == nil && c.Attribute == "" {
		what = "the account"
	}
	return short(c.App, c.subject(), what)
}

// Does is the digest of what a change does, the same in each environment: it leaves out what it starts
// from.
func (c *Change) Does() string {
	parts := []string{c.Verb.String(), c.Touches(), c.After.String()}
	if c.Blocked {
		parts = append(parts, "blocked")
	}
	for _, t := range c.Also {
		parts = append(parts, t.Kind.String(), t.Name)
	}
	return short(parts...)
}

// short is the beginning of the SHA-256 of some parts: 60 bits as twelve letters.
func short(parts ...string) string {
	sum := sha256.Sum256(joined(parts...))
	return letters(sum[:], 12)
}

func mustJSON(v any) []byte {
	text, err := jsonOf(v)
	if err != nil {
		panic(err) // a change always marshals
	}
	return text
}
