package export

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// maxResource is how many bytes one SCIM resource may have; a group lists its
// members.
const maxResource = 64 << 20

// scimReader reads SCIM resources: alone, in arrays, or in pages of a
// ListResponse (RFC 7644 §3.4.2), users and groups together or apart, in one
// file or several.
type scimReader struct {
	spec    *Spec
	b       *builder
	sinks   []scimSink
	users   map[string]int32 // id → account
	groups  []scimGroup
	listed  []listed // pages
	hasKind bool     // a group resource was seen
}

type scimSink struct {
	col  *table.Column
	path string
}

type scimGroup struct {
	thing   int32 // or -1 for one outside the catalog
	name    string
	members []string
}

// listed is what a page says of how much there is.
type listed struct {
	file  string
	kinds string
	total int
	found int
}

func newSCIMReader(spec *Spec, b *builder) *scimReader {
	r := &scimReader{spec: spec, b: b, users: map[string]int32{}}
	for _, a := range b.app.Attrs {
		r.sinks = append(r.sinks, scimSink{b.column(a.Name), SCIMPath(spec, a.Name)})
	}
	if b.app.Attr(b.app.Match) < 0 {
		r.sinks = append(r.sinks, scimSink{b.column(b.app.Match), SCIMPath(spec, b.app.Match)})
	}
	return r
}

// SCIMPath is where an attribute is in a SCIM user, as a gjson path: as the
// file's columns say, else where RFC 7643 §4.1 puts it.
func SCIMPath(spec *Spec, attr string) string {
	path := attr
	if c := spec.Column(attr); c != nil {
		path = c.Name
	} else {
		switch attr {
		case "email":
			return "emails"
		case "phone":
			return "phoneNumbers"
		case "department", "division", "organization", "costCenter", "employeeNumber":
			path = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:" + attr
		case "manager":
			path = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value"
		}
	}
	if strings.HasPrefix(path, "urn:") {
		at := strings.LastIndexByte(path, ':')
		return escapePath(path[:at]) + "." + path[at+1:]
	}
	return path
}

func escapePath(key string) string {
	return strings.NewReplacer(".", `\.`, "*", `\*`, "?", `\?`, "|", `\|`, "#", `\#`).Replace(key)
}

// SCIMValue reads one value: of a list the primary one, else the first
// (RFC 7643 §2.4).
func SCIMValue(resource []byte, path string) string {
	v := gjson.GetBytes(resource, path)
	if v.IsArray() {
		list := v.Array()
		if len(list) == 0 {
			return ""
		}
		at := slices.IndexFunc(list, func(x gjson.Result) bool { return x.Get("primary").Bool() })
		v = list[max(at, 0)]
	}
	if v.IsObject() {
		v = v.Get("value")
	}
	if v.Type == gjson.Null {
		return ""
	}
	return v.String()
}

// scimNames reads a list of values: of each its value, or for groups how it is
// displayed.
func scimNames(resource []byte, path, first, second string) (out []string) {
	for _, v := range gjson.GetBytes(resource, path).Array() {
		name := v.String()
		if v.IsObject() {
			if name = v.Get(first).String(); name == "" {
				name = v.Get(second).String()
			}
		}
		if name != "" {
			out = append(out, name)
		}
	}
	return out
}

// read reads one file.
func (r *scimReader) read(src *source.Reader, name string) error {
	src.Limit = maxResource
	dec := json.NewDecoder(src)
	fail := func(err error) error { return jsonProblem(src, dec, name, err) }
	documents := 0
	for {
		src.Mark()
		t, err := dec.Token()
		if err == io.EOF && documents > 0 {
			return nil
		}
		if err == io.EOF {
			return source.NewProblem(model.Pos{File: name, Line: 1}, "empty-file", "the export is empty", "export it again")
		}
		if err != nil {
			return fail(err)
		}
		documents++
		switch t {
		case json.Delim('{'):
			err = r.document(src, dec, name)
		case json.Delim('['):
			err = r.resources(src, dec, name, nil)
		default:
			err = errors.New("a resource or a list of resources is expected here")
		}
		if err != nil {
			return fail(err)
		}
	}
}

