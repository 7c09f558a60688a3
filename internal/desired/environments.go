package desired

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/form"
	"pravet/internal/source"
)

var (
	environmentForm = &form.Object{
		Name: "the environment", Doc: "Where the same files meet other applications; see environments.md",
		Keys: []form.Key{
			{
				Name: "export", Doc: "What of export is not the same in all environments",
				Is: form.In(exportForm.Part("export in one environment", "The same keys, as far as they differ")),
			},
			{
				Name: "connect", Doc: "What of connect is not the same in all environments",
				Is: form.In(connectForm.Part("connect in one environment", "The same keys, as far as they differ")),
			},
			{Name: "people", Is: form.Simple(form.Filter), Doc: "Who is in it, as a filter over people"},
			{Name: "seats", Is: form.MapOf("a license", form.AtLeast(0)), Doc: "How many were bought there"},
			{Name: "promote", Is: form.In(promoteForm), Doc: "Changes are held until the same was settled elsewhere"},
		},
	}
	promoteForm = &form.Object{
		Name: "promote", Doc: "Changes are held until the same was settled elsewhere",
		Keys: []form.Key{
			{Name: "from", Is: form.Text("an environment"), Need: true, Doc: "Where"},
			{Name: "within", Is: form.For("P7D"), Doc: "How long ago at most; P7D unless set"},
		},
	}
)

// Usual is the environment that everything is for where none is named.
const Usual = "live"

// Here is the environment that the files are read for.
func (r *Repo) Here() string {
	if r.Tree != nil && r.Tree.Environment != "" {
		return r.Tree.Environment
	}
	return Usual
}

// environment puts what an application says of the environment in the place of what it says in
// general. It reports false for an application that is not in it: one that names others, or
// none where another than the usual one is asked for.
func (r *Repo) environment(app *model.App, f values) (there bool) {
	d, n := f.d, f.node("environments")
	if r.absent == nil {
		r.absent = map[string]bool{}
	}
	if n == nil {
		if there = r.Here() == Usual; !there {
			r.absent[app.ID] = true
		}
		return there
	}
	common := map[string]*yaml.Node{"export": f.node("export"), "connect": f.node("connect")}
	for _, e := range f.entries("environments") {
		if !slices.Contains(r.Environments, e.name) {
			r.Environments = append(r.Environments, e.name)
			slices.Sort(r.Environments)
		}
		if !idPattern.MatchString(e.name) {
			d.problem(
				e.key,
				"bad-id",
				fmt.Sprintf("%q is not a name of an environment: small letters, digits and hyphens", e.name),
				"",
			)
		}
		x := d.entry(e, environmentForm)
		r.seats = append(r.seats, envSeats{app, x, e.name == r.Here()})
		if e.name != r.Here() {
			continue
		}
		there = true
		for _, key := range []string{"export", "connect"} {
			f.at[key] = together(common[key], x.node(key))
		}
		if r.local == nil {
			r.local = map[*model.App]values{}
		}
		r.local[app] = x
	}
	if !there {
		r.absent[app.ID] = true
	}
	return there
}

// An envSeats is what an environment says of seats.
type envSeats struct {
	app  *model.App
	of   values
	here bool // it is the environment that is read
}

// together is what an application says of all environments, with what one of them says instead or besides:
// columns that are the same everywhere are written once.
func together(common, own *yaml.Node) *yaml.Node {
	switch {
	case common == nil || common.Kind != yaml.MappingNode:
		return own
	case own == nil:
		return common
	case own.Kind != yaml.MappingNode:
		return own
	}
	out := *own
	out.Content = slices.Clone(own.Content)
	for i := 0; i+1 < len(common.Content); i += 2 {
		key := common.Content[i]
		if !slices.ContainsFunc(own.Content, func(n *yaml.Node) bool { return n.Value == key.Value && n.Column > 0 && isKey(own, n) }) {
			out.Content = append(out.Content, key, common.Content[i+1])
		}
	}
	return &out
}

