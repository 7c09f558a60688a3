package access

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/table"
)

// Column finds a column by its name, case ignored; "" where there is none.
func (r *Rows) Column(name string) string {
	name = table.Fold(name)
	for _, c := range slices.Concat(r.Columns, r.Also) {
		if table.Fold(c) == name {
			return c
		}
	}
	if attr, ok := strings.CutPrefix(name, ofPerson); ok &&
		slices.Contains(r.Columns, "stage") { // of people themselves
		return r.Column(attr)
	}
	return ""
}

// Text is the values of a column as one text.
func (r *Rows) Text(row int, column string) string {
	return strings.Join(r.Values(row, column), ", ")
}

// Select returns the numbers of the rows that a filter over columns matches, all
// for nil. O(rows).
func (r *Rows) Select(f *filter.Filter, today day.Day) []int {
	out := make([]int, 0, r.Len)
	columns := map[string]string{}
	for i := range r.Len {
		if f == nil || f.MatchAny(func(attr string) []string {
			column, ok := columns[attr]
			if !ok {
				column = r.Column(attr)
				columns[attr] = column
			}
			return r.Values(i, column)
		}, today) {
			out = append(out, i)
		}
	}
	return out
}

// OfApps keeps the rows of some applications, where rows have one.
func (r *Rows) OfApps(apps []string) *Rows {
	if r.Column("app") == "" {
		return r
	}
	var kept []int
	for i := range r.Len {
		if slices.Contains(apps, r.Text(i, "app")) {
			kept = append(kept, i)
		}
	}
	return &Rows{
		Columns: r.Columns,
		Also:    r.Also,
		Default: r.Default,
		Several: r.Several,
		Len:     len(kept),
		Values:  func(i int, column string) []string { return r.Values(kept[i], column) },
	}
}

// SortBy is a column to sort by.
type SortBy struct {
	Column string
	Down   bool
}

// Sort sorts rows by columns: numbers by their size, before text, which is
// compared without case. O(rows · log rows).
func (r *Rows) Sort(rows []int, by []SortBy) {
	if len(by) == 0 {
		return
	}
	type key struct {
		text   string
		number float64
		is     bool
	}
	keys := make(map[int][]key, len(rows))
	for _, i := range rows {
		list := make([]key, len(by))
		for n, b := range by {
			text := r.Text(i, b.Column)
			number, err := strconv.ParseFloat(text, 64)
			list[n] = key{table.Fold(text), number, err == nil}
		}
		keys[i] = list
	}
	slices.SortStableFunc(rows, func(x, y int) int {
		for n, b := range by {
			kx, ky := keys[x][n], keys[y][n]
			d := 0
			switch {
			case kx.is && ky.is:
				d = cmp.Compare(kx.number, ky.number)
			case kx.is != ky.is:
				if d = 1; kx.is {
					d = -1
				}
			default:
				d = strings.Compare(kx.text, ky.text)
			}
			if b.Down {
				d = -d
			}
			if d != 0 {
				return d
			}
		}
		return 0
	})
}

// A Group is a value of a column, and how many rows have it.
type Group struct {
	Value string
	Rows  int
}

// Group counts the rows of each value of a column, the most frequent first; a
// row without a value counts under "", one with several under each.
func (r *Rows) Group(rows []int, column string) []Group {
	counts := map[string]int{}
	for _, i := range rows {
		values := r.Values(i, column)
		if len(values) == 0 {
			counts[""]++
		}
		for _, v := range values {
			counts[v]++
		}
	}
	out := make([]Group, 0, len(counts))
	for v, n := range counts {
		out = append(out, Group{v, n})
	}
	slices.SortFunc(
		out,
		func(x, y Group) int { return cmp.Or(cmp.Compare(y.Rows, x.Rows), cmp.Compare(x.Value, y.Value)) },
	)
	return out
}
