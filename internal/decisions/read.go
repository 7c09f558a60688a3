// Package decisions is the home of what people decide about plans: it reads what
// the ledger and standing.yaml say, judges what follows, and writes new
// decisions down. Whoever shows, explains, drafts or carries out asks here.
package decisions

import (
	"context"
	"errors"
	"maps"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// Stood is what stands in standing.yaml.
type Stood struct {
	Rejections  []decide.Rejection
	Lifts       []decide.Lift
	Acceptances day.Duration // how long an acceptance counts for the same change in another plan; none: not at all
	Bench       *Bench       // which decisions count; nil for all
}

// Of is what stands in the files of a repository.
func Of(repo *desired.Repo) Stood {
	return Stood{repo.Rejections, repo.Lifts, repo.Acceptances, benchOf(repo)}
}

// Now is what stands in the files of a repository at the moment.
func Now(ctx context.Context, repo *desired.Repo) (Stood, error) {
	out := Of(repo)
	var err error
	out.Rejections, out.Lifts, err = repo.Standing(ctx)
	return out, err
}

// Rejections returns all rejections that are remembered: of each change the
// ledger's latest, unless it was accepted later, by itself or with the whole
// plan after that had been rejected as a whole; and those of standing.yaml,
// which count over the ledger's.
func Rejections(l ledger.Ledger, stood Stood) ([]decide.Rejection, error) {
	type remembered struct {
		decide.Rejection
		whole string // the plan that was rejected as a whole
	}
	byID := map[string]remembered{}
	bench, err := stood.Bench.reading(l, day.None)
	if err != nil {
		return nil, err
	}
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Decided}}, func(e *ledger.Entry) error {
		made, err := ledger.Decode[ledger.Decision](e)
		if err != nil {
			return err
		}
		if _, no, err := bench.Counts(l, e, &made); err != nil || no != nil {
			return err
		}
		for _, d := range made.Parts() {
			if d.Standing || d.Verdict == "lift" { // a lift says nothing about whether a change is wanted
				continue
			}
			if d.Verdict == "accept" && d.All {
				for id, r := range byID {
					if r.whole == d.Plan {
						delete(byID, id)
					}
				}
			}
			for _, id := range d.Changes {
				if d.Verdict != "reject" {
					delete(byID, id)
					continue
				}
				r := remembered{Rejection: decide.Rejection{Change: id, Because: d.Because, By: d.Maker(e.By)}}
				if r.Until, err = until(d); err != nil {
					return err
				}
				if d.All {
					r.whole = d.Plan
				}
				byID[id] = r
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := make([]decide.Rejection, 0, len(byID)+len(stood.Rejections))
	for _, r := range byID {
		out = append(out, r.Rejection)
	}
	return append(out, stood.Rejections...), nil
}

func until(d ledger.Decision) (day.Day, error) {
	if d.Until == "" {
		return day.None, nil
	}
	return day.Parse(d.Until)
}

// Read returns what is decided about a plan on a day: by decisions about the
// plan, by rejections of the same differences in other plans, and by
// standing.yaml, whose rejections count over everything else. The latest
// decision about a change counts; to accept a whole plan takes back its
// rejection as a whole, and no rejection of a single change. settled are the changes of which
// the caller knows what became of them, as nobody else carries anything out; nil looks it up.
func Read(
	l ledger.Ledger, stood Stood, p *plan.Plan, today day.Day, settled map[string]bool,
) (*decide.PlanDecisions, error) {
	docket, err := Open(l, stood, p, today, settled)
	if err != nil {
		return nil, err
	}
	return docket.If("", nil), nil
}

// A Docket is what is on record about a plan, read once. What follows can be judged again and again, with decisions that are
// not on record.
type Docket struct {
	plan  *plan.Plan
	today day.Day
	stood Stood
	bench *Bench
	of    drafted
	kept  acceptances
	judging
}

// judging is what is decided, while decisions are heard one after the other.
type judging struct {
	s     *decide.PlanDecisions
	by    map[string][]string // who has accepted a change
	all   []string            // who has accepted the whole plan
	whole map[string]bool     // rejected with the whole plan
}

// Open reads what is on record about a plan; see Read.
func Open(l ledger.Ledger, stood Stood, p *plan.Plan, today day.Day, settled map[string]bool) (*Docket, error) {
	today, err := ledger.Latest(l, today)
	if err != nil {
		return nil, err
	}
	x := &Docket{plan: p, today: today, stood: stood, kept: acceptances{}, judging: judging{
		s: &decide.PlanDecisions{
			Verdicts: map[string]decide.Verdict{},
			Named:    map[string]bool{},
			Done:     map[string]bool{},
			AtRun:    map[string]bool{},
			Carried:  map[string]decide.Carried{},
			Lifts:    append([]decide.Lift(nil), stood.Lifts...),
		},
		by: map[string][]string{}, whole: map[string]bool{},
	}}
	if x.bench, err = stood.Bench.reading(l, today); err != nil {
		return nil, err
	}
	if x.bench != nil {
		if x.of, err = x.bench.drafted(l, p.ID); err != nil {
			return nil, err
		}
	}
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Decided}}, func(e *ledger.Entry) error {
		made, err := ledger.Decode[ledger.Decision](e)
		if err != nil {
			return err
		}
		person, no, err := x.bench.Counts(l, e, &made)
		if err != nil {
			return err
		}
		if no != nil {
			if made.Plan == p.ID {
				x.s.Ignored = append(x.s.Ignored, decide.Ignored{Entry: e.Seq, By: made.Maker(e.By), Says: no.Error()})
			}
			return nil
		}
		for _, d := range made.Parts() {
			if d.Plan == p.ID {
				x.hear(&d, d.Maker(e.By), person)
				continue
			}
			if err := errors.Join(x.kept.add(e, person, &d, stood.Acceptances, today, l.Zone()), elsewhere(x.s, d, today)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := x.kept.spend(l, stood.Acceptances, today); err != nil {
		return nil, err
	}
	return x, done(l, p, x.s, settled)
}

// If is what would be decided, had somebody made some more decisions.
func (x *Docket) If(by string, more []ledger.Decision) *decide.PlanDecisions {
	j := x.judging
	s := *x.s
	j.s, j.by, j.all, j.whole = &s, maps.Clone(x.by), slices.Clip(x.all), maps.Clone(x.whole)
	s.Verdicts, s.Named, s.Carried, s.AtRun = maps.Clone(s.Verdicts), maps.Clone(s.Named), maps.Clone(s.Carried), maps.Clone(s.AtRun)
	s.Lifts = slices.Clip(s.Lifts)
	person := by
	if x.bench != nil {
		person = x.bench.person(by)
	}
	for i := range more {
		j.hear(&more[i], by, person)
	}
	for _, r := range x.stood.Rejections {
		if r.On(x.today) {
			s.Verdicts[r.Change] = decide.Rejected
		}
	}
	former(&s, x.plan)
	x.kept.carry(&s, x.plan, j.by)
	x.bench.waits(x.of, &s, x.plan, j.by, j.all)
	return &s
}

// hear takes a decision about the plan into account, which maker has made, who is person.
func (j *judging) hear(d *ledger.Decision, maker, person string) {
	s := j.s
	switch d.Verdict {
	case "lift":
		for _, g := range d.Guards {
			l := decide.Lift{Guard: g, Plan: d.Plan, Until: day.None, Because: d.Because, By: maker}
			if len(d.Changes) == 0 {
				s.Lifts = append(s.Lifts, l)
			}
			for _, l.Change = range d.Changes {
				s.Lifts = append(s.Lifts, l)
			}
		}
	case "accept":
		if d.All {
			s.All, s.ForGood = true, s.ForGood || d.ForGood
			j.all = with(j.all, person)
			for id := range j.whole {
				delete(s.Verdicts, id)
			}
			clear(j.whole)
		}
		for _, id := range slices.Concat(d.Changes, d.Along) {
			s.AtRun[id] = d.AtRun && (s.Verdicts[id] != decide.Accepted || s.AtRun[id])
			s.Verdicts[id] = decide.Accepted
			j.by[id] = with(slices.Clip(j.by[id]), person)
			delete(j.whole, id)
		}
		for _, id := range d.Changes {
			s.Named[id] = true
		}
	case "reject":
		if d.All {
			s.All, s.ForGood, j.all = false, false, nil
		}
		for _, id := range slices.Concat(d.Changes, d.Along) {
			s.Verdicts[id] = decide.Rejected
			delete(j.by, id)
			delete(j.whole, id)
			if d.All {
				j.whole[id] = true
			}
		}
	}
}

// with adds a name to a list that has each once.
func with(names []string, name string) []string {
	if slices.Contains(names, name) {
		return names
	}
	return append(names, name)
}

// inForce are the rules that a plan is decided by: those of the files, and those of before that the files have changed, until
// something was carried out by the new ones.
func (b *Bench) inForce(of drafted) []decide.Rule {
	rules := slices.Clone(b.repo.Deciders)
	if of.before == "" || of.before == of.revision {
		return rules
	}
	same := func(x, y *decide.Rule) bool {
		return x.Changes.String() == y.Changes.String() && x.Who("", x.Count) == y.Who("", y.Count) && x.NotDrafter == y.NotDrafter &&
			x.NotSubject == y.NotSubject
	}
	for _, old := range b.proves(of.before).rules {
		if !slices.ContainsFunc(b.repo.Deciders, func(r decide.Rule) bool { return same(&r, &old) }) {
			old.Before = true
			rules = append(rules, old)
		}
	}
	return rules
}

// waits finds the changes that are accepted, and not by enough of those who decide about them.
func (b *Bench) waits(of drafted, s *decide.PlanDecisions, p *plan.Plan, by map[string][]string, all []string) {
	if b == nil {
		return
	}
	rules := b.inForce(of)
	if len(rules) == 0 {
		return
	}
	s.Waits = map[string][]decide.Wait{}
	covers := b.Covers(p)
	for i := range p.Changes {
		c := &p.Changes[i]
		accepted := by[c.ID]
		if s.All && (!c.ForGood || s.ForGood) {
			for _, person := range all {
				accepted = with(slices.Clip(accepted), person)
			}
		}
		if waits := decide.Waits(rules, covers, c, accepted, of.by, b.May); len(waits) > 0 {
			s.Waits[c.ID] = waits
		}
	}
}

// former takes rejections over that were made when changes had other ids.
func former(s *decide.PlanDecisions, p *plan.Plan) {
	elsewhere := 0
	for _, v := range s.Verdicts {
		if v == decide.Rejected {
			elsewhere++
		}
	}
	for i := range p.Changes {
		if elsewhere == 0 {
			return
		}
		c := &p.Changes[i]
		if s.Verdicts[c.ID] == decide.Rejected {
			elsewhere--
		} else if s.Verdicts[c.ID] == decide.Undecided && s.Verdicts[plan.FormerID(c)] == decide.Rejected {
			s.Verdicts[c.ID] = decide.Rejected
			elsewhere--
		}
	}
}

// acceptances are those of changes in other plans that still count: change → with the
// mark of what it was.
type acceptances map[string]struct {
	mark string
	seq  int64
	by   []string // the persons who accepted it
	decide.Carried
}

// spend takes away those whose change was carried out since and settled: an acceptance counts once.
func (k acceptances) spend(l ledger.Ledger, span day.Duration, today day.Day) error {
	if len(k) == 0 {
		return nil
	}
	query := ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}, Newest: true}
	return l.Scan(query, func(e *ledger.Entry) error {
		if on, err := l.Zone().DayOf(e.At); err == nil && on.Add(span) < today {
			return ledger.ErrStop // older than any that counts
		}
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if x, ok := k[o.Change]; err == nil && ok && o.Settled && e.Seq > x.seq {
			delete(k, o.Change)
		}
		return err
	})
}

// add follows a decision about another plan.
func (k acceptances) add(e *ledger.Entry, person string, d *ledger.Decision, span day.Duration, today day.Day, zone day.Zone) error {
	if span == (day.Duration{}) {
		return nil
	}
	on, err := zone.DayOf(e.At)
	if err != nil {
		return err
	}
	if d.Verdict == "lift" {
		return nil
	}
	for i, id := range d.Changes {
		var by []string
		if x, ok := k[id]; ok && i < len(d.Marks) && x.mark == d.Marks[i] {
			by = x.by
		}
		delete(k, id)
		if d.Verdict == "accept" && !d.Unattended && i < len(d.Marks) && today <= on.Add(span) {
			k[id] = struct {
				mark string
				seq  int64
				by   []string
				decide.Carried
			}{d.Marks[i], e.Seq, with(slices.Clip(by), person), decide.Carried{Plan: d.Plan, By: d.Maker(e.By), On: on.String(), Because: d.Because}}
		}
	}
	return nil
}

// carry accepts the changes of a plan that are what they were when they were accepted
// in another, and about which nothing else is said.
func (k acceptances) carry(s *decide.PlanDecisions, p *plan.Plan, by map[string][]string) {
	if len(k) == 0 {
		return
	}
	for i := range p.Changes {
		c := &p.Changes[i]
		if x, ok := k[c.ID]; ok && s.Verdicts[c.ID] == decide.Undecided && plan.SameMeaning(x.mark, p.Meaning(c)) {
			s.Verdicts[c.ID], s.Named[c.ID], s.Carried[c.ID] = decide.Accepted, true, x.Carried
			by[c.ID] = x.by
		}
	}
}

// elsewhere follows a decision about another plan: its rejections count here
// too, for the differences are the same.
func elsewhere(s *decide.PlanDecisions, d ledger.Decision, today day.Day) error {
	last, err := until(d)
	if err != nil {
		return err
	}
	for _, id := range d.Changes {
		switch {
		case d.Verdict == "reject" && !d.Standing && (last == day.None || today <= last):
			s.Verdicts[id] = decide.Rejected
		case d.Verdict == "accept" && s.Verdicts[id] == decide.Rejected:
			delete(s.Verdicts, id)
		}
	}
	return nil
}

// done marks what earlier runs of the plan have settled, or tried to. That is
// what the application showed then; carrying out looks at what it shows now.
func done(l ledger.Ledger, p *plan.Plan, s *decide.PlanDecisions, settled map[string]bool) error {
	if settled != nil {
		s.Done = maps.Clone(settled)
		return nil
	}
	return l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}, Plan: p.ID}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err == nil {
			s.Done[o.Change] = o.Settled
		}
		return err
	})
}
