// Package edit changes the text of files as a person does in an editor: a word
// here, a line there, and every other byte stays as it was. It knows CSV and
// YAML, and nothing of what the files mean.
//
//	t := edit.New("people/ashore.csv", data)
//	rows, err := edit.ReadCSV(t, ',')
//	err = rows.Set(12, "title", "Desk lead")
//	data, err = t.Bytes()
package edit

import (
	"bytes"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// A Text is a file's text and what is to be changed in it.
type Text struct {
	Name    string
	Old     []byte
	splices []splice
	starts  []int // where each line begins, once somebody has asked
	longer  bool  // lines were added at the end
}

// A splice puts other bytes in the place of some; where several begin at one
// place, they follow each other in the order in which they were made.
type splice struct {
	from, to int
	with     string
}

// New is the text of a file, unchanged so far; data may be empty, for a file
// that is to be made.
func New(name string, data []byte) *Text { return &Text{Name: name, Old: data} }

// Replace puts other bytes in the place of those in [from, to).
func (t *Text) Replace(from, to int, with string) {
	if from == to && with == "" || string(t.Old[from:to]) == with {
		return
	}
	t.splices = append(t.splices, splice{from, to, with})
}

// Changed reports whether anything is to be changed.
func (t *Text) Changed() bool { return len(t.splices) > 0 }

// sorted are the splices in the order of their places. Two that meet in the
// same bytes are an error.
func (t *Text) sorted() ([]splice, error) {
	out := slices.Clone(t.splices)
	sort.SliceStable(out, func(i, j int) bool { return out[i].from < out[j].from })
	for i := 1; i < len(out); i++ {
		if out[i].from < out[i-1].to {
			line := t.Line(out[i].from)
			return nil, fmt.Errorf("%s:%d: the same words are to be changed in two ways", t.Name, line)
		}
	}
	return out, nil
}

// Bytes is the text with its changes. O(text + changes · log changes).
func (t *Text) Bytes() ([]byte, error) {
	all, err := t.sorted()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	at := 0
	for _, s := range all {
		b.Write(t.Old[at:s.from])
		b.WriteString(s.with)
		at = s.to
	}
	b.Write(t.Old[at:])
	return b.Bytes(), nil
}

// End is how lines end in the text.
func (t *Text) End() string {
	if i := bytes.IndexByte(t.Old, '\n'); i > 0 && t.Old[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// lines are where the lines begin.
func (t *Text) lines() []int {
	if t.starts == nil {
		t.starts = []int{0}
		for i, c := range t.Old {
			if c == '\n' {
				t.starts = append(t.starts, i+1)
			}
		}
	}
	return t.starts
}

// Line is the number of the line, from 1, that a place is in.
func (t *Text) Line(at int) int {
	starts := t.lines()
	return sort.Search(len(starts), func(i int) bool { return starts[i] > at })
}

// begin is where a line begins, and the end of the text for lines after it.
func (t *Text) begin(line int) int {
	starts := t.lines()
	if line-1 >= len(starts) {
		return len(t.Old)
	}
	return starts[line-1]
}

// row is a line without its end.
func (t *Text) row(line int) string {
	return strings.TrimRight(string(t.Old[t.begin(line):t.begin(line+1)]), "\r\n")
}

// count is how many lines there are; what follows the last line end is one if
// it is not empty.
func (t *Text) count() int {
	starts := t.lines()
	if starts[len(starts)-1] == len(t.Old) {
		return len(starts) - 1
	}
	return len(starts)
}

// Append adds lines at the end, each ended as the others are.
func (t *Text) Append(lines ...string) {
	end := t.End()
	with := strings.Join(lines, end) + end
	first := !t.longer
	t.longer = true
	if n := len(t.Old); first && n > 0 && t.Old[n-1] != '\n' {
		with = end + with
	}
	t.Replace(len(t.Old), len(t.Old), with)
}

// A Hunk is some lines of the old text that give way to some of the new.
type Hunk struct {
	Line int      // of the first old line or, where none gives way, of the line before which the new ones come
	Was  []string // without line ends
	Is   []string
}

// Hunks lists what differs, in order. Changes in the same line are one hunk.
func (t *Text) Hunks() ([]Hunk, error) {
	all, err := t.sorted()
	if err != nil {
		return nil, err
	}
	var out []Hunk
	for i := 0; i < len(all); {
		first := t.Line(all[i].from)
		from, to := t.begin(first), t.lineEnd(all[i].to)
		if all[i].from == len(t.Old) {
			from = len(t.Old)
		}
		j := i + 1
		for j < len(all) && all[j].from < to {
			to = max(to, t.lineEnd(all[j].to))
			j++
		}
		for j < len(all) && all[j].from == to && to == len(t.Old) { // more lines at the end
			j++
		}
		var b strings.Builder
		at := from
		for _, s := range all[i:j] {
			b.Write(t.Old[at:s.from])
			b.WriteString(s.with)
			at = s.to
		}
		b.Write(t.Old[at:to])
		is := b.String()
		if from == len(t.Old) && from > 0 && t.Old[from-1] != '\n' { // the last line is ended first
			is = strings.TrimPrefix(strings.TrimPrefix(is, "\r"), "\n")
			first++
		}
		h := Hunk{Line: first, Was: split(string(t.Old[from:to])), Is: split(is)}
		h.trim()
		out = append(out, h)
		i = j
	}
	return out, nil
}

// lineEnd is the end of the line that a place is in; a place at the beginning
// of a line is the end of the line before.
func (t *Text) lineEnd(at int) int {
	if at > 0 && t.Old[at-1] == '\n' {
		return at
	}
	return t.begin(t.Line(at) + 1)
}

// trim leaves lines out that stay.
func (h *Hunk) trim() {
	for len(h.Was) > 0 && len(h.Is) > 0 && h.Was[0] == h.Is[0] {
		h.Was, h.Is = h.Was[1:], h.Is[1:]
		h.Line++
	}
	for len(h.Was) > 0 && len(h.Is) > 0 && h.Was[len(h.Was)-1] == h.Is[len(h.Is)-1] {
		h.Was, h.Is = h.Was[:len(h.Was)-1], h.Is[:len(h.Is)-1]
	}
}

func split(s string) []string {
	if s == "" {
		return nil
	}
	lines := strings.Split(strings.TrimSuffix(s, "\n"), "\n")
	for i := range lines {
		lines[i] = strings.TrimSuffix(lines[i], "\r")
	}
	return lines
}
