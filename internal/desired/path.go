package desired

import (
	"fmt"
	"slices"
	"sort"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
)

var (
	pathsForm = &form.Object{
		Name: "a file of paths", Doc: "Paths",
		Keys: []form.Key{{Name: "paths", Is: form.MapOf("a path's name", form.In(pathForm))}},
	}
	pathForm = &form.Object{
		Name: "the path", Doc: "How accounts end, step by step",
		Keys: []form.Key{
			{Name: "title", Is: form.Text(""), Doc: "What it is called where people read it"},
			{Name: "for", Is: form.Simple(form.Filter), Doc: "Whose accounts, as a filter over people"},
			{
				Name: "when", Is: form.Any(form.OneOf("ended", "stray"), form.In(whenForm)), Need: true,
				Doc:   "What brings an account upon the path",
				Lacks: "the path does not say when it begins", Add: "when: ended",
			},
			{Name: "rank", Is: form.AtLeast(1), Doc: "Of the paths that fit an account, the one with the least is taken"},
			{Name: "apps", Is: form.Names("applications' ids"), Doc: "Only in these applications"},
			{
				Name: "steps", Is: form.ListOf(1, form.In(stepForm)), Need: true, Doc: "What is done, in this order",
				Lacks: "the path has no steps", Add: "steps: [{do: suspend}, {after: P90D, do: remove}]",
			},
		},
	}
	whenForm = &form.Object{
		Name: "when", Doc: "One of three",
		Keys: []form.Key{
			{
				Name: "listed", Is: form.Text("the path of a CSV file"),
				Doc: "Who or what is on this list, which has the column person, or app and account",
			},
			{Name: "idle", Is: form.For("P90D"), Doc: "How long nobody has signed in"},
			{Name: "account", Is: form.Simple(form.Filter), Doc: "Accounts that this filter over their attributes fits"},
		},
		Some: []form.Choice{{
			Keys: []string{"listed", "idle", "account"}, Just: true,
			Says: "when takes one of listed, idle and account", Hint: "write listed: FILE, idle: P90D, or account: FILTER",
		}},
	}
	stepForm = &form.Object{
		Name: "a step", Doc: "One thing that is done",
		Keys: []form.Key{
			{Name: "do", Is: form.OneOf(model.Dos()...), Need: true, Doc: "What"},
			{Name: "after", Is: form.For("P30D"), Doc: "How long after the step before was seen done"},
			{
				Name: "set", Is: form.MapOf("an attribute of accounts", form.Text("")), Doc: "To where the account is moved",
				With: []form.Cond{{Key: "do", Value: "move"}},
			},
			{
				Name: "keep", Is: form.Some("groups", "roles", "licenses"), Doc: "What stays",
				With: []form.Cond{{Key: "do", Value: "strip"}},
			},
			{
				Name: "warn", Is: form.For("P7D"), Doc: "How long before it is said to be coming",
				With: []form.Cond{{Key: "do", Value: "remove"}},
			},
			{
				Name: "to", Is: form.Any(form.Text("`manager`, or the id of a person"), form.In(toForm)), Doc: "To whom",
				With: []form.Cond{{Key: "do", Value: "hand over"}},
			},
		},
	}
	patternForm = &form.Object{
		Name: "a pattern of accounts", Doc: "Accounts by what the export shows of them",
		Keys: []form.Key{{
			Name: "account", Is: form.Simple(form.Filter), Need: true, Doc: "Those that this filter over their attributes fits",
			Lacks: "the entry names no account", Add: "a name, or {account: FILTER}",
		}},
	}
	toForm = &form.Object{
		Name: "who takes over", Doc: "Whoever holds a kit",
		Keys: []form.Key{{Name: "kit", Is: form.Text("a kit's name"), Need: true, Doc: "The kit"}},
	}
)

