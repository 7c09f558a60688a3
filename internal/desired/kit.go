package desired

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/source"
)

func problem(pos model.Pos, rule, says, hint string) *source.Problem {
	return source.NewProblem(pos, rule, says, hint)
}

func (r *Repo) readKits() {
	first := map[string]model.Pos{}
	for _, file := range r.list("kits", ".yaml", ".yml") {
		d, root := r.open(file)
		if root == nil {
			continue
		}
		f := d.fields(root, "a file of kits", "kits")
		for _, e := range d.entries(f["kits"], "kits") {
			kit := r.readKit(d, e)
			if at, ok := first[kit.Name]; ok {
				r.fail(
					kit.Pos,
					"duplicate-entry",
					fmt.Sprintf("the kit %s is in %s already", kit.Name, at),
					"give one of them another name",
				)
				r.fail(
					at,
					"duplicate-entry",
					fmt.Sprintf("the kit %s is again in %s", kit.Name, kit.Pos),
					"give one of them another name",
				)
				continue
			}
			first[kit.Name] = kit.Pos
			r.Kits = append(r.Kits, kit)
		}
	}
	sort.Slice(r.Kits, func(i, j int) bool { return r.Kits[i].Name < r.Kits[j].Name })
	r.resolveKits()
}

// resolveKits looks up the kits that come with others.
func (r *Repo) resolveKits() {
	number := map[string]int{}
	var names []string
	for i, k := range r.Kits {
		number[k.Name] = i
		names = append(names, k.Name)
	}
	next := make([][]int, len(r.Kits))
	for i, k := range r.Kits {
		for _, w := range k.With {
			n, ok := number[w.Text]
			if !ok {
				r.fail(
					w.Pos,
					"unknown-kit",
					fmt.Sprintf("there is no kit %q", w.Text),
					didYouMean(w.Text, names, "there are "),
				)
				continue
			}
			next[i] = append(next[i], n)
		}
	}
	circles(next, func(path []int) {
		var in []string
		for _, k := range path {
			in = append(in, r.Kits[k].Name)
		}
		r.fail(
			r.Kits[path[0]].Pos,
			"cycle",
			"these kits come with each other in a circle: "+strings.Join(in, ", "),
			"take one step out",
		)
	})
	model.Resolve(r.Kits)
	r.clashesAlong()
}

func (r *Repo) readKit(d *doc, e entry) *model.Kit {
	k := &model.Kit{Name: e.name, Pos: d.pos(e.key)}
	k.ForPos = k.Pos
	f := d.fields(e.value, "the kit "+e.name, "title", "for", "everyone", "rank", "gives", "with", "holders", "except",
		"linger")
	k.Title = d.text(f["title"], "title")
	if n := f["everyone"]; n != nil {
		k.Everyone, k.ForPos = d.boolean(n, "everyone"), d.pos(n)
	}
	if n := f["for"]; n != nil {
		if k.Everyone {
			d.problem(n, "two-rules", "the kit has both for and everyone", "keep one of them")
		}
		k.For, k.ForPos = d.filter(n, "for"), d.pos(n)
		r.use(d, n, k.For, "kit "+k.Name)
	}
	if n := f["rank"]; n != nil {
		k.Rank = d.integer(n, "rank", 1)
	}
	if n := f["linger"]; n != nil {
		k.Linger, k.LingerPos = d.duration(n, "linger", "for example P14D"), d.pos(n)
		if !k.HasRule() {
			d.problem(
				n,
				"two-rules",
				"linger is about a rule, and the kit is held by name only",
				"take it out, or add for: FILTER",
			)
		}
	}
	k.With = d.names(f["with"], "with")
	if f["gives"] == nil && f["with"] == nil {
		d.problem(e.key, "missing-key", "the kit gives nothing", "add gives: {APPLICATION: {roles: [NAME]}}")
	}
	for _, g := range d.entries(f["gives"], "gives") {
		r.readGive(d, k, g)
	}
	k.Holders = r.holders(d, f["holders"], "holders")
	k.Except = r.holders(d, f["except"], "except")
	return k
}

func (r *Repo) readGive(d *doc, k *model.Kit, g entry) {
	a := r.App(g.name)
	if a < 0 {
		r.noApplication(d.pos(g.key), g.name)
		return
	}
	app := r.Apps[a]
	known := []string{"groups", "roles", "licenses", "set"}
	kinds := []model.Kind{model.Group, model.Role, model.License}
	for _, k := range app.Kinds() {
		if k.Own() {
			known, kinds = append(known, k.Plural()), append(kinds, k)
		}
	}
	f := d.fields(g.value, "what the kit gives in "+g.name, known...)
	give := model.Give{App: a}
	for _, kind := range kinds {
		for _, n := range d.given(app, kind, f[kind.Plural()]) {
			t := app.Thing(kind, n.Text)
			if t < 0 {
				r.unknownThing(a, kind, n.Text, n.Pos)
				continue
			}
			if app.Things[t].Retire {
				r.fail(
					n.Pos,
					"retired",
					fmt.Sprintf("%s %s of %s is to be retired, and the kit gives it", kind, n.Text, app.ID),
					"take it out here first",
				)
			}
			give.Things = append(give.Things, t)
			give.Pos = append(give.Pos, n.Pos)
		}
	}
	for _, s := range d.entries(f["set"], "set") {
		if !r.settable(d, a, s) {
			continue
		}
		give.Set = append(give.Set, model.Setting{Attr: s.name, Value: d.text(s.value, s.name), Pos: d.pos(s.key)})
	}
	k.Gives = append(k.Gives, give)
}

