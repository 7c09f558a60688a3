// Package adopt takes an application over as it is: it guesses how its export is laid out, whose
// each of its accounts is, and by which kits everybody would hold what they hold today, and writes
// files by which the next draft has no change at all. What it cannot know it guesses, with a score,
// and says so.
package adopt

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// A Guess is whose an account is.
type Guess struct {
	Account int    // among the accounts
	Key     string // the account's name
	Person  int    // among the people; -1 for nobody
	Score   int    // how sure that is, in percent; 100 where the name itself says so
	Why     string
	Others  []int // people who fit as well
}

// Certain reports whether a guess is taken without asking.
func (g *Guess) Certain() bool { return g.Person >= 0 && g.Score >= sure }

// How sure guesses are, in percent.
const (
	exact     = 100
	byEmail   = 98
	sure      = 95 // and more is taken without asking
	byFormer  = 96
	byName    = 85 // the same name
	byTurned  = 80 // its words in another order
	byShort   = 70 // the user name is made of the name, as initial and surname
	byLetter  = 65 // the user name differs by a letter
	severally = 40 // several fit
)

// Input is what Match needs. Columns hold nil where an export does not show them.
type Input struct {
	People   *model.People
	By       string // the attribute of people that the names of accounts are
	Accounts *model.Accounts
	Email    *table.Column
	Name     *table.Column // how whoever has an account is called
}

// Match says whose each account is: by its name, by email, by former names; else, of the people
// without an account, the one who is called nearly so. A person gets one account; a second one
// that fits is a guess below all that is taken without asking. O(accounts + people), times the
// length of a name.
func Match(in Input) []Guess {
	m := &matcher{Input: in, out: make([]Guess, in.Accounts.Len()), has: map[int]int{}}
	for i := range m.out {
		m.out[i] = Guess{Account: i, Key: in.Accounts.Key.At(i), Person: -1}
	}
	m.byValue(m.people(in.By), in.Accounts.Key, exact, "the account is called by "+in.By)
	if in.Email != nil {
		m.byValue(m.people("email"), in.Email, byEmail, "the same email")
	}
	m.byValue(m.former(), in.Accounts.Key, byFormer, "a former name")
	m.near()
	m.seconds()
	return m.out
}

type matcher struct {
	Input
	out []Guess
	has map[int]int // person → account
}

// people finds people by an attribute, those who share a value left out.
func (m *matcher) people(attr string) func(v string) int {
	index, clashes := m.People.Index(attr)
	twice := map[int]bool{}
	for _, c := range clashes {
		twice[int(c.First)] = true
	}
	return func(v string) int {
		if index == nil || v == "" {
			return -1
		}
		if p := index.Find(v); p >= 0 && !twice[p] {
			return p
		}
		return -1
	}
}

// former finds people by names that they had before.
func (m *matcher) former() func(v string) int {
	by := map[string]int{}
	if col := m.People.Column("formerly"); col != nil {
		for p := range col.Len() {
			for _, name := range strings.Fields(col.At(p)) {
				key, whose := table.Fold(name), p
				if other, there := by[key]; there && other != p {
					whose = -1 // nobody's, as several had it
				}
				by[key] = whose
			}
		}
	}
	return func(v string) int {
		if p, ok := by[table.Fold(v)]; ok && v != "" {
			return p
		}
		return -1
	}
}

// byValue gives accounts of nobody to the people that a value tells: of several accounts for
// one person, the first that is open.
func (m *matcher) byValue(find func(v string) int, col *table.Column, score int, why string) {
	best := map[int]int{}
	for i := range m.out {
		if m.out[i].Person >= 0 {
			continue
		}
		p := find(col.At(i))
		if p < 0 {
			continue
		}
		if _, taken := m.has[p]; taken {
			continue
		}
		if other, ok := best[p]; !ok || m.Accounts.Open(i) && !m.Accounts.Open(other) {
			best[p] = i
		}
	}
	for p, i := range best {
		m.out[i].Person, m.out[i].Score, m.out[i].Why = p, score, why
		m.has[p] = i
	}
}

