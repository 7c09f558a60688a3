package source

import (
	"context"
	"encoding/csv"
	"errors"

	"pravet/internal/core/model"
)

// CSVError turns an error of encoding/csv, or of a Reader below it, into a
// problem with its place.
func CSVError(file string, err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	var pe *csv.ParseError
	if !errors.As(err, &pe) {
		return NewProblem(model.Pos{File: file}, "unreadable-file", err.Error(), "")
	}
	pos := model.Pos{File: file, Line: pe.Line, Column: pe.Column}
	switch {
	case errors.Is(pe.Err, csv.ErrQuote):
		const hint = `a field in quotes ends before the next comma; a quote within it is doubled ("")`
		says := "a quote stands where none is expected"
		if pe.StartLine != pe.Line {
			pos.Line, pos.Column = pe.StartLine, 0
			says = "a quoted field of the row that begins here is not closed as it should be"
		}
		return NewProblem(pos, "bad-quotes", says, hint)
	case errors.Is(pe.Err, csv.ErrBareQuote):
		return NewProblem(
			pos,
			"bad-quotes",
			"a quote stands inside a field that is not in quotes",
			`put the field in quotes and double the quote within it ("")`,
		)
	}
	return NewProblem(pos, "not-csv", pe.Err.Error(), "")
}
