package show

import (
	"fmt"
	"strings"

	"pravet/internal/adopt"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desired"
)

// AdoptedJSON is how an application is taken over, for programs.
func AdoptedJSON(a *adopt.Application, repo *desired.Repo) any {
	type guess struct {
		Account string `json:"account"`
		Person  string `json:"person"`
		Score   int    `json:"score"`
		Why     string `json:"why"`
		Taken   bool   `json:"taken"`
	}
	type kit struct {
		Kit     string   `json:"kit"`
		Thing   string   `json:"thing"`
		Into    string   `json:"into,omitempty"`
		Holders []string `json:"holders"`
	}
	out := struct {
		App      string         `json:"app"`
		Columns  []adopt.Column `json:"columns"`
		Accounts []guess        `json:"accounts"`
		Alone    []adopt.Alone  `json:"alone"`
		Kits     []kit          `json:"kits"`
		Differ   []adopt.Differ `json:"differ"`
	}{a.ID, a.Columns, []guess{}, append([]adopt.Alone{}, a.Alone...), []kit{}, append([]adopt.Differ{}, a.Differ...)}
	for i := range a.Guesses {
		g := &a.Guesses[i]
		who := ""
		if g.Person >= 0 {
			who = repo.People.Get(g.Person, "id")
		}
		out.Accounts = append(out.Accounts, guess{g.Key, who, g.Score, g.Why, a.Taken[i]})
	}
	for _, k := range a.Kits {
		x := kit{Kit: k.Name, Into: k.Into, Holders: []string{}}
		if k.Thing != nil {
			x.Thing = a.ID + "/" + strings.TrimSuffix(k.Thing.Kind, "s") + "/" + k.Thing.Name
		}
		for _, p := range k.Holders {
			x.Holders = append(x.Holders, repo.People.Get(p, "id"))
		}
		out.Kits = append(out.Kits, x)
	}
	return out
}

// AdoptedTable is whose the accounts are, and which are left alone.
func AdoptedTable(a *adopt.Application, repo *desired.Repo) *Table {
	t := &Table{Columns: both("account", "person", "name", "score", "taken", "why", "alone")}
	alone := map[string]string{}
	for _, x := range a.Alone {
		alone[x.Account] = x.Why
	}
	for i := range a.Guesses {
		g := &a.Guesses[i]
		id, name := "", ""
		if g.Person >= 0 {
			id, name = repo.People.Get(g.Person, "id"), repo.People.Called(g.Person)
		}
		t.add(g.Key, id, name, g.Score, a.Taken[i], g.Why, alone[g.Key])
	}
	return t
}

// Adopted writes how an application is taken over.
func (p *Printer) Adopted(a *adopt.Application, repo *desired.Repo, full bool) {
	p.Line(
		Strong(words.Clean(a.ID)) + "  " + Dim(
			words.Clean(fmt.Sprintf("from %s, %s", a.Export, model.Count(len(a.Guesses), "account", "accounts"))),
		),
	)
	p.Line()
	t := &Table{Columns: columns("column", "is taken as", "why")}
	for _, c := range a.Columns {
		attr := c.Attr
		if attr == "" {
			attr = "(left out)"
		}
		t.add(c.Header, attr, c.Why)
	}
	if a.Kept == nil {
		p.Print(t)
	} else {
		p.wrapped("", "Its file stays as it is; only kits are made, and whose accounts are whose is written into it.", nil)
	}
	p.whose(a, repo, full)
	p.leftAlone(a, full)
	p.takenKits(a, full)
	p.Line()
	for _, d := range a.Differ {
		p.wrapped("", words.Clean(fmt.Sprintf("%s differs from the files in %s, so it is left alone: %s.",
			d.Attr, model.Count(d.Count, "account", "accounts"), d.Example)), nil)
	}
	p.guessedSensitive(a)
	if n := len(a.Left); n > 0 {
		p.wrapped("", fmt.Sprintf("The next draft of %s will have %s, because of what the file says of attributes and definitions (verified "+
			"with a trial draft): %s.", words.Clean(a.ID), model.Count(n, "change", "changes"), strings.Join(a.Left[:min(n, 3)], "; ")), nil)
		return
	}
	p.Linef("The next draft of %s will have no changes (verified with a trial draft).", words.Clean(a.ID))
}

