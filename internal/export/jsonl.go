package export

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plain"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// A Record is one line of an export of JSON Lines: an account, or a group or role that
// the application says it has. It is what a live application is read as, too.
//
//	{"account":"ines.calder","state":"open","attributes":{"title":"Mate"},"groups":["bridge"]}
//	{"group":"bridge","in":["everybody"]}
type Record struct {
	Account    string            `json:"account,omitempty"`
	State      string            `json:"state,omitempty"` // a state's name; open where it is missing
	Attributes map[string]string `json:"attributes,omitempty"`
	Groups     []string          `json:"groups,omitempty"`
	Roles      []string          `json:"roles,omitempty"`
	Licenses   []string          `json:"licenses,omitempty"`

	Own map[string][]string `json:"own,omitempty"` // of kinds of the application's own, by their names

	Group string   `json:"group,omitempty"` // instead of Account
	Role  string   `json:"role,omitempty"`  // likewise
	In    []string `json:"in,omitempty"`    // the groups that Group is a member of

	// Also are the values of attributes that an account has besides those in Attributes, where the application takes
	// several and says of none that it counts.
	Also map[string][]string `json:"also,omitempty"`
	// With are the terms on which an account holds things, by their kind and name ("group crew"), where those are not the
	// usual ones.
	With map[string]string `json:"with,omitempty"`
	// Needs is how many members Group, or Role, has, where the application does not let it be without one.
	Needs int `json:"needs,omitempty"`
	// Partial says why not everybody who is in Group, or has Role, was shown.
	Partial string `json:"partial,omitempty"`

	Version string `json:"-"` // of the account as it was read, where the application says one
}

// Held are the names that an account holds of a kind.
func (r *Record) Held(kind model.Kind) []string {
	switch kind {
	case model.Group:
		return r.Groups
	case model.Role:
		return r.Roles
	case model.License:
		return r.Licenses
	}
	return r.Own[kind.String()]
}

// Value is the account of a record.
func (r *Record) Value(app *model.App) *account.Value {
	v := account.New(r.Account)
	if r.State != "" {
		v.Is = model.ParseState(r.State)
	}
	for name, value := range r.Attributes {
		v.Attrs[name] = value
	}
	v.Also = maps.Clone(r.Also)
	v.Attrs[app.Match] = r.Account
	for k := range model.Kinds {
		if names := r.Held(k); len(names) > 0 {
			v.Held[k] = slices.Clone(names)
		}
	}
	return v
}

// RecordOf is an account as a record.
func RecordOf(v *account.Value) *Record {
	r := &Record{Account: v.Named, State: v.Is.String(), Attributes: maps.Clone(v.Attrs), Also: maps.Clone(v.Also)}
	for k := range model.Kinds {
		for _, name := range v.Held[k] {
			r.Hold(k, name)
		}
	}
	return r
}

// Say notes the values of an attribute, of which none counts more than the others: the first is shown.
func (r *Record) Say(attr string, values []string) {
	if len(values) == 0 || values[0] == "" {
		return
	}
	r.Attributes[attr] = values[0]
	if len(values) > 1 {
		if r.Also == nil {
			r.Also = map[string][]string{}
		}
		r.Also[attr] = slices.Clone(values[1:])
	}
}

// Hold adds a name that an account holds.
func (r *Record) Hold(kind model.Kind, name string) {
	switch kind {
	case model.Group:
		r.Groups = append(r.Groups, name)
	case model.Role:
		r.Roles = append(r.Roles, name)
	case model.License:
		r.Licenses = append(r.Licenses, name)
	default:
		if r.Own == nil {
			r.Own = map[string][]string{}
		}
		r.Own[kind.String()] = append(r.Own[kind.String()], name)
	}
}

// Line writes a record as a line, its lists sorted, so that the same state gives the same
// bytes.
func (r *Record) Line(w io.Writer) error {
	for _, list := range [][]string{r.Groups, r.Roles, r.Licenses, r.In} {
		slices.Sort(list)
	}
	for _, list := range r.Own {
		slices.Sort(list)
	}
	for _, list := range r.Also {
		slices.Sort(list)
	}
	maps.DeleteFunc(r.Attributes, func(_, v string) bool { return v == "" })
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(r); err != nil {
		return err
	}
	_, err := w.Write(b.Bytes())
	return err
}

// Collect makes accounts of records, as if they had been read from a file.
func Collect(app *model.App, records []*Record) (*model.Accounts, error) {
	r := newRecordReader(app, newBuilder(app))
	for _, x := range records {
		if err := r.add(x); err != nil {
			return nil, fmt.Errorf("%s: %w", app.ID, err)
		}
	}
	r.finish()
	return r.b.finish(""), nil
}

// recordReader puts records together.
type recordReader struct {
	app     *model.App
	b       *builder
	columns map[string]*table.Column
	groups  map[string][]string // what each is in
	defined [model.Kinds][]string
	needs   map[int32]int // members of things that need one
	line    int
}

func newRecordReader(app *model.App, b *builder) *recordReader {
	r := &recordReader{app: app, b: b, columns: map[string]*table.Column{}}
	for _, a := range app.Attrs {
		r.columns[a.Name] = b.column(a.Name)
	}
	if app.Attr(app.Match) < 0 {
		r.columns[app.Match] = b.column(app.Match)
	}
	return r
}

