// Package past keeps in the ledger what every export held, each state once and mostly
// as the difference to the one before, and answers from it how an application was on a
// past day.
package past

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/klauspost/compress/gzip"

	"github.com/zeebo/blake3"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/ledger"
)

// maxDepth is how many differences may lie between a state and one that is whole.
const maxDepth = 30

// Keep keeps what an application holds, and returns the digest under which it is kept.
// O(accounts).
func Keep(l ledger.Ledger, app *model.App, accounts *model.Accounts) (digest string, err error) {
	text, err := Write(app, accounts)
	if err != nil {
		return "", err
	}
	digest = sum(text)
	if _, ok, err := l.Kept(digest); err != nil || ok {
		return digest, err
	}
	k := ledger.Kept{Digest: digest}
	data := text
	var seen ledger.Export
	if ok, err := l.Last(ledger.ExportSeen, app.ID, &seen); err != nil {
		return "", err
	} else if ok && seen.Held != "" {
		base, ok, err := l.Kept(seen.Held)
		if err != nil {
			return "", err
		}
		if ok && base.Depth < maxDepth {
			before, err := Text(l, seen.Held)
			if err != nil {
				return "", err
			}
			if delta := Delta(before, text); len(delta) < len(text)/2 {
				data, k.Base, k.Depth = delta, seen.Held, base.Depth+1
			}
		}
	}
	var pressed bytes.Buffer
	z, err := gzip.NewWriterLevel(&pressed, gzip.BestSpeed)
	if err != nil {
		return "", err
	}
	if _, err := z.Write(data); err != nil {
		return "", err
	}
	if err := z.Close(); err != nil {
		return "", err
	}
	k.Data = pressed.Bytes()
	return digest, l.Keep(k)
}

func sum(text []byte) string {
	s := blake3.Sum256(text)
	return "blake3:" + hex.EncodeToString(s[:])
}

// Text is what is kept under a digest, proved by it.
func Text(l ledger.Ledger, digest string) (text []byte, err error) {
	err = unfold(l, digest, func(_ string, at []byte) error {
		text = at
		return nil
	})
	return text, err
}

// unfold calls visit with the states that one is kept as the difference to, each with
// its digest, and with that one at last, which is proved by its digest.
func unfold(l ledger.Ledger, digest string, visit func(digest string, text []byte) error) error {
	var chain []ledger.Kept // the whole one last
	for at := digest; ; {
		k, ok, err := l.Kept(at)
		if err != nil {
			return err
		}
		if !ok || len(chain) > maxDepth {
			return fmt.Errorf("what an export held is missing from the ledger: %s", at)
		}
		chain = append(chain, k)
		if at = k.Base; at == "" {
			break
		}
	}
	var text []byte
	for i := len(chain) - 1; i >= 0; i-- {
		data, err := unpressed(chain[i].Data)
		if err != nil {
			return fmt.Errorf("what an export held cannot be read: %w", err)
		}
		if chain[i].Base == "" {
			text = data
		} else if text, err = Apply(text, data); err != nil {
			return fmt.Errorf("what an export held cannot be read: %w", err)
		}
		if i == 0 && sum(text) != digest {
			return fmt.Errorf("what an export held was changed in the ledger: %s", digest)
		}
		if err := visit(chain[i].Digest, text); err != nil {
			return err
		}
	}
	return nil
}

func unpressed(data []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	return io.ReadAll(z)
}

// A Found is an application as an export showed it.
type Found struct {
	Accounts *model.Accounts
	TakenAt  time.Time // when the export was taken
	First    time.Time // when the first export that is kept was taken
}

// At is an application as it was at the end of a day, by the last export that was taken
// by then and is kept; nil where there is none.
func At(l ledger.Ledger, app *model.App, on day.Day) (*Found, error) {
	all, err := states(l, app.ID)
	if err != nil {
		return nil, err
	}
	at := until(all, on, l.Zone()) - 1
	if at < 0 {
		return nil, nil
	}
	text, err := Text(l, all[at].held)
	if err != nil {
		return nil, err
	}
	accounts, err := Read(text, app)
	if err != nil {
		return nil, err
	}
	return &Found{accounts, all[at].at, all[0].at}, nil
}

