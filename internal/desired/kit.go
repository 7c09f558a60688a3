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
	"pravet/internal/form"
	"pravet/internal/source"
)

var (
	kitsForm = &form.Object{
		Name: "a file of kits", Doc: "Kits",
		Keys: []form.Key{{Name: "kits", Is: form.MapOf("a kit's name", form.In(kitForm))}},
	}
	kitForm = &form.Object{
		Name: "the kit", Doc: "A named set of things that one kind of work needs",
		Keys: []form.Key{
			{Name: "title", Is: form.Text(""), Doc: "What it is called where people read it"},
			{Name: "for", Is: form.Simple(form.Filter), Doc: "Who holds it, as a filter over people"},
			{Name: "everyone", Is: form.Simple(form.Bool), Doc: "Everybody holds it"},
			{
				Name: "having", Is: form.Text("APPLICATION/KIND/NAME"),
				Doc: "Who holds it: those who have that in another application, as it shows; with for, of them only those",
			},
			{Name: "gives", Is: form.MapOf("an application's id", form.In(shownGives)), Doc: "What it gives, by application"},
			{Name: "with", Is: form.Names("kits' names"), Doc: "Other kits that come with it"},
			{Name: "holders", Is: byName, Doc: "Who holds it besides"},
			{Name: "except", Is: byName, Doc: "Whom its rule leaves out"},
			{Name: "rank", Is: form.AtLeast(1), Doc: "Who goes without where seats run out: small ranks come first"},
			{
				Name: "linger", Is: form.For("P14D"),
				Doc: "How long what the kit gave stays after its rule has stopped matching",
			},
		},
		Some: []form.Choice{{
			Keys: []string{"gives", "with"},
			Says: "the kit gives nothing", Hint: "add gives: {APPLICATION: {roles: [NAME]}}",
		}},
		Apart: [][2]string{{"for", "everyone"}, {"having", "everyone"}, {"having", "holders"}, {"having", "linger"}},
	}
	givesForm = &form.Object{
		Name: "what the kit gives", Doc: "In one application; an empty one gives the account alone",
		Keys: []form.Key{
			{Name: "groups", Is: form.Names("groups"), Doc: "Groups to be a member of"},
			{Name: "roles", Is: form.Names("roles"), Doc: "Roles to hold"},
			{Name: "licenses", Is: form.Names("licenses"), Doc: "Licenses to have"},
			{
				Name: "set", Is: form.MapOf("an attribute of accounts", form.Text("")),
				Doc: "Values that take precedence over the rule under account",
			},
		},
	}
	// shownGives is givesForm with the kinds that an application may have of its own.
	shownGives = givesForm.Open("a kind of the application's own", form.Any(
		form.Names("their names"), form.Text("of a kind of which everybody has one: its name"),
	)).Never("group", "role", "license", "account", "active", "status")
	byName     = form.Any(form.ListOf(0, form.In(holderForm)), form.In(listedForm))
	holderForm = &form.Object{
		Name: "a person named here", Doc: "By name, and with a reason",
		Keys: []form.Key{
			{Name: "person", Is: form.Text("the id of a person"), Need: true, Doc: "Who"},
			untilKey, becauseKey,
		},
	}
	listedForm = &form.Object{
		Name: "a list of people", Doc: "Where they are many",
		Keys: []form.Key{{
			Name: "listed", Is: form.Text("the path of a CSV file"), Need: true,
			Doc: "It has the columns person, because and, if you like, until",
		}},
	}
	untilKey   = form.Key{Name: "until", Is: form.Simple(form.Day), Doc: "The last day; it still counts"}
	becauseKey = form.Key{Name: "because", Is: form.Text(""), Need: true, Doc: "Why"}
	byKey      = form.Key{Name: "by", Is: form.Text(""), Doc: "Who decided"}
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
		f := d.object(root, kitsForm)
		for _, e := range f.entries("kits") {
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
	r.bindings()
	r.circles()
	model.Resolve(r.Kits)
	r.clashesAlong()
}

func (r *Repo) readKit(d *doc, e entry) *model.Kit {
	k := &model.Kit{Name: e.name, Pos: d.pos(e.key)}
	k.ForPos = k.Pos
	f := d.entry(e, kitForm)
	k.Title = f.text("title")
	if f.has("everyone") {
		k.Everyone, k.ForPos = f.yes("everyone"), f.pos("everyone")
	}
	if n := f.node("for"); n != nil {
		k.For, k.ForPos = f.filter("for"), d.pos(n)
		r.use(d, n, k.For, "kit "+k.Name)
	}
	k.Rank = f.whole("rank", 0)
	if n := f.node("linger"); n != nil {
		k.Linger, k.LingerPos = f.duration("linger"), d.pos(n)
		if !k.HasRule() {
			d.problem(
				n,
				"two-rules",
				"linger is about a rule, and the kit is held by name only",
				"take it out, or add for: FILTER",
			)
		}
	}
	if n := f.node("having"); n != nil {
		k.Follows, k.FollowsFor, k.For = r.having(d, n), k.For, nil
	}
	k.With = f.names("with")
	for _, g := range f.entries("gives") {
		r.readGive(d, k, g)
	}
	k.Holders = r.holders(f, "holders")
	k.Except = r.holders(f, "except")
	return k
}

// having reads which thing of which application whoever holds a kit has.
func (r *Repo) having(d *doc, n *yaml.Node) *model.Binding {
	text := d.text(n, "having")
	app, rest, _ := strings.Cut(text, "/")
	word, name, _ := strings.Cut(rest, "/")
	kind, known := model.ParseKind(word)
	a := r.App(app)
	switch {
	case !known || name == "":
		d.problem(n, "bad-address", fmt.Sprintf("%q is not an address", text), "write APPLICATION/KIND/NAME, for example crew/group/dock")
	case a < 0:
		r.noApplication(d.pos(n), app)
	case r.Apps[a].Thing(kind, name) < 0:
		r.unknownThing(a, kind, name, d.pos(n))
	default:
		return &model.Binding{App: app, Kind: kind, Name: name, Pos: d.pos(n)}
	}
	return nil
}

func (r *Repo) readGive(d *doc, k *model.Kit, g entry) {
	a := r.App(g.name)
	if a < 0 {
		r.noApplication(d.pos(g.key), g.name)
		return
	}
	app := r.Apps[a]
	of, kinds := givesForm, []model.Kind{model.Group, model.Role, model.License}
	for _, k := range app.Kinds() {
		if k.Own() {
			of, kinds = of.And(ownGive(k, app.One[k])), append(kinds, k)
		}
	}
	f := d.entry(g, of, "in")
	give := model.Give{App: a}
	for _, kind := range kinds {
		for _, n := range f.given(app, kind) {
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
			if app.Things[t].Others {
				r.fail(
					n.Pos, "two-rules", fmt.Sprintf("%s %s of %s is given and taken by others", kind, n.Text, app.ID),
					"take it out here, or others out of its catalog",
				)
			}
			give.Things = append(give.Things, t)
			give.Pos = append(give.Pos, n.Pos)
		}
	}
	for _, s := range f.entries("set") {
		if !r.settable(d, a, s) {
			continue
		}
		give.Set = append(give.Set, model.Setting{Attr: s.name, Value: d.text(s.value, s.name), Pos: d.pos(s.key)})
	}
	k.Gives = append(k.Gives, give)
}

// ownGive declares what a kit gives of a kind of an application's own.
func ownGive(kind model.Kind, one bool) form.Key {
	if one {
		return form.Key{Name: kind.Plural(), Is: form.Text("its name")}
	}
	return form.Key{Name: kind.Plural(), Is: form.Names("their names")}
}

// given are the things of a kind that a kit gives: a list, or the one of a kind of which everybody has
// one.
func (v values) given(app *model.App, kind model.Kind) []model.Name {
	if !app.One[kind] || !v.has(kind.Plural()) {
		return v.d.names(v.node(kind.Plural()), kind.Plural())
	}
	if text := v.text(kind.Plural()); text != "" {
		return []model.Name{{Text: text, Pos: v.pos(kind.Plural())}}
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
func (r *Repo) holders(of values, key string) []model.Holder {
	d, n := of.d, of.node(key)
	if n != nil && n.Kind == yaml.MappingNode {
		return r.listedHolders(d, n, of.within(key).text("listed"))
	}
	var out []model.Holder
	named := holderForm.Called("an entry of "+key, "")
	for _, item := range of.list(key) {
		f := d.object(item, named)
		h := model.Holder{Person: f.text("person"), Until: f.date("until"), Because: f.text("because"), Pos: d.pos(item)}
		r.refer(f, "person")
		out = append(out, h)
	}
	return out
}

// refer remembers that a key names a person, who has to be in the files of people.
func (r *Repo) refer(of values, key string) {
	if id := of.text(key); id != "" {
		r.refs = append(r.refs, personRef{id, of.pos(key)})
	}
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
