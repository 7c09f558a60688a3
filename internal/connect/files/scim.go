package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plain"
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
	end       string // of its lines
	resources []resource
	lists     []list
}

// A resource is a resource's place in a file.
type resource struct {
	from, to int
	kind     string // User or Group
	list     int    // number in lists, or -1 for one that stands alone
	text     []byte // the new content, nil while it is unchanged
	gone     bool
}

// A list is a list of resources, and the counts of the page that it is in.
type list struct {
	open, shut int    // offsets of its brackets
	makes      string // what stands before the list where the page has none yet, and the list is to be made
	added      [][]byte
	total      span // of its page, where that says one
	perPage    span
	says       int // the total
	start      int // the number of its first resource among all, 0 where it says none (RFC 7644 §3.4.2.4)
}

// A span is a part of a file.
type span struct{ from, to int }

// scim writes the files of SCIM resources anew. Resources that no change is
// about stay as they are; in others only the changed values are written.
func (f *writer) scim(e *edits) error {
	var files []*scimFile
	for _, path := range f.Spec.Paths {
		data, sum, info, err := f.Tree.ReadAll(f.ctx, path.Text, maxSCIM)
		if err != nil {
			return err
		}
		file := &scimFile{path: path.Text, data: data, sum: sum, info: info, end: "\n"}
		if bytes.Contains(data, []byte("\r\n")) {
			file.end = "\r\n"
		}
		if err := file.scan(); err != nil {
			return fmt.Errorf("%s: %w", path.Text, plain.JSON(err))
		}
		files = append(files, file)
	}
	w := &scimWriter{files: f, edits: e, all: files, ids: map[string]*edit{}, taken: map[string]bool{}}
	if err := w.write(); err != nil {
		return err
	}
	totals(files)
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
	at, isPage := -1, false
	var total, perPage span
	start := 0
	members := 0
	for dec.More() {
		members++
		key, err := dec.Token()
		if err != nil {
			return err
		}
		name, _ := key.(string)
		if strings.EqualFold(name, "Resources") {
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
		switch strings.ToLower(name) {
		case "totalresults":
			total = span{to - len(v), to}
		case "startindex":
			start = int(gjson.ParseBytes(v).Int())
		case "itemsperpage":
			perPage = span{to - len(v), to}
		case "schemas":
			isPage = bytes.Contains(v, []byte("ListResponse"))
		}
	}
	if _, err := dec.Token(); err != nil {
		return err
	}
	to := int(dec.InputOffset())
	if at < 0 && isPage { // a page without the list, which is empty (RFC 7644 §3.4.2)
		at = len(s.lists)
		s.lists = append(s.lists, list{open: to - 2, shut: to - 1, makes: `,"Resources":`})
		if members == 0 {
			s.lists[at].makes = `"Resources":`
		}
	}
	if at >= 0 {
		l := &s.lists[at]
		l.total, l.perPage, l.start = total, perPage, start
		if total.to > 0 {
			l.says = int(gjson.ParseBytes(s.data[total.from:total.to]).Int())
		}
		return nil
	}
	return s.resource(from, to, -1)
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
		if err := s.resource(to-len(raw), to, number); err != nil {
			return err
		}
	}
	_, err := dec.Token()
	s.lists[number].shut = int(dec.InputOffset()) - 1
	return err
}

func (s *scimFile) resource(from, to, number int) error {
	kind, err := export.SCIMKind(export.Resource(s.data[from:to]))
	s.resources = append(s.resources, resource{from: from, to: to, kind: kind, list: number})
	return err
}

type scimWriter struct {
	files     *writer
	edits     *edits
	all       []*scimFile
	ids       map[string]*edit // id of the user that an edit is about
	taken     map[string]bool  // ids that are there, and those that groups name though nobody has them
	hasGroups bool
}