// A state is what an application held at a time: as an export of that time showed it, or
// as a run left it.
type state struct {
	at   time.Time
	held string // the digest under which it is kept
}

// states lists the states of an application that are kept, the oldest first; those of
// one time as they were seen.
func states(l ledger.Ledger, app string) (out []state, err error) {
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app}, func(e *ledger.Entry) error {
		seen, err := ledger.Decode[ledger.Export](e)
		if err != nil || seen.Held == "" {
			return err
		}
		when := seen.TakenAt
		if seen.After != "" {
			when = e.At
		}
		at, err := time.Parse(time.RFC3339, when)
		out = append(out, state{at, seen.Held})
		return err
	})
	slices.SortStableFunc(out, func(x, y state) int { return x.at.Compare(y.at) })
	return out, err
}

// until counts the states that were by the end of a day.
func until(all []state, on day.Day, zone day.Zone) int {
	n := 0
	for n < len(all) && zone.Day(all[n].at) <= on {
		n++
	}
	return n
}

// First is the day of the first state of an application that is kept; day.None where
// there is none.
func First(l ledger.Ledger, app string) (day.Day, error) {
	all, err := states(l, app)
	if err != nil || len(all) == 0 {
		return day.None, err
	}
	return l.Zone().Day(all[0].at), nil
}

// A Came is when an account came to have something, as far as exports and runs show: it
// had it not on one day and had it on the other. Without is day.None where it had it by
// the first that is kept.
type Came struct{ Without, With day.Day }

// Explains reports whether someone came to it by something that was done on a day.
func (c Came) Explains(on day.Day) bool {
	return (c.Without == day.None || on >= c.Without) && on <= c.With
}

// Since tells of accounts that had a thing at the end of a day, by themselves or along,
// when they came to have it last. O(states · (a state's text + accounts · log accounts)),
// each state being unfolded once.
func Since(l ledger.Ledger, app *model.App, thing int32, on day.Day, accounts []string) (map[string]Came, error) {
	all, err := states(l, app.ID)
	if err != nil {
		return nil, err
	}
	all = all[:until(all, on, l.Zone())]
	had := map[string][]bool{} // state → whether each of the accounts had it
	look := func(digest string, text []byte) error {
		state, err := Look(text, app, thing)
		if err != nil {
			return err
		}
		has := make([]bool, len(accounts))
		for i, account := range accounts {
			has[i] = state.Has(account)
		}
		had[digest] = has
		return nil
	}
	out := map[string]Came{}
	dayAt := func(n int) day.Day { return l.Zone().Day(all[n].at) }
	for at := len(all) - 1; at > 0 && len(out) < len(accounts); at-- {
		before := all[at-1].held
		if had[before] == nil {
			if err := unfold(l, before, look); err != nil {
				return nil, err
			}
		}
		for i, account := range accounts {
			if _, known := out[account]; !known && !had[before][i] {
				out[account] = Came{dayAt(at - 1), dayAt(at)}
			}
		}
	}
	for _, account := range accounts {
		if _, known := out[account]; !known && len(all) > 0 {
			out[account] = Came{day.None, dayAt(0)}
		}
	}
	return out, nil
}

// A Decision is how someone came to have a thing.
type Decision struct {
	Since   day.Day // on which a run gave it
	By      string  // who accepted that
	Because string
	Run     string
	Plan    string
}

// Gained is the run that gave someone a thing last before the end of a day, and who
// decided that; nil where the last run about it took it away, or none was.
func Gained(l ledger.Ledger, person, thing string, on day.Day) (*Decision, error) {
	last, err := latest(l, ledger.Query{Person: person}, on, func(o *ledger.ChangeOutcome) bool {
		return o.Thing == thing
	})
	if err != nil || last == nil {
		return nil, err
	}
	if v, ok := model.ParseVerb(last.Verb); !ok || v.Effect() != model.Widens {
		return nil, nil
	}
	return last.decided(l)
}

