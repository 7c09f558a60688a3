package desk

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/prepare"
)

// numbers are changes by their numbers in the plan as show lists it: 3-9,14.
var numbers = regexp.MustCompile(`^[0-9]+(-[0-9]+)?(,[0-9]+(-[0-9]+)?)*$`)

// Named finds the changes that one word names: by number, by the
// beginning of an id, or by that of a cause or of a fold after a colon. Those of the
// plan come first, then those that it sets aside.
func (s *Selection) Named(name string) ([]*plan.Change, error) {
	switch {
	case numbers.MatchString(name):
		return byNumber(s.plan, name)
	case strings.HasPrefix(name, ":"):
		return s.byRef(strings.TrimPrefix(name, ":"))
	}
	var found []*plan.Change
	for i := range s.plan.Changes {
		if strings.HasPrefix(s.plan.Changes[i].ID, name) {
			found = append(found, &s.plan.Changes[i])
		}
	}
	for i := range s.plan.SetAside {
		if c := &s.plan.SetAside[i].Change; strings.HasPrefix(c.ID, name) {
			found = append(found, c)
		}
	}
	switch {
	case name == "" || len(found) == 0:
		return nil, wrong(sayNoChange(name, s.plan.ID))
	case len(found) > 1:
		return nil, wrong(sayManyChanges(len(found), name))
	}
	return found, nil
}

// inPlan reports whether a change is one of the plan's, rather than set aside.
func (s *Selection) inPlan(c *plan.Change) bool {
	if s.own == nil {
		s.own = make(map[*plan.Change]bool, len(s.plan.Changes))
		for i := range s.plan.Changes {
			s.own[&s.plan.Changes[i]] = true
		}
	}
	return s.own[c]
}

// byRef finds the changes of a cause or of a fold by the beginning of its id.
func (s *Selection) byRef(begin string) ([]*plan.Change, error) {
	o := s.whole()
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
		key, _, err := s.Key(o, by)
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
		return nil, wrong(sayNoCause(begin, s.plan.ID))
	case 1:
	default:
		return nil, wrong(sayManyCauses(len(found), begin))
	}
	var out []*plan.Change
	for _, ids := range found {
		in := set(ids)
		for i := range s.plan.Changes {
			if in[s.plan.Changes[i].ID] {
				out = append(out, &s.plan.Changes[i])
			}
		}
	}
	return out, nil
}

// everyGrouping lists by what changes can be grouped.
func (s *Selection) everyGrouping() []string {
	out := slices.Clone(Groupings)
	if s.desk.Dir != "" {
		out = append(out, s.folk().Attributes()...)
	}
	return out
}

// whole is the outline of the whole plan.
func (s *Selection) whole() *outline.Outline {
	if s.causes == nil {
		s.causes = outline.Make(outline.Input{Plan: s.plan, Changes: outline.All(s.plan), History: s.History})
	}
	return s.causes
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
			return nil, wrong(sayNotANumber(first))
		}
		to, err := strconv.Atoi(last)
		if err != nil {
			return nil, wrong(sayNotANumber(last))
		}
		if from < 1 || to > len(all) || from > to {
			return nil, wrong(sayNoNumbers(part, len(all)))
		}
		out = append(out, all[from-1:to]...)
	}
	return out, nil
}

// Numbered reports whether a word names changes by number, cause or fold only, so that it says
// nothing of which plan is meant.
func Numbered(word string) bool { return numbers.MatchString(word) || strings.HasPrefix(word, ":") }

// Groupings are what changes can be grouped by, besides attributes of people.
var Groupings = []string{"cause", "person", "kit", "thing", "app", "verb"}

// Key is how changes are told apart by what they are grouped by. attr is the attribute of
// people that it is, "" where it is one of Groupings.
func (s *Selection) Key(o *outline.Outline, by string) (key func(*plan.Change) string, attr string, err error) {
	switch table.Fold(by) {
	case "cause":
		return func(ch *plan.Change) string { return o.CauseOf(ch.ID).ID }, "", nil
	case "person":
		return func(ch *plan.Change) string { return words.Whose(s.plan, ch) }, "", nil
	case "kit":
		return func(ch *plan.Change) string { return outline.Kit(s.plan, ch) }, "", nil
	case "thing":
		return func(ch *plan.Change) string {
			if ch.Thing == nil {
				return ""
			}
			return ch.Address().String()
		}, "", nil
	case "app":
		return func(ch *plan.Change) string { return ch.App }, "", nil
	case "verb":
		return func(ch *plan.Change) string { return ch.Verb.String() }, "", nil
	}
	attr, ok := s.attribute(by)
	if !ok {
		return nil, "", wrongIn("group-by", prepare.UnknownName("grouping or attribute of people", by, Groupings))
	}
	return func(ch *plan.Change) string { return s.personValue(ch, attr) }, attr, nil
}

// sayNoChange is a change that a plan does not have.
func sayNoChange(name, plan string) error {
	return fmt.Errorf("the plan has no change %q; list them with: pravet show %s --brief", name, plan)
}

// sayManyChanges is a beginning of an id that several changes have.
func sayManyChanges(n int, begin string) error {
	return fmt.Errorf("%d changes begin with %q; write more of the id", n, begin)
}

// sayNotANumber is a word that should be the number of a change.
func sayNotANumber(word string) error {
	return fmt.Errorf("%q is not the number of a change; for example: 3-9,14", word)
}

// sayNoNumbers is a number, or some, that no change of a plan has.
func sayNoNumbers(part string, n int) error {
	return fmt.Errorf("the plan has no %s %s; its changes are numbered from 1 to %d",
		model.Plural(1+strings.Count(part, "-"), "change", "changes"), part, n)
}

// sayNoCause is a cause or a fold that a plan does not have.
func sayNoCause(begin, plan string) error {
	return fmt.Errorf("the plan has no cause or fold :%s; see them with: pravet show %s --summary", begin, plan)
}

// sayManyCauses is a beginning that several causes or folds have.
func sayManyCauses(n int, begin string) error {
	return fmt.Errorf("%d causes or folds begin with :%s; write more of it", n, begin)
}
