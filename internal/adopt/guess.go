package adopt

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/sheet"
)

// A Column is how a column of an export is understood.
type Column struct {
	Attr    string `json:"attribute"` // "" for one that is left out
	Header  string `json:"column"`
	Why     string `json:"why"`
	Split   string `json:"split,omitempty"`
	Yes     string `json:"yes,omitempty"` // the words of active
	No      string `json:"no,omitempty"`
	Date    string `json:"date,omitempty"` // the form of dates, like DD.MM.YYYY
	Follows string `json:"-"`              // the attribute of people with the same values
}

// Words of accounts that are open, and of those that are not; without case.
var (
	openWords = []string{
		"active", "open", "yes", "true", "enabled", "1", "a", "y", "ok", "x", "unlocked", "live", "current",
	}
	blockedWords = []string{
		"blocked", "inactive", "no", "false", "disabled", "0", "locked", "suspended", "n", "closed", "",
		"deactivated", "b",
	}
	// answers are those of them that only the header gives a meaning.
	answers = []string{"yes", "true", "1", "y", "x", "ok", "no", "false", "0", "n", ""}
)

// guesser guesses the columns of one CSV file.
type guesser struct {
	t       *sheet.Table
	people  *model.People
	out     []Column
	taken   map[string]bool
	key     int    // the column that accounts are known by
	by      string // the attribute of people that it holds
	attr    string // the attribute of accounts that it is
	persons []int  // row → person by the key, or -1
}

// columns guesses what the columns of a CSV file are.
// said are the columns that somebody has named, by what they are.
func columns(t *sheet.Table, repo *desired.Repo, said map[string]string) (*guesser, error) {
	g := &guesser{t: t, people: repo.People, taken: map[string]bool{}, out: make([]Column, len(t.Header)), key: -1}
	for i, h := range t.Header {
		g.out[i].Header = h
	}
	if err := g.said(said); err != nil {
		return nil, err
	}
	if err := g.match(); err != nil {
		return nil, err
	}
	for i := range t.Header {
		switch {
		case i == g.key || t.Header[i] == "" || g.out[i].Attr != "":
		case g.state(i), g.things(i), g.last(i), g.several(i):
		default:
			g.attribute(i)
		}
	}
	return g, nil
}

// said takes columns for what somebody says that they are.
func (g *guesser) said(said map[string]string) error {
	for _, attr := range slices.Sorted(maps.Keys(said)) {
		i := g.t.Column(said[attr])
		if i < 0 {
			hint := "its columns are " + strings.Join(g.t.Header, ", ")
			if near := table.Nearest(said[attr], g.t.Header); near != "" {
				hint = "did you mean " + near + "?"
			}
			return fmt.Errorf("%s:1: there is no column %q; %s", g.t.File, said[attr], hint)
		}
		switch {
		case attr == "active":
			if !g.words(i, false) {
				return fmt.Errorf(
					"%s: the column %s does not hold two words, of which one is for accounts that are open",
					g.t.File,
					said[attr],
				)
			}
		case kinds[attr] != nil:
			g.out[i].Split = g.split(i)
		case g.people.Column(attr) != nil:
			g.out[i].Follows = attr
		case attr != "lastActive":
			return fmt.Errorf(
				"no attribute of people is called %q, and it is none of active, groups, roles, licenses and "+
					"lastActive",
				attr,
			)
		}
		g.out[i].Attr, g.out[i].Why, g.taken[attr] = attr, "as said", true
	}
	return nil
}

// identities are attributes of people by which accounts may be known.
var identities = []string{"userName", "email", "id", "employeeNumber", "externalId"}