// Redefined is the run that changed last before the end of a day what a thing brings
// along, and who decided that.
func Redefined(l ledger.Ledger, thing string, on day.Day) (*Decision, error) {
	last, err := latest(l, ledger.Query{}, on, func(o *ledger.ChangeOutcome) bool {
		return o.Thing == thing && (o.Verb == model.Define.String() || o.Verb == model.Redefine.String())
	})
	if err != nil || last == nil {
		return nil, err
	}
	return last.decided(l)
}

// An outcome is one that is settled, with when it was and by whom.
type outcome struct {
	ledger.ChangeOutcome
	by string
	on day.Day
}

// latest is the last settled outcome before the end of a day that fits; nil where there
// is none.
func latest(
	l ledger.Ledger,
	q ledger.Query,
	on day.Day,
	fits func(*ledger.ChangeOutcome) bool,
) (found *outcome, err error) {
	q.Kinds, q.Newest = []ledger.Kind{ledger.Outcome}, true
	err = l.Scan(q, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err != nil || !o.Settled || !fits(&o) {
			return err
		}
		d, err := dayOf(l, e)
		if err != nil || d > on {
			return err
		}
		found = &outcome{o, e.By, d}
		return ledger.ErrStop
	})
	return found, err
}

// decided adds who accepted what came out so: whoever ran it where nobody else did.
func (o *outcome) decided(l ledger.Ledger) (*Decision, error) {
	d := &Decision{Since: o.on, By: o.by, Run: o.Run, Plan: o.Plan}
	by, because, err := Decider(l, o.Plan, o.Change)
	if by != "" {
		d.By, d.Because = by, because
	}
	return d, err
}

// Decider is who accepted a change of a plan, by itself or with the whole plan, and why;
// "" where nobody did.
func Decider(l ledger.Ledger, plan, change string) (by, because string, err error) {
	whole := false
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.Decided}, Plan: plan, Newest: true},
		func(e *ledger.Entry) error {
			made, err := ledger.Decode[ledger.Decision](e)
			if err != nil {
				return err
			}
			for _, d := range made.Parts() {
				if d.Verdict != "accept" {
					continue
				}
				if slices.Contains(d.Changes, change) || slices.Contains(d.Along, change) {
					by, because = d.Maker(e.By), d.Because
					return ledger.ErrStop
				}
				if d.All && !whole {
					whole, by, because = true, d.Maker(e.By), d.Because
				}
			}
			return nil
		},
	)
	return by, because, err
}

func dayOf(l ledger.Ledger, e *ledger.Entry) (day.Day, error) {
	on, err := l.Zone().DayOf(e.At)
	if err != nil {
		return day.None, fmt.Errorf("entry %d of the ledger has no time", e.Seq)
	}
	return on, nil
}

// Revision is the revision of the files at the end of a day: that of the plan that was
// drafted last by then; "" where none is known.
func Revision(l ledger.Ledger, on day.Day) (revision string, err error) {
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Newest: true},
		func(e *ledger.Entry) error {
			d, err := dayOf(l, e)
			if err != nil || d > on {
				return err
			}
			p, err := ledger.Decode[ledger.Plan](e)
			if err != nil || p.Revision == "" {
				return err
			}
			revision = p.Revision
			return ledger.ErrStop
		},
	)
	return revision, err
}

// Newest is an application as the record knows it last, and the entry that says so; nil where it was never kept.
func Newest(l ledger.Ledger, app *model.App) (seen *ledger.Export, accounts *model.Accounts, err error) {
	q := ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app.ID, Newest: true}
	err = l.Scan(q, func(e *ledger.Entry) error {
		x, err := ledger.Decode[ledger.Export](e)
		if err == nil && x.Held != "" {
			seen, err = &x, ledger.ErrStop
		}
		return err
	})
	if err != nil || seen == nil {
		return nil, nil, err
	}
	text, err := Text(l, seen.Held)
	if err == nil {
		accounts, err = Read(text, app)
	}
	return seen, accounts, err
}
