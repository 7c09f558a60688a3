package decide

import (
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// A Rule says who decides about some changes, and how many of them it takes.
type Rule struct {
	Changes *filter.Filter
	// Who may: those whom a filter matches, the holders of a kit, or the owner of the application; anybody where none is set.
	People *filter.Filter
	Kit    string
	Owner  bool

	Count      int  // how many must have accepted a change, at least 1
	NotDrafter bool // whoever drafted the plan does not count
	NotSubject bool // nor whom the change is about
	Pos        model.Pos
	Before     bool // it is one of the files that were carried out last, which the files have changed since
}

// A Wait is a rule by which a change still waits for somebody.
type Wait struct {
	Rule *Rule
	By   []string // those who may have accepted it, each once
}

// Left is how many more it takes.
func (w *Wait) Left() int { return w.Rule.Count - len(w.By) }

// Anybody reports whether the rule names nobody in particular.
func (r *Rule) Anybody() bool { return r.People == nil && r.Kit == "" && !r.Owner }

// Counts reports whether somebody's acceptance of a change counts by a rule. may tells whether the rule's people are meant
// with the person: a filter, a kit and an owner are looked up by whoever knows the people.
func (r *Rule) Counts(c *plan.Change, person, drafter string, may func(r *Rule, c *plan.Change, person string) bool) bool {
	switch {
	case r.NotDrafter && person == drafter, r.NotSubject && person == c.Person && person != "":
		return false
	case r.Anybody():
		return true
	}
	return may(r, c, person)
}

// Waits are the rules by which a change is not decided yet, of those that cover it. accepted are the persons who have
// accepted it, each once. Everybody counts in every rule that names them: who is an owner and in the other kit counts in both.
func Waits(
	rules []Rule, covers func(r *Rule, c *plan.Change) bool, c *plan.Change, accepted []string, drafter string,
	may func(r *Rule, c *plan.Change, person string) bool,
) (out []Wait) {
	for i := range rules {
		r := &rules[i]
		if !covers(r, c) {
			continue
		}
		var by []string
		for _, person := range accepted {
			if r.Counts(c, person, drafter, may) {
				by = append(by, person)
			}
		}
		if len(by) < r.Count {
			out = append(out, Wait{r, by})
		}
	}
	return out
}

// Who are whom the rule leaves a decision about an application to, in words; left is how many of them it takes.
func (r *Rule) Who(app string, left int) string {
	filter := ""
	if r.People != nil {
		filter = r.People.String()
	}
	who := words.SoMany(left, r.Owner, r.Kit, filter, app)
	if r.Before {
		who = words.AsBefore(who)
	}
	return who
}