// readJSONL reads a file of records. Errors are of type *source.Problem.
func (r *recordReader) read(src *source.Reader, name string) error {
	in := bufio.NewReaderSize(src, source.ReadAhead)
	lines := 0
	for {
		src.Mark()
		text, err := in.ReadBytes('\n')
		if err != nil && err != io.EOF {
			return err
		}
		cut := err == io.EOF
		if text = bytes.TrimSpace(text); len(text) > 0 {
			lines++
			r.line++
			x := &Record{}
			dec := json.NewDecoder(bytes.NewReader(text))
			dec.DisallowUnknownFields()
			bad := dec.Decode(x)
			if bad == nil && dec.More() {
				bad = errors.New("a line holds one object and nothing else")
			}
			if bad == nil {
				bad = r.add(x)
			}
			if bad != nil {
				rule, hint := "not-jsonl", "see “JSON Lines” in docs/connecting.md for what a line may say"
				if cut {
					rule, hint = "truncated", "the export was cut short; export it again"
				}
				return source.NewProblem(
					model.Pos{File: name, Line: r.line, Column: 1},
					rule,
					plain.JSON(bad).Error(),
					hint,
				)
			}
		} else if !cut {
			r.line++
		}
		if cut {
			break
		}
	}
	if lines == 0 {
		return source.NewProblem(
			model.Pos{File: name, Line: 1}, "empty-file", "the export is empty", "fetch it, or export it again",
		)
	}
	return nil
}

func (r *recordReader) add(x *Record) error {
	switch {
	case x.Group != "" && x.Account == "" && x.Role == "":
		if r.groups == nil {
			r.groups = map[string][]string{}
		}
		r.groups[x.Group] = x.In
		r.defined[model.Group] = append(r.defined[model.Group], x.Group)
		r.list(model.Group, x.Group, x)
		return nil
	case x.Role != "" && x.Account == "" && x.Group == "":
		r.defined[model.Role] = append(r.defined[model.Role], x.Role)
		r.list(model.Role, x.Role, x)
		return nil
	case x.Group != "" || x.Role != "":
		return errors.New("a line is about an account, a group or a role, and not about two of them")
	}
	state := model.Open
	if x.State != "" {
		if state = model.ParseState(x.State); state == model.NoAccount {
			return fmt.Errorf("%q is not a state of an account; use open, blocked, invited or removed", x.State)
		}
	}
	if x.Account == "" {
		r.b.unnamed(model.Pos{Line: r.line}, func(n int) string { return x.Attributes[r.app.Attrs[n].Name] })
		own := model.OwnName(func(attr string) string { return x.Attributes[attr] })
		if own == "" {
			return nil
		}
		r.b.nameless(own)
		r.b.out.Stuck = true
	}
	if len(x.Account) > model.MaxName {
		return fmt.Errorf("the name of the account is longer than %d bytes", model.MaxName)
	}
	for attr, col := range r.columns {
		v := x.Attributes[attr]
		if attr == r.app.Match {
			v = x.Account
		}
		if !col.Append(v) {
			return errors.New("one attribute holds more than 4 GiB")
		}
	}
	for attr, values := range x.Also {
		if n := r.app.Attr(attr); n >= 0 && len(values) > 0 {
			r.b.out.TellAlso(n, r.b.count, values)
		}
	}
	for thing, with := range x.With {
		kind, name, _ := strings.Cut(thing, " ")
		k, _ := model.ParseKind(kind)
		if t := r.app.Thing(k, name); t >= 0 {
			r.b.out.TellWith(t, r.b.count, with)
		}
	}
	var cells [model.Kinds]*cell
	for k := range model.Kinds {
		if names := x.Held(k); len(names) > 0 {
			cells[k] = r.b.field(k, strings.Join(names, "\x00"), "\x00")
		}
	}
	r.b.add(state, r.b.hold(cells))
	r.b.out.Line = append(r.b.out.Line, uint32(r.line))
	return nil
}

// list notes what a line says of a thing of the catalog: that not everybody was shown who has it, and that it needs a member.
func (r *recordReader) list(kind model.Kind, name string, x *Record) {
	t := r.app.Thing(kind, name)
	if t >= 0 && x.Partial != "" {
		if r.b.out.Partial == nil {
			r.b.out.Partial = map[int32]string{}
		}
		r.b.out.Partial[t] = x.Partial
	}
	if t >= 0 && x.Needs > 0 {
		if r.needs == nil {
			r.needs = map[int32]int{}
		}
		r.needs[t] = x.Needs
	}
}

// needy notes which things that need a member have no other members than accounts.
func (r *recordReader) needy() {
	for t, n := range r.needs {
		for i := range r.b.out.Held {
			if r.b.out.Sets.Has(r.b.out.Held[i], t) {
				n--
			}
		}
		if n <= 0 {
			if r.b.out.Needy == nil {
				r.b.out.Needy = map[int32]bool{}
			}
			r.b.out.Needy[t] = true
		}
	}
}

// finish notes which groups and roles there are, and which groups are in which.
func (r *recordReader) finish() {
	r.needy()
	for k := range r.defined {
		if r.defined[k] != nil {
			slices.Sort(r.defined[k])
			r.b.out.Defined[k] = r.defined[k]
		}
	}
	if r.groups == nil {
		return
	}
	s := &scimReader{b: r.b}
	at, names := map[string]int{}, r.defined[model.Group]
	for i, name := range names {
		at[name] = i
		s.groups = append(s.groups, scimGroup{thing: r.app.Thing(model.Group, name), id: name, name: name})
	}
	parents := map[int][]int{}
	for child, name := range names {
		for _, in := range r.groups[name] {
			if parent, ok := at[in]; ok {
				parents[child] = append(parents[child], parent)
			}
		}
	}
	s.nesting(parents)
}
