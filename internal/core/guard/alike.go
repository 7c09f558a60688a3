package guard

import (
	"strings"
	"unicode"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// alike holds the creation of an account where one of nobody may be the
// person's already: it is written nearly so, or has the same e-mail address. One
// whose name differs by a letter is pointed out. O(strays + creations), times
// the length of a name.
func (c *checker) alike(a int) {
	var creates []int
	for _, i := range c.byApp[a] {
		if c.Changes[i].Verb == model.Create {
			creates = append(creates, i)
		}
	}
	if len(creates) == 0 {
		return
	}
	strays := c.strays(a)
	app := c.Apps[a]
	for _, i := range creates {
		ch := &c.Changes[i]
		like, email := table.Likeness(ch.Key), table.Fold(c.email(a, ch))
		key, ok := strays.alike[like]
		mail, same := strays.email[email]
		switch {
		case ok && like != "":
			c.hold(i, LooksAlike, "there is an account %q of nobody, which may be this person's; mend its %s, or the person's %s", key, app.Match, app.MatchPerson())
		case same && email != "":
			c.hold(i, LooksAlike, "the account %q of nobody has the same email, %s, and may be this person's; mend its %s, or the person's %s", mail, email, app.Match, app.MatchPerson())
		default:
			if near := strays.near(like); near != "" {
				c.notice(a, "%s is to get an account %s, and %q of nobody is written nearly so", c.personName(ch.Person), ch.Key, near)
			}
		}
	}
}

// email is the address that a new account is to have, where Pravet keeps one.
func (c *checker) email(a int, ch *diff.Change) string {
	n := c.Apps[a].Attr("email")
	if n < 0 {
		return ""
	}
	v, _, _ := diff.Wanted(c.Apps[a], n, c.People.Column(c.Apps[a].Attrs[n].Person), int(ch.Person), &c.Due.Classes[c.Due.Of[ch.Person]].Apps[a])
	return v
}

// straySet finds the accounts of nobody by what they look like.
type straySet struct {
	alike map[string]string // likeness → name
	email map[string]string
	cut   map[string]string // likeness without one of its letters → name
}

func (c *checker) strays(a int) *straySet {
	s := &straySet{map[string]string{}, map[string]string{}, map[string]string{}}
	first := func(m map[string]string, k, name string) {
		if old, ok := m[k]; k != "" && (!ok || name < old) {
			m[k] = name
		}
	}
	email, seen := c.Apps[a].Attr("email"), 0
	for i, p := range c.Diff.PersonOf[a] {
		if p != diff.None {
			continue
		}
		name := strings.Clone(c.Accounts[a].Key.At(i))
		like := table.Likeness(name)
		first(s.alike, like, name)
		if seen++; seen <= maxNear {
			for _, cut := range cuts(like) {
				first(s.cut, cut, name)
			}
		}
		if email >= 0 {
			first(s.email, table.Fold(c.Accounts[a].Attr(email, i)), name)
		}
	}
	return s
}

// maxNear is of how many accounts of nobody names that differ by a letter are
// looked for: where there are more, it is not names that are wrong.
const maxNear = 20000

// minNear is how long a name must be for a letter to be a slip.
const minNear = 6

// cuts are a name without one of its letters, each; digits tell accounts apart.
func cuts(like string) []string {
	runes := []rune(like)
	if len(runes) < minNear {
		return nil
	}
	var out []string
	for i, r := range runes {
		if unicode.IsLetter(r) {
			out = append(out, string(runes[:i])+string(runes[i+1:]))
		}
	}
	return out
}

// near finds an account of nobody whose name has one letter more, one less, or
// another in its place.
func (s *straySet) near(like string) string {
	if name, ok := s.cut[like]; ok {
		return name
	}
	for _, cut := range cuts(like) {
		if name, ok := s.alike[cut]; ok {
			return name
		}
		if name, ok := s.cut[cut]; ok && len([]rune(table.Likeness(name))) == len([]rune(like)) {
			return name
		}
	}
	return ""
}
