package edit

import (
	"strconv"
	"strings"
)

// Unified reads the hunks of a unified difference of one file, as Git and diff write it. What it cannot read it leaves out.
func Unified(text string) (out []Hunk) {
	for line := range strings.SplitSeq(text, "\n") {
		if rest, ok := strings.CutPrefix(line, "@@ -"); ok { // @@ -FROM[,COUNT] +TO[,COUNT] @@
			from, _, _ := strings.Cut(rest, " ")
			from, _, _ = strings.Cut(from, ",")
			n, err := strconv.Atoi(from)
			if err != nil {
				continue
			}
			out = append(out, Hunk{Line: n})
			continue
		}
		if len(out) == 0 || line == "" {
			continue // the lines that name the file
		}
		switch h := &out[len(out)-1]; line[0] {
		case '-':
			h.Was = append(h.Was, line[1:])
		case '+':
			h.Is = append(h.Is, line[1:])
		}
	}
	return out
}
