package show

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/tree"
	"github.com/charmbracelet/x/ansi"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// Answer writes what a person has, should have, and why: as a tree from the
// person to rules, to kits, to things, to what they bring along.
func (p *Printer) Answer(a *access.Answer) {
	head := Strong(words.Clean(a.Name)) + "  " + Dim(words.Clean(a.ID)+"  "+words.Clean(a.UserName))
	if a.Title != "" {
		head += "  " + words.Clean(a.Title)
	}
	if a.Stage != "here" {
		head += "  " + Alarm(a.Stage)
	}
	root := branch(head + said(a.Place))
	for i := range a.Kits {
		root.Child(p.kitBranch(&a.Kits[i]))
	}
	if len(a.Others) > 0 {
		others := branch("held directly; no kit gives it")
		for i := range a.Others {
			others.Child(itemBranch(&a.Others[i], true))
		}
		root.Child(others)
	}
	if len(a.Defaults) > 0 {
		defaults := branch("by default; no kit gives another")
		for i := range a.Defaults {
			defaults.Child(itemBranch(&a.Defaults[i], true))
		}
		root.Child(defaults)
	}
	if a.Thing != "" && len(a.Lacks) > 0 {
		lacks := branch(words.Clean(a.Thing) + " is not due:")
		for _, r := range a.Lacks {
			lacks.Child(p.placed(words.Clean(r.Says), r.Place))
		}
		root.Child(lacks)
	}
	for _, r := range a.Apart {
		root.Child(Alarm("kept apart") + strings.TrimPrefix(p.placed(words.Clean(r.Says), r.Place), "kept apart"))
	}
	if len(a.Kits)+len(a.Others)+len(a.Defaults)+len(a.Lacks) == 0 {
		root.Child(Dim("no kit, and nothing held"))
	}
	for _, line := range strings.Split(root.String(), "\n") {
		p.branched(strings.TrimRight(line, " "))
	}
	if len(a.Accounts) > 0 {
		p.Line()
		p.Print(tableOf(a.Accounts, columns("application", "account", "is", "and"), func(x *access.Account) []any {
			return []any{x.App, x.Account, x.State, x.Should}
		}))
	}
}

// branched writes a line of a tree; what is too long goes on below, under where its
// text begins.
func (p *Printer) branched(line string) {
	for lipgloss.Width(line) > p.columns {
		text := []rune(ansi.Strip(line))
		begin := slices.IndexFunc(text, func(r rune) bool { return !strings.ContainsRune("│├╰─ ", r) })
		cut := 0 // the last space that leaves the line short enough
		for i := begin + 1; i < len(text); i++ {
			if text[i] == ' ' && lipgloss.Width(string(text[:i])) <= p.columns {
				cut = lipgloss.Width(string(text[:i]))
			}
		}
		if begin < 0 || cut == 0 {
			break
		}
		p.Line(strings.TrimRight(ansi.Cut(line, 0, cut), " "))
		margin := strings.Repeat(" ", lipgloss.Width(string(text[:begin]))+2)
		line = margin + strings.TrimLeft(ansi.Cut(line, cut+1, lipgloss.Width(line)), " ")
	}
	p.Line(line)
}

// branch is a node of a tree, drawn with thin lines.
func branch(text string) *tree.Tree {
	return tree.Root(text).
		Enumerator(tree.RoundedEnumerator).
		EnumeratorStyle(dim.PaddingRight(1)).
		IndenterStyle(dim.PaddingRight(1))
}

// fold breaks a long text, so that a tree stays within the width.
func (p *Printer) fold(text string) string { return wrap(text, p.columns-16) }

// placed is a text with where it is said: behind it, or below where it is long.
func (p *Printer) placed(text string, at access.Place) string {
	where := said(at)
	if lipgloss.Width(text)+lipgloss.Width(where) <= p.columns-8 {
		return text + where
	}
	return p.fold(text) + "\n" + where
}

func (p *Printer) kitBranch(k *access.HeldKit) *tree.Tree {
	rule := k.Reasons[len(k.Reasons)-1]
	out := branch(p.placed(words.Clean(rule.Says), rule.Place))
	at := out
	for i := len(k.Reasons) - 2; i >= 0; i-- { // kits that come with others
		next := branch(words.Clean(k.Reasons[i].Says) + said(k.Reasons[i].Place))
		at.Child(next)
		at = next
	}
	for i := range k.Gives {
		at.Child(itemBranch(&k.Gives[i], false))
	}
	return out
}

func itemBranch(x *access.Item, placed bool) any {
	text := words.Clean(x.Thing) + "  " + stateWord(x.State)
	if x.Rejected != "" {
		text += ", " + words.Clean(x.Rejected)
	}
	if placed {
		text += said(x.Place)
	}
	if len(x.Brings) == 0 {
		return text
	}
	out := branch(text)
	for i := range x.Brings {
		out.Child(itemBranch(&x.Brings[i], false))
	}
	return out
}

// stateWord colours where someone stands with a thing by what is to become of
// it.
func stateWord(state string) string {
	switch state {
	case access.ToCome:
		return Effect(model.Widens, state)
	case access.ToGo:
		return Effect(model.Narrows, state)
	case access.NotDue:
		return Dim(state)
	}
	return state
}

// said is where something is said, and who changed that last.
func said(p access.Place) string {
	if p.File == "" {
		return ""
	}
	text := words.Clean(p.File)
	if p.Line > 0 {
		text += fmt.Sprintf(":%d", p.Line)
	}
	switch {
	case p.ChangedBy != "":
		text += fmt.Sprintf(", %s on %s", words.Clean(p.ChangedBy), p.ChangedOn)
	case p.Commit != "":
		text += ", " + p.Commit
	}
	return "  " + Dim(text)
}

// AnswerTable is the answer as a table: a row for each thing and way to it.
func AnswerTable(a *access.Answer) *Table {
	t := &Table{
		Columns: both("person", "rule", "kit", "thing", "through", "state", "file", "line", "changedBy", "changedOn"), Items: a,
	}
	row := func(rule *access.Reason, kit, thing, through, state string) {
		t.add(a.ID, rule.Says, kit, thing, through, state, rule.File, line(rule.Line), rule.ChangedBy, rule.ChangedOn)
	}
	var add func(rule *access.Reason, kit, through string, x *access.Item)
	add = func(rule *access.Reason, kit, through string, x *access.Item) {
		row(rule, kit, x.Thing, through, x.State)
		for i := range x.Brings {
			add(rule, kit, strings.TrimPrefix(through+" > "+x.Thing, " > "), &x.Brings[i])
		}
	}
	for _, k := range a.Kits {
		for i := range k.Gives {
			add(&k.Reasons[len(k.Reasons)-1], k.Kit, "", &k.Gives[i])
		}
	}
	for _, list := range [][]access.Item{a.Others, a.Defaults} {
		for i := range list {
			add(&access.Reason{Place: list[i].Place}, "", "", &list[i])
		}
	}
	for i := range a.Apart {
		row(&a.Apart[i], "", "", "", "")
	}
	for i := range a.Lacks {
		row(&a.Lacks[i], "", a.Thing, "", access.NotDue)
	}
	return t
}

func line(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}
