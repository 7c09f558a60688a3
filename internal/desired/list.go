package desired

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"

	"pravet/internal/core/model"
)

// readList reads ids of people and names of accounts: a CSV file with the column person,
// or with app and account, or with all of them.
func (r *Repo) readList(list *model.List, named model.Pos) {
	data, ok := r.readNamed(list.File, named, maxYAML)
	if !ok {
		return
	}
	rows := csv.NewReader(bytes.NewReader(data))
	rows.ReuseRecord = true
	header, err := rows.Read()
	columns := map[string]int{}
	for i, name := range header {
		columns[name] = i
	}
	person, hasPerson := columns["person"]
	app, hasApp := columns["app"]
	account, hasAccount := columns["account"]
	if err != nil || !hasPerson && !(hasApp && hasAccount) {
		r.fail(
			model.Pos{File: list.File, Line: 1}, "missing-column",
			"the header has neither the column person nor the columns app and account", "add person, with an id a row",
		)
		return
	}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return
		}
		line, _ := rows.FieldPos(0)
		pos := model.Pos{File: list.File, Line: line}
		if err != nil {
			var parse *csv.ParseError
			if errors.As(err, &parse) {
				pos.Line = parse.Line
				err = parse.Err
			}
			r.fail(pos, "not-csv", err.Error(), "look for a missing or an unquoted comma")
			return
		}
		name := ""
		switch {
		case hasPerson && row[person] != "":
			name = strings.Clone(strings.TrimSpace(row[person]))
			r.refs = append(r.refs, personRef{name, pos})
		case hasApp && hasAccount && row[app] != "" && row[account] != "":
			if r.App(row[app]) < 0 {
				r.noApplication(pos, row[app])
				continue
			}
			name = model.Listed(row[app], strings.TrimSpace(row[account]))
		default:
			r.fail(pos, "missing-value", "the row names neither a person nor an account", "take it out, or fill it in")
			continue
		}
		if at, ok := list.Lines[name]; ok {
			r.fail(
				pos, "duplicate-entry", fmt.Sprintf("%s is on the list already, in line %d", name, at),
				"take one of the rows out",
			)
			continue
		}
		list.Lines[name] = line
	}
}