// document reads the rest of an object: a page, or one resource.
func (r *scimReader) document(src *source.Reader, dec *json.Decoder, name string) error {
	whole := []byte{'{'}
	page := (*listed)(nil)
	total := -1
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return err
		}
		k, _ := key.(string)
		if k == "Resources" {
			open, err := dec.Token()
			if err != nil {
				return err
			}
			if open != json.Delim('[') {
				return errors.New("the key Resources is expected to hold a list")
			}
			page = &listed{file: name}
			if err := r.resources(src, dec, name, page); err != nil {
				return err
			}
			continue
		}
		var v json.RawMessage
		if err := dec.Decode(&v); err != nil {
			return err
		}
		if k == "totalResults" {
			total = int(gjson.ParseBytes(v).Int())
		}
		if len(whole) > 1 {
			whole = append(whole, ',')
		}
		quoted, err := json.Marshal(k)
		if err != nil {
			return err
		}
		whole = append(append(append(whole, quoted...), ':'), v...)
	}
	if _, err := dec.Token(); err != nil {
		return err
	}
	whole = append(whole, '}')
	isList := strings.Contains(gjson.GetBytes(whole, "schemas").Raw, "ListResponse")
	switch {
	case page != nil || isList:
		if page == nil {
			page = &listed{file: name}
		}
		if page.total = total; total >= 0 {
			r.listed = append(r.listed, *page)
		}
		return nil
	}
	return r.resource(whole, nil)
}

// resources reads the rest of a list.
func (r *scimReader) resources(src *source.Reader, dec *json.Decoder, name string, page *listed) error {
	for dec.More() {
		src.Mark()
		var raw json.RawMessage
		if err := dec.Decode(&raw); err != nil {
			return err
		}
		if err := r.resource(raw, page); err != nil {
			return err
		}
	}
	_, err := dec.Token()
	return err
}

// SCIMKind tells whether a resource is a User or a Group, by its schemas, its
// type or its shape; "" for anything else.
func SCIMKind(raw []byte) string {
	schemas := gjson.GetBytes(raw, "schemas").Raw
	kind := gjson.GetBytes(raw, "meta.resourceType").String()
	switch {
	case strings.Contains(schemas, "core:2.0:User"), kind == "User":
		return "User"
	case strings.Contains(schemas, "core:2.0:Group"), kind == "Group":
		return "Group"
	case schemas == "" && gjson.GetBytes(raw, "userName").Exists():
		return "User"
	case schemas == "" && gjson.GetBytes(raw, "members").Exists():
		return "Group"
	}
	return ""
}

func (r *scimReader) resource(raw []byte, page *listed) error {
	if trimmed := strings.TrimSpace(string(raw[:min(len(raw), 1)])); trimmed != "{" {
		return errors.New("a resource is expected here, an object in braces")
	}
	kind := SCIMKind(raw)
	if page != nil {
		page.found++
		if !strings.Contains(page.kinds, kind) {
			page.kinds += kind
		}
	}
	switch kind {
	case "User":
		return r.user(raw)
	case "Group":
		r.group(raw)
	}
	return nil
}

func (r *scimReader) user(raw []byte) error {
	if SCIMValue(raw, SCIMPath(r.spec, r.b.app.Match)) == "" {
		r.b.out.Nameless++
		return nil
	}
	if id := SCIMID(raw); id != "" {
		if _, ok := r.users[id]; ok {
			return fmt.Errorf("a second user has the id %q", id)
		}
		r.users[id] = int32(r.b.count)
	}
	for _, s := range r.sinks {
		s.col.Append(SCIMValue(raw, s.path))
	}
	open, err := SCIMOpen(raw)
	if err != nil {
		return err
	}
	var cells [model.Kinds]*cell
	list := func(kind model.Kind, names []string) {
		cells[kind] = r.b.field(kind, strings.Join(names, "\x00"), "\x00")
	}
	list(model.License, scimNames(raw, "entitlements", "value", "display"))
	list(model.Role, scimNames(raw, "roles", "value", "display"))
	if !r.hasKind {
		list(model.Group, scimNames(raw, "groups", "display", "value"))
	}
	r.b.add(open, r.b.hold(cells))
	return nil
}

