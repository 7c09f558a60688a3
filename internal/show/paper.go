package show

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/report"
	"pravet/internal/core/words"
)

// A Paper is a plan on one page that needs nothing else: to be read, and decided about, by those who have no command line.
type Paper struct {
	Plan        *plan.Plan
	Changes     []*plan.Change // what is on it, in the plan's order
	Outline     *outline.Outline
	State       func(c *plan.Change) string // what is decided about a change, or that it is held
	Value       func(c *plan.Change, attribute string) string
	Groupings   []string // what changes can be grouped by, attributes of people after the first six
	Seats       []SeatRow
	Costs       []plan.Cost
	Waiting     []string // for whom something waits, in words
	Environment string   // "" for the usual one
	Here        string   // how statements call the environment
	Day         string
	Signed      bool
	Namespace   string
	ForID, For  string
}

// A SeatRow is how the seats of a license are used before and after.
type SeatRow struct {
	Name                  string
	Before, After, Bought string
}

//go:embed paper/paper.html
var paperHTML string

//go:embed paper/paper.css
var paperCSS string

//go:embed paper/paper.js
var paperJS string

var paperTemplate = template.Must(template.New("paper").Parse(paperHTML))

// paperMark is what tells a page of ours.
const paperMark = `<meta name="generator" content="Pravet review page">`

// IsPaper reports whether a file is a page that Paper wrote.
func IsPaper(data []byte) bool {
	return strings.Contains(string(data[:min(len(data), 4096)]), paperMark)
}

// paperChange is a change as the page's script knows it. Members have short names, as there may be many changes.
type paperChange struct {
	ID      string            `json:"i"`
	Number  int               `json:"n"`
	App     string            `json:"a"`
	Person  int               `json:"p"` // number in people, -1 for none
	Account string            `json:"u"`
	Effect  string            `json:"e"`
	Verb    string            `json:"v"`
	Says    string            `json:"s"`
	ForGood bool              `json:"g,omitempty"`
	Holds   []int             `json:"h,omitempty"` // numbers in holds
	Reasons []int             `json:"r,omitempty"`
	Cause   int               `json:"c"`
	Kit     string            `json:"k,omitempty"`
	Thing   string            `json:"t,omitempty"`
	Object  string            `json:"o"` // the address of the thing or the account
	State   string            `json:"d"`
	Mark    string            `json:"m"` // its meaning
	Needs   []string          `json:"x,omitempty"`
	Alike   int               `json:"f"` // number in alike
	Values  map[string]string `json:"q,omitempty"`
}

// A numbering gives texts numbers, each once.
type numbering struct {
	of  map[string]int
	all []string
}

func (n *numbering) number(text string) int {
	if n.of == nil {
		n.of = map[string]int{}
	}
	at, ok := n.of[text]
	if !ok {
		at = len(n.all)
		n.of[text] = at
		n.all = append(n.all, text)
	}
	return at
}

// script is all that the page's script knows.
func (x *Paper) script() ([]byte, error) {
	var causes, reasons, holds, alike numbering
	people, persons := [][2]string{}, map[string]int{}
	folds := map[string]string{}
	for i := range x.Outline.Folds {
		for _, id := range x.Outline.Folds[i].Changes {
			folds[id] = words.Alike(&x.Outline.Folds[i])
		}
	}
	here := map[string]bool{}
	for _, c := range x.Changes {
		here[c.ID] = true
	}
	changes := make([]paperChange, 0, len(x.Changes))
	for _, c := range outline.Listed(x.Plan, x.Changes) {
		p := paperChange{
			ID: c.ID, Number: x.Outline.Number(c.ID), App: c.App, Person: -1, Account: c.Account, Effect: c.Effect.String(), Verb: c.Verb.String(),
			Says: words.Sentence(x.Plan, c), ForGood: c.ForGood, Cause: causes.number(words.Cause(x.Outline.CauseOf(c.ID))),
			Kit: outline.Kit(x.Plan, c), Object: c.Address().String(), State: x.State(c), Mark: x.Plan.Meaning(c), Alike: alike.number(folds[c.ID]),
		}
		if c.Thing != nil {
			p.Thing = p.Object
		}
		if c.Person != "" {
			at, ok := persons[c.Person]
			if !ok {
				at = len(people)
				persons[c.Person] = at
				people = append(people, [2]string{c.Person, words.Clean(x.Plan.People[c.Person])})
			}
			p.Person = at
			for _, a := range x.Groupings[min(paperGroupings, len(x.Groupings)):] {
				if v := x.Value(c, a); v != "" {
					if p.Values == nil {
						p.Values = map[string]string{}
					}
					p.Values[a] = words.Clean(v)
				}
			}
		}
		for _, r := range x.Plan.Because(c) {
			says := words.Clean(r.Says)
			if r.File != "" {
				says = fmt.Sprintf("%s:%d %s", words.Clean(r.File), r.Line, says)
			}
			p.Reasons = append(p.Reasons, reasons.number(says))
		}
		for _, text := range []string{words.With(c), words.Means(c)} {
			if text != "" {
				p.Reasons = append(p.Reasons, reasons.number(text))
			}
		}
		for _, h := range c.Holds {
			p.Holds = append(p.Holds, holds.number(h.Guard+": "+words.Clean(h.Says)))
		}
		for _, need := range c.Needs {
			if here[need] {
				p.Needs = append(p.Needs, need)
			}
		}
		changes = append(changes, p)
	}
	return json.Marshal(map[string]any{
		"plan": x.Plan.ID, "digest": x.Plan.Digest, "organization": x.Plan.Organization, "environment": x.Here, "namespace": x.Namespace,
		"causes": causes.all, "reasons": reasons.all, "holds": holds.all, "alike": alike.all, "people": people, "changes": changes,
	})
}

