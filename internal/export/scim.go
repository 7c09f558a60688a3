package export

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"pravet/internal/core/model"
	"pravet/internal/core/plain"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// maxResource is how many bytes one SCIM resource may have; a group lists its
// members.
const maxResource = 64 << 20

// scimReader reads SCIM resources: alone, in arrays, or in pages of a
// ListResponse (RFC 7644 §3.4.2), users and groups together or apart, in one
// file or several. What it does not understand whole is an error.
type scimReader struct {
	spec   *Spec
	b      *builder
	sinks  []scimSink
	match  []string
	users  map[string]int32 // id → account
	groups []scimGroup
	pages  []page
	lists  int // where users can be added
}

type scimSink struct {
	col  *table.Column
	path []string
	attr int // its number, or -1
}

// A page is what a ListResponse says of how much there is.
type page struct {
	file  string
	total int // of the whole list, or -1
	start int // the number of its first resource, or 0 where it does not say
	found int
}

func newSCIMReader(spec *Spec, b *builder) *scimReader {
	r := &scimReader{spec: spec, b: b, users: map[string]int32{}, match: SCIMPath(spec, b.app.Match)}
	for n, a := range b.app.Attrs {
		r.sinks = append(r.sinks, scimSink{b.column(a.Name), SCIMPath(spec, a.Name), n})
	}
	if b.app.Attr(b.app.Match) < 0 {
		r.sinks = append(r.sinks, scimSink{b.column(b.app.Match), r.match, -1})
	}
	return r
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
			return source.NewProblem(
				model.Pos{File: name, Line: 1},
				"empty-file",
				"the export is empty",
				"export it again",
			)
		}
		if err != nil {
			return fail(err)
		}
		documents++
		switch t {
		case json.Delim('{'):
			err = r.document(src, dec, name)
		case json.Delim('['):
			r.lists++
			err = r.resources(src, dec, nil)
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
	p, isPage := page{file: name, total: -1}, false
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return err
		}
		k, _ := key.(string)
		if strings.EqualFold(k, "Resources") {
			if isPage {
				return errors.New("the key Resources stands twice in one page")
			}
			open, err := dec.Token()
			if err != nil {
				return err
			}
			if open != json.Delim('[') {
				return errors.New("the key Resources is expected to hold a list")
			}
			isPage = true
			if err := r.resources(src, dec, &p); err != nil {
				return err
			}
			continue
		}
		var v json.RawMessage
		if err := dec.Decode(&v); err != nil {
			return err
		}
		switch {
		case strings.EqualFold(k, "totalResults"):
			p.total = int(gjson.ParseBytes(v).Int())
		case strings.EqualFold(k, "startIndex"):
			p.start = int(gjson.ParseBytes(v).Int())
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
	if !isPage {
		schemas, _, err := Resource(whole).Find("schemas")
		if err != nil {
			return errors.New(err.Error())
		}
		isPage = strings.Contains(schemas.Raw, "ListResponse")
	}
	if !isPage {
		if err := r.resource(whole, nil); err != nil {
			return errors.New(err.Error()) // its offsets are of what was put together here
		}
		return nil
	}
	r.lists++
	if p.total >= 0 {
		r.pages = append(r.pages, p)
	}
	return nil
}

// resources reads the rest of a list.
func (r *scimReader) resources(src *source.Reader, dec *json.Decoder, p *page) error {
	for dec.More() {
		src.Mark()
		var raw json.RawMessage
		if err := dec.Decode(&raw); err != nil {
			return err
		}
		if err := r.resource(raw, p); err != nil {
			var oe *ObjectError
			if !errors.As(err, &oe) {
				oe = &ObjectError{0, err.Error()}
			}
			return &ObjectError{int(dec.InputOffset()) - len(raw) + oe.Offset, oe.Says}
		}
	}
	_, err := dec.Token()
	return err
}

func (r *scimReader) resource(raw []byte, p *page) error {
	v := Resource(raw)
	kind, err := SCIMKind(v)
	if err != nil {
		return err
	}
	if p != nil {
		p.found++
	}
	if kind == "Group" {
		return r.group(v)
	}
	return r.user(v)
}

