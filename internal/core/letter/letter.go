// Package letter decides who is told what: one letter for each reader, with all that is
// new to them since the last one, and nothing that they were told before.
//
// What happened and what falls due are Items; what each reader may see of them follows
// from who they are: an administrator sees everything, the owner of an application what
// is about it, a manager what is about the people whom they manage, and whoever decides
// what waits for that.
package letter

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/model"
)

// An Item is something to be told: a change that a run carried out, how a run ended, or
// what falls due on a day.
type Item struct {
	Key    string // tells it from every other; those of one run have the same
	On     string // YYYY-MM-DD
	Run    string // the run that it is of, or ""
	App    string
	Person string // id
	Says   string
	Whole  bool            // it is about a run as a whole, and for administrators only
	For    map[string]bool // ids of those who alone are told it, as they are to decide; nil for whoever may see it
}

// A Reader is somebody who gets letters.
type Reader struct {
	Name    string // as the letter speaks to them
	Address string // where it goes
	All     bool   // an administrator
	Apps    map[string]bool
	People  map[string]bool // ids of those whom they manage
	Because []string        // why they get letters
	Decides string          // the id of one who decides; "" of anybody else
}

// sees reports whether an item is for a reader.
func (r *Reader) sees(x *Item) bool {
	if x.For != nil {
		return r.Decides != "" && x.For[r.Decides]
	}
	return r.All || !x.Whole && (x.App != "" && r.Apps[x.App] || x.Person != "" && r.People[x.Person])
}

// A Letter is what one reader is told.
type Letter struct {
	ID      string   `json:"id"`
	Reader  string   `json:"reader"`
	Address string   `json:"to"`
	Subject string   `json:"subject"`
	Body    string   `json:"body"`
	Keys    []string `json:"-"`
	Page    *Page    `json:"-"` // goes along by mail and into folders; nil for none
}

// A Page is a file that goes along with a letter.
type Page struct {
	Name string // of the file
	Data []byte // HTML
}

// A Text is a template: of a subject and a body, with the names of Fields in braces.
type Text struct{ Subject, Body string }

// Fields are what a template may name.
func Fields() []string {
	return []string{"organization", "reader", "day", "count", "items", "because"}
}

// Default is the template where none is given.
func Default() Text {
	return Text{
		Subject: "{organization}: {count} on {day}",
		Body:    "Dear {reader},\n\n{items}\n\nPravet writes this to you because {because}.\n",
	}
}

// Parse reads a template: a first line "Subject: ...", an empty line, and the body.
func Parse(text string) Text {
	first, rest, _ := strings.Cut(text, "\n")
	if subject, ok := strings.CutPrefix(first, "Subject:"); ok {
		return Text{strings.TrimSpace(subject), strings.TrimLeft(rest, "\n") + "\n"}
	}
	return Text{Default().Subject, text + "\n"}
}

// Write writes the letters of a day: one for each reader to whom something is new. told
// reports whether a reader was told an item before. O(readers · items).
func Write(
	organization, day string,
	text Text,
	readers []Reader,
	items []Item,
	told func(address, key string) bool,
) (out []Letter) {
	for i := range readers {
		r := &readers[i]
		var mine []*Item
		var keys []string
		for j := range items {
			x := &items[j]
			if !r.sees(x) || told(r.Address, x.Key) {
				continue
			}
			mine = append(mine, x)
			if !slices.Contains(keys, x.Key) {
				keys = append(keys, x.Key)
			}
		}
		if len(mine) == 0 {
			continue
		}
		l := Letter{Reader: r.Name, Address: r.Address, Keys: keys}
		get := func(name string) string {
			switch name {
			case "organization":
				return organization
			case "reader":
				return r.Name
			case "day":
				return day
			case "count":
				return count(mine)
			case "items":
				return listed(mine)
			case "because":
				return strings.Join(r.Because, ", and because ")
			}
			return "{" + name + "}"
		}
		l.Subject, l.Body = oneLine(model.Filled(text.Subject, get)), model.Filled(text.Body, get)
		sum := sha256.Sum256([]byte(r.Address + "\n" + strings.Join(keys, "\n")))
		l.ID = hex.EncodeToString(sum[:8])
		out = append(out, l)
	}
	return out
}

// Ended says what a run came to.
func Ended(settled, notSettled, held int, stopped string) string {
	text := model.Count(settled, "change", "changes") + " settled"
	if notSettled > 0 {
		text += fmt.Sprintf(", %d not settled", notSettled)
	}
	if held > 0 {
		text += fmt.Sprintf(", %d held", held)
	}
	if stopped != "" {
		text += "; stopped: " + stopped
	}
	return text
}

// oneLine keeps line ends out of a subject.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// count counts what a letter tells.
func count(items []*Item) string {
	done, due := 0, 0
	for _, x := range items {
		switch {
		case x.Whole:
		case x.Run != "":
			done++
		default:
			due++
		}
	}
	var parts []string
	if done > 0 {
		parts = append(parts, model.Count(done, "change", "changes"))
	}
	if due > 0 {
		parts = append(parts, model.Count(due, "thing falls due", "things fall due"))
	}
	if len(parts) == 0 {
		return "a run"
	}
	return strings.Join(parts, ", ")
}

// maxLines is how many changes of a run a letter names.
const maxLines = 40

// listed lists what a letter tells: each run with its changes, then what falls due.
func listed(items []*Item) string {
	var b strings.Builder
	runs := []string{}
	of := map[string][]*Item{}
	var due []*Item
	for _, x := range items {
		if x.Run == "" {
			due = append(due, x)
			continue
		}
		if of[x.Run] == nil {
			runs = append(runs, x.Run)
		}
		of[x.Run] = append(of[x.Run], x)
	}
	for _, run := range runs {
		head := "Carried out by " + run + " on " + of[run][0].On
		var lines []string
		for _, x := range of[run] {
			if x.Whole {
				head += ": " + x.Says
				continue
			}
			lines = append(lines, x.Says)
		}
		fmt.Fprintln(&b, head)
		for n, line := range lines {
			if n == maxLines {
				fmt.Fprintf(&b, "  and %s; see: pravet log %s\n", model.Count(len(lines)-n, "more", "more"), run)
				break
			}
			fmt.Fprintln(&b, "  "+line)
		}
		fmt.Fprintln(&b)
	}
	if len(due) > 0 {
		slices.SortStableFunc(due, func(x, y *Item) int { return cmp.Compare(x.On, y.On) })
		fmt.Fprintln(&b, "Falls due")
		for _, x := range due {
			fmt.Fprintln(&b, "  "+x.On+"  "+x.Says)
		}
	}
	return strings.TrimRight(b.String(), "\n")
}