// SCIMOpen tells whether a user may sign in: whatever active says, true where it
// says nothing. Some applications write it as a text.
func SCIMOpen(raw []byte) (bool, error) {
	a := gjson.GetBytes(raw, "active")
	switch {
	case !a.Exists() || a.Type == gjson.Null || strings.EqualFold(a.String(), "true"):
		return true, nil
	case strings.EqualFold(a.String(), "false"):
		return false, nil
	}
	return false, fmt.Errorf("active is %s, and true or false is expected", a.Raw)
}

// SCIMID is by what groups name a user: the id, else the user name.
func SCIMID(raw []byte) string {
	if id := gjson.GetBytes(raw, "id").String(); id != "" {
		return id
	}
	return gjson.GetBytes(raw, "userName").String()
}

func (r *scimReader) group(raw []byte) {
	if !r.hasKind {
		r.hasKind = true
		// Groups list their members themselves; what users say of their
		// groups only repeats it (RFC 7643 §4.1.2).
		r.b.dropKind(model.Group)
		r.b.out.Defined[model.Group] = []string{}
	}
	g := scimGroup{name: gjson.GetBytes(raw, "displayName").String()}
	if g.name == "" {
		g.name = gjson.GetBytes(raw, "id").String()
	}
	g.thing = r.b.app.Thing(model.Group, g.name)
	g.members = scimNames(raw, "members", "value", "display")
	r.groups = append(r.groups, g)
	r.b.out.Defined[model.Group] = append(r.b.out.Defined[model.Group], g.name)
}

// dropKind takes all holdings of a kind away again.
func (b *builder) dropKind(kind model.Kind) {
	sets := b.out.Sets
	for i, held := range b.out.Held {
		for _, t := range sets.Members(held) {
			if b.app.Things[t].Kind == kind {
				held = sets.Without(held, t)
			}
		}
		b.out.Held[i] = held
	}
	b.cells[kind] = map[string]*cell{}
}

// finish adds the members of groups, and checks that no page is missing.
func (r *scimReader) finish() error {
	for _, g := range r.groups {
		for _, m := range g.members {
			account, ok := r.users[m]
			switch {
			case !ok:
			case g.thing >= 0:
				r.b.out.Held[account] = r.b.out.Sets.With(r.b.out.Held[account], g.thing)
			default:
				r.b.out.Unmanaged[model.UnmanagedThing{Kind: model.Group, Name: g.name}]++
			}
		}
	}
	slices.Sort(r.b.out.Defined[model.Group])
	found, total := map[string]int{}, map[string]int{}
	for _, p := range r.listed {
		found[p.kinds] += p.found
		total[p.kinds] = max(total[p.kinds], p.total)
	}
	for _, p := range r.listed {
		if found[p.kinds] < total[p.kinds] {
			return source.NewProblem(model.Pos{File: p.file}, "incomplete-export",
				fmt.Sprintf("totalResults says %d, and %s there; a page is missing", total[p.kinds], model.Count(found[p.kinds], "resource is", "resources are")), "export all pages")
		}
	}
	return nil
}

// jsonProblem gives an error its place.
func jsonProblem(src *source.Reader, dec *json.Decoder, name string, err error) error {
	var p *source.Problem
	if errors.As(err, &p) {
		return p
	}
	offset := dec.InputOffset()
	rule, hint := "not-scim", "see RFC 7643 for how a resource is written"
	var syntax *json.SyntaxError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		offset = src.Size()
		err = errors.New("the file ends in the middle of a value")
		rule, hint = "truncated", "the export was cut short; export it again"
	case errors.As(err, &syntax):
		rule, hint = "not-json", "export it again, or mend the file"
	}
	pos, posErr := src.Position(offset)
	if posErr != nil {
		pos = model.Pos{File: name}
	}
	return source.NewProblem(pos, rule, err.Error(), hint)
}
