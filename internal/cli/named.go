package cli

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/say"
)

// numbered are changes by their numbers in the plan as show lists it: 3-9,14.
var numbered = regexp.MustCompile(`^[0-9]+(-[0-9]+)?(,[0-9]+(-[0-9]+)?)*$`)

// named finds the changes that one word of the command line names: by number, by the
// beginning of an id, or by that of a cause or of a fold after a colon. Those of the
// plan come first, then those that it sets aside.
func (s *selection) named(p *plan.Plan, name string) ([]*plan.Change, error) {
	switch {
	case numbered.MatchString(name):
		return byNumber(p, name)
	case strings.HasPrefix(name, ":"):
		return s.byRef(p, strings.TrimPrefix(name, ":"))
	}
	var found []*plan.Change
	for i := range p.Changes {
		if strings.HasPrefix(p.Changes[i].ID, name) {
			found = append(found, &p.Changes[i])
		}
	}
	for i := range p.SetAside {
		if c := &p.SetAside[i].Change; strings.HasPrefix(c.ID, name) {
			found = append(found, c)
		}
	}
	switch {
	case name == "" || len(found) == 0:
		return nil, usage(say.NoChange(name, p.ID))
	case len(found) > 1:
		return nil, usage(say.ManyChanges(len(found), name))
	}
	return found, nil
}

// withPlan puts the plan that was shown last before words that name changes by
// number, cause or fold only. That is for someone who sees it: a script names its plan.
func (c *program) withPlan(args []string) ([]string, error) {
	if len(args) == 0 || !numbered.MatchString(args[0]) && !strings.HasPrefix(args[0], ":") {
		return args, nil
	}
	dir, err := c.dir()
	if err != nil {
		return nil, err
	}
	last := c.shownLast(dir)
	if !c.Terminal || last == "" {
		return nil, usage(say.WhichPlan(args[0]))
	}
	return append([]string{last}, args...), nil
}

// inPlan reports whether a change is one of the plan's, rather than set aside.
func (s *selection) inPlan(p *plan.Plan, c *plan.Change) bool {
	if s.own == nil {
		s.own = make(map[*plan.Change]bool, len(p.Changes))
		for i := range p.Changes {
			s.own[&p.Changes[i]] = true
		}
	}
	return s.own[c]
}

// byNumber finds changes by their numbers in the whole plan as it is listed.
func byNumber(p *plan.Plan, name string) (out []*plan.Change, err error) {
	all := outline.Listed(p, outline.All(p))
	for part := range strings.SplitSeq(name, ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		from, err := strconv.Atoi(first)
		if err != nil {
			return nil, usage(say.NotANumber(first))
		}
		to, err := strconv.Atoi(last)
		if err != nil {
			return nil, usage(say.NotANumber(last))
		}
		if from < 1 || to > len(all) || from > to {
			return nil, usage(say.NoNumbers(part, len(all)))
		}
		out = append(out, all[from-1:to]...)
	}
	return out, nil
}

// byRef finds the changes of a cause or of a fold by the beginning of its id.
func (s *selection) byRef(p *plan.Plan, begin string) ([]*plan.Change, error) {
	o := s.whole(p)
	found := map[string][]string{}
	look := func(id string, changes []string) {
		if begin != "" && strings.HasPrefix(id, begin) {
			found[id] = changes
		}
	}
	for i := range o.Causes {
		look(o.Causes[i].ID, o.Causes[i].Changes)
	}
	for i := range o.Folds {
		look(o.Folds[i].ID, o.Folds[i].Changes)
	}
	for _, by := range s.everyGrouping() {
		if len(found) > 0 {
			break // what is shown most is found first
		}
		key, _, err := s.grouping(p, o, by)
		if err != nil {
			return nil, err
		}
		for _, g := range o.By(key) {
			for i := range g.Folds {
				look(g.Folds[i].ID, g.Folds[i].Changes)
			}
		}
	}
	switch len(found) {
	case 0:
		return nil, usage(say.NoCause(begin, p.ID))
	case 1:
	default:
		return nil, usage(say.ManyCauses(len(found), begin))
	}
	var out []*plan.Change
	for _, ids := range found {
		in := set(ids)
		for i := range p.Changes {
			if in[p.Changes[i].ID] {
				out = append(out, &p.Changes[i])
			}
		}
	}
	return out, nil
}

// everyGrouping lists by what changes can be grouped.
func (s *selection) everyGrouping() []string {
	out := slices.Clone(groupings)
	if s.repo != nil {
		out = append(out, s.folk().Attributes()...)
	}
	return out
}

// whole is the outline of the whole plan.
func (s *selection) whole(p *plan.Plan) *outline.Outline {
	if s.causes == nil {
		s.causes = outline.Make(outline.Input{Plan: p, Changes: outline.All(p), History: s.history})
	}
	return s.causes
}