// match finds the column that accounts are known by: all its values differ, and the most of
// them are people's.
func (g *guesser) match() error {
	best, hits := -1, -1
	by := ""
	only := slices.IndexFunc(g.out, func(c Column) bool { return slices.Contains(identities[:1], c.Attr) })
	for i, h := range g.t.Header {
		if h == "" || only >= 0 && i != only || !g.differ(i) || g.out[i].Attr != "" && g.out[i].Follows == "" {
			continue
		}
		named := logins(h)
		for _, attr := range identities {
			index, _ := g.people.Index(attr)
			n := 0
			if index != nil {
				for r := range g.t.Rows {
					if v := strings.TrimSpace(g.t.Rows[r].Cells[i]); v != "" && index.Find(v) >= 0 {
						n++
					}
				}
			}
			if n > hits && (n > 0 || named) || n == hits && n > 0 && named && attr == "userName" {
				best, hits, by = i, n, attr
			}
		}
	}
	if best < 0 {
		return fmt.Errorf(
			"%s: no column tells accounts apart and is called like a user name, so nothing can be matched; "+
				"describe the application by hand, see docs/files.md",
			g.t.File,
		)
	}
	g.key, g.by = best, by
	index, _ := g.people.Index(by)
	for r := range g.t.Rows {
		p := -1
		if index != nil {
			p = index.Find(strings.TrimSpace(g.t.Rows[r].Cells[best]))
		}
		g.persons = append(g.persons, p)
	}
	g.attr = by
	if by == "email" && logins(g.t.Header[best]) { // people sign in with their address, and may have it in a column of its own
		g.attr = "userName"
	}
	g.out[best].Attr, g.taken[g.attr] = g.attr, true
	g.out[best].Follows = by
	g.out[best].Why = fmt.Sprintf("tells accounts apart; %d of %d are people's %s", hits, len(g.t.Rows), by)
	return nil
}

// logins reports whether a column is called like one of user names.
func logins(header string) bool {
	return slices.Contains(
		[]string{"login", "user", "username", "account", "uid", "userid", "loginname", "userprincipalname"}, table.Likeness(header),
	)
}

// splits takes what somebody says about what separates names.
func (g *guesser) splits(said map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(said)) {
		i := g.t.Column(name)
		if i < 0 {
			return fmt.Errorf("%s:1: there is no column %q; its columns are %s", g.t.File, name, strings.Join(g.t.Header, ", "))
		}
		c := &g.out[i]
		if kinds[c.Attr] == nil {
			return fmt.Errorf("%s: the column %s is taken as %s, which has one value; say what it is, for example --map groups=%s",
				g.t.File, name, cmp.Or(c.Attr, "nothing"), name)
		}
		c.Split = said[name]
		if c.Why = "as you say; names separated by " + strconv.Quote(c.Split); c.Split == "" {
			c.Why = "as you say; one name a cell"
		}
	}
	return nil
}

// differ reports whether the values of a column tell accounts apart: none is missing, and
// hardly one stands twice.
func (g *guesser) differ(i int) bool {
	values := map[string]bool{}
	for r := range g.t.Rows {
		v := table.Fold(strings.TrimSpace(g.t.Rows[r].Cells[i]))
		if v == "" {
			return false
		}
		values[v] = true
	}
	return len(values) > 0 && len(values)*10 >= len(g.t.Rows)*9
}

// distinct are the values of a column, no more than most of them.
func (g *guesser) distinct(i, most int) ([]string, bool) {
	var out []string
	values := map[string]int{}
	for r := range g.t.Rows {
		v := g.t.Rows[r].Cells[i]
		if values[v]++; values[v] == 1 {
			if out = append(out, v); len(out) > most {
				return nil, false
			}
		}
	}
	slices.SortFunc(out, func(x, y string) int { return values[y] - values[x] })
	return out, true
}

// things takes a column as one of groups, roles or licenses.
func (g *guesser) things(i int) bool {
	like := table.Likeness(g.t.Header[i])
	for _, kind := range []string{"groups", "roles", "licenses"} {
		if g.taken[kind] || !slices.Contains(kinds[kind], like) {
			continue
		}
		g.taken[kind] = true
		g.out[i].Attr, g.out[i].Split = kind, g.split(i)
		g.out[i].Why = "called so; one name a cell"
		if g.out[i].Split != "" {
			g.out[i].Why = fmt.Sprintf("called so; names separated by %q", g.out[i].Split)
		}
		return true
	}
	return false
}

