package desired

import (
	"fmt"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/export"
)

// A roster says how one file of people is to be read that others write: by which columns, in
// which encoding, with which form of dates.
type roster struct {
	columns   map[string]string // their header → our attribute; nil where headers are attributes
	delimiter rune
	encoding  string
	date      string
}

// readRosters reads how files of people are laid out, by their names.
func (r *Repo) readRosters(d *doc, n *yaml.Node) {
	r.rosters = map[string]*roster{}
	for _, e := range d.entries(n, "rosters") {
		f := d.fields(e.value, "a roster", "columns", "delimiter", "encoding", "date")
		x := &roster{delimiter: ',', encoding: d.encoding(f["encoding"]), date: d.dateForm(f["date"])}
		if f["delimiter"] != nil {
			s := &export.Spec{Delimiter: ','}
			d.delimiter(f["delimiter"], s)
			x.delimiter = s.Delimiter
		}
		if f["columns"] != nil {
			x.columns = map[string]string{}
			for _, c := range d.entries(f["columns"], "columns") {
				if r.attribute(c.name, func(says, hint string) { d.problem(c.key, "unknown-attribute", says, hint) }) {
					x.columns[d.text(c.value, c.name)] = c.name
				}
			}
		}
		if !strings.HasPrefix(e.name, "people/") || !strings.HasSuffix(e.name, ".csv") {
			d.problem(
				e.key,
				"wrong-path",
				fmt.Sprintf("%s is no CSV file of people", e.name),
				"name it like people/staff.csv",
			)
			continue
		}
		if ok, err := r.Tree.Exists(e.name); err == nil && !ok {
			d.problem(e.key, "missing-file", "there is no file "+e.name, "correct the name, or take the entry out")
		}
		r.rosters[e.name] = x
	}
}

// own is how a file of people is laid out, the usual way where nothing is said.
func (r *Repo) own(file string) *roster {
	if x := r.rosters[file]; x != nil {
		return x
	}
	return &roster{delimiter: ','}
}