// isKey reports whether a node is a key of a mapping, and no value.
func isKey(of, n *yaml.Node) bool {
	at := slices.Index(of.Content, n)
	return at >= 0 && at%2 == 0
}

// inEnvironment limits an application's scope to the people who are in the environment, and
// reads from where it is promoted.
func (r *Repo) inEnvironment(d *doc, app *model.App) {
	x, here := r.local[app]
	if !here {
		return
	}
	if n := x.node("people"); n != nil {
		of := x.filter("people")
		r.use(d, n, of, "people of "+app.ID+" in "+r.Here())
		switch {
		case of == nil:
		case app.Scope == nil:
			app.Scope, app.ScopePos = of, d.pos(n)
		default:
			both, err := filter.Parse("(" + app.Scope.String() + ") and (" + of.String() + ")")
			if err != nil {
				d.problem(n, "bad-filter", err.Error(), "")
				return
			}
			app.Scope, app.ScopePos = both, d.pos(n)
		}
	}
	n := x.node("promote")
	if n == nil {
		return
	}
	p := x.within("promote")
	app.Promote = &model.Promotion{From: p.text("from"), Within: p.duration("within"), Pos: d.pos(n)}
	if !p.has("within") {
		app.Promote.Within.Days = 7
	}
	r.promoted = append(r.promoted, app.Promote)
	if app.Promote.From == r.Here() {
		d.problem(n, "cycle", "an environment cannot be promoted from itself", "name the one before it")
	}
}

// seatsHere are the seats that an environment has of licenses, instead of those of the catalog. A name that
// is wrong is wrong whichever environment is read.
func (r *Repo) seatsHere(d *doc, app *model.App) {
	for _, of := range r.seats {
		if of.app != app {
			continue
		}
		for _, e := range of.of.entries("seats") {
			at := slices.IndexFunc(
				app.Things,
				func(t model.Thing) bool { return t.Kind == model.License && t.Name == e.name },
			)
			seats := d.integer(e.value, e.name, 0, 0)
			switch {
			case at < 0:
				var names []string
				for _, t := range app.Things {
					if t.Kind == model.License {
						names = append(names, t.Name)
					}
				}
				d.problem(
					e.key, "unknown-thing", fmt.Sprintf("%s has no license %q in its catalog", app.ID, e.name),
					didYouMean(e.name, names, "there are "),
				)
			case of.here:
				app.Things[at].Seats = seats
			}
		}
	}
}

// checkEnvironment reports an environment that no application has.
func (r *Repo) checkEnvironment() {
	for _, p := range r.promoted {
		if !slices.Contains(r.Environments, p.From) {
			r.fail(
				p.Pos,
				"unknown-environment",
				fmt.Sprintf("there is no environment %q", p.From),
				didYouMean(p.From, r.Environments, "there are "),
			)
		}
	}
	if r.Letters != nil && !r.unreadApps {
		for _, n := range r.Letters.For {
			if n.Text != Usual && !slices.Contains(r.Environments, n.Text) {
				r.fail(
					n.Pos, "unknown-environment", fmt.Sprintf("there is no environment %q", n.Text),
					didYouMean(n.Text, append([]string{Usual}, r.Environments...), "there are "),
				)
			}
		}
	}
	if here := r.Here(); here != Usual && !slices.Contains(r.Environments, here) && !r.unreadApps {
		hint := didYouMean(here, r.Environments, "there are ")
		if len(r.Environments) == 0 {
			hint = "no application has environments; see docs/environments.md"
		}
		r.fail(
			model.Pos{File: byOption},
			"unknown-environment",
			fmt.Sprintf("there is no environment %q", strings.TrimSpace(here)),
			hint,
		)
	}
}

// byOption is where an environment is named that a command asks for.
const byOption = "--env"

// UnknownEnvironment is the problem that no application has the environment that was asked
// for; nil where one has it.
func (r *Repo) UnknownEnvironment() *source.Problem {
	for _, p := range r.Problems.Sorted() {
		if p.Pos.File == byOption {
			return p
		}
	}
	return nil
}
