package desired

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// pending is a separation before its things are looked up.
type pending struct {
	name  string
	pos   model.Pos
	apart []model.Name
}

// open reads one YAML file and notes its digest.
func (r *Repo) open(file string) (*doc, *yaml.Node) {
	d, root := openYAML(r.ctx, r.Tree, file, r.Problems)
	if d.sum != "" {
		r.sums[file] = d.sum
		r.Files++
	}
	return d, root
}

// readRoot reads pravet.yaml.
func (r *Repo) readRoot() []pending {
	d, root := r.open(Root)
	if root == nil {
		if d.sum != "" && r.Problems.Errors() == 0 {
			r.fail(
				model.Pos{File: Root, Line: 1},
				"missing-key",
				"the file is empty, and the name of the organization is expected",
				"add organization: NAME",
			)
		}
		return nil
	}
	f := d.fields(root, Root, "organization", "guards", "separation", "acceptances", "unattended", "outsiders",
		"outsiderTerm", "letters", "rosters", "firstPasswords", "fields", "sources")
	r.readFirstPasswords(d, f["firstPasswords"])
	r.readRosters(d, f["rosters"])
	r.readFields(d, f["fields"])
	r.readSources(d, f["sources"])
	r.readLetters(d, f["letters"])
	r.Organization = d.required(f, root, "organization", Root)
	r.Guards = d.guards(f["guards"], true)
	r.Acceptances = d.duration(f["acceptances"], "acceptances", "for example P3D or P1W")
	if n := f["outsiders"]; n != nil {
		r.Outsiders = &model.Outsiders{For: d.filter(n, "outsiders"), Term: day.Duration{Months: 12}, Pos: d.pos(n)}
		r.use(d, n, r.Outsiders.For, "outsiders")
		if term := f["outsiderTerm"]; term != nil {
			r.Outsiders.Term = d.duration(term, "outsiderTerm", "for example P6M or P1Y")
		}
	} else if n := f["outsiderTerm"]; n != nil {
		d.problem(n, "missing-key", "outsiderTerm is given, and nobody is an outsider", "add outsiders: FILTER")
	}
	if n := f["unattended"]; n != nil {
		r.Unattended = d.filter(n, "unattended")
		r.ofChanges(d, n, r.Unattended)
	}
	var out []pending
	names := map[string]int{}
	for _, n := range d.list(f["separation"], "separation") {
		s := d.fields(n, "a separation", "name", "apart")
		p := pending{name: d.required(s, n, "name", "a separation"), pos: d.pos(n), apart: d.names(s["apart"], "apart")}
		if line, ok := names[p.name]; ok && p.name != "" {
			d.problem(
				n,
				"duplicate-entry",
				fmt.Sprintf("another separation named %q is in line %d", p.name, line),
				"give it another name",
			)
		}
		names[p.name] = n.Line
		if len(p.apart) < 2 {
			d.problem(
				n,
				"separation",
				fmt.Sprintf("the separation %q names fewer than two different things", p.name),
				"add apart: [APPLICATION/KIND/NAME, APPLICATION/KIND/NAME]",
			)
			continue
		}
		out = append(out, p)
	}
	return out
}

var guardKeys = []string{"removals", "suspensions", "narrowing", "widening", "sensitive", "firstHolder", "exportAge",
	"exportShrink", "removalWait"}

// guards reads limits; the roster's is the organization's alone.
func (d *doc) guards(n *yaml.Node, organization bool) (g model.Guards) {
	keys := guardKeys
	if organization {
		keys = append([]string{"rosterShrink"}, keys...)
	}
	f := d.fields(n, "guards", keys...)
	g.Removals = d.limit(f["removals"], "removals")
	g.Suspensions = d.limit(f["suspensions"], "suspensions")
	g.Narrowing = d.limit(f["narrowing"], "narrowing")
	g.Widening, g.NewHolders = d.widening(f["widening"])
	g.Sensitive = d.limit(f["sensitive"], "sensitive")
	g.FirstHolder = d.limit(f["firstHolder"], "firstHolder")
	g.ExportShrink = d.limit(f["exportShrink"], "exportShrink")
	g.RosterShrink = d.limit(f["rosterShrink"], "rosterShrink")
	if wait := f["removalWait"]; wait != nil {
		before := d.probs.Errors()
		g.RemovalWait = d.duration(wait, "removalWait", "for example P7D or P1M")
		g.WaitSet = d.probs.Errors() == before
	}
	if age := f["exportAge"]; age != nil {
		before := d.probs.Errors()
		g.ExportAge = d.duration(age, "exportAge", "for example P1D or P1W")
		g.ExportAgeSet = d.probs.Errors() == before
	}
	return g
}

// widening reads the limits of what gives access: of the accounts that gain something,
// and of the new holders of one thing.
func (d *doc) widening(n *yaml.Node) (accounts, holders model.Limit) {
	if n == nil || n.Kind != yaml.MappingNode {
		return d.limit(n, "widening"), model.Limit{}
	}
	f := d.fields(n, "widening", "accounts", "holders")
	return d.limit(f["accounts"], "accounts"), d.limit(f["holders"], "holders")
}

