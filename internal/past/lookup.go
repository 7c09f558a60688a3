package past

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"

	"pravet/internal/core/model"
)

// A Lookup tells of single accounts in the text whether they had a thing, by itself or
// along, without reading the others.
type Lookup struct {
	gives []bool // number of a thing in rows → it is the thing, or brought it along
	rows  []byte
}

// Look returns a Lookup of a text, which stays as it is, for a thing of the application
// as its catalog is today.
func Look(text []byte, app *model.App, thing int32) (*Lookup, error) {
	first, rows, _ := bytes.Cut(text, []byte{'\n'})
	var h head
	if err := json.Unmarshal(first, &h); err != nil {
		return nil, fmt.Errorf("what an export held cannot be read: %w", err)
	}
	number := numbering(app)
	was := &model.Accounts{}
	h.graph(was, app, number)
	g := model.ExportedGraph(app, was)
	l := &Lookup{make([]bool, len(h.Things)), rows}
	for i, name := range h.Things {
		t := number(name)
		l.gives[i] = t >= 0 && g.Chain(t, thing) != nil
	}
	return l, nil
}

// Has reports whether an account had the thing. O(log accounts).
func (l *Lookup) Has(account string) bool {
	begins := append([]byte(escape(account)), '\t')
	from, to := 0, len(l.rows)
	for from < to { // the first row that does not come before
		middle := from + (to-from)/2
		start := bytes.LastIndexByte(l.rows[from:middle], '\n') + 1 + from
		end := start + bytes.IndexByte(l.rows[start:], '\n') + 1
		if bytes.Compare(l.rows[start:end], begins) < 0 {
			from = end
		} else {
			to = start
		}
	}
	row, found := bytes.CutPrefix(l.rows[from:], begins)
	if !found {
		return false
	}
	row, _, _ = bytes.Cut(row, []byte{'\n'})
	_, row, _ = bytes.Cut(row, []byte{'\t'}) // the state
	row, _, _ = bytes.Cut(row, []byte{'\t'})
	for _, n := range bytes.Fields(row) {
		if at, err := strconv.Atoi(string(n)); err == nil && at >= 0 && at < len(l.gives) && l.gives[at] {
			return true
		}
	}
	return false
}
