package adopt

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pravet/internal/amend"
	"pravet/internal/edit"
)

// Write puts the files of the application into an amendment.
func (a *Application) Write(am *amend.Amendment) error {
	if a.Kept != nil {
		if err := a.amend(am); err != nil {
			return err
		}
	} else if err := am.Create("apps/"+a.ID+".yaml", string(a.text())); err != nil {
		return err
	}
	into := map[string]map[string][]string{} // kit → kind → names
	var lines []string
	because := "held when " + a.ID + " was taken in"
	for _, k := range a.Kits {
		if k.Into != "" {
			if into[k.Into] == nil {
				into[k.Into] = map[string][]string{}
			}
			into[k.Into][k.Thing.Kind] = append(into[k.Into][k.Thing.Kind], k.Thing.Name)
			continue
		}
		gives := "{}"
		title := "An account in " + a.ID + " that holds nothing"
		if k.Thing != nil {
			gives = "{" + k.Thing.Kind + ": [" + edit.Inline(k.Thing.Name) + "]}"
			title = strings.TrimSuffix(k.Thing.Kind, "s") + " " + k.Thing.Name + " in " + a.ID + ", by name"
		}
		lines = append(lines, k.Name+":", "  title: "+edit.Scalar(title), "  gives:", "    "+a.ID+": "+gives)
		if len(k.Holders) > manyHolders {
			list := "lists/" + k.Name + ".csv"
			var b strings.Builder
			b.WriteString("person,because\n")
			for _, p := range k.Holders {
				b.WriteString(edit.Row(',', a.repo.People.Get(p, "id"), because) + "\n")
			}
			if err := am.Create(list, b.String()); err != nil {
				return err
			}
			lines = append(lines, "  holders: {listed: "+list+"}", "")
			continue
		}
		lines = append(lines, "  holders:")
		for _, p := range k.Holders {
			lines = append(
				lines,
				"    - {person: "+edit.Inline(a.repo.People.Get(p, "id"))+", because: "+edit.Inline(because)+"}",
			)
		}
		lines = append(lines, "")
	}
	for len(lines) > 0 && lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	if len(lines) > 0 {
		am.AddKit("kits/"+a.ID+".yaml", lines...)
	}
	for _, name := range slices.Sorted(maps.Keys(into)) {
		for _, k := range a.repo.Kits {
			if k.Name == name {
				am.Give(k, a.ID, into[name])
			}
		}
	}
	return nil
}

// amend writes into a file that stays as it is whose accounts are whose, and which are left alone.
func (a *Application) amend(am *amend.Amendment) error {
	for _, id := range slices.Sorted(maps.Keys(a.named)) {
		if err := am.Name(a.Kept, id, a.named[id]); err != nil {
			return err
		}
	}
	a.Alone = nil
	for _, k := range slices.Sorted(maps.Keys(a.alone)) {
		a.Alone = append(a.Alone, Alone{a.names[k], a.alone[k]})
		if err := am.Alone(a.Kept, a.names[k], strings.ReplaceAll(a.alone[k], "\n", " ")); err != nil {
			return err
		}
	}
	return nil
}

// text is the file of the application.
func (a *Application) text() []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("app: %s", a.ID)
	if a.Title != "" {
		line("title: %s", edit.Scalar(a.Title))
	}
	line("# Taken in from %s on %s; the columns are guessed.", a.Export, a.today)
	line("export:")
	line("  format: %s", a.Format)
	line("  path: %s", edit.Scalar(a.Export))
	if a.Sheet != nil {
		if a.Sheet.Delimiter != ',' {
			line("  delimiter: %s", edit.Quoted(string(a.Sheet.Delimiter)))
		}
		if a.Sheet.Encoding != "" {
			line("  encoding: %s", a.Sheet.Encoding)
		}
		line("  columns:")
	}
	a.attrs = nil
	for _, c := range a.Columns {
		if c.Attr == "" {
			continue
		}
		if a.Sheet != nil {
			line("    %s: %s", c.Attr, c.written())
		}
	}
	line("connect:")
	line("  by: %s", map[bool]string{true: "files", false: "upload"}[a.Format != "jsonl"])
	line("")
	line("match: %s", a.Match)
	line("account:")
	for _, c := range a.Columns {
		reads := a.Things == nil || a.Guesses == nil // all are read until it is known which follow
		if c.Follows != "" &&
			(reads || c.Attr == a.Match || slices.ContainsFunc(a.follows, func(f Column) bool { return f.Attr == c.Attr })) {
			line("  %s: %s", c.Attr, c.Follows)
			a.attrs = append(a.attrs, c.Attr)
		}
	}
	a.things(line)
	a.exceptions(line)
	line("strays: report")
	return []byte(b.String())
}

func (c *Column) written() string {
	var parts []string
	add := func(key, value string) { parts = append(parts, key+": "+edit.Inline(value)) }
	switch {
	case c.Attr == "active":
		parts = append(parts, "true: "+edit.Quoted(c.Yes), "false: "+edit.Quoted(c.No))
	case c.Split != "":
		parts = append(parts, "split: "+edit.Quoted(c.Split))
	case c.Date != "":
		add("date", c.Date)
	default:
		return edit.Scalar(c.Header)
	}
	return "{column: " + edit.Inline(c.Header) + ", " + strings.Join(parts, ", ") + "}"
}

func (a *Application) things(line func(format string, args ...any)) {
	kind := ""
	for _, t := range a.Things {
		if t.Kind != kind {
			line("%s:", t.Kind)
			kind = t.Kind
		}
		about := "{}"
		if t.Sensitive {
			about = "{sensitive: true}"
			if t.Why != "" {
				about += "   # guessed, because the name has " + t.Why + " in it"
			}
		}
		line("  %s: %s", edit.Scalar(t.Name), about)
	}
}

// exceptions are accounts that are called otherwise, and those that are left alone.
func (a *Application) exceptions(line func(format string, args ...any)) {
	if len(a.named) > 0 {
		line("named:   # people whose account is called otherwise here")
		for _, id := range slices.Sorted(maps.Keys(a.named)) {
			line("  %s: %s", edit.Scalar(id), edit.Scalar(a.named[id]))
		}
	}
	a.Alone = nil
	if len(a.alone) > 0 {
		line("alone:   # nothing happens to these until somebody takes them out of here")
		for _, k := range slices.Sorted(maps.Keys(a.alone)) {
			line("  - %s   # %s", edit.Scalar(a.names[k]), strings.ReplaceAll(a.alone[k], "\n", " "))
			a.Alone = append(a.Alone, Alone{a.names[k], a.alone[k]})
		}
	}
}

func parses(layout, v string) bool {
	_, err := time.Parse(layout, v)
	return err == nil
}
