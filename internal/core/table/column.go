// Package table keeps the attributes of many people or accounts as columns, so
// that a million of them fit in memory and a filter is evaluated once for each
// distinct value instead of once for each person.
package table

import "strings"

// A Column holds one attribute of every row, in row order. The empty string
// means that the row has no value. A column begins as codes into a list of
// distinct values; when most values turn out to differ from each other it
// continues as plain text, so that names cost their bytes and no map entry.
//
// A Column is built by one goroutine and may then be read by many.
type Column struct {
	values []string          // distinct values, while coded
	codes  []uint32          // row → values, while coded
	lookup map[string]uint32 // value → code, while coded

	text strings.Builder // all values after each other, once plain
	ends []uint32        // row → end of its value in text, once plain
}

// sampleRows is how many rows are seen before a column decides whether its
// values repeat.
const sampleRows = 4096

// MaxBytes is how much text one column can hold.
const MaxBytes = 1<<32 - 1

// Append adds the next row's value. It reports false, and adds nothing, when
// the column would hold more than MaxBytes.
func (c *Column) Append(v string) bool {
	if c.ends != nil {
		if c.text.Len()+len(v) > MaxBytes {
			return false
		}
		c.text.WriteString(v)
		c.ends = append(c.ends, uint32(c.text.Len()))
		return true
	}
	code, ok := c.lookup[v]
	if !ok {
		if c.lookup == nil {
			c.lookup = map[string]uint32{}
		}
		code = uint32(len(c.values))
		v = strings.Clone(v)
		c.values = append(c.values, v)
		c.lookup[v] = code
	}
	c.codes = append(c.codes, code)
	if n := len(c.codes); n >= sampleRows && n%sampleRows == 0 && len(c.values) > n/4 {
		c.plain()
	}
	return true
}

// plain turns a coded column into a plain one.
func (c *Column) plain() {
	c.ends = make([]uint32, 0, 2*len(c.codes))
	for _, code := range c.codes {
		c.text.WriteString(c.values[code])
		c.ends = append(c.ends, uint32(c.text.Len()))
	}
	c.values, c.codes, c.lookup = nil, nil, nil
}

// Reserve prepares a plain column for rows more rows of the average length
// seen so far; it changes nothing that can be read.
func (c *Column) Reserve(rows int) {
	if c.ends == nil {
		if rows > cap(c.codes)-len(c.codes) {
			grown := make([]uint32, len(c.codes), len(c.codes)+rows)
			copy(grown, c.codes)
			c.codes = grown
		}
		return
	}
	grown := make([]uint32, len(c.ends), len(c.ends)+rows)
	copy(grown, c.ends)
	c.ends = grown
	if n := len(c.ends); n > 0 {
		c.text.Grow(int(float64(c.text.Len()) / float64(n) * float64(rows)))
	}
}

// Pad adds empty values until the column has n rows.
func (c *Column) Pad(n int) {
	for c.Len() < n {
		c.Append("")
	}
}

// Len is the number of rows.
func (c *Column) Len() int {
	if c.ends != nil {
		return len(c.ends)
	}
	return len(c.codes)
}

// At returns the value of row i, which is at least 0 and less than Len.
func (c *Column) At(i int) string {
	if c.ends == nil {
		return c.values[c.codes[i]]
	}
	from := uint32(0)
	if i > 0 {
		from = c.ends[i-1]
	}
	return c.text.String()[from:c.ends[i]]
}

// Rising tells that each row's value, case ignored, is above that of the row
// before, so that all are different and none is empty.
func (c *Column) Rising() bool {
	before := ""
	for i := range c.Len() {
		v := Fold(c.At(i))
		if v <= before {
			return false
		}
		before = v
	}
	return true
}

// Codes returns the distinct values and each row's index into them, or ok
// false for a column whose values are mostly different.
func (c *Column) Codes() (values []string, codes []uint32, ok bool) {
	return c.values, c.codes, c.ends == nil
}
