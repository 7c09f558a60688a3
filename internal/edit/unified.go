package edit

import (
	"fmt"
	"strconv"
	"strings"
)

// around is how many lines of a long hunk are kept on each side of the line that is asked about.
const around = 4

// Unified reads the hunks of a unified difference of one file without context, as Git and diff write it. Of a long one it keeps
// the lines around a line of the new file. What it cannot read it leaves out.
func Unified(text string, line int) (out []Hunk) {
	to := 0 // where the hunk is in the new file
	var h *Hunk
	end := func() {
		if h != nil {
			h.Was, h.Is = window(h.Was, 0), window(h.Is, line-to)
		}
	}
	for l := range strings.SplitSeq(text, "\n") {
		if rest, ok := strings.CutPrefix(l, "@@ -"); ok { // @@ -FROM[,COUNT] +TO[,COUNT] @@
			from, there, _ := strings.Cut(rest, " +")
			end()
			out = append(out, Hunk{Line: max(number(from), 1)})
			h, to = &out[len(out)-1], number(there)
			continue
		}
		switch {
		case h == nil || l == "": // the lines that name the file
		case l[0] == '-':
			h.Was = append(h.Was, l[1:])
		case l[0] == '+':
			h.Is = append(h.Is, l[1:])
		}
	}
	end()
	return out
}

// number is the first number of a text, 0 where there is none.
func number(text string) int {
	digits := strings.IndexFunc(text, func(r rune) bool { return r < '0' || r > '9' })
	if digits < 0 {
		digits = len(text)
	}
	n, err := strconv.Atoi(text[:digits])
	if err != nil {
		return 0
	}
	return n
}

// window keeps the lines around one of many.
func window(lines []string, at int) []string {
	if len(lines) <= 3*around {
		return lines
	}
	if at < 0 || at >= len(lines) {
		at = 0
	}
	from, to := max(at-around, 0), min(at+around+1, len(lines))
	out := append([]string(nil), lines[from:to]...)
	if from > 0 {
		out = append([]string{fmt.Sprintf("… %d lines", from)}, out...)
	}
	if more := len(lines) - to; more > 0 {
		out = append(out, fmt.Sprintf("… %d lines", more))
	}
	return out
}
