package show

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/edit"
)

// mostHunks is how many places of a file are shown where not all are asked for.
const mostHunks = 12

// A Rewritten is a file of which some lines are to be others.
type Rewritten struct {
	File  string      `json:"file"`
	New   bool        `json:"new"` // there is no such file yet
	Hunks []edit.Hunk `json:"changes"`
}

// Rewrites are the lines that differ of some files.
func Rewrites(texts []*edit.Text) ([]Rewritten, error) {
	out := []Rewritten{}
	for _, t := range texts {
		hunks, err := t.Hunks()
		if err != nil {
			return nil, err
		}
		out = append(out, Rewritten{t.Name, len(t.Old) == 0, hunks})
	}
	return out, nil
}

// Rewritten writes which lines of which files are to be others, all or the first of each
// file.
func (p *Printer) Rewritten(files []Rewritten, full bool) {
	for i := range files {
		f := &files[i]
		if f.New {
			p.Line(Strong(words.Clean(f.File)) + "  " + Dim("a new file"))
		} else {
			p.Line(Strong(words.Clean(f.File)))
		}
		wide := 0
		for _, h := range f.Hunks {
			wide = max(wide, len(fmt.Sprint(h.Line)))
		}
		shown := f.Hunks
		if !full && len(shown) > mostHunks {
			shown = shown[:mostHunks]
		}
		for n := range shown {
			p.hunk(&shown[n], wide, full)
		}
		if left := len(f.Hunks) - len(shown); left > 0 {
			p.Line(Dim("  and " + model.Count(left, "more place", "more places") + "; --full shows them all"))
		}
	}
}

func (p *Printer) hunk(h *edit.Hunk, wide int, full bool) {
	where := fmt.Sprintf("  line %*d  ", wide, h.Line)
	blank := strings.Repeat(" ", len(where))
	say := func(word string, lines []string, style func(string) string) {
		left := 0
		if !full && len(lines) > 2*mostHunks {
			left = len(lines) - 2*mostHunks
			lines = lines[:2*mostHunks]
		}
		for _, line := range lines {
			for n, part := range strings.Split(wrap(words.Clean(line), p.columns-len(blank)-6), "\n") {
				if n > 0 {
					word = ""
				}
				p.Line(Dim(where) + Dim(fmt.Sprintf("%-4s  ", word)) + style(part))
				where, word = blank, ""
			}
		}
		if left > 0 {
			p.Line(Dim(blank + "      and " + model.Count(left, "more line", "more lines") + "; --full shows them all"))
		}
	}
	plain := func(s string) string { return s }
	switch {
	case len(h.Was) == 0:
		say("new", h.Is, plain)
	case len(h.Is) == 0:
		say("gone", h.Was, Dim)
	case len(h.Was) == 1 && len(h.Is) == 1:
		was, is := words.Clean(h.Was[0]), words.Clean(h.Is[0])
		say("was", h.Was, Dim)
		from, behind := common(was, is)
		where, full = blank, true
		line := is[:from] + widens.Render(is[from:len(is)-behind]) + is[len(is)-behind:]
		for n, part := range strings.Split(wrap(line, p.columns-len(blank)-6), "\n") {
			word := "is"
			if n > 0 {
				word = ""
			}
			p.Line(blank + Dim(fmt.Sprintf("%-4s  ", word)) + part)
		}
	default:
		say("was", h.Was, Dim)
		say("is", h.Is, plain)
	}
}

// common is how many bytes two lines begin and end with that are the same, whole characters.
func common(x, y string) (from, behind int) {
	for from < len(x) && from < len(y) && x[from] == y[from] {
		from++
	}
	for from > 0 && from < len(y) && !utf8.RuneStart(y[from]) {
		from--
	}
	for behind < len(x)-from && behind < len(y)-from && x[len(x)-1-behind] == y[len(y)-1-behind] {
		behind++
	}
	for behind > 0 && !utf8.RuneStart(y[len(y)-behind]) {
		behind--
	}
	return from, behind
}
