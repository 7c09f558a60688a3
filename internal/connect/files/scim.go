package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"github.com/tidwall/gjson"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// maxSCIM is how large a file of SCIM resources may be to be written, in
// bytes; it is held in memory.
const maxSCIM = 1 << 30

// mark is a byte order mark. Reading drops it, and writing puts it back.
const mark = "\ufeff"

// A scimFile is a file of SCIM resources with the places of its resources.
type scimFile struct {
	path      string
	data      []byte
	sum       string
	info      fs.FileInfo
	resources []span
	lists     []list
}

// A span is a resource's place in a file.
type span struct {
	from, to int
	kind     string // User, Group or ""
	list     int    // number in lists, or -1 for one that stands alone
	text     []byte // the new content, nil while it is unchanged
	gone     bool
}

// A list is a list of resources, and the counts of the page that it is in.
type list struct {
	open, shut int // offsets of its brackets
	added      [][]byte
	total      span
	perPage    span
}

// scim writes the files of SCIM resources anew. Resources that no change is
// about stay as they are; in others only the changed values are written.
func (f *writer) scim(e *edits) error {
	var files []*scimFile
	for _, path := range f.Spec.Paths {
		data, sum, info, err := f.Tree.ReadAll(f.ctx, path.Text, maxSCIM)
		if err != nil {
			return err
		}
		file := &scimFile{path: path.Text, data: data, sum: sum, info: info}
		if err := file.scan(); err != nil {
			return fmt.Errorf("%s: %w", path.Text, err)
		}
		files = append(files, file)
	}
	w := &scimWriter{files: f, edits: e, all: files, ids: map[string]*edit{}}
	if err := w.write(); err != nil {
		return err
	}
	for _, file := range files {
		s, err := f.Tree.Stage(file.path, 0o644, file.render)
		if err != nil {
			return err
		}
		s.Replaces(file.info)
		f.add(s, file.path, file.sum)
	}
	return nil
}

// scan finds the resources of a file.
func (s *scimFile) scan() error {
	dec := json.NewDecoder(bytes.NewReader(s.data))
	for {
		t, err := dec.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		from := int(dec.InputOffset()) - 1
		switch t {
		case json.Delim('['):
			if err := s.scanList(dec); err != nil {
				return err
			}
		case json.Delim('{'):
			if err := s.scanObject(dec, from); err != nil {
				return err
			}
		}
	}
}

func (s *scimFile) scanObject(dec *json.Decoder, from int) error {
	at, isList := -1, false
	var total, perPage span
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return err
		}
		if key == "Resources" {
			if _, err := dec.Token(); err != nil {
				return err
			}
			at = len(s.lists)
			if err := s.scanList(dec); err != nil {
				return err
			}
			continue
		}
		var v json.RawMessage
		if err := dec.Decode(&v); err != nil {
			return err
		}
		to := int(dec.InputOffset())
		switch key {
		case "totalResults":
			total = span{from: to - len(v), to: to}
		case "itemsPerPage":
			perPage = span{from: to - len(v), to: to}
		case "schemas":
			isList = bytes.Contains(v, []byte("ListResponse"))
		}
	}
	if _, err := dec.Token(); err != nil {
		return err
	}
	to := int(dec.InputOffset())
	switch {
	case at >= 0:
		s.lists[at].total, s.lists[at].perPage = total, perPage
	case !isList:
		s.resources = append(s.resources, span{from: from, to: to, kind: export.SCIMKind(s.data[from:to]), list: -1})
	}
	return nil
}

func (s *scimFile) scanList(dec *json.Decoder) error {
	number := len(s.lists)
	s.lists = append(s.lists, list{open: int(dec.InputOffset()) - 1})
	for dec.More() {
		var raw json.RawMessage
		if err := dec.Decode(&raw); err != nil {
			return err
		}
		to := int(dec.InputOffset())
		s.resources = append(s.resources, span{from: to - len(raw), to: to, kind: export.SCIMKind(raw), list: number})
	}
	_, err := dec.Token()
	s.lists[number].shut = int(dec.InputOffset()) - 1
	return err
}

type scimWriter struct {
	files     *writer
	edits     *edits
	all       []*scimFile
	ids       map[string]*edit // id of the user that an edit is about
	hasGroups bool
}

func (w *scimWriter) write() error {
	for _, file := range w.all {
		for i := range file.resources {
			w.hasGroups = w.hasGroups || file.resources[i].kind == "Group"
		}
	}
	match := export.SCIMPath(w.files.Spec, w.files.App.Match)
	for _, file := range w.all {
		for i := range file.resources {
			r := &file.resources[i]
			if r.kind != "User" {
				continue
			}
			raw := file.data[r.from:r.to]
			x := w.edits.byKey[export.SCIMValue(raw, match)]
			if x == nil {
				continue
			}
			x.done = true
			w.ids[export.SCIMID(raw)] = x
			if x.remove {
				r.gone = true
				continue
			}
			text, err := w.user(raw, x)
			if err != nil {
				return fmt.Errorf("%s: account %s cannot be changed: %w", w.files.App.ID, x.key, err)
			}
			r.text = text
		}
	}
	create, err := w.edits.news()
	if err != nil {
		return err
	}
	if len(create) > 0 {
		if err := w.create(create); err != nil {
			return err
		}
	}
	return w.groups()
}

