package outline

import (
	"cmp"
	"fmt"
	"slices"

	"pravet/internal/core/fact"
	"pravet/internal/core/filter"
	"pravet/internal/core/plan"
)

// History tells how the files were when a plan was carried out last.
type History interface {
	// Was is the value that a person had of an attribute then; known is false for
	// one who was not in the files.
	Was(person, attribute string) (value string, known bool)
	// Is is the value that the person has now.
	Is(person, attribute string) string
	// Attributes lists the attributes of people, then or now.
	Attributes() []string
	// Edited is who changed a line since, or nil where nobody did; known is false
	// where that cannot be told.
	Edited(file string, line int) (edit *Edit, known bool)
	// Gives is where a kit gives a thing, and Gave where kits are that gave one then and give it no more; file is "" where
	// that is nowhere, or cannot be told.
	Gives(kit, app string, thing *plan.Thing) (file string, line int)
	Gave(app string, thing *plan.Thing) (file string, line int)
}

// An Edit is who changed a line last, and when. Commit is "" for what is not
// committed yet.
type Edit struct {
	By     string `json:"by,omitempty"`
	On     string `json:"on,omitempty"` // YYYY-MM-DD
	Commit string `json:"commit,omitempty"`
	// Subject is the first line of the commit's message.
	Subject string `json:"subject,omitempty"`
}

// A CauseKind is what kind of thing causes changes.
type CauseKind string

// The kinds of causes.
const (
	Moved  CauseKind = "moved"  // the people's Attribute was Was and is Is, where those are the same for all
	Joined CauseKind = "joined" // the people were not in the files before
	Staged CauseKind = "staged" // the people ended, are away, or have not started, as Facts say of the first
	Valued CauseKind = "valued" // the people's Attribute, of which it is not known what it was
	Lined  CauseKind = "lined"  // a line of the files
)

// A Cause is what a part of the changes follows from: the line that changed, or the
// people's rows that did.
type Cause struct {
	ID        string     `json:"id"`
	Kind      CauseKind  `json:"kind"`
	Attribute string     `json:"attribute,omitempty"`
	Was       string     `json:"was,omitempty"`
	Is        string     `json:"is,omitempty"`
	File      string     `json:"file,omitempty"`
	Line      int        `json:"line,omitempty"`
	Facts     *fact.Fact `json:"facts,omitempty"` // of the first change
	Says      string     `json:"says,omitempty"`
	Edit      *Edit      `json:"edit,omitempty"`      // of the line, since a plan was carried out last
	Unchanged bool       `json:"unchanged,omitempty"` // nobody changed the line since: the application differs by itself
	Persons   int        `json:"persons"`
	Changes   []string   `json:"changes"`
}

// Primary is the reason that says most of a change's cause, nil where there is none:
// what a kit asks for rather than that no kit gives something.
func Primary(p *plan.Plan, c *plan.Change) *plan.Reason {
	var first *plan.Reason
	for _, n := range c.Reasons {
		if n < 0 || n >= len(p.Reasons) {
			continue
		}
		r := &p.Reasons[n]
		if first == nil {
			first = r
		}
		if r.Facts != nil && r.Facts.Kind != fact.NoKit {
			return r
		}
	}
	return first
}

// Kit is the kit by which a change is due, or is not any more; "" where none has to
// do with it.
func Kit(p *plan.Plan, c *plan.Change) string {
	for _, r := range p.Because(c) {
		if r.Facts != nil && r.Facts.Kit != "" {
			return r.Facts.Kit
		}
	}
	return ""
}

// A finder finds causes, and remembers the attributes that rules ask for.
type finder struct {
	in    Input
	rules map[string][]string
}

func (f *finder) attributes(rule string) []string {
	attrs, ok := f.rules[rule]
	if !ok {
		if parsed, err := filter.Parse(rule); err == nil {
			for _, c := range parsed.Clauses() {
				if !slices.Contains(attrs, c.Attr) {
					attrs = append(attrs, c.Attr)
				}
			}
		}
		f.rules[rule] = attrs
	}
	return attrs
}

// of is the cause of one change, without the changes.
func (f *finder) of(c *plan.Change) Cause {
	r := Primary(f.in.Plan, c)
	if r == nil || r.Facts == nil {
		return Cause{Kind: Lined}
	}
	switch r.Facts.Kind {
	case fact.Ended, fact.Away, fact.NotYet:
		return f.staged(r)
	case fact.OnPath:
		for _, other := range f.in.Plan.Because(c) {
			if other.Facts != nil && other.Facts.Kind == fact.Ended {
				if cause := f.staged(&other); cause.Edit != nil {
					return cause
				}
			}
		}
	case fact.HasValue:
		if cause, ok := f.moved(c, []string{r.Facts.Attribute}); ok {
			return cause
		}
		return Cause{Kind: Valued, Attribute: r.Facts.Attribute, Facts: r.Facts}
	case fact.NoKit:
		if f.in.History != nil {
			if cause, ok := f.moved(c, f.in.History.Attributes()); ok {
				return cause
			}
		}
	case fact.KitRule, fact.KitLacks, fact.OutOfScope:
		if cause, ok := f.moved(c, f.attributes(r.Facts.Rule)); ok {
			return cause
		}
	}
	file, line := r.File, r.Line
	if gives, at := f.given(c, r); gives != "" {
		file, line = gives, at
	}
	return Cause{Kind: Lined, File: file, Line: line, Says: r.Says, Facts: r.Facts}
}

