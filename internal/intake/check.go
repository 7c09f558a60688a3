package intake

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"pravet/internal/core/table"
)

// check finds values that no person may have.
func (c *comparison) check(i, p int) {
	for n, attr := range c.in.Attrs {
		v := c.in.Rows[i].Values[n]
		switch {
		case v == "" || slices.ContainsFunc(c.wrong[i], func(w Wrong) bool { return w.Attr == attr }):
		case strings.ContainsFunc(v, unicode.IsControl):
			c.fail(i, attr, "bad-value", "there is a control character in it", "take it out")
		case attr == "email" && !address(v):
			c.fail(i, attr, "bad-value", fmt.Sprintf("%q is no email address", v), "write it like NAME@HOST")
		case (attr == "id" || attr == "userName") && strings.ContainsFunc(v, unicode.IsSpace):
			c.fail(i, attr, "bad-value", fmt.Sprintf("there is a space in %q", v), "take it out")
		}
	}
	for n := range c.in.Fields {
		f := &c.in.Fields[n]
		v := c.get(i, p, f.Name)
		if says := f.Check(v); says != "" && c.value(i, f.Name) != "" {
			c.fail(i, f.Name, "bad-value", says, fmt.Sprintf("correct it, or the field in %s", f.Pos))
		}
		if v == "" && f.Required != nil && f.Required(func(a string) string { return c.get(i, p, a) }) {
			c.fail(i, f.Name, "missing-value", f.Name+" is required, and has no value", "add it")
		}
	}
	starts, ends := c.get(i, p, "starts"), c.get(i, p, "ends")
	if starts != "" && ends != "" && ends < starts && (c.value(i, "starts") != "" || c.value(i, "ends") != "") {
		c.fail(
			i,
			"ends",
			"wrong-date",
			fmt.Sprintf("ends %s is before starts %s", ends, starts),
			"exchange them, or correct one",
		)
	}
	c.clashes(i, p)
}

// clashes finds what belongs to somebody else already.
func (c *comparison) clashes(i, p int) {
	for _, k := range keys {
		v := c.value(i, k)
		x := c.people[k]
		if v == "" || x == nil {
			continue
		}
		if other := x.Find(v); other >= 0 && other != p {
			c.fail(
				i,
				k,
				"two-people",
				fmt.Sprintf(
					"the %s %s is that of %s (%s) already",
					k,
					v,
					c.in.People.Called(other),
					c.in.People.Get(other, "id"),
				),
				"correct the row, or give it the id of that person",
			)
		}
	}
	if name := c.value(i, "userName"); name != "" {
		if other, ok := c.former[table.Fold(name)]; ok && other != p {
			c.fail(
				i,
				"userName",
				"two-people",
				fmt.Sprintf(
					"%s was the user name of %s (%s)",
					name,
					c.in.People.Called(other),
					c.in.People.Get(other, "id"),
				),
				"give this person another user name",
			)
		}
	}
}

func address(v string) bool {
	name, host, ok := strings.Cut(v, "@")
	return ok && name != "" && host != "" && !strings.ContainsAny(v, " ,;<>()\"") && !strings.Contains(host, "@")
}

// twice finds rows that are about the same person, or that give two people the same.
func (c *comparison) twice() {
	for _, k := range keys {
		first := map[string]int{}
		for i := range c.in.Rows {
			v := c.value(i, k)
			if v == "" {
				continue
			}
			key := table.Fold(v)
			n, ok := first[key]
			if !ok {
				first[key] = i
				continue
			}
			c.fail(
				i,
				k,
				"duplicate-entry",
				fmt.Sprintf("the %s %s is in line %d as well", k, v, c.in.Rows[n].Line),
				"keep one of the rows, or correct it",
			)
			c.fail(
				n,
				k,
				"duplicate-entry",
				fmt.Sprintf("the %s %s is in line %d as well", k, v, c.in.Rows[i].Line),
				"keep one of the rows, or correct it",
			)
		}
	}
	by := map[int]int{}
	for i, p := range c.found {
		if p < 0 {
			continue
		}
		if n, ok := by[p]; ok && len(c.wrong[i]) == 0 {
			c.fail(
				i,
				"",
				"duplicate-entry",
				fmt.Sprintf("line %d is about the same person, %s", c.in.Rows[n].Line, c.in.People.Get(p, "id")),
				"keep one of the rows",
			)
			c.fail(
				n,
				"",
				"duplicate-entry",
				fmt.Sprintf("line %d is about the same person, %s", c.in.Rows[i].Line, c.in.People.Get(p, "id")),
				"keep one of the rows",
			)
		}
		by[p] = i
		c.seen[p] = true
	}
}