// guessedSensitive says what is taken for sensitive, and asks whether that is right.
func (p *Printer) guessedSensitive(a *adopt.Application) {
	if a.Kept != nil || len(a.Things) == 0 {
		return
	}
	var guessed []string
	for i := range a.Things {
		if t := &a.Things[i]; t.Why != "" {
			guessed = append(guessed, fmt.Sprintf("%s/%s (its name has %q in it)", strings.TrimSuffix(t.Kind, "s"), words.Clean(t.Name), t.Why))
		}
	}
	text := "Nothing is marked as sensitive, because no name contains admin, root or owner. Is that right? Mark things with --sensitive KIND/NAME."
	if len(guessed) > 0 {
		text = "Marked as sensitive because of the name: " + strings.Join(guessed, ", ") +
			". Is this list complete and right? Correct it with --sensitive KIND/NAME or --not-sensitive KIND/NAME."
	}
	p.wrapped("", text, nil)
}

// whose writes whose the accounts are.
func (p *Printer) whose(a *adopt.Application, repo *desired.Repo, full bool) {
	certain, said, nobody := 0, 0, 0
	t := &Table{Columns: columns("account", "may be", "score", "why", "")}
	t.Columns[2].Number = true
	for i := range a.Guesses {
		g := &a.Guesses[i]
		switch {
		case g.Certain():
			certain++
			continue
		case a.Taken[i]:
			said++
		default:
			nobody++
		}
		who, yes := "nobody's", ""
		if g.Person >= 0 {
			who = repo.People.Called(g.Person) + " (" + repo.People.Get(g.Person, "id") + ")"
			if yes = "--yes " + g.Key; a.Taken[i] {
				yes = "yes"
			}
		}
		score := ""
		if g.Score > 0 {
			score = fmt.Sprintf("%d%%", g.Score)
		}
		t.add(g.Key, who, score, g.Why, yes)
	}
	p.Line()
	p.Linef(
		"%s sure by name, email or a former name, %s by your word, %s.",
		model.Count(certain, "account is", "accounts are"),
		model.Thousands(said),
		model.Count(nobody, "is nobody's so far", "are nobody's so far"),
	)
	if rest := len(t.Rows) - mostRows; rest > 0 && !full {
		t.Rows = t.Rows[:mostRows]
		p.Print(t)
		p.Line(Dim("and " + model.Thousands(rest) + " more; --full shows them all"))
	} else if len(t.Rows) > 0 {
		p.Print(t)
	}
}

func (p *Printer) leftAlone(a *adopt.Application, full bool) {
	if len(a.Alone) == 0 {
		return
	}
	p.Line()
	p.Linef(
		"%s alone until you take %s out of alone in apps/%s.yaml:",
		model.Count(len(a.Alone), "account is left", "accounts are left"),
		model.Plural(len(a.Alone), "it", "them"),
		words.Clean(a.ID),
	)
	for i, x := range a.Alone {
		if i == mostRows && !full {
			p.Line(Dim(fmt.Sprintf("  and %s more; --full shows them all", model.Thousands(len(a.Alone)-i))))
			break
		}
		p.wrapped("  ", words.Clean(x.Account+" "+x.Why), nil)
	}
}

func (p *Printer) takenKits(a *adopt.Application, full bool) {
	t := &Table{Columns: columns("kit", "gives", "to", "how")}
	for _, k := range a.Kits {
		thing, name, how := "an account", k.Name, "by name"
		if k.Thing != nil {
			thing = strings.TrimSuffix(k.Thing.Kind, "s") + " " + k.Thing.Name
			if k.Thing.Sensitive {
				thing += " (sensitive)"
			}
		}
		if k.Into != "" {
			name, how = k.Into, "by its rule, which says the same: "+k.Rule
		}
		t.add(name, thing, model.Count(len(k.Holders), "person", "people"), how)
	}
	if len(t.Rows) == 0 {
		return
	}
	p.Line()
	if len(t.Rows) > mostRows && !full {
		rest := len(t.Rows) - mostRows
		t.Rows = t.Rows[:mostRows]
		defer p.Line(Dim("and " + model.Thousands(rest) + " more kits; --full shows them all"))
	}
	p.Print(t)
}
