package intake

import (
	"fmt"
	"strings"
)

// A numbering gives new people ids of a pattern, each above all that there are.
type numbering struct {
	before, after string
	width, top    int
}

// number finds the highest id of the pattern; nil where there is none.
func (c *comparison) number() *numbering {
	from := strings.IndexByte(c.in.Number, '#')
	if from < 0 {
		return nil
	}
	to := strings.LastIndexByte(c.in.Number, '#') + 1
	n := &numbering{before: c.in.Number[:from], after: c.in.Number[to:], width: to - from}
	for p := range c.in.People.Len() {
		n.see(c.in.People.Get(p, "id"))
	}
	for i := range c.in.Rows {
		n.see(c.value(i, "id"))
	}
	return n
}

func (n *numbering) see(id string) {
	digits, begins := strings.CutPrefix(id, n.before)
	digits, ends := strings.CutSuffix(digits, n.after)
	if !begins || !ends || len(digits) != n.width {
		return
	}
	value := 0
	for _, r := range digits {
		if r < '0' || r > '9' {
			return
		}
		value = value*10 + int(r-'0')
	}
	n.top = max(n.top, value)
}

// next is the next id, "" where there is no number left.
func (n *numbering) next() string {
	n.top++
	digits := fmt.Sprintf("%0*d", n.width, n.top)
	if len(digits) > n.width {
		return ""
	}
	return n.before + digits + n.after
}
