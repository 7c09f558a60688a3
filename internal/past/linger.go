package past

import (
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
)

// kitSubject is under which subject the ledger tells of a kit.
func kitSubject(kit string) string { return "kit/" + kit }

// Lingering tells of each kit that lingers who held it before and who keeps what it gave,
// as was seen; nil where none does. O(people) for each, and the length of what is on
// record.
func Lingering(l ledger.Ledger, kits []*model.Kit, people *model.People) ([]entitle.Was, error) {
	var out []entitle.Was
	var ids *table.Seeker
	for k, kit := range kits {
		if kit.Linger == (day.Duration{}) {
			continue
		}
		if out == nil {
			out = make([]entitle.Was, len(kits))
		}
		was := entitle.Was{Held: make([]bool, people.Len()), Since: map[int32]day.Day{}}
		q := ledger.Query{Kinds: []ledger.Kind{ledger.StoodSince}, Subject: kitSubject(kit.Name)}
		err := l.Scan(q, func(e *ledger.Entry) error {
			stood, err := ledger.Decode[ledger.Stood](e)
			if err != nil {
				return err
			}
			on, err := dayOf(e)
			if err != nil {
				return err
			}
			if ids == nil {
				ids, _ = people.Seek("id")
			}
			mark := func(list []ledger.Marks, came bool) {
				for _, m := range list {
					for _, id := range m.Accounts {
						p := int32(-1)
						if ids != nil {
							p = int32(ids.Find(id))
						}
						switch {
						case p < 0:
						case m.Step == ledger.Holds:
							was.Held[p] = came
						case came:
							was.Since[p] = on
						default:
							delete(was.Since, p)
						}
					}
				}
			}
			mark(stood.Went, false)
			mark(stood.Came, true)
			return nil
		})
		if err != nil {
			return nil, err
		}
		out[k] = was
	}
	return out, nil
}

// Held are the records of who holds kits that linger now and who keeps what they gave,
// where that is not on record. A person who is not in the files any more stays on it.
func Held(
	kits []*model.Kit,
	people *model.People,
	before []entitle.Was,
	ruled [][]bool,
	keeps []entitle.Lingering,
) (out []ledger.Record) {
	keeping := make([]map[int32]bool, len(kits))
	for _, x := range keeps {
		if keeping[x.Kit] == nil {
			keeping[x.Kit] = map[int32]bool{}
		}
		keeping[x.Kit][x.Person] = true
	}
	ids := people.Column("id")
	for k, kit := range kits {
		if ruled[k] == nil {
			continue
		}
		var came, went [2][]string
		note := func(step int, p int, was, is bool) {
			switch {
			case is && !was:
				came[step] = append(came[step], ids.At(p))
			case was && !is:
				went[step] = append(went[step], ids.At(p))
			}
		}
		for p, is := range ruled[k] {
			note(0, p, before[k].Held[p], is)
			if keeping[k] != nil || len(before[k].Since) > 0 {
				_, was := before[k].Since[int32(p)]
				note(1, p, was, keeping[k][int32(p)])
			}
		}
		body := ledger.Stood{Kit: kit.Name}
		for step, name := range []string{ledger.Holds, ledger.Lingers} {
			if len(came[step]) > 0 {
				body.Came = append(body.Came, ledger.Marks{Step: name, Accounts: came[step]})
			}
			if len(went[step]) > 0 {
				body.Went = append(body.Went, ledger.Marks{Step: name, Accounts: went[step]})
			}
		}
		if len(body.Came)+len(body.Went) > 0 {
			out = append(out, ledger.Record{Kind: ledger.StoodSince, Subject: kitSubject(kit.Name), Body: body})
		}
	}
	return out
}
