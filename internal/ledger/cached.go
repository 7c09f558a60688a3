package ledger

import (
	"cmp"
	"errors"
	"slices"
)

// Cached keeps the entries of a ledger in memory that one process alone writes to, as a rehearsal does: each is read and proved
// once, however often it is asked for. What is asked by plan, person or change is asked of the ledger itself.
func Cached(l Ledger) Ledger { return &cached{Ledger: l, by: map[kindOf][]*Entry{}} }

type kindOf struct {
	kind    Kind
	subject string // "" for all of the kind
}

type cached struct {
	Ledger
	by   map[kindOf][]*Entry // in their order
	last int64
}

// fill reads the entries that have come.
func (c *cached) fill() error {
	head, err := c.Head()
	if err != nil || head.Seq == c.last {
		return err
	}
	err = c.Ledger.Scan(Query{After: c.last}, func(e *Entry) error {
		own := *e
		c.by[kindOf{e.Kind, ""}] = append(c.by[kindOf{e.Kind, ""}], &own)
		if e.Subject != "" {
			c.by[kindOf{e.Kind, e.Subject}] = append(c.by[kindOf{e.Kind, e.Subject}], &own)
		}
		c.last = e.Seq
		return nil
	})
	return err
}

// Scan calls f for entries.
func (c *cached) Scan(q Query, f func(*Entry) error) error {
	if q.Plan != "" || q.Person != "" || q.Change != "" || q.Others != "" || len(q.Kinds) == 0 {
		return c.Ledger.Scan(q, f)
	}
	if err := c.fill(); err != nil {
		return err
	}
	var list []*Entry
	for _, k := range q.Kinds {
		list = append(list, c.by[kindOf{k, q.Subject}]...)
	}
	if len(q.Kinds) > 1 {
		slices.SortFunc(list, func(x, y *Entry) int { return cmp.Compare(x.Seq, y.Seq) })
	}
	if q.Newest {
		list = slices.Clone(list)
		slices.Reverse(list)
	}
	n := 0
	for _, e := range list {
		if e.Seq <= q.After {
			continue
		}
		if n++; q.Limit > 0 && n > q.Limit {
			return nil
		}
		own := *e
		if err := f(&own); errors.Is(err, ErrStop) {
			return nil
		} else if err != nil {
			return err
		}
	}
	return nil
}