// readPaths reads how accounts end.
func (r *Repo) readPaths() {
	first := map[string]model.Pos{}
	ranks := map[int]*model.Path{}
	for _, file := range r.list("paths", ".yaml", ".yml") {
		d, root := r.open(file)
		if root == nil {
			continue
		}
		f := d.object(root, pathsForm)
		for _, e := range f.entries("paths") {
			p := r.readPath(d, e)
			if at, ok := first[p.Name]; ok {
				r.fail(
					p.Pos, "duplicate-entry", fmt.Sprintf("the path %s is in %s already", p.Name, at),
					"give one of them another name",
				)
				continue
			}
			first[p.Name] = p.Pos
			if other := ranks[p.Rank]; other != nil {
				r.fail(
					p.Pos, "same-rank",
					fmt.Sprintf("path %s has rank %d, and so does path %s (%s)", p.Name, p.Rank, other.Name, other.Pos),
					"give each path its own rank: if several paths match an account, the lowest rank applies",
				)
			}
			ranks[p.Rank] = p
			r.Paths = append(r.Paths, p)
		}
	}
	sort.SliceStable(r.Paths, func(i, j int) bool { return r.Paths[i].Rank < r.Paths[j].Rank })
}

func (r *Repo) readPath(d *doc, e entry) *model.Path {
	p := &model.Path{Name: e.name, Pos: d.pos(e.key)}
	f := d.entry(e, pathForm)
	p.Title = f.text("title")
	p.Rank, p.For = f.whole("rank", 0), f.filter("for")
	r.use(d, f.node("for"), p.For, "path "+p.Name)
	for _, n := range f.names("apps") {
		if a := r.App(n.Text); a >= 0 {
			p.Apps = append(p.Apps, a)
		} else {
			r.noApplication(n.Pos, n.Text)
		}
	}
	r.readWhen(p, f)
	if p.When == model.WhenStray && p.For != nil {
		d.problem(f.node("for"), "two-rules", "for is about people, and a stray account is nobody's", "take it out")
	}
	for _, n := range f.list("steps") {
		p.Steps = append(p.Steps, r.readStep(d, p, n))
	}
	r.ends(p)
	return p
}

// readWhen reads what brings an account upon a path.
func (r *Repo) readWhen(p *model.Path, of values) {
	d, n := of.d, of.node("when")
	if n == nil {
		return
	}
	if n.Kind != yaml.MappingNode {
		if of.word("when") == "stray" {
			p.When = model.WhenStray
		}
		return
	}
	f := of.within("when")
	switch {
	case f.has("listed"):
		p.When, p.List = model.WhenListed, &model.List{File: f.text("listed"), Lines: map[string]int{}}
		if p.List.File != "" {
			r.readList(p.List, f.pos("listed"))
		}
	case f.has("idle"):
		p.When, p.Idle = model.WhenIdle, f.duration("idle")
		if p.Idle == (day.Duration{}) {
			d.problem(f.node("idle"), "wrong-duration", "nobody is idle at once", "for example P30D or P3M")
		}
		r.observes(d, n, p)
	case f.has("account"):
		p.When, p.Match, p.MatchPos = model.WhenMatching, f.filter("account"), f.pos("account")
		r.matching(d, f.node("account"), p)
	default:
		p.When, p.List = model.WhenListed, &model.List{Lines: map[string]int{}}
	}
}

// matching makes the exports of a path's applications show what its filter over accounts
// asks for.
func (r *Repo) matching(d *doc, n *yaml.Node, p *model.Path) {
	if p.Match == nil {
		return
	}
	for _, cl := range p.Match.Clauses() {
		var names []string
		found := false
		for a, app := range r.Apps {
			if !p.In(a) || r.Exports[a] == nil {
				continue
			}
			shown, columns := observed(app, r.Exports[a], cl.Attr, d.pos(n))
			names = append(names, columns...)
			found = found || shown
		}
		if !found {
			d.probs.Add(problem(
				d.clausePos(n, cl.Column), "unknown-attribute",
				fmt.Sprintf("no application of the path shows %s of its accounts", cl.Attr),
				didYouMean(cl.Attr, names, "their columns are "),
			))
		}
	}
}