func (r *scimReader) user(v Value) error {
	key, err := SCIMText(v, r.match)
	if err != nil {
		return err
	}
	if key == "" {
		if err := r.unnamed(v); err != nil {
			return err
		}
		own := model.OwnName(func(attr string) string {
			text, _ := SCIMText(v, SCIMPath(r.spec, attr)) // unnamed has read all of these
			return text
		})
		if own == "" {
			return nil
		}
		r.b.nameless(own)
		r.b.out.Stuck = true
	}
	if len(key) > model.MaxName {
		return fmt.Errorf("the %s of this user is longer than %d bytes", r.b.app.Match, model.MaxName)
	}
	id, err := SCIMID(v)
	if err != nil {
		return err
	}
	if id != "" {
		if _, ok := r.users[id]; ok {
			return errors.New("a second user has the same id")
		}
		r.users[strings.Clone(id)] = int32(r.b.count)
	}
	for _, s := range r.sinks {
		text, err := SCIMText(v, s.path)
		if err != nil {
			return err
		}
		if !s.col.Append(text) {
			return errors.New("one attribute holds more than 4 GiB")
		}
		also, err := SCIMAlso(v, s.path)
		if err != nil {
			return err
		}
		if len(also) > 0 && s.attr >= 0 {
			r.b.out.TellAlso(s.attr, r.b.count, also)
		}
	}
	if r.spec.Taken != "" {
		text, err := SCIMText(v, strings.Split(r.spec.Taken, "."))
		if err != nil {
			return err
		}
		if text > r.b.taken {
			r.b.taken = strings.Clone(text)
		}
	}
	state, err := SCIMState(r.spec, v)
	if err != nil {
		return err
	}
	var cells [model.Kinds]*cell
	for k := range model.Common {
		kind := model.Kind(k)
		if kind == model.Group && len(r.groups) > 0 {
			continue
		}
		names, err := SCIMNames(v, kind)
		if err != nil {
			return err
		}
		cells[kind] = r.b.field(kind, strings.Join(names, "\x00"), "\x00")
	}
	r.b.add(state, r.b.hold(cells))
	return nil
}

// unnamed notes a user without a value in the match attribute; what identifies
// users is read whether the application's file names it or not.
func (r *scimReader) unnamed(v Value) error {
	values := map[string]string{}
	for _, attr := range []string{"id", "externalId", "userName", "email", "employeeNumber"} {
		text, err := SCIMText(v, SCIMPath(r.spec, attr))
		if err != nil {
			return err
		}
		values[attr] = text
	}
	var failed error
	r.b.unnamed(model.Pos{}, func(n int) string {
		text, err := SCIMText(v, r.sinks[n].path)
		failed = cmp.Or(failed, err)
		delete(values, r.b.app.Attrs[n].Name)
		return text
	})
	u := &r.b.out.Unnamed[len(r.b.out.Unnamed)-1]
	for _, attr := range slices.Sorted(maps.Keys(values)) {
		if text := values[attr]; text != "" {
			u.Values = append(u.Values, model.Told{Attr: attr, Value: strings.Clone(text)})
		}
	}
	return failed
}

// complete checks that no page is missing. Pages that say the same total are of
// one list, or of as many as begin with a resource that has the number 1.
func (r *scimReader) complete() error {
	found, lists := map[int]int{}, map[int]int{}
	for _, p := range r.pages {
		found[p.total] += p.found
		if p.start == 1 {
			lists[p.total]++
		}
	}
	for _, p := range r.pages {
		if want := p.total * max(lists[p.total], 1); found[p.total] < want {
			return source.NewProblem(
				model.Pos{File: p.file},
				"incomplete-export",
				fmt.Sprintf(
					"totalResults says %d, and %s there; a page is missing",
					want,
					model.Count(found[p.total], "resource is", "resources are"),
				),
				"export all pages",
			)
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
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	offset := dec.InputOffset()
	rule, hint := "not-scim", "see RFC 7643 for how a resource is written"
	var syntax *json.SyntaxError
	var object *ObjectError
	switch {
	case errors.As(err, &object):
		offset = int64(object.Offset)
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		offset = src.Size()
		err = errors.New("the file ends in the middle of a value")
		rule, hint = "truncated", "the export was cut short; export it again"
	case errors.As(err, &syntax):
		rule, hint = "not-json", "export it again, or fix the file"
	}
	pos, posErr := src.Position(offset)
	if posErr != nil {
		pos = model.Pos{File: name}
	}
	return source.NewProblem(pos, rule, plain.JSON(err).Error(), hint)
}
