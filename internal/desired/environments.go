package desired

import (
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/source"
)

// Usual is the environment that everything is for where none is named.
const Usual = "live"

// here is the environment that the files are read for.
func (r *Repo) here() string {
	if r.Tree != nil && r.Tree.Environment != "" {
		return r.Tree.Environment
	}
	return Usual
}

// environment puts what an application says of the environment in the place of what it says in
// general. It reports false for an application that is not in it: one that names others, or
// none where another than the usual one is asked for.
func (r *Repo) environment(d *doc, app *model.App, f map[string]*yaml.Node) (there bool) {
	n := f["environments"]
	if r.absent == nil {
		r.absent = map[string]bool{}
	}
	if n == nil {
		if there = r.here() == Usual; !there {
			r.absent[app.ID] = true
		}
		return there
	}
	for _, key := range []string{"export", "connect"} {
		if x := f[key]; x != nil {
			d.problem(
				x,
				"two-rules",
				key+" stands here and belongs to an environment",
				"move it into each of environments",
			)
		}
	}
	for _, e := range d.entries(n, "environments") {
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
		x := d.fields(e.value, "the environment "+e.name, "export", "connect", "people", "seats", "promote")
		if e.name != r.here() {
			continue
		}
		there = true
		f["export"], f["connect"] = x["export"], x["connect"]
		if r.local == nil {
			r.local = map[*model.App]map[string]*yaml.Node{}
		}
		r.local[app] = x
	}
	if !there {
		r.absent[app.ID] = true
	}
	return there
}

// inEnvironment limits an application's scope to the people who are in the environment, and
// reads from where it is promoted.
func (r *Repo) inEnvironment(d *doc, app *model.App) {
	x := r.local[app]
	if n := x["people"]; n != nil {
		of := d.filter(n, "people")
		r.use(d, n, of, "people of "+app.ID+" in "+r.here())
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
	n := x["promote"]
	if n == nil {
		return
	}
	p := d.fields(n, "promote", "from", "within")
	app.Promote = &model.Promotion{
		From: d.required(
			p,
			n,
			"from",
			"promote",
		), Within: d.duration(p["within"], "within", "for example P7D"), Pos: d.pos(n),
	}
	if p["within"] == nil {
		app.Promote.Within.Days = 7
	}
	r.promoted = append(r.promoted, app.Promote)
	if app.Promote.From == r.here() {
		d.problem(n, "cycle", "an environment cannot be promoted from itself", "name the one before it")
	}
}

// seatsHere are the seats that an environment has of licenses, instead of those of the catalog.
func (r *Repo) seatsHere(d *doc, app *model.App) {
	for _, e := range d.entries(r.local[app]["seats"], "seats") {
		at := slices.IndexFunc(
			app.Things,
			func(t model.Thing) bool { return t.Kind == model.License && t.Name == e.name },
		)
		if at < 0 {
			var names []string
			for _, t := range app.Things {
				if t.Kind == model.License {
					names = append(names, t.Name)
				}
			}
			d.problem(
				e.key,
				"unknown-thing",
				fmt.Sprintf("%s has no license %q in its catalog", app.ID, e.name),
				didYouMean(e.name, names, "there are "),
			)
			continue
		}
		app.Things[at].Seats = d.integer(e.value, e.name, 0)
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
	if here := r.here(); here != Usual && !slices.Contains(r.Environments, here) && !r.unreadApps {
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
