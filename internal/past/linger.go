package past

import (
	"maps"
	"runtime"
	"slices"
	"sort"
	"strings"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
)

// kitSubject is under which subject the ledger tells of a kit.
func kitSubject(kit string) string { return "kit/" + kit }

// Lingering tells of each kit that lingers who held it before and who keeps what it gave,
// as was seen; nil where none does. O(the length of what is on record).
func Lingering(l ledger.Ledger, kits []*model.Kit, people *model.People) ([]entitle.Was, error) {
	var out []entitle.Was
	var ids *rows
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for k, kit := range kits {
		if kit.Linger == (day.Duration{}) {
			continue
		}
		if out == nil {
			out = make([]entitle.Was, len(kits))
			ids = newRows(people)
		}
		group.Go(func() (err error) {
			out[k], err = was(l, kit, ids)
			return err
		})
	}
	return out, group.Wait()
}

// was is what is on record of one kit. Most of it is who held it when it was seen first;
// what changed after that is put together by itself.
func was(l ledger.Ledger, kit *model.Kit, ids *rows) (out entitle.Was, err error) {
	out.Since = map[int32]day.Day{}
	var later map[int32]bool // row → whether the person holds it
	first := true
	q := ledger.Query{Kinds: []ledger.Kind{ledger.StoodSince}, Subject: kitSubject(kit.Name)}
	err = l.Scan(q, func(e *ledger.Entry) error {
		stood, err := ledger.Decode[ledger.Stood](e)
		if err != nil {
			return err
		}
		on, err := dayOf(l, e)
		if err != nil {
			return err
		}
		mark := func(list []ledger.Marks, came bool) {
			for i := range list {
				each(list[i].People, ids, func(p int32) {
					switch {
					case list[i].Step == ledger.Lingers && came:
						out.Since[p] = on
					case list[i].Step == ledger.Lingers:
						delete(out.Since, p)
					case first:
						out.Held = append(out.Held, p)
					default:
						later[p] = came
					}
				})
			}
		}
		mark(stood.Went, false)
		mark(stood.Came, true)
		if first {
			first, later = false, map[int32]bool{}
		}
		return nil
	})
	if len(later) > 0 {
		out.Held = slices.DeleteFunc(out.Held, func(p int32) bool {
			_, changed := later[p]
			return changed
		})
		for p, holds := range later {
			if holds {
				out.Held = append(out.Held, p)
			}
		}
	}
	if !slices.IsSorted(out.Held) {
		slices.Sort(out.Held)
	}
	out.Held = slices.Compact(out.Held)
	return out, err
}

// each calls f with the rows of people whose ids a text lists.
func each(text string, ids *rows, f func(int32)) {
	at := 0
	for id := range strings.Lines(text) {
		if p := ids.find(strings.TrimSuffix(id, "\n"), at); p >= 0 {
			at = p + 1
			f(int32(p))
		}
	}
}

// rows finds people by their ids. Where those stand in their order, as they mostly do, the
// next one that is looked for is not far behind the last.
type rows struct {
	ids    *table.Column // nil where there is nobody
	sorted bool
	index  *table.Index
}

func newRows(people *model.People) *rows {
	r := &rows{ids: people.Column("id"), sorted: people.Ranks() == nil}
	if !r.sorted {
		r.index, _ = people.Index("id")
	}
	return r
}

// find is the row of an id, or -1; it is looked for from a row on first.
func (r *rows) find(id string, from int) int {
	if r.ids == nil {
		return -1
	}
	if !r.sorted {
		return r.index.Find(id)
	}
	to := r.ids.Len()
	if from > 0 && r.ids.At(from-1) >= id {
		from, to = 0, from
	}
	for step := 1; from+step < to; step *= 2 {
		if r.ids.At(from+step) >= id {
			to = from + step + 1
			break
		}
		from += step
	}
	at := from + sort.Search(to-from, func(i int) bool { return r.ids.At(from+i) >= id })
	if at < r.ids.Len() && r.ids.At(at) == id {
		return at
	}
	return -1
}

// Held are the records of who holds kits that linger now and who keeps what they gave,
// where that is not on record. A person who is not in the files any more stays on it.
// O(people + what is on record).
func Held(
	kits []*model.Kit,
	people *model.People,
	before []entitle.Was,
	ruled entitle.Ruled,
	keeps []entitle.Lingering,
) (out []ledger.Record) {
	ids := people.Column("id")
	came, went := make([][2]strings.Builder, len(kits)), make([][2]strings.Builder, len(kits))
	write := func(b *strings.Builder, p int32) {
		b.WriteString(ids.At(int(p)))
		b.WriteByte('\n')
	}
	holds := make([][]int32, 0) // class → kits that linger and are held
	for k, classes := range ruled.Kits {
		for class, is := range classes {
			for len(holds) <= class {
				holds = append(holds, nil)
			}
			if is {
				holds[class] = append(holds[class], int32(k))
			}
		}
	}
	next := make([]int, len(kits)) // how many of those before were met
	for p, class := range ruled.Of {
		for _, k := range holds[class] {
			was := before[k].Held
			for next[k] < len(was) && was[next[k]] < int32(p) {
				write(&went[k][0], was[next[k]])
				next[k]++
			}
			if next[k] < len(was) && was[next[k]] == int32(p) {
				next[k]++
				continue
			}
			write(&came[k][0], int32(p))
		}
	}
	for k := range before {
		for _, p := range before[k].Held[next[k]:] {
			write(&went[k][0], p)
		}
	}
	keeping := make([]map[int32]bool, len(kits))
	for _, x := range keeps {
		if keeping[x.Kit] == nil {
			keeping[x.Kit] = map[int32]bool{}
		}
		keeping[x.Kit][x.Person] = true
		if _, known := before[x.Kit].Since[x.Person]; !known {
			write(&came[x.Kit][1], x.Person)
		}
	}
	for k := range before {
		for _, p := range slices.Sorted(maps.Keys(before[k].Since)) {
			if !keeping[k][p] {
				write(&went[k][1], p)
			}
		}
	}
	for k, kit := range kits {
		body := ledger.Stood{Kit: kit.Name}
		for step, name := range []string{ledger.Holds, ledger.Lingers} {
			body.Came = marked(body.Came, name, &came[k][step])
			body.Went = marked(body.Went, name, &went[k][step])
		}
		if len(body.Came)+len(body.Went) > 0 {
			out = append(out, ledger.Record{Kind: ledger.StoodSince, Subject: kitSubject(kit.Name), Body: body})
		}
	}
	return out
}

// marked adds people to a record, where there are any.
func marked(list []ledger.Marks, step string, people *strings.Builder) []ledger.Marks {
	if people.Len() == 0 {
		return list
	}
	return append(list, ledger.Marks{Step: step, People: people.String()})
}