// observed has an attribute of accounts read that a filter asks for, if the export shows it; names are those
// that it shows.
func observed(app *model.App, spec *export.Spec, attr string, pos model.Pos) (shown bool, names []string) {
	names = spec.Attributes()
	shown = attr == app.Match || app.Attr(attr) >= 0
	if !shown && slices.Contains(names, attr) {
		app.Attrs, shown = append(app.Attrs, model.Attr{Name: attr, Observed: true, Pos: pos}), true
		app.Index()
	}
	return shown, names
}

// accounts reads names of accounts, and patterns that fit some: {account: FILTER}.
func (d *doc) accounts(app *model.App, spec *export.Spec, n *yaml.Node, what string) ([]model.Name, []model.Pattern) {
	if n == nil || n.Kind != yaml.SequenceNode {
		return d.names(n, what), nil
	}
	named := *n
	named.Content = nil
	var by []model.Pattern
	for _, item := range n.Content {
		if item.Kind != yaml.MappingNode {
			named.Content = append(named.Content, item)
			continue
		}
		f := d.object(item, patternForm)
		x := f.node("account")
		if x == nil {
			continue
		}
		p := model.Pattern{Filter: f.filter("account"), Under: what, Pos: d.pos(item)}
		if by = append(by, p); p.Filter == nil || spec == nil {
			continue
		}
		d.overAccounts(app, spec, x, p.Filter)
	}
	return d.names(&named, what), by
}

// overAccounts makes sure that an export shows of its accounts what a filter asks.
func (d *doc) overAccounts(app *model.App, spec *export.Spec, x *yaml.Node, f *filter.Filter) {
	if spec == nil {
		return
	}
	for _, cl := range f.Clauses() {
		if shown, names := observed(app, spec, cl.Attr, d.pos(x)); !shown {
			d.probs.Add(problem(
				d.clausePos(x, cl.Column), "unknown-attribute",
				fmt.Sprintf("the export of %s does not show %s of its accounts", app.ID, cl.Attr),
				didYouMean(cl.Attr, names, "its columns are "),
			))
		}
	}
}

// integrationForm is an entry of integrations.
var integrationForm = &form.Object{
	Name: "integration", Doc: "Accounts by which programs reach an application",
	Keys: []form.Key{
		{
			Name: "account", Is: form.Simple(form.Filter), Need: true, Doc: "Those that this filter over their attributes fits",
			Lacks: "the entry names no account", Add: "account: FILTER",
		},
		{Name: "owner", Is: form.Text("an id"), Need: true, Doc: "Who answers for them", Lacks: "nobody answers for it", Add: "owner: ID"},
		{Name: "every", Is: form.For("P90D"), Doc: "How often their keys are made anew; never unless given"},
	},
}

// readIntegrations reads the accounts of programs.
func (r *Repo) readIntegrations(app *model.App, spec *export.Spec, of values) {
	for _, n := range of.list("integrations") {
		f := of.d.object(n, integrationForm)
		x := model.Integration{
			Filter: f.filter("account"), Owner: f.text("owner"), Every: f.duration("every"), Pos: of.d.pos(n),
		}
		if x.Filter == nil {
			continue
		}
		r.refer(f, "owner")
		of.d.overAccounts(app, spec, f.node("account"), x.Filter)
		app.Integrations = append(app.Integrations, x)
		app.AloneBy = append(app.AloneBy, model.Pattern{Filter: x.Filter, Under: "integrations", Pos: x.Pos})
	}
}

// observes makes the exports of a path's applications tell when somebody signed in last.
func (r *Repo) observes(d *doc, n *yaml.Node, p *model.Path) {
	for a, app := range r.Apps {
		if !p.In(a) || r.Exports[a] == nil {
			continue
		}
		shown := false
		for _, c := range r.Exports[a].Columns {
			if c.Attr != model.LastActive && c.Attr != model.Created {
				continue
			}
			shown = true
			if app.Attr(c.Attr) < 0 {
				app.Attrs = append(app.Attrs, model.Attr{Name: c.Attr, Observed: true, Pos: d.pos(n)})
				app.Index()
			}
		}
		if !shown {
			r.warn(
				d.pos(n), "not-shown",
				fmt.Sprintf("the export of %s shows neither lastActive nor created, so nobody is idle there", app.ID),
				"add lastActive: COLUMN to its columns, or name the applications of the path",
			)
		}
	}
}