// several takes a column for groups whose cells hold several names that stand in others too,
// whatever it is called.
func (g *guesser) several(i int) bool {
	if g.taken["groups"] {
		return false
	}
	s := g.split(i)
	if s == "" || s == " " {
		return false
	}
	names := map[string]int{}
	cells := 0
	for r := range g.t.Rows {
		if cell := g.t.Rows[r].Cells[i]; cell != "" {
			cells++
			for n := range strings.SplitSeq(cell, s) {
				names[strings.TrimSpace(n)]++
			}
		}
	}
	if len(names)*2 > cells {
		return false
	}
	g.taken["groups"] = true
	g.out[i].Attr, g.out[i].Split = "groups", s
	g.out[i].Why = fmt.Sprintf("holds several names that stand in many cells, separated by %q", s)
	return true
}

// A separator may stand between names; a weak one stands within names as well.
type separator struct {
	text string
	weak bool
}

var separators = []separator{{";", false}, {",", false}, {"|", false}, {"\n", false}, {" / ", true}, {"/", true}, {"+", true}, {"&", true}, {" ", true}}

// split guesses the separator of names in a column: the one that results in the largest share of names which appear in other
// cells, too; "" if there is none.
func (g *guesser) split(i int) string {
	best, share, most := "", 0.0, 0
	for _, s := range separators {
		whole, parts := map[string]bool{}, map[string]int{}
		cut := 0
		for r := range g.t.Rows {
			cell := strings.TrimSpace(g.t.Rows[r].Cells[i])
			if !strings.Contains(cell, s.text) {
				whole[cell] = true
				continue
			}
			cut++
			for p := range strings.SplitSeq(cell, s.text) {
				parts[strings.TrimSpace(p)]++
			}
		}
		again := 0
		for p, n := range parts {
			if whole[p] || n > 1 {
				again++
			}
		}
		if cut == 0 || again == 0 {
			continue
		}
		of := float64(again) / float64(len(parts))
		if s.weak && of <= 0.7 || s.text == " " && best != "" {
			continue
		}
		if best == "" || of > share && (s.weak || cut*2 > most) || of == share && cut > most {
			best, share, most = s.text, of, cut
		}
	}
	if best == "" { // a single cell of two names is told by nothing but the sign
		for _, s := range []string{";", "|"} {
			for r := range g.t.Rows {
				if strings.Contains(g.t.Rows[r].Cells[i], s) {
					return s
				}
			}
		}
	}
	return best
}

// attribute takes a column as an attribute of accounts: the one of people whose values it has
// the most, else the one that it is called like.
func (g *guesser) attribute(i int) {
	h := g.t.Header[i]
	best, hits, of := "", 0, 0
	for _, attr := range g.people.Attributes() {
		if g.taken[attr] || attr == "starts" || attr == "ends" || strings.HasPrefix(attr, "away") {
			continue
		}
		col := g.people.Column(attr)
		n, all, values := 0, 0, map[string]bool{}
		for r, p := range g.persons {
			v := g.t.Rows[r].Cells[i]
			if p < 0 || v == "" || col.At(p) == "" {
				continue
			}
			all++
			if table.Fold(col.At(p)) == table.Fold(v) {
				n++
				values[table.Fold(v)] = true
			}
		}
		if (n*5 >= all*4 || n*2 > all && table.Likeness(attr) == table.Likeness(h)) && n > hits &&
			(len(values) > 1 || all < 3 || table.Likeness(attr) == table.Likeness(h)) {
			best, hits, of = attr, n, all
		}
	}
	if best != "" {
		g.taken[best] = true
		g.out[i].Attr, g.out[i].Follows = best, best
		g.out[i].Why = fmt.Sprintf("%d of %d are the %s of whoever has the account", hits, of, best)
		return
	}
	g.out[i].Why = "left out; Pravet does not touch it"
}