// near guesses by names that are nearly the same.
func (m *matcher) near() {
	marks := map[string][]int{}
	note := func(kind, value string, p int) {
		there := marks[kind+value]
		if value != "" && (len(there) == 0 || there[len(there)-1] != p) {
			marks[kind+value] = append(there, p)
		}
	}
	for p := range m.People.Len() {
		if _, has := m.has[p]; has {
			continue
		}
		name := m.People.Called(p)
		note("name ", table.Likeness(name), p)
		note("turned ", turned(name), p)
		for _, short := range shorts(name) {
			note("short ", short, p)
		}
		for _, cut := range cuts(table.Likeness(m.People.Get(p, m.By))) {
			note("cut ", cut, p)
		}
	}
	for i := range m.out {
		g := &m.out[i]
		if g.Person >= 0 {
			continue
		}
		name := ""
		if m.Name != nil {
			name = m.Name.At(i)
		}
		key := table.Likeness(local(g.Key))
		m.guess(g, marks["name "+table.Likeness(name)], byName, "the same name, "+name, name != "")
		m.guess(g, marks["turned "+turned(name)], byTurned, "the same name in another order, "+name, turned(name) != "")
		m.guess(g, marks["name "+key], byName, "called like the account", key != "")
		m.guess(g, marks["short "+key], byShort, "the account's name is made of the person's", key != "")
		for _, cut := range cuts(key) {
			m.guess(g, marks["cut "+cut], byLetter, "the account's name differs by a letter", true)
		}
	}
}

// guess notes who of people, by number, may have an account, unless somebody surer is known.
func (m *matcher) guess(g *Guess, people []int, score int, why string, ok bool) {
	if !ok || len(people) == 0 || g.Score >= score {
		return
	}
	if len(people) > 1 && g.Person >= 0 {
		return
	}
	g.Person, g.Score, g.Why, g.Others = people[0], score, why, slices.Clip(people[1:])
	if len(people) > 1 {
		g.Score, g.Why = severally, why+"; "+model.Count(len(people), "person fits", "people fit")
	}
}

// seconds tells of accounts of nobody that fit somebody who has one, and of people whom several
// accounts fit: the surest is left of those.
func (m *matcher) seconds() {
	first := map[int]int{}
	for i := range m.out {
		g := &m.out[i]
		if g.Person < 0 || g.Certain() {
			continue
		}
		other, ok := first[g.Person]
		if !ok {
			first[g.Person] = i
			continue
		}
		keep, lose := other, i
		if cmp.Compare(m.out[i].Score, m.out[other].Score) > 0 {
			keep, lose = i, other
		}
		first[g.Person] = keep
		m.out[lose].Score = min(m.out[lose].Score, severally)
		m.out[lose].Why += fmt.Sprintf("; %s fits the same person", m.out[keep].Key)
	}
	email := func(int) int { return -1 }
	if m.Email != nil {
		find := m.people("email")
		email = func(i int) int { return find(m.Email.At(i)) }
	}
	byKey, former := m.people(m.By), m.former()
	for i := range m.out {
		g := &m.out[i]
		if g.Person >= 0 {
			continue
		}
		for _, p := range []int{byKey(g.Key), email(i), former(g.Key)} {
			if p >= 0 {
				g.Why = fmt.Sprintf(
					"a second account of %s (%s), beside %s",
					m.People.Called(p),
					m.People.Get(p, "id"),
					m.out[m.has[p]].Key,
				)
				break
			}
		}
	}
}

// local is a name without what follows an at sign.
func local(key string) string {
	name, _, _ := strings.Cut(key, "@")
	return name
}

// turned is a name with its words in order, "" for one of a single word.
func turned(name string) string {
	words := strings.FieldsFunc(name, func(r rune) bool { return r == ' ' || r == ',' || r == '.' })
	if len(words) < 2 {
		return ""
	}
	for i, w := range words {
		words[i] = table.Likeness(w)
	}
	slices.Sort(words)
	return strings.Join(words, " ")
}

// shorts are user names that a name is often made into: initial and surname, first name and
// initial, surname and initial, surname.
func shorts(name string) []string {
	words := strings.Fields(name)
	if len(words) < 2 {
		return nil
	}
	first, last := table.Likeness(words[0]), table.Likeness(words[len(words)-1])
	if first == "" || last == "" {
		return nil
	}
	f, l := string([]rune(first)[:1]), string([]rune(last)[:1])
	return []string{f + last, first + l, last + f, last + first, last}
}

// cuts are a word, and the word without each of its letters: two words that differ by a letter
// have one in common.
func cuts(word string) []string {
	runes := []rune(word)
	if len(runes) < 5 {
		return nil
	}
	out := make([]string, 0, len(runes)+1)
	out = append(out, word)
	for i := range runes {
		out = append(out, string(runes[:i])+string(runes[i+1:]))
	}
	return out
}
