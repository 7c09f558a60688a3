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
	"pravet/internal/form"
)

var (
	rootForm = &form.Object{
		Name: Root, Doc: "The organization, its limits and its separated duties",
		Keys: []form.Key{
			{Name: "organization", Is: form.Text(""), Need: true, Doc: "The organization's name"},
			{
				Name: "timezone", Is: form.Text("a time zone, like Europe/Oslo"),
				Doc: "By which every machine tells what day it is; UTC unless set",
			},
			{Name: "guards", Is: form.In(limitsForm), Doc: "Limits beyond which changes are held"},
			{
				Name: "separation", Is: form.ListOf(0, form.In(separationForm)), Doc: "Things that no one person may hold together",
			},
			{
				Name: "acceptances", Is: form.For("P3D"),
				Doc: "How long an acceptance of a change counts in later plans in which the change is the same",
			},
			{
				Name: "unattended", Is: form.Simple(form.Filter),
				Doc: "What may be carried out with nobody there, as a filter over changes",
			},
			{Name: "outsiders", Is: form.Simple(form.Filter), Doc: "Who is an outsider, as a filter over people"},
			{
				Name: "outsiderTerm", Is: form.For("P1Y"), With: form.With("outsiders"),
				Doc: "How far ahead the last day of an outsider may be; P1Y unless set",
			},
			{Name: "ledger", Is: form.In(recordForm), Doc: "The database of a record that several machines share; a file unless set"},
			{Name: "decisions", Is: form.In(decisionsForm), Doc: "By what decisions are proved"},
			{Name: "deciders", Is: form.ListOf(0, form.In(decidersForm)), Doc: "Who decides about which changes; anybody unless set"},
			{Name: "letters", Is: form.In(lettersForm), Doc: "Who is told of runs and of what falls due, and how"},
			{
				Name: "rosters", Is: form.MapOf("the path of a file of people", form.In(rosterForm)),
				Doc: "How files of people are to be read that others write",
			},
			{
				Name: "firstPasswords", Is: form.In(firstForm),
				Doc: "Who may read first passwords and new keys, and where they are put",
			},
			{
				Name: "fields", Is: form.MapOf("`extra.NAME`", form.In(fieldForm)),
				Doc: "The organization's own attributes of people; where this stands, no others pass",
			},
			{
				Name: "sources", Is: form.MapOf("a source's name", form.In(sourceForm)),
				Doc: "Where people come from again and again",
			},
		},
	}
	limitsForm = guardsForm.And(form.Key{
		Name: "rosterShrink", Is: form.Simple(form.Limit), Doc: "How far a file of people may have shrunk",
	})
	guardsForm = &form.Object{
		Name: "guards", Doc: "Limits beyond which changes are held",
		Keys: []form.Key{
			{Name: "removals", Is: form.Simple(form.Limit), Doc: "How many accounts may be removed at once"},
			{Name: "suspensions", Is: form.Simple(form.Limit), Doc: "How many accounts may be suspended at once"},
			{Name: "narrowing", Is: form.Simple(form.Limit), Doc: "How many accounts may lose something at once"},
			{
				Name: "widening", Is: form.Any(form.Simple(form.Limit), form.In(wideningForm)),
				Doc: "How many accounts may gain something at once",
			},
			{Name: "sensitive", Is: form.Simple(form.Limit), Doc: "How many may newly hold what is sensitive"},
			{Name: "firstHolder", Is: form.Simple(form.Limit), Doc: "How many may be the first to hold something"},
			{Name: "exportAge", Is: form.For("P1D"), Doc: "How old an export may be"},
			{Name: "exportShrink", Is: form.Simple(form.Limit), Doc: "How far an export may have shrunk"},
			{
				Name: "removalWait", Is: form.For("P7D"),
				Doc: "How long an account must have been blocked before it is removed",
			},
		},
	}
	appGuardsForm = guardsForm.Called("guards of an application", "Limits beyond which changes are held")
	wideningForm  = &form.Object{
		Name: "widening", Doc: "Two limits of what gives access",
		Keys: []form.Key{
			{
				Name: "accounts", Is: form.Simple(form.Limit),
				Doc: "Of the accounts that gain something; a percentage is of all accounts",
			},
			{
				Name: "holders", Is: form.Simple(form.Limit),
				Doc: "Of the new holders of one thing; a percentage is of those who have it",
			},
		},
	}
	separationForm = &form.Object{
		Name: "a separation", Doc: "Things that no one person may hold together",
		Keys: []form.Key{
			{Name: "name", Is: form.Text(""), Need: true, Doc: "By which exceptions name it"},
			{Name: "apart", Is: form.Names("addresses, APPLICATION/KIND/NAME").Many(2), Need: true, Doc: "Two things or more"},
		},
	}
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
	f := d.object(root, rootForm)
	r.readFirstPasswords(f)
	r.readRosters(f)
	r.readFields(f)
	r.readSources(f)
	r.readLetters(f)
	r.readRecord(f)
	r.readSigning(f)
	r.readDeciders(f)
	r.Organization = f.text("organization")
	if f.has("timezone") {
		zone, err := day.ZoneOf(f.text("timezone"))
		if err != nil {
			f.d.problem(f.node("timezone"), "bad-timezone", err.Error(), "")
		} else {
			r.Zone, r.Timezone = zone, zone.String()
		}
	}
	r.Guards = f.within("guards").guards()
	r.Acceptances = f.duration("acceptances")
	if n := f.node("outsiders"); n != nil {
		r.Outsiders = &model.Outsiders{For: f.filter("outsiders"), Term: day.Duration{Months: 12}, Pos: d.pos(n)}
		r.use(d, n, r.Outsiders.For, "outsiders")
		if f.has("outsiderTerm") {
			r.Outsiders.Term = f.duration("outsiderTerm")
		}
	}
	if n := f.node("unattended"); n != nil {
		r.Unattended = f.filter("unattended")
		r.ofChanges(d, n, r.Unattended)
	}
	var out []pending
	names := map[string]int{}
	for _, n := range f.list("separation") {
		s := d.object(n, separationForm)
		p := pending{name: s.text("name"), pos: d.pos(n), apart: s.names("apart")}
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

// guards reads limits.
func (v values) guards() (g model.Guards) {
	g.Removals, g.Suspensions, g.Narrowing = v.limit("removals"), v.limit("suspensions"), v.limit("narrowing")
	if n := v.node("widening"); n != nil && n.Kind == yaml.MappingNode {
		f := v.within("widening")
		g.Widening, g.NewHolders = f.limit("accounts"), f.limit("holders")
	} else {
		g.Widening = v.limit("widening")
	}
	g.Sensitive, g.FirstHolder, g.ExportShrink = v.limit("sensitive"), v.limit("firstHolder"), v.limit("exportShrink")
	if v.of == limitsForm {
		g.RosterShrink = v.limit("rosterShrink")
	}
	g.RemovalWait, g.WaitSet = v.waits("removalWait")
	g.ExportAge, g.ExportAgeSet = v.waits("exportAge")
	return g
}

// waits is a duration that may be none, and whether it is set.
func (v values) waits(key string) (wait day.Duration, set bool) {
	before := v.d.probs.Errors()
	wait = v.duration(key)
	return wait, v.has(key) && v.d.probs.Errors() == before
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
	gives := r.givers()
	for n, k := range r.Kits {
		if both := s.Break(func(x model.AppThing) bool { return gives(x)[n] }); len(both) > 1 {
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

// givers tells for a thing which kits give it, by themselves or with kits that come with them, directly or along with
// another thing. Each thing is looked up once, in O(kits + links).
func (r *Repo) givers() func(x model.AppThing) []bool {
	known := map[model.AppThing][]bool{}
	upwards := model.Upwards(r.Kits)
	graphs := map[int]*model.Graph{}
	return func(x model.AppThing) []bool {
		if out, ok := known[x]; ok {
			return out
		}
		if graphs[x.App] == nil {
			graphs[x.App] = model.CatalogGraph(r.Apps[x.App])
		}
		out := make([]bool, len(r.Kits))
		var queue []int32
		for n, k := range r.Kits {
			out[n] = slices.ContainsFunc(k.Gives, func(g model.Give) bool {
				return g.App == x.App &&
					slices.ContainsFunc(g.Things, func(t int32) bool { return graphs[x.App].Chain(t, x.Thing) != nil })
			})
			if out[n] {
				queue = append(queue, int32(n))
			}
		}
		for ; len(queue) > 0; queue = queue[1:] {
			for _, n := range upwards[queue[0]] {
				if !out[n] {
					out[n] = true
					queue = append(queue, n)
				}
			}
		}
		known[x] = out
		return out
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