// paperGroupings is how many of the groupings are none of people's attributes.
const paperGroupings = 6

// rows of tables of the page.
type (
	paperFact struct {
		Number, Says string
		Alarm        bool
	}
	paperRow struct{ Number, App, Guard, Says, Why, First, What, Who, Because string }
	paperApp struct {
		Name                                  string
		Changes, Widens, Narrows, Keeps, Held string
	}
)

// mostPaperCauses is how many rows of causes the page has for print, and where no script runs.
const mostPaperCauses = 400

// HTML writes the page.
func (x *Paper) HTML(w io.Writer) error {
	data, err := x.script()
	if err != nil {
		return err
	}
	t := plan.Count(values(x.Changes))
	view := map[string]any{
		"Title": "Plan " + x.Plan.ID + " of " + x.Plan.AsOf, "Organization": x.Plan.Organization, "For": x.For, "By": x.ForID,
		"Made": x.made(), "Sentences": x.sentences(t), "Seats": x.Seats, "Groupings": x.Groupings, "SignSays": x.signing(),
		"Style": template.CSS(paperCSS), "StyleHash": template.HTMLAttr(hashOf(paperCSS)), //nolint:gosec // our own file
		"Script": template.JS(paperJS), "ScriptHash": template.HTMLAttr(hashOf(paperJS)), //nolint:gosec // our own file
		"Data": template.JS(data), //nolint:gosec // JSON in which <, > and & are escaped
	}
	number := model.Thousands
	view["Facts"] = []paperFact{
		{number(t.Changes), model.Plural(t.Changes, "change", "changes"), false}, {number(t.Widens), model.Plural(t.Widens, "widens", "widen") + " access", false},
		{number(t.Narrows), model.Plural(t.Narrows, "narrows", "narrow") + " access", false}, {number(t.Keeps), model.Plural(t.Keeps, "leaves", "leave") + " it as it is", false},
		{number(t.Held), model.Plural(t.Held, "is", "are") + " held", t.Held > 0}, {number(t.ForGood), "cannot be undone", t.ForGood > 0},
	}
	byID := map[string]*plan.Change{}
	for _, c := range x.Changes {
		byID[c.ID] = c
	}
	var held, unusual, causes []paperRow
	for i := range x.Outline.Held {
		h := &x.Outline.Held[i]
		held = append(held, paperRow{Number: number(len(h.Changes)), App: words.Clean(h.App), Guard: h.Guard, Says: words.Clean(h.Says) + others(h)})
	}
	for i := range x.Outline.Unusual {
		u := &x.Outline.Unusual[i]
		row := paperRow{Number: number(len(u.Changes)), Why: words.Marked(u.Mark)}
		if c := byID[u.Changes[0]]; c != nil {
			row.First = words.Sentence(x.Plan, c)
		}
		unusual = append(unusual, row)
	}
	n := 0
	for k, folds := range x.Outline.ByCause() {
		for i := range folds {
			if n++; n <= mostPaperCauses {
				f := &folds[i]
				causes = append(causes, paperRow{
					Number: number(len(f.Changes)), What: words.Alike(f), Who: words.Who(f), Because: words.Cause(&x.Outline.Causes[k]),
				})
			}
		}
	}
	view["Held"], view["Unusual"], view["Causes"], view["CausesSay"] = held, unusual, causes, firstOf(len(causes), n)
	var apps []paperApp
	bars := &report.Table{Unit: "changes"}
	for i := range x.Outline.Counts {
		c := &x.Outline.Counts[i]
		apps = append(apps, paperApp{
			words.Clean(c.App + "  " + c.Title), number(c.Totals.Changes), number(c.Totals.Widens), number(c.Totals.Narrows), number(c.Totals.Keeps),
			number(c.Totals.Held),
		})
		for _, b := range []struct {
			n      int
			effect model.Effect
		}{{c.Totals.Widens, model.Widens}, {c.Totals.Narrows, model.Narrows}, {c.Totals.Keeps, model.Keeps}} {
			if b.n > 0 {
				bars.Bars = append(bars.Bars, report.Bar{Label: c.App + " " + b.effect.String(), Value: float64(b.n), Effect: b.effect})
			}
		}
	}
	view["Apps"] = apps
	svg, says, err := charted(bars)
	if err != nil {
		return err
	}
	view["Chart"], view["ChartSays"] = svg, says
	var costs []string
	for i := range x.Costs {
		costs = append(costs, costSentence(&x.Costs[i]))
	}
	view["Costs"] = costs
	return paperTemplate.Execute(w, view)
}