func (r *Repo) readStep(d *doc, p *model.Path, n *yaml.Node) model.Step {
	f := d.object(n, stepForm)
	s := model.Step{Pos: d.pos(n)}
	if f.has("do") {
		s.Do, _ = model.ParseDo(f.word("do"))
	}
	s.After, s.Warn, s.Keep = f.duration("after"), f.duration("warn"), f.kinds("keep")
	if s.Do == model.DoHand && f.has("do") {
		r.readTo(&s, f)
	}
	if s.Do == model.DoMove && !f.has("set") {
		d.problem(n, "missing-key", "the step moves accounts and does not say where to", "add set: {ATTRIBUTE: VALUE}")
	}
	for _, e := range f.entries("set") {
		r.moves(d, p, e)
		s.Set = append(s.Set, model.Setting{Attr: e.name, Value: d.text(e.value, e.name), Pos: d.pos(e.key)})
	}
	return s
}

// readTo reads to whom a step hands over.
func (r *Repo) readTo(s *model.Step, of values) {
	d, n := of.d, of.node("to")
	if n == nil || n.Kind != yaml.MappingNode {
		switch s.To = of.text("to"); s.To {
		case "manager":
		case "":
			d.problem(
				of.n, "missing-key", "the step does not say to whom",
				"add to: manager, the id of a person, or {kit: NAME}",
			)
		default:
			r.refs = append(r.refs, personRef{s.To, of.pos("to")})
		}
		return
	}
	f := of.within("to")
	var names []string
	for _, k := range r.Kits {
		names = append(names, k.Name)
	}
	if s.ToKit = f.text("kit"); s.ToKit != "" && !slices.Contains(names, s.ToKit) {
		d.problem(
			f.node("kit"), "unknown-kit", fmt.Sprintf("there is no kit %q", s.ToKit),
			didYouMean(s.ToKit, names, "there are "),
		)
	}
}

// moves makes an attribute that a path sets one that Pravet keeps, in the applications
// that show it.
func (r *Repo) moves(d *doc, p *model.Path, e entry) {
	found := false
	for a := range r.Apps {
		if !p.In(a) || r.Exports[a] == nil {
			continue
		}
		for _, c := range r.Exports[a].Columns {
			if c.Attr == e.name {
				found = r.settable(d, a, e) || found
			}
		}
	}
	if !found {
		d.problem(
			e.key, "unknown-attribute", fmt.Sprintf("no application of the path shows %s", e.name),
			"add it to the columns of an application's export",
		)
	}
}

// ends checks that a path ends, and that nothing is removed that was not blocked first.
func (r *Repo) ends(p *model.Path) {
	suspends := false
	keys := map[string]int{}
	for i := range p.Steps {
		s := &p.Steps[i]
		last := i == len(p.Steps)-1
		switch {
		case (s.Do == model.DoRemove || s.Do == model.DoStay) && !last:
			r.fail(
				p.Steps[i+1].Pos,
				"path",
				fmt.Sprintf("a step comes after %s, which is the end", s.Do),
				"take one of them out",
			)
		case last && s.Do != model.DoRemove && s.Do != model.DoStay:
			r.fail(s.Pos, "path", "the path has no end", "add {after: P90D, do: remove}, or {do: stay}")
		case s.Do == model.DoRemove && s.After == (day.Duration{}):
			r.fail(s.Pos, "path", "a removal cannot be undone, and this one does not wait", "add after: P30D")
		case s.Do == model.DoRemove && !suspends:
			r.fail(s.Pos, "path", "the path removes accounts that it has not suspended", "add {do: suspend} before")
		}
		suspends = suspends || s.Do == model.DoSuspend
		if at, ok := keys[s.Key()]; ok {
			r.fail(
				s.Pos,
				"duplicate-entry",
				fmt.Sprintf("step %d does the same as step %d", i+1, at+1),
				"take one of them out",
			)
		}
		keys[s.Key()] = i
	}
}
