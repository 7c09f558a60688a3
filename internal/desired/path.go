package desired

import (
	"fmt"
	"slices"
	"sort"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
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
		f := d.fields(root, "a file of paths", "paths")
		for _, e := range d.entries(f["paths"], "paths") {
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
	f := d.fields(e.value, "the path "+e.name, "title", "for", "when", "rank", "apps", "steps")
	p.Title = d.text(f["title"], "title")
	if n := f["rank"]; n != nil {
		p.Rank = d.integer(n, "rank", 1)
	}
	if n := f["for"]; n != nil {
		p.For = d.filter(n, "for")
		r.use(d, n, p.For, "path "+p.Name)
	}
	for _, n := range d.names(f["apps"], "apps") {
		if a := r.App(n.Text); a >= 0 {
			p.Apps = append(p.Apps, a)
		} else {
			r.noApplication(n.Pos, n.Text)
		}
	}
	r.readWhen(d, e.key, p, f["when"])
	if p.When == model.WhenStray && p.For != nil {
		d.problem(f["for"], "two-rules", "for is about people, and a stray account is nobody's", "take it out")
	}
	for _, n := range d.list(f["steps"], "steps") {
		p.Steps = append(p.Steps, r.readStep(d, p, n))
	}
	r.ends(p)
	return p
}

// readWhen reads what brings an account upon a path.
func (r *Repo) readWhen(d *doc, key *yaml.Node, p *model.Path, n *yaml.Node) {
	if n == nil {
		d.problem(key, "missing-key", "the path does not say when it begins", "add when: ended")
		return
	}
	if n.Kind != yaml.MappingNode {
		switch d.oneOf(n, "when", "ended", "stray") {
		case "stray":
			p.When = model.WhenStray
		}
		return
	}
	f := d.fields(n, "when", "listed", "idle", "account")
	if x := f["account"]; x != nil && f["listed"] == nil && f["idle"] == nil {
		p.When, p.Match, p.MatchPos = model.WhenMatching, d.filter(x, "account"), d.pos(x)
		r.matching(d, x, p)
		return
	}
	if x := f["idle"]; x != nil && f["listed"] == nil {
		p.When, p.Idle = model.WhenIdle, d.duration(x, "idle", "for example P30D or P3M")
		if p.Idle == (day.Duration{}) {
			d.problem(x, "wrong-duration", "nobody is idle at once", "for example P30D or P3M")
		}
		r.observes(d, n, p)
		return
	}
	if f["listed"] == nil {
		d.problem(n, "missing-key", "when names none of listed, idle and account", "add listed: FILE, or idle: P90D")
		p.List, p.When = &model.List{Lines: map[string]int{}}, model.WhenListed
		return
	}
	p.When = model.WhenListed
	p.List = &model.List{File: d.required(f, n, "listed", "when"), Lines: map[string]int{}}
	if p.List.File != "" {
		r.readList(p.List, d.pos(f["listed"]))
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
		x := d.fields(item, "an entry of "+what, "account")["account"]
		if x == nil {
			d.problem(item, "missing-key", "an entry of "+what+" names no account", "write a name, or {account: FILTER}")
			continue
		}
		p := model.Pattern{Filter: d.filter(x, "account"), Under: what, Pos: d.pos(item)}
		if by = append(by, p); p.Filter == nil || spec == nil {
			continue
		}
		for _, cl := range p.Filter.Clauses() {
			if shown, names := observed(app, spec, cl.Attr, d.pos(x)); !shown {
				d.probs.Add(problem(
					d.clausePos(x, cl.Column), "unknown-attribute",
					fmt.Sprintf("the export of %s does not show %s of its accounts", app.ID, cl.Attr),
					didYouMean(cl.Attr, names, "its columns are "),
				))
			}
		}
	}
	return d.names(&named, what), by
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
	f := d.fields(n, "a step", "do", "after", "set", "keep", "warn", "to")
	s := model.Step{Pos: d.pos(n)}
	do, ok := model.ParseDo(d.oneOf(orNode(f["do"], n), "do", model.Dos()...))
	s.Do = do
	s.After = d.duration(f["after"], "after", "for example P30D or P3M")
	s.Warn = d.duration(f["warn"], "warn", "for example P7D")
	for _, key := range []string{"set", "keep", "warn", "to"} {
		of := map[string]model.Do{
			"set": model.DoMove, "keep": model.DoStrip, "warn": model.DoRemove, "to": model.DoHand,
		}[key]
		if ok && f[key] != nil && s.Do != of {
			d.problem(
				f[key],
				"unknown-key",
				fmt.Sprintf("%s belongs to %s, and the step is %s", key, of, s.Do),
				"take it out",
			)
		}
	}
	s.Keep = d.kinds(f["keep"], "keep")
	if ok && s.Do == model.DoHand {
		r.readTo(d, &s, f["to"])
		switch {
		case s.ToKit != "":
		case s.To == "":
			d.problem(
				n,
				"missing-key",
				"the step does not say to whom",
				"add to: manager, the id of a person, or {kit: NAME}",
			)
		case s.To != "manager":
			r.refs = append(r.refs, personRef{s.To, d.pos(f["to"])})
		}
	}
	if s.Do == model.DoMove && f["set"] == nil {
		d.problem(n, "missing-key", "the step moves accounts and does not say where to", "add set: {ATTRIBUTE: VALUE}")
	}
	for _, e := range d.entries(f["set"], "set") {
		r.moves(d, p, e)
		s.Set = append(s.Set, model.Setting{Attr: e.name, Value: d.text(e.value, e.name), Pos: d.pos(e.key)})
	}
	return s
}

// readTo reads to whom a step hands over.
func (r *Repo) readTo(d *doc, s *model.Step, n *yaml.Node) {
	if n == nil || n.Kind != yaml.MappingNode {
		s.To = d.text(n, "to")
		return
	}
	f := d.fields(n, "to", "kit")
	var names []string
	for _, k := range r.Kits {
		names = append(names, k.Name)
	}
	if s.ToKit = d.required(f, n, "kit", "to"); s.ToKit != "" && !slices.Contains(names, s.ToKit) {
		d.problem(
			f["kit"],
			"unknown-kit",
			fmt.Sprintf("there is no kit %q", s.ToKit),
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
	if len(p.Steps) == 0 {
		r.fail(p.Pos, "missing-key", "the path has no steps", "add steps: [{do: suspend}, {after: P90D, do: remove}]")
		return
	}
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