// each calls f with every resource of a kind.
func (w *scimWriter) each(kind string, f func(*scimFile, *resource, export.Value) error) error {
	for _, file := range w.all {
		for i := range file.resources {
			r := &file.resources[i]
			if r.kind != kind {
				continue
			}
			if err := f(file, r, export.Resource(file.data[r.from:r.to])); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *scimWriter) write() error {
	err := w.each("Group", func(_ *scimFile, _ *resource, v export.Value) error {
		w.hasGroups = true
		id, err := export.SCIMID(v)
		if err != nil {
			return err
		}
		w.taken[id] = true
		members, err := export.References(v)
		for _, m := range members {
			w.taken[m.ID] = true
		}
		return err
	})
	if err != nil {
		return err
	}
	match := export.SCIMPath(w.files.Spec, w.files.App.Match)
	err = w.each("User", func(file *scimFile, r *resource, v export.Value) error {
		id, err := export.SCIMID(v)
		if err != nil {
			return err
		}
		w.taken[id] = true
		key, err := export.SCIMText(v, match)
		if err != nil {
			return err
		}
		x := w.edits.byKey[key]
		if x == nil || key == "" {
			return nil
		}
		x.done = true
		w.ids[id] = x
		state, err := export.SCIMState(w.files.Spec, v)
		if err != nil {
			return err
		}
		if x.create && state == model.Removed { // of what was removed nothing stays
			x.done, x.anew = false, true
			w.ids[id] = &edit{remove: true} // which no group has any more
		}
		if x.remove || x.anew {
			r.gone = true
			return nil
		}
		if r.text, err = w.user(&jsonText{text: slices.Clone(file.data[r.from:r.to]), end: file.end}, x); err != nil {
			return fmt.Errorf("%s: account %s cannot be changed: %w", w.files.App.ID, x.key, err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	create, err := w.edits.toCreate()
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

// create adds users behind the last one.
func (w *scimWriter) create(toCreate []*edit) error {
	var file *scimFile
	number := -1
	for _, f := range w.all {
		for _, r := range f.resources {
			if r.kind == "User" && r.list >= 0 {
				file, number = f, r.list
			}
		}
	}
	for _, f := range w.all {
		if file == nil && len(f.lists) > 0 {
			file, number = f, 0
		}
	}
	if file == nil {
		return errors.New(w.files.App.ID + ": the files hold no list of users to add to")
	}
	for _, x := range toCreate {
		raw, err := w.newUser(file, x)
		if err != nil {
			return err
		}
		file.lists[number].added = append(file.lists[number].added, raw)
	}
	return nil
}

// newUser is a user that is added. Its id is its user name, as the application
// gives none to a file, unless somebody or something has that id already: a group
// may still name someone who is gone.
func (w *scimWriter) newUser(file *scimFile, x *edit) ([]byte, error) {
	name := x.attrs["userName"]
	if name == "" {
		name = x.key
	}
	id := name
	for n := 2; w.taken[id]; n++ {
		id = fmt.Sprintf("%s-%d", name, n)
	}
	w.taken[id] = true
	w.ids[id] = x
	schemas := []string{"urn:ietf:params:scim:schemas:core:2.0:User"}
	for _, a := range w.files.App.Attrs {
		path := export.SCIMPath(w.files.Spec, a.Name)
		if x.attrs[a.Name] != "" && strings.HasPrefix(path[0], "urn:") && !slices.Contains(schemas, path[0]) {
			schemas = append(schemas, path[0])
		}
	}
	raw, err := json.Marshal(struct {
		Schemas []string `json:"schemas"`
		ID      string   `json:"id"`
	}{schemas, id})
	if err != nil {
		return nil, err
	}
	t := &jsonText{text: raw, end: file.end}
	if v, ok := x.attrs[w.files.App.Match]; ok {
		if err := t.set(export.SCIMPath(w.files.Spec, w.files.App.Match), "", v); err != nil {
			return nil, err
		}
	}
	return w.user(t, x)
}

// state writes the state of a user: whether it is active and, where the application has
// words for states, the word.
func (w *scimWriter) state(t *jsonText, x *edit) error {
	_, said, err := t.value().Find("active")
	if err != nil {
		return err
	}
	active := x.state == model.Open
	if open, err := export.SCIMOpen(t.value()); err != nil || open != active || x.create && !said {
		if err := t.setRaw([]string{"active"}, fmt.Appendf(nil, "%t", active)); err != nil {
			return err
		}
	}
	if c := w.files.Spec.Column(export.Status); c != nil {
		word, _ := c.Word(x.state)
		return t.set(export.SCIMPath(w.files.Spec, export.Status), "", word)
	}
	return nil
}

// user writes the changed values of one user.
func (w *scimWriter) user(t *jsonText, x *edit) ([]byte, error) {
	for _, a := range w.files.App.Attrs {
		if v, ok := x.attrs[a.Name]; ok {
			if err := t.set(export.SCIMPath(w.files.Spec, a.Name), x.was[a.Name], v); err != nil {
				return nil, err
			}
		}
	}
	if x.hands || len(x.gets) > 0 {
		path := export.SCIMPath(w.files.Spec, model.Owned)
		is, err := export.SCIMText(t.value(), path)
		if err != nil {
			return nil, err
		}
		if err := t.set(path, "", account.Owns(w.files.App, is, x.hands, x.gets)); err != nil {
			return nil, err
		}
	}
	if x.state != model.NoAccount {
		if err := w.state(t, x); err != nil {
			return nil, err
		}
	}
	for _, kind := range []model.Kind{model.License, model.Group, model.Role} {
		if kind == model.Group && w.hasGroups {
			continue
		}
		if err := t.names(kind, x); err != nil {
			return nil, err
		}
	}
	return t.text, nil
}
