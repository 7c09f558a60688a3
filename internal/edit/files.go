package edit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"golang.org/x/text/transform"

	"pravet/internal/source"
)

// maxText is how large a file may be that is changed here, in bytes.
const maxText = 1 << 30

// Files are some files of a folder that are to be changed together.
type Files struct {
	tree  *source.Tree
	order []string
	texts map[string]*Text
	infos map[string]fs.FileInfo // as they were read; nil for what is to be made
	codes map[string]string      // encodings other than UTF-8
}

// Open is no file of a folder so far.
func Open(tree *source.Tree) *Files {
	return &Files{
		tree: tree, texts: map[string]*Text{}, infos: map[string]fs.FileInfo{}, codes: map[string]string{},
	}
}

// Text is the text of a file, which is read once; empty where there is none. encoding is
// its name as IANA registers it, "" for UTF-8.
func (f *Files) Text(ctx context.Context, name, encoding string) (*Text, error) {
	if t := f.texts[name]; t != nil {
		return t, nil
	}
	there, err := f.tree.Exists(name)
	if err != nil {
		return nil, err
	}
	var data []byte
	if there {
		var info fs.FileInfo
		if data, info, err = f.read(ctx, name, encoding); err != nil {
			return nil, err
		}
		f.infos[name] = info
	}
	t := New(name, data)
	f.texts[name], f.codes[name] = t, encoding
	f.order = append(f.order, name)
	return t, nil
}

func (f *Files) read(ctx context.Context, name, encoding string) ([]byte, fs.FileInfo, error) {
	r, err := f.tree.OpenRaw(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	info, err := r.Stat()
	if err != nil {
		return nil, nil, source.Unreadable(name, err)
	}
	data, err := io.ReadAll(io.LimitReader(r, maxText+1))
	switch {
	case err != nil:
		return nil, nil, source.Unreadable(name, err)
	case len(data) > maxText:
		return nil, nil, fmt.Errorf("%s is larger than 1 GiB; split it into several files", name)
	}
	e, err := source.Encoding(encoding)
	if err != nil || e == nil {
		return data, info, err
	}
	plain, _, err := transform.Bytes(e.NewDecoder(), data)
	if err != nil {
		return nil, nil, fmt.Errorf("%s is not %s: %w", name, encoding, err)
	}
	if back, _, err := transform.Bytes(e.NewEncoder(), plain); err != nil || !bytes.Equal(back, data) {
		return nil, nil, fmt.Errorf(
			"%s holds bytes that are not %s, which would be lost; correct the file first",
			name,
			encoding,
		)
	}
	return plain, info, nil
}

// Changed are the texts that differ now, by name.
func (f *Files) Changed() []*Text {
	var out []*Text
	for _, name := range f.order {
		if f.texts[name].Changed() {
			out = append(out, f.texts[name])
		}
	}
	slices.SortFunc(out, func(x, y *Text) int { return strings.Compare(x.Name, y.Name) })
	return out
}

// Contents are the new contents of the files that differ, as they will be on disk.
func (f *Files) Contents() (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, t := range f.Changed() {
		data, err := t.Bytes()
		if err != nil {
			return nil, err
		}
		e, err := source.Encoding(f.codes[t.Name])
		if err != nil {
			return nil, err
		}
		if e != nil {
			if data, _, err = transform.Bytes(e.NewEncoder(), data); err != nil {
				return nil, fmt.Errorf("%s: a character has no place in %s: %w", t.Name, f.codes[t.Name], err)
			}
		}
		out[t.Name] = data
	}
	return out, nil
}

// Write writes all files that differ: each is first written beside the old one, and all
// take their places together, unless somebody has changed one meanwhile. After an error, and where
// the process is killed, all are as they were, or Finish makes all what they are to be.
func (f *Files) Write() (err error) {
	contents, err := f.Contents()
	if err != nil {
		return err
	}
	var staged []*source.Staged
	var names []string
	defer func() {
		for _, s := range staged {
			s.Drop()
		}
	}()
	for _, t := range f.Changed() {
		if err := f.tree.MakeFolder(t.Name); err != nil {
			return err
		}
		if err := f.tree.Sweep(t.Name); err != nil {
			return err
		}
		s, err := f.tree.Stage(
			t.Name,
			0o644,
			func(w io.Writer) error { _, err := w.Write(contents[t.Name]); return err },
		)
		if err != nil {
			return err
		}
		staged, names = append(staged, s), append(names, t.Name)
		if old := f.infos[t.Name]; old != nil {
			s.Replaces(old)
		} else if there, err := f.tree.Exists(t.Name); err != nil || there {
			return errors.Join(err, fmt.Errorf("%s was made by someone else just now; it is as they left it", t.Name))
		}
	}
	return together(f.tree, names, staged)
}