// duration reads a duration of some days or months; none where it is not given.
func (d *doc) duration(n *yaml.Node, name, hint string) day.Duration {
	if n == nil {
		return day.Duration{}
	}
	p, err := day.ParseDuration(d.text(n, name))
	if err != nil || p.Days < 0 || p.Months < 0 {
		d.problem(n, "wrong-duration", fmt.Sprintf("%s is expected to be a duration, not %q", name, n.Value), hint)
		return day.Duration{}
	}
	return p
}

// resolveSeparations looks up the things that are kept apart.
func (r *Repo) resolveSeparations(all []pending) {
	for _, p := range all {
		s := model.Separation{Name: p.name, Pos: p.pos}
		for _, n := range p.apart {
			address, err := model.ParseAddress(n.Text)
			if err != nil {
				r.fail(n.Pos, "bad-address", err.Error(), "")
				continue
			}
			if x, ok := r.thing(address, n.Pos); ok {
				s.Apart = append(s.Apart, x)
			}
		}
		if len(s.Apart) > 1 {
			r.Separations = append(r.Separations, s)
			r.breaks(&s)
		}
	}
}

// breaks reports what breaks a separation by itself: a thing that brings
// another of the same set along, a kit that gives two of them.
func (r *Repo) breaks(s *model.Separation) {
	for _, x := range s.Apart {
		app, g := r.Apps[x.App], model.CatalogGraph(r.Apps[x.App])
		for _, y := range s.Apart {
			if chain := g.Chain(x.Thing, y.Thing); x.App == y.App && len(chain) > 1 {
				r.fail(
					s.Pos,
					"separation",
					fmt.Sprintf(
						"%s brings %s along, so nobody could hold it: %s",
						app.Address(x.Thing),
						app.Address(y.Thing),
						s.Name,
					),
					"keep other things apart",
				)
			}
		}
	}
	for _, k := range r.Kits {
		given := func(x model.AppThing) bool {
			gives := k.Gives
			for _, w := range k.All {
				gives = append(slices.Clone(gives), r.Kits[w].Gives...)
			}
			return slices.ContainsFunc(gives, func(g model.Give) bool {
				return g.App == x.App &&
					slices.ContainsFunc(
						g.Things,
						func(t int32) bool { return model.CatalogGraph(r.Apps[x.App]).Chain(t, x.Thing) != nil },
					)
			})
		}
		if both := s.Break(given); len(both) > 1 {
			var names []string
			for _, x := range both {
				names = append(names, r.Apps[x.App].Address(x.Thing).String())
			}
			r.fail(
				k.Pos,
				"separation",
				fmt.Sprintf(
					"the kit %s by itself gives %s, which are kept apart in %s: %s",
					k.Name,
					strings.Join(names, " and "),
					s.Pos,
					s.Name,
				),
				"give them by two kits, to different people",
			)
		}
	}
}

// noApplication reports a name of an application that there is not, unless it may be that
// of a file that could not be read.
func (r *Repo) noApplication(pos model.Pos, name string) {
	if !r.unreadApps && !r.absent[name] {
		r.fail(
			pos,
			"unknown-application",
			fmt.Sprintf("there is no application %q", name),
			didYouMean(name, r.AppIDs(), "there are "),
		)
	}
}

// thing looks an address up; what does not exist is a problem with the
// nearest that does.
func (r *Repo) thing(address model.Address, pos model.Pos) (model.AppThing, bool) {
	a := r.App(address.App)
	if a < 0 {
		r.noApplication(pos, address.App)
		return model.AppThing{}, false
	}
	kind, ok := model.ParseKind(address.Kind)
	if !ok {
		r.fail(
			pos,
			"bad-address",
			fmt.Sprintf("%s is an account, and a group, role or license is expected", address),
			"",
		)
		return model.AppThing{}, false
	}
	t := r.Apps[a].Thing(kind, address.Name)
	if t < 0 {
		r.unknownThing(a, kind, address.Name, pos)
		return model.AppThing{}, false
	}
	return model.AppThing{App: a, Thing: t}, true
}

func (r *Repo) unknownThing(a int, kind model.Kind, name string, pos model.Pos) {
	app := r.Apps[a]
	hint := didYouMean(name, app.Names(kind), "")
	if hint == "" {
		for k := range model.Kinds {
			if app.Thing(model.Kind(k), name) >= 0 {
				hint = fmt.Sprintf("it is a %s there", model.Kind(k))
			}
		}
	}
	if hint == "" {
		hint = fmt.Sprintf("add it to the %s of %s", kind.Plural(), app.Pos.File)
	}
	r.fail(pos, "unknown-thing", fmt.Sprintf("%s has no %s %q in its catalog", app.ID, kind, name), hint)
}

// ofChanges reports what a filter over changes asks for that neither a change nor a person has.
func (r *Repo) ofChanges(d *doc, n *yaml.Node, f *filter.Filter) {
	if f == nil {
		return
	}
	for _, cl := range f.Clauses() {
		name := table.Fold(cl.Attr)
		if slices.ContainsFunc(plan.Attributes, func(a string) bool { return table.Fold(a) == name }) {
			continue
		}
		r.attribute(strings.TrimPrefix(name, "person."), func(string, string) {
			d.probs.Add(problem(
				d.clausePos(n, cl.Column), "unknown-attribute",
				fmt.Sprintf("there is no attribute of a change %q", cl.Attr),
				didYouMean(cl.Attr, plan.Attributes, "there are "),
			))
		})
	}
}