// groups changes the members of groups.
func (w *scimWriter) groups() error {
	if !w.hasGroups {
		return nil
	}
	gain, lose := map[string][]string{}, map[string]map[string]bool{} // group → ids
	ids := make([]string, 0, len(w.ids))
	for id := range w.ids {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		x := w.ids[id]
		for _, g := range x.gain[model.Group] {
			gain[g] = append(gain[g], id)
		}
		for _, g := range x.lose[model.Group] {
			if lose[g] == nil {
				lose[g] = map[string]bool{}
			}
			lose[g][id] = true
		}
	}
	for _, file := range w.all {
		for i := range file.resources {
			r := &file.resources[i]
			if r.kind != "Group" {
				continue
			}
			raw := file.data[r.from:r.to]
			name := gjson.GetBytes(raw, "displayName").String()
			if name == "" {
				name = gjson.GetBytes(raw, "id").String()
			}
			text, err := w.members(raw, gain[name], lose[name])
			if err != nil {
				return fmt.Errorf("%s: group %s cannot be changed: %w", w.files.App.ID, name, err)
			}
			if !bytes.Equal(text, raw) {
				r.text = text
			}
			delete(gain, name)
		}
	}
	for name := range gain {
		return fmt.Errorf("%s has no group %q", w.files.App.ID, name)
	}
	return nil
}

func (w *scimWriter) members(raw []byte, gain []string, lose map[string]bool) (_ []byte, err error) {
	var names []string
	for _, m := range gjson.GetBytes(raw, "members").Array() {
		names = append(names, m.Get("value").String())
	}
	gone := func(id string) bool {
		x := w.ids[id]
		return lose[id] || x != nil && x.remove
	}
	if raw, err = removeNames(raw, "members", names, func(id string) bool { return !gone(id) }); err != nil {
		return nil, err
	}
	for _, id := range gain {
		if !slices.Contains(names, id) {
			if raw, err = appendValue(raw, "members", map[string]string{"value": id}); err != nil {
				return nil, err
			}
		}
	}
	return raw, nil
}

// create adds users behind the last one. A new user's id is its user name, as
// the application gives none to a file.
func (w *scimWriter) create(news []*edit) error {
	var file *scimFile
	at := -1
	for _, f := range w.all {
		for i := range f.resources {
			if f.resources[i].kind == "User" && f.resources[i].list >= 0 {
				file, at = f, i
			}
		}
	}
	if file == nil {
		for _, f := range w.all {
			if len(f.lists) > 0 && file == nil {
				file = f
			}
		}
	}
	if file == nil {
		return errors.New(w.files.App.ID + ": the files hold no list of users to add to")
	}
	var added [][]byte
	for _, x := range news {
		id := x.attrs["userName"]
		if id == "" {
			id = x.key
		}
		id8, err := json.Marshal(id)
		if err != nil {
			return err
		}
		raw, err := w.user([]byte(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":`+string(id8)+`}`), x)
		if err != nil {
			return err
		}
		if _, ok := x.attrs[w.files.App.Match]; ok {
			if raw, err = setValue(raw, export.SCIMPath(w.files.Spec, w.files.App.Match), x.attrs[w.files.App.Match]); err != nil {
				return err
			}
		}
		w.ids[id] = x
		added = append(added, raw)
	}
	number := 0
	if at >= 0 {
		number = file.resources[at].list
	}
	file.lists[number].added = added
	return nil
}

// render writes the file with what has changed.
func (s *scimFile) render(w io.Writer) error {
	if s.info.Size() == int64(len(s.data)+len(mark)) {
		if _, err := io.WriteString(w, mark); err != nil {
			return err
		}
	}
	type part struct {
		from, to int
		text     []byte
	}
	var parts []part
	for i := range s.resources {
		if r := &s.resources[i]; r.list < 0 && (r.gone || r.text != nil) {
			parts = append(parts, part{r.from, r.to, r.text})
		}
	}
	for number := range s.lists {
		l := &s.lists[number]
		text, more := s.renderList(number)
		parts = append(parts, part{l.open + 1, l.shut, text})
		for _, c := range []span{l.total, l.perPage} {
			if c.to > 0 && more != 0 {
				n := gjson.ParseBytes(s.data[c.from:c.to]).Int()
				parts = append(parts, part{c.from, c.to, fmt.Append(nil, n+int64(more))})
			}
		}
	}
	slices.SortFunc(parts, func(a, b part) int { return a.from - b.from })
	at := 0
	for _, p := range parts {
		if _, err := w.Write(s.data[at:p.from]); err != nil {
			return err
		}
		if _, err := w.Write(p.text); err != nil {
			return err
		}
		at = p.to
	}
	_, err := w.Write(s.data[at:])
	return err
}

// renderList writes what stands between a list's brackets: resources that
// stay keep the bytes between them. more is how many resources were added, less
// those taken away.
func (s *scimFile) renderList(number int) (text []byte, more int) {
	l := &s.lists[number]
	var b bytes.Buffer
	var first, like []byte // what stands before the first resource; any resource
	at, written := l.open+1, 0
	for i := range s.resources {
		r := &s.resources[i]
		if r.list != number {
			continue
		}
		between := s.data[at:r.from]
		if like == nil {
			first, like = between, s.data[r.from:r.to]
		}
		at = r.to
		if r.gone {
			more--
			continue
		}
		if written == 0 {
			between = first
		}
		b.Write(between)
		if r.text != nil {
			b.Write(r.text)
		} else {
			b.Write(s.data[r.from:r.to])
		}
		written++
	}
	for _, added := range l.added {
		if written > 0 {
			b.WriteByte(',')
		}
		b.Write(first)
		b.Write(layout(added, like, first))
		written++
		more++
	}
	b.Write(s.data[at:l.shut])
	return b.Bytes(), more
}
