package adopt

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
	"pravet/internal/desired"
)

// kinds are what columns that hold groups, roles and licenses are called.
var kinds = map[string][]string{
	"groups": {
		"group", "groups", "team", "teams", "list", "lists", "membership", "memberships", "memberof", "unit",
		"units",
	},
	"roles": {
		"role", "roles", "profile", "profiles", "right", "rights", "permission", "permissions", "access",
		"privileges", "authority",
	},
	"licenses": {"license", "licenses", "licence", "licences", "seat", "seats", "plan", "subscription", "edition"},
}

// seen are what columns are called that tell when somebody was there last.
var seen = []string{"lastseen", "lastactive", "lastlogin", "lastsignin", "lastlogon", "lastaccess", "lastused", "seen"}

// states are what columns are called that tell whether an account is open.
var states = []string{
	"state", "status", "active", "enabled", "signin", "blocked", "locked", "disabled", "accountstatus", "isactive",
}

// state takes a column as that of whether accounts are open.
func (g *guesser) state(i int) bool {
	like := table.Likeness(g.t.Header[i])
	if !slices.Contains(states, like) || g.taken["active"] {
		return false
	}
	return g.words(i, slices.Contains([]string{"blocked", "locked", "disabled"}, like))
}

// words finds the words by which a column says that accounts are open or blocked; turned says
// that yes means blocked there, as under Locked. A word such as locked means the same anywhere.
func (g *guesser) words(i int, turned bool) bool {
	values, few := g.distinct(i, 2)
	if !few {
		return false
	}
	yes, no := "", ""
	found := [2]bool{}
	for _, v := range values {
		word := strings.ToLower(strings.TrimSpace(v))
		open, blocked := slices.Contains(openWords, word), slices.Contains(blockedWords, word)
		if turned && slices.Contains(answers, word) {
			open, blocked = blocked, open
		}
		switch {
		case open:
			yes, found[0] = v, true
		case blocked:
			no, found[1] = v, true
		default:
			return false
		}
	}
	if !found[0] && !found[1] {
		return false
	}
	if !found[0] {
		yes = opposite(no)
	}
	if !found[1] {
		no = opposite(yes)
	}
	g.taken["active"] = true
	g.out[i].Attr, g.out[i].Yes, g.out[i].No = "active", yes, no
	g.out[i].Why = fmt.Sprintf("called so; %s is open, %s is blocked", orEmpty(yes), orEmpty(no))
	return true
}

// opposite is a word for the other state, where no account is in it.
func opposite(word string) string {
	for _, pair := range [][2]string{
		{"active", "inactive"}, {"open", "blocked"}, {"yes", "no"}, {"true", "false"}, {"enabled", "disabled"}, {"1", "0"},
		{"y", "n"},
	} {
		switch {
		case strings.EqualFold(word, pair[0]):
			return like(word, pair[1])
		case strings.EqualFold(word, pair[1]):
			return like(word, pair[0])
		}
	}
	if word == "" {
		return "x"
	}
	return ""
}

// like writes a word with a large first letter where another has one.
func like(word, other string) string {
	if word[0] >= 'A' && word[0] <= 'Z' {
		return strings.ToUpper(other[:1]) + other[1:]
	}
	return other
}

func orEmpty(s string) string {
	if s == "" {
		return "an empty cell"
	}
	return s
}

// forms are how dates are often written.
var forms = []string{
	"DD.MM.YYYY", "YYYY/MM/DD", "DD/MM/YYYY", "MM/DD/YYYY", "DD.MM.YYYY hh:mm", "YYYY-MM-DD hh:mm",
	"YYYY-MM-DD hh:mm:ss",
}

// last takes a column as that of when somebody was there last.
func (g *guesser) last(i int) bool {
	if g.taken["lastActive"] || !slices.Contains(seen, table.Likeness(g.t.Header[i])) {
		return false
	}
	fits := func(ok func(v string) bool) bool {
		n := 0
		for r := range g.t.Rows {
			if v := strings.TrimSpace(g.t.Rows[r].Cells[i]); v != "" {
				if !ok(v) {
					return false
				}
				n++
			}
		}
		return n > 0
	}
	g.taken["lastActive"] = true
	g.out[i].Attr, g.out[i].Why = "lastActive", "called so"
	if fits(func(v string) bool {
		_, err := day.Parse(v[:min(len(v), 10)])
		return err == nil && (len(v) == 10 || v[10] == 'T')
	}) {
		return true
	}
	for _, form := range forms {
		layout, err := desired.DateForm(form)
		if err == nil && fits(func(v string) bool { return parses(layout, v) }) {
			g.out[i].Date, g.out[i].Why = form, "called so; dates like "+form
			return true
		}
	}
	g.out[i].Why = "called so; its values are no dates that can be read"
	return true
}