// values are changes as values.
func values(changes []*plan.Change) []plan.Change {
	out := make([]plan.Change, len(changes))
	for i, c := range changes {
		out[i] = *c
	}
	return out
}

// hashOf is how a content security policy names a script or a style (CSP 3, §2.3.1).
func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}

// made says when the page was made, and from what.
func (x *Paper) made() string {
	text := "Made on " + x.Day
	if x.Plan.Undoes != "" {
		text = "Undoes " + words.Clean(x.Plan.Undoes) + ". " + text
	}
	if r := x.Plan.Desired.Revision; r != "" {
		text += " from revision " + r[:min(10, len(r))]
	}
	if x.Environment != "" {
		text += ", for the environment " + words.Clean(x.Environment)
	}
	return text + "."
}

// sentences say what the plan amounts to, for somebody who reads nothing else.
func (x *Paper) sentences(t plan.Totals) []string {
	people := map[string]bool{}
	for _, c := range x.Changes {
		if c.Person != "" {
			people[c.Person] = true
		}
	}
	out := []string{fmt.Sprintf(
		"%s for %s in %s would be made.", model.Count(t.Changes, "change", "changes"), model.Count(len(people), "person", "people"),
		model.Count(len(x.Outline.Counts), "application", "applications"),
	)}
	out = append(out, fmt.Sprintf(
		"%s access, %s access, and %s it as it is.", model.Count(t.Widens, "widens", "widen"), model.Count(t.Narrows, "narrows", "narrow"),
		model.Count(t.Keeps, "leaves", "leave"),
	))
	switch {
	case t.Held == 0:
		out = append(out, "No guard holds anything.")
	default:
		var by []string
		for i := range x.Outline.Held {
			if h := &x.Outline.Held[i]; i < 3 {
				by = append(by, fmt.Sprintf("%s in %s by %s", model.Thousands(len(h.Changes)), words.Clean(h.App), h.Guard))
			}
		}
		if more := len(x.Outline.Held) - 3; more > 0 {
			by = append(by, fmt.Sprintf("and %d more", more))
		}
		out = append(out, fmt.Sprintf("Guards hold %s: %s.", model.Thousands(t.Held), strings.Join(by, ", ")))
	}
	if t.ForGood == 0 {
		out = append(out, "Everything can be undone afterwards.")
	} else {
		out = append(out, fmt.Sprintf("%s cannot be undone afterwards.", model.Count(t.ForGood, "change", "changes")))
	}
	switch {
	case len(x.Waiting) > 0:
		out = append(out, "To decide: "+strings.Join(x.Waiting, "; ")+".")
	case len(x.Costs) > 0:
		out = append(out, costSentence(&x.Costs[0]))
	default:
		out = append(out, "No license has a price.")
	}
	return out
}

// costSentence is what seats cost before and after.
func costSentence(c *plan.Cost) string {
	if c.Before == c.After {
		return fmt.Sprintf("Seats in use cost %s %s a month, now and afterwards.", c.Before, c.Currency)
	}
	return fmt.Sprintf("Seats in use cost %s %s a month now, and %s afterwards.", c.Before, c.Currency, c.After)
}

// signing says how a decision is signed, and whether it must be.
func (x *Paper) signing() string {
	if x.Signed {
		return "Decisions are signed here. Download the file, sign it with this line, and send both it and the file that ends in .sig."
	}
	return "The file names you and is not signed. To prove that it is yours, sign it with this line, and send the file that ends in .sig along."
}

// others says that the words of a hold are those of the first of several.
func others(h *outline.Held) string {
	if h.Shared || len(h.Changes) < 2 {
		return ""
	}
	return fmt.Sprintf(" (and %s more for reasons of their own)", model.Thousands(len(h.Changes)-1))
}

// firstOf says how many rows a table has of how many.
func firstOf(n, of int) string {
	if n == of {
		return model.Count(n, "row", "rows")
	}
	return fmt.Sprintf("The first %s of %s rows", model.Thousands(n), model.Thousands(of))
}

// charted draws bars, and says what they show for those who cannot see it.
func charted(t *report.Table) (svg template.HTML, says string, err error) {
	if len(t.Bars) == 0 {
		return "", "", nil
	}
	drawn, err := bars(t)
	if err != nil {
		return "", "", err
	}
	var parts []string
	for _, b := range t.Bars {
		parts = append(parts, fmt.Sprintf("%s %s", words.Clean(b.Label), model.Thousands(int(b.Value))))
	}
	return template.HTML(drawn), t.Unit + ": " + strings.Join(parts, ", "), nil //nolint:gosec // drawn here, its texts escaped
}
