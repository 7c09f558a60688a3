package words

import (
	"fmt"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
)

// Cause says what changes follow from: the line that changed, or the people's rows
// that did.
func Cause(c *outline.Cause) string {
	return cause(c, func(e *outline.Edit) string {
		text := fmt.Sprintf("changed by %s on %s", Clean(e.By), e.On)
		if e.Commit != "" && e.Subject != "" {
			text += fmt.Sprintf(" in %s, %q", e.Commit[:min(8, len(e.Commit))], Clean(e.Subject))
		}
		return text
	})
}

// CauseInShort says it in a column.
func CauseInShort(c *outline.Cause) string {
	return cause(c, func(e *outline.Edit) string {
		text := Clean(e.By) + " " + e.On
		if e.Subject != "" {
			text += ": " + Clean(e.Subject)
		}
		return text
	})
}

func cause(c *outline.Cause, edited func(*outline.Edit) string) string {
	switch c.Kind {
	case outline.Moved:
		switch {
		case c.Was == "" && c.Is == "":
			return c.Attribute + " changed"
		case c.Was == "":
			return fmt.Sprintf("%s is %q and was empty", c.Attribute, Clean(c.Is))
		case c.Is == "":
			return fmt.Sprintf("%s was %q and is empty", c.Attribute, Clean(c.Was))
		}
		return fmt.Sprintf("%s was %q, now %q", c.Attribute, Clean(c.Was), Clean(c.Is))
	case outline.Joined:
		return "new in the people files"
	case outline.Staged:
		text := map[string]string{
			string(fact.Ended):  "no longer here",
			string(fact.Away):   "away",
			string(fact.NotYet): "not here yet",
		}[c.Attribute]
		switch {
		case c.Edit == nil:
			return text
		case c.Edit.By == "":
			return text + ", not committed yet"
		}
		return text + ", " + edited(c.Edit)
	case outline.Valued:
		if strings.HasPrefix(c.Attribute, "the ") { // that an application's file gives to all
			return c.Attribute
		}
		return c.Attribute + " in the people files"
	}
	if c.File == "" {
		return "no line of the files"
	}
	place := fmt.Sprintf("%s:%d", Clean(c.File), c.Line)
	switch {
	case c.Unchanged && c.Facts != nil && c.Facts.Kind == fact.OnPath:
		return place + ", a step whose day has come"
	case c.Unchanged:
		return place + ", as before"
	case c.Edit == nil:
		return place
	case c.Edit.By == "":
		return place + ", not committed yet"
	}
	return place + ", " + edited(c.Edit)
}

// Alike says what the changes of a fold do, without the people.
func Alike(f *outline.Fold) string {
	what := f.Verb.String()
	switch {
	case f.Verb == model.Redefine:
		what += fmt.Sprintf(" %s (%s)", Thing(f.Thing), f.Attribute)
	case f.Thing != nil:
		what += " " + Thing(f.Thing)
	case f.Verb == model.Update:
		what += " " + f.Attribute
	default:
		what += " " + model.Plural(len(f.Changes), "account", "accounts")
	}
	what = f.App + ": " + what
	if f.ForGood {
		what += ", for good"
	}
	return what
}

// Who names the first people of a fold and counts the rest; "" for a definition.
func Who(f *outline.Fold) string {
	names := make([]string, len(f.People))
	for i, n := range f.People {
		names[i] = Clean(n)
	}
	text := strings.Join(names, ", ")
	if more := f.Persons - len(names); more > 0 {
		text += " and " + model.Thousands(more) + " more"
	}
	return text
}

// Marked says why changes deserve a look.
func Marked(m outline.Mark) string {
	return map[outline.Mark]string{
		outline.ForGood:   "cannot be undone",
		outline.Sensitive: "sensitive",
		outline.First:     "nobody has it yet",
		outline.Nobodys:   "nobody's account",
		outline.Defined:   "by a definition, for everyone who has it",
		outline.Far:       "by a kit that comes along with another",
		outline.Alone:     "the only one of its kind",
	}[m]
}