// staged is the cause of somebody who is not here, or no more: the commit that has said so, where one has since a plan was
// carried out last; else that the day has come.
func (f *finder) staged(r *plan.Reason) Cause {
	c := Cause{Kind: Staged, Facts: r.Facts, Attribute: string(r.Facts.Kind)}
	if f.in.History != nil && r.File != "" {
		c.Edit, _ = f.in.History.Edited(r.File, r.Line)
	}
	return c
}

// given is the line by which a kit gives the thing of a change, or gave it, where that line was changed and the one of the reason
// was not: a rule that nobody has touched is no cause.
func (f *finder) given(c *plan.Change, r *plan.Reason) (file string, line int) {
	if f.in.History == nil || c.Thing == nil || r.Facts == nil {
		return "", 0
	}
	if edit, known := f.in.History.Edited(r.File, r.Line); r.File != "" && (!known || edit != nil) {
		return "", 0
	}
	if r.Facts.Kind == fact.NoKit || r.Facts.Kind == fact.KitLacks {
		file, line = f.in.History.Gave(c.App, c.Thing)
	}
	if file == "" && r.Facts.Kit != "" {
		file, line = f.in.History.Gives(r.Facts.Kit, c.App, c.Thing)
	}
	if file == "" {
		return "", 0
	}
	if edit, _ := f.in.History.Edited(file, line); edit == nil {
		return "", 0
	}
	return file, line
}

// moved finds the first of some attributes that is not what it was.
func (f *finder) moved(c *plan.Change, attrs []string) (Cause, bool) {
	if f.in.History == nil || c.Person == "" {
		return Cause{}, false
	}
	for _, attr := range attrs {
		was, known := f.in.History.Was(c.Person, attr)
		if !known {
			return Cause{Kind: Joined}, true
		}
		if is := f.in.History.Is(c.Person, attr); is != was {
			return Cause{Kind: Moved, Attribute: attr, Was: was, Is: is}, true
		}
	}
	return Cause{}, false
}

// key tells causes apart.
func (c *Cause) key() [6]string {
	if c.Kind == Staged && c.Edit != nil {
		return [6]string{string(c.Kind), c.Attribute, "commit", c.Edit.Commit, "", "0"}
	}
	return [6]string{string(c.Kind), c.Attribute, c.Was, c.Is, c.File, fmt.Sprint(c.Line)}
}

// causes finds the causes and folds the changes of each.
func (o *Outline) causes() {
	f := &finder{in: o.in, rules: map[string][]string{}}
	found := make([]Cause, len(o.in.Changes))
	for i, c := range o.in.Changes {
		found[i] = f.of(c)
	}
	o.scattered(found)
	at := map[[6]string]int{}
	of := map[int][]*plan.Change{}
	o.Causes, o.Folds = []Cause{}, []Fold{}
	for i, c := range o.in.Changes {
		key := found[i].key()
		n, ok := at[key]
		if !ok {
			n = len(o.Causes)
			at[key] = n
			found[i].ID = plan.Name(append([]string{"cause"}, key[:]...)...)
			o.Causes = append(o.Causes, found[i])
		}
		of[n] = append(of[n], c)
		o.Causes[n].Changes = append(o.Causes[n].Changes, c.ID)
	}
	order := make([]int, len(o.Causes))
	for n := range order {
		order[n] = n
	}
	slices.SortStableFunc(order, func(x, y int) int {
		return cmp.Compare(len(o.Causes[y].Changes), len(o.Causes[x].Changes))
	})
	causes := make([]Cause, 0, len(order))
	for n, from := range order {
		cause := o.Causes[from]
		persons := map[string]bool{}
		for _, c := range of[from] {
			o.causeOf[c.ID] = n
			if who := Who(c); who != "" {
				persons[who] = true
			}
		}
		cause.Persons = len(persons)
		if cause.Kind == Lined && o.in.History != nil && cause.File != "" {
			edit, known := o.in.History.Edited(cause.File, cause.Line)
			cause.Edit, cause.Unchanged = edit, known && edit == nil
		}
		causes = append(causes, cause)
		folds := o.folded(of[from], cause.ID, func(*plan.Change) int { return n })
		slices.SortStableFunc(folds, func(x, y Fold) int { return cmp.Compare(len(y.Changes), len(x.Changes)) })
		o.Folds = append(o.Folds, folds...)
	}
	o.Causes = causes
}

// ByCause lists the folds of each cause.
func (o *Outline) ByCause() [][]Fold {
	out := make([][]Fold, len(o.Causes))
	for _, f := range o.Folds {
		out[f.Cause] = append(out[f.Cause], f)
	}
	return out
}

// maxApart is how many values of one attribute may be causes of their own where
// hardly any two people share one.
const maxApart = 4

// scattered makes one cause of the many values of an attribute, such as a name or an
// email, of which nearly everybody has another.
func (o *Outline) scattered(found []Cause) {
	type value struct{ was, is string }
	values := map[string]map[value]map[string]bool{} // attribute → value → people
	for i := range found {
		if c := &found[i]; c.Kind == Moved {
			of := values[c.Attribute]
			if of == nil {
				of = map[value]map[string]bool{}
				values[c.Attribute] = of
			}
			v := value{c.Was, c.Is}
			if of[v] == nil {
				of[v] = map[string]bool{}
			}
			of[v][o.in.Changes[i].Person] = true
		}
	}
	for i := range found {
		of := values[found[i].Attribute]
		if found[i].Kind != Moved || len(of) <= maxApart {
			continue
		}
		people := 0
		for _, p := range of {
			people += len(p)
		}
		if people < 2*len(of) {
			found[i].Was, found[i].Is = "", ""
		}
	}
}
