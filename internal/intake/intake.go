// Package intake understands a spreadsheet of people, which of its columns is which attribute, and
// says what becomes of its rows: who of them is new, of whom something changes, who stays as they
// are, and which rows are wrong. It writes nothing.
//
//	out := intake.Compare(intake.Input{Attrs: attrs, Rows: rows, People: people, Today: today})
package intake

import (
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// A Row is a row of a spreadsheet by the attributes of people.
type Row struct {
	Line   int
	Values []string // one for each of Input.Attrs, without spaces around it
	Wrong  []Wrong  // what was wrong with it before
}

// A Wrong is something wrong with a row. Attr is "" where it is about the row.
type Wrong struct {
	Attr, Rule, Says, Hint string
}

// Input is what Compare needs.
type Input struct {
	Attrs  []string
	Rows   []Row
	People *model.People
	Fields []model.Field
	Today  day.Day

	ClearEmpty bool             // an empty cell takes the value away; else it leaves it
	Joined     bool             // user names are made by a rule, so that two people may have the same one
	Number     string           // how ids of new people are made, like E####; "" where rows have theirs
	Arrive     string           // a value that new people get of away, "" for none
	ArriveFor  *filter.Filter   // which of them; nil for all
	Owns       func(p int) bool // people who should all be in the rows; nil for nobody
	Ends       bool             // whoever is owned and missing ends today; else it is only said
}

// A State is what becomes of a row.
type State uint8

// The states of rows.
const (
	New State = iota
	Changed
	Same
	Bad
	Missing // not a row, but somebody who should be in one
	States
)

var stateNames = [States]string{"new", "changed", "same", "wrong", "missing"}

func (s State) String() string { return stateNames[s] }

// MarshalText writes a state as its name.
func (s State) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// An Entry is a row and what becomes of it.
type Entry struct {
	Line    int               `json:"line,omitempty"`
	State   State             `json:"state"`
	ID      string            `json:"id"`
	Name    string            `json:"name"`
	Changes []Change          `json:"changes,omitempty"`
	Wrong   []Wrong           `json:"wrong,omitempty"`
	Doubles []Double          `json:"doubles,omitempty"`
	Alike   int               `json:"alike,omitempty"`  // the line of an earlier new person of the same name, 0 for none
	Values  map[string]string `json:"values,omitempty"` // of a new person

	Person int `json:"-"` // among the people, -1 for a new one
}

// A Change is another value of an attribute.
type Change struct {
	Attr string `json:"attribute"`
	From string `json:"from"`
	To   string `json:"to"`
}

// A Double is somebody who may be the same person.
type Double struct {
	ID  string `json:"id"`
	Why string `json:"why"`
}

// An Outcome is what becomes of all rows, in their order, and of who is missing among them.
type Outcome struct {
	Entries []Entry
	Counts  [States]int
	Doubles int // new people who may be there already
	Ending  int // people who are here today and would not be after
	Here    int // of how many
}

// Compare says what becomes of rows. O(rows + people), besides what numbering new people costs.
func Compare(in Input) *Outcome {
	c := &comparison{in: in, out: &Outcome{}, at: map[string]int{}}
	for i, a := range in.Attrs {
		c.at[table.Fold(a)] = i
	}
	c.index()
	c.twice()
	c.numbers = c.number()
	for i := range in.Rows {
		c.row(i)
	}
	c.missing()
	c.ending()
	c.alike()
	for i := range c.out.Entries {
		e := &c.out.Entries[i]
		c.out.Counts[e.State]++
		if e.State == New && len(e.Doubles) > 0 {
			c.out.Doubles++
		}
	}
	return c.out
}

// alike points out new people who are called like one of an earlier row: they may be one person, or two.
func (c *comparison) alike() {
	first := map[string]int{}
	for i := range c.out.Entries {
		e := &c.out.Entries[i]
		name := table.Likeness(e.Name)
		if e.State != New || name == "" {
			continue
		}
		if line, ok := first[name]; ok {
			e.Alike = line
		} else {
			first[name] = e.Line
		}
	}
}

type comparison struct {
	in      Input
	out     *Outcome
	at      map[string]int // attribute → its number
	people  map[string]*table.Index
	former  map[string]int
	names   map[string][]int32 // likeness of a name → people
	birth   string             // the attribute that holds a birth, "" for none
	wrong   [][]Wrong          // of each row
	numbers *numbering         // nil where rows have their ids
	found   []int              // row → person, or -1
	seen    map[int]bool       // people who have a row
}

// keys are the attributes by which a row is somebody's, the surest first.
var keys = []string{"id", "userName", "email"}

func (c *comparison) value(row int, attr string) string {
	if i, ok := c.at[table.Fold(attr)]; ok {
		return c.in.Rows[row].Values[i]
	}
	return ""
}

// get is a value of a row or, where the row has none, of the person that it is of.
func (c *comparison) get(row, person int, attr string) string {
	if v := c.value(row, attr); v != "" || person < 0 {
		return v
	}
	return c.in.People.Get(person, attr)
}

func (c *comparison) index() {
	c.people, c.former, c.names = map[string]*table.Index{}, map[string]int{}, map[string][]int32{}
	for _, k := range keys {
		c.people[k], _ = c.in.People.Index(k)
	}
	if col := c.in.People.Column("formerly"); col != nil {
		for p := range col.Len() {
			for _, name := range strings.Fields(col.At(p)) {
				c.former[table.Fold(name)] = p
			}
		}
	}
	for a := range c.at {
		if strings.Contains(a, "birth") {
			c.birth = a
		}
	}
	c.seen = map[int]bool{}
	c.wrong, c.found = make([][]Wrong, len(c.in.Rows)), make([]int, len(c.in.Rows))
	for i := range c.in.Rows {
		c.wrong[i] = slices.Clone(c.in.Rows[i].Wrong)
		c.found[i] = c.whose(i)
	}
	for p := range c.in.People.Len() {
		if key := table.Likeness(c.in.People.Called(p)); key != "" {
			c.names[key] = append(c.names[key], int32(p))
		}
	}
}

// whose is the person that a row is of, by the first of the keys that it has; -1 for nobody.
func (c *comparison) whose(row int) int {
	for _, k := range keys {
		v := c.value(row, k)
		if v == "" {
			continue
		}
		if x := c.people[k]; x != nil {
			if p := x.Find(v); p >= 0 && (k != "userName" || !c.in.Joined || c.agrees(row, p)) {
				return p
			}
		}
		if k == "id" {
			return -1 // an id that nobody has is somebody new's, whatever else the row says
		}
	}
	return -1
}

// agrees reports whether nothing else in a row speaks against its being a person's whose user
// name is the same as one that was made by a rule.
func (c *comparison) agrees(row, p int) bool {
	for _, attr := range []string{"email", "starts", c.birth} {
		v, is := c.value(row, attr), ""
		if attr != "" {
			is = c.in.People.Get(p, attr)
		}
		if v != "" && is != "" && table.Fold(v) != table.Fold(is) {
			return false
		}
	}
	return true
}

func (c *comparison) fail(row int, attr, rule, says, hint string) {
	c.wrong[row] = append(c.wrong[row], Wrong{attr, rule, says, hint})
}

func (c *comparison) row(i int) {
	r, p := &c.in.Rows[i], c.found[i]
	e := Entry{Line: r.Line, Person: p, ID: c.value(i, "id"), Name: c.called(i)}
	switch unread := slices.ContainsFunc(r.Wrong, func(w Wrong) bool { return w.Attr == "" }); {
	case unread: // there are no values to speak of
	case p < 0:
		c.check(i, p)
		c.fresh(i, &e)
	default:
		c.check(i, p)
		c.known(i, p, &e)
	}
	if len(c.wrong[i]) > 0 {
		e.State, e.Wrong, e.Changes, e.Doubles, e.Values = Bad, c.wrong[i], nil, nil, nil
	}
	c.out.Entries = append(c.out.Entries, e)
}

// called is how the person of a row is called.
func (c *comparison) called(i int) string {
	for _, name := range []string{
		c.value(i, "displayName"),
		strings.TrimSpace(c.value(i, "name.givenName") + " " + c.value(i, "name.familyName")), c.value(i, "userName"),
	} {
		if name != "" {
			return name
		}
	}
	if c.found[i] >= 0 {
		return c.in.People.Called(c.found[i])
	}
	return ""
}

// fresh is a row of somebody new.
func (c *comparison) fresh(i int, e *Entry) {
	e.State = New
	e.Values = map[string]string{}
	for n, attr := range c.in.Attrs {
		if v := c.in.Rows[i].Values[n]; v != "" {
			e.Values[attr] = v
		}
	}
	if c.value(i, "userName") == "" {
		c.fail(
			i,
			"userName",
			"missing-value",
			"the row has no user name",
			`add a column, or have it joined: --map 'userName={join: [name.givenName, name.familyName], with: ".", case: lower, plain: true}'`,
		)
		return
	}
	switch {
	case e.ID != "" || len(c.wrong[i]) > 0:
	case c.numbers == nil:
		c.fail(
			i,
			"id",
			"missing-value",
			"the row has no id",
			"add a column with ids, or have new people numbered: --number 'E####'",
		)
		return
	default:
		if e.ID = c.numbers.next(); e.ID == "" {
			c.fail(i, "id", "no-number", "there is no number left for an id like "+
				""+c.in.Number, "use a longer pattern")
			return
		}
	}
	e.Values["id"] = e.ID
	theirs := func(attr string) string { return e.Values[attr] }
	if c.in.Arrive != "" && (c.in.ArriveFor == nil || c.in.ArriveFor.Match(theirs, c.in.Today)) {
		e.Values["away"] = c.in.Arrive
	}
	for _, p := range c.names[table.Likeness(e.Name)] {
		if why := c.double(i, int(p)); why != "" {
			e.Doubles = append(e.Doubles, Double{c.in.People.Get(int(p), "id"), why})
		}
	}
}

// double says why somebody of nearly the same name may be the person of a row, "" where
// another birth says that it is not.
func (c *comparison) double(i, p int) string {
	why := "the same name"
	if c.birth == "" {
		return why
	}
	here, there := c.value(i, c.birth), c.in.People.Get(p, c.birth)
	switch {
	case here == "" || there == "":
		return why
	case here == there:
		return why + " and birth"
	}
	return ""
}

// known is a row of somebody who is there.
func (c *comparison) known(i, p int, e *Entry) {
	e.ID, e.State = c.in.People.Get(p, "id"), Same
	for n, attr := range c.in.Attrs {
		to := c.in.Rows[i].Values[n]
		from := c.in.People.Get(p, attr)
		if to == from || to == "" && !c.in.ClearEmpty || table.Fold(attr) == "id" {
			continue
		}
		if to == "" && table.Fold(attr) == "username" {
			continue
		}
		e.State = Changed
		e.Changes = append(e.Changes, Change{attr, from, to})
	}
}

// missing are people who should be in a row and are in none.
func (c *comparison) missing() {
	if c.in.Owns == nil {
		return
	}
	for p := range c.in.People.Len() {
		if c.seen[p] || !c.in.Owns(p) {
			continue
		}
		ends := c.in.People.Get(p, "ends")
		if ends != "" && ends <= c.in.Today.String() {
			continue // gone already
		}
		e := Entry{State: Missing, Person: p, ID: c.in.People.Get(p, "id"), Name: c.in.People.Called(p)}
		if c.in.Ends {
			to := c.in.Today
			if starts := c.in.People.Get(p, "starts"); starts > to.String() {
				if from, err := day.Parse(starts); err == nil {
					to = from
				}
			}
			e.Changes = []Change{{"ends", ends, to.String()}}
		}
		c.out.Entries = append(c.out.Entries, e)
	}
}

// ending counts who would be gone.
func (c *comparison) ending() {
	today := c.in.Today.String()
	for p := range c.in.People.Len() {
		if ends := c.in.People.Get(p, "ends"); ends == "" || ends > today {
			c.out.Here++
		}
	}
	for i := range c.out.Entries {
		for _, x := range c.out.Entries[i].Changes {
			if table.Fold(x.Attr) == "ends" && x.To != "" && x.To <= today && (x.From == "" || x.From > today) {
				c.out.Ending++
			}
		}
	}
}