// given are the things of a kind that a kit gives: a list, or the one of a kind of which everybody has
// one.
func (d *doc) given(app *model.App, kind model.Kind, n *yaml.Node) []model.Name {
	if n == nil || !app.One[kind] {
		return d.names(n, kind.Plural())
	}
	if v := d.text(n, kind.String()); v != "" {
		return []model.Name{{Text: v, Pos: d.pos(n)}}
	}
	return nil
}

// settable makes a set attribute one that Pravet keeps, where the export
// shows it.
func (r *Repo) settable(d *doc, a int, s entry) bool {
	app := r.Apps[a]
	if app.Attr(s.name) >= 0 {
		return true
	}
	if spec := r.Exports[a]; spec != nil {
		names := spec.Attributes()
		if !slices.Contains(names, s.name) {
			d.problem(
				s.key,
				"unknown-attribute",
				fmt.Sprintf("%s does not say where its export shows %s", app.ID, s.name),
				didYouMean(s.name, names, "its columns are "),
			)
			return false
		}
	}
	app.Attrs = append(app.Attrs, model.Attr{Name: s.name, Pos: d.pos(s.key)})
	app.Index()
	return true
}

// holders reads people by name, with until and because.
func (r *Repo) holders(d *doc, n *yaml.Node, what string) []model.Holder {
	if n != nil && n.Kind == yaml.MappingNode {
		f := d.fields(n, what, "listed")
		return r.listedHolders(d, n, d.required(f, n, "listed", what))
	}
	var out []model.Holder
	for _, item := range d.list(n, what) {
		f := d.fields(item, "an entry of "+what, "person", "until", "because")
		h := model.Holder{
			Person:  d.required(f, item, "person", "an entry of "+what),
			Until:   d.date(f["until"], "until"),
			Because: d.required(f, item, "because", "an entry of "+what),
			Pos:     d.pos(item),
		}
		if h.Person != "" {
			r.refs = append(r.refs, personRef{h.Person, d.pos(f["person"])})
		}
		out = append(out, h)
	}
	return out
}

// listedHolders reads people by name from a CSV file with the columns person, because and,
// where it has one, until.
func (r *Repo) listedHolders(d *doc, n *yaml.Node, file string) []model.Holder {
	if file == "" {
		return nil
	}
	src, err := r.Tree.Open(r.ctx, file)
	if err != nil {
		p := source.Unreadable(file, err)
		errors.As(err, &p)
		d.problem(n, p.Rule, file+": "+p.Says, p.Hint)
		return nil
	}
	defer src.Close()
	r.Files++
	rd := csv.NewReader(bufio.NewReaderSize(src, source.ReadAhead))
	rd.ReuseRecord = true
	header, err := rd.Read()
	if err != nil {
		r.addError(source.CSVError(file, err))
		return nil
	}
	at := map[string]int{"person": -1, "until": -1, "because": -1}
	for i, h := range header {
		if _, known := at[strings.TrimSpace(h)]; !known {
			r.fail(
				model.Pos{File: file, Line: 1},
				"unknown-column",
				fmt.Sprintf("a list of holders has no column %q", h),
				"its columns are person, until and because",
			)
			return nil
		}
		at[strings.TrimSpace(h)] = i
	}
	if at["person"] < 0 || at["because"] < 0 {
		r.fail(
			model.Pos{File: file, Line: 1},
			"missing-column",
			"a list of holders needs the columns person and because",
			"add them",
		)
		return nil
	}
	var out []model.Holder
	because := ""
	for {
		src.Mark()
		row, err := rd.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			r.addError(source.CSVError(file, err))
			return nil
		}
		line, _ := rd.FieldPos(0)
		pos := model.Pos{File: file, Line: line}
		if row[at["because"]] != because { // most often the same
			because = strings.Clone(row[at["because"]])
		}
		h := model.Holder{Person: strings.Clone(row[at["person"]]), Because: because, Until: day.None, Pos: pos}
		if i := at["until"]; i >= 0 && row[i] != "" {
			if h.Until, err = day.Parse(row[i]); err != nil {
				r.fail(pos, "wrong-date", "until: "+err.Error(), "")
			}
		}
		if h.Person == "" || h.Because == "" {
			r.fail(
				pos,
				"missing-value",
				"a holder needs a person and a because",
				"add what is missing, or take the row out",
			)
			continue
		}
		r.refs = append(r.refs, personRef{h.Person, pos})
		out = append(out, h)
	}
	r.digest(file, src)
	return out
}

// use remembers a filter, so that its attributes are checked once all people
// files are known.
func (r *Repo) use(d *doc, n *yaml.Node, f *filter.Filter, subject string) {
	if f != nil {
		r.uses = append(
			r.uses,
			use{f: f, at: func(column int) model.Pos { return d.clausePos(n, column) }, subject: subject},
		)
	}
}
