package guard

import (
	"fmt"
	"strings"
	"unicode"

	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// The guards of this file.
const (
	LooksAlike = "looks-alike"
)

var alikeFamily = family{
	guards: []Guard{
		{
			Name: LooksAlike, Lift: ForPlan,
			Raises: []fact.Kind{fact.AlikeName, fact.AlikeValue, fact.AlikePerson},
			Holds: "the creation of an account, where an account of nobody is written nearly so (otherwise only " +
				"in case, marks, spaces or punctuation), has the same value in whatever tells people apart " +
				"(id, externalId, employeeNumber, user name, email, `formerly`), or has the same display " +
				"name and department; one whose name differs by a letter is pointed out",
		},
	},
	each: (*checker).alike,
}

// identifying are the attributes of a person that tell who it is. formerly lists
// earlier user names and addresses.
var identifying = []string{"id", "externalId", "employeeNumber", "userName", "email", "formerly"}

// alike holds the creation of an account where one that belongs to nobody may be
// the person's already: its name is written nearly so, it has something in common
// by which people are told apart, or it has the same display name and department.
// One whose name differs by a letter is pointed out. O(strays + creations), times
// the length of a name.
func (c *checker) alike(a int) {
	var creates []int
	for _, i := range c.byApp[a] {
		if c.makes(&c.Changes[i]) {
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
		if f, ok := strays.find(c.marks(ch)); ok {
			f.Attribute, f.Other = app.Match, app.MatchPerson()
			c.hold(i, LooksAlike, f)
			continue
		}
		if near := strays.near(table.Likeness(ch.Key)); near != "" {
			shown := table.Likeness(c.People.Get(int(ch.Person), "displayName"))
			if shown != "" && shown == strays.shown[near] { // two letters apart, and one name: that is no chance
				c.hold(i, LooksAlike, fact.Fact{
					Kind: fact.AlikeName, Account: fmt.Sprintf("%q", near), Attribute: app.Match, Other: app.MatchPerson(),
				})
				continue
			}
			c.notice(
				a,
				fact.Fact{Kind: fact.AlmostAlike, Person: c.personName(ch.Person), Account: ch.Key, Other: near},
			)
		}
	}
}

// A mark is something by which an account or a person is known.
type mark struct{ kind, value string }

// The kinds of marks: how a name is written, what identifies someone whichever
// attribute it stands in, and name and department together.
const (
	written = "written"
	same    = "same"
	called  = "called"
)

// marks are those of the person of a change.
func (c *checker) marks(ch *diff.Change) []mark {
	out := []mark{{written, table.Likeness(ch.Key)}}
	for _, attr := range identifying {
		for _, v := range strings.Fields(c.People.Get(int(ch.Person), attr)) {
			out = append(out, mark{same, table.Fold(v)})
		}
	}
	return append(
		out,
		callMark(c.People.Get(int(ch.Person), "displayName"), c.People.Get(int(ch.Person), "department")),
	)
}

func callMark(name, department string) mark {
	if name == "" || department == "" {
		return mark{}
	}
	return mark{called, table.Fold(name) + "\x00" + table.Fold(department)}
}

// A stray is an account of nobody, and by what it was found.
type stray struct{ name, attr, value string }

// straySet finds the accounts of nobody by what they look like.
type straySet struct {
	by  map[mark]stray
	cut map[string]string // likeness without one of its letters → name

	shown map[string]string // name → likeness of the display name
}

func (s *straySet) add(m mark, found stray) {
	if old, ok := s.by[m]; m.value != "" && (!ok || found.name < old.name) {
		s.by[m] = found
	}
}

// find finds an account of nobody that has one of some marks.
func (s *straySet) find(marks []mark) (f fact.Fact, ok bool) {
	for _, m := range marks {
		x, found := s.by[m]
		if m.value == "" || !found {
			continue
		}
		f = fact.Fact{Kind: fact.AlikePerson, Account: x.name}
		switch m.kind {
		case written:
			f.Kind = fact.AlikeName
		case same:
			f.Kind, f.Via, f.Value = fact.AlikeValue, x.attr, x.value
		}
		return f, true
	}
	return fact.Fact{}, false
}

func (c *checker) strays(a int) *straySet {
	s := &straySet{map[mark]stray{}, map[string]string{}, map[string]string{}}
	app, accounts := c.Apps[a], c.Accounts[a]
	kept := []int{} // attributes by which people are told apart
	for n, at := range app.Attrs {
		for _, x := range identifying {
			if strings.EqualFold(at.Person, x) || strings.EqualFold(at.Name, x) {
				kept = append(kept, n)
				break
			}
		}
	}
	called, department := app.Attr("displayName"), app.Attr("department")
	seen := 0
	for i, p := range c.Diff.PersonOf[a] {
		if p != diff.None || accounts.States[i] == model.Removed {
			continue
		}
		name := strings.Clone(accounts.Key.At(i))
		like := table.Likeness(name)
		quoted := fmt.Sprintf("%q", name)
		s.add(mark{written, like}, stray{name: quoted})
		s.add(mark{same, table.Fold(name)}, stray{quoted, app.Match, name})
		for _, n := range kept {
			v := strings.Clone(accounts.Attr(n, i))
			s.add(mark{same, table.Fold(v)}, stray{quoted, app.Attrs[n].Name, v})
		}
		if called >= 0 {
			if shown := table.Likeness(accounts.Attr(called, i)); shown != "" {
				s.shown[name] = shown
			}
		}
		if called >= 0 && department >= 0 {
			s.add(
				callMark(strings.Clone(accounts.Attr(called, i)), strings.Clone(accounts.Attr(department, i))),
				stray{name: quoted},
			)
		}
		if seen++; seen <= maxNear {
			for _, cut := range cuts(like) {
				if old, ok := s.cut[cut]; !ok || name < old {
					s.cut[cut] = name
				}
			}
		}
	}
	for _, u := range accounts.Unnamed {
		where := "without " + app.Match
		if u.Pos.File != "" {
			where += " in " + u.Pos.String()
		}
		for _, v := range u.Values {
			s.add(mark{same, table.Fold(v.Value)}, stray{where, v.Attr, v.Value})
		}
		s.add(callMark(u.Name, u.Department), stray{name: where})
	}
	return s
}

// maxNear is of how many accounts of nobody names that differ by a letter are
// looked for: where there are more, it is not names that are wrong.
const maxNear = 20000

// minNear is how long a name must be for a letter to be a slip, and maxCut how
// long it may be for that to be looked for, in characters.
const (
	minNear = 6
	maxCut  = 64
)

// cuts are a name without one of its letters, each; digits tell accounts apart.
func cuts(like string) []string {
	if len(like) > 4*maxCut {
		return nil
	}
	runes := []rune(like)
	if len(runes) < minNear || len(runes) > maxCut {
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
		if x, ok := s.by[mark{written, cut}]; ok {
			return strings.Trim(x.name, `"`)
		}
		if name, ok := s.cut[cut]; ok && len([]rune(table.Likeness(name))) == len([]rune(like)) {
			return name
		}
	}
	return ""
}
