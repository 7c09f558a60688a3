package files

import (
	"bytes"
	"fmt"
	"io"
	"slices"

	"github.com/tidwall/gjson"
)

// totals counts the resources of all lists anew. A page that holds all that it
// speaks of is a list by itself; the others that say the same total are pages of
// one list, and go on saying the same, up to the next one that begins with
// resource 1. An empty page after one that holds all is the end of that.
func totals(files []*scimFile) {
	more := []int{}          // of each list
	begun := map[int]int{}   // total → number of the list that was begun
	full := map[int]int{}    // total → number of the last list of one page that holds all
	pages := map[*list]int{} // page → number of its list
	for _, file := range files {
		had, gone := make([]int, len(file.lists)), make([]int, len(file.lists))
		for _, r := range file.resources {
			if r.list >= 0 {
				had[r.list]++
				if r.gone {
					gone[r.list]++
				}
			}
		}
		for n := range file.lists {
			l := &file.lists[n]
			if l.total.to == 0 {
				continue
			}
			number, ok := begun[l.says]
			whole := had[n] >= l.says
			if end, is := full[l.says]; is && !whole && had[n] == 0 && l.start != 1 && !ok {
				number, ok = end, true
			}
			if whole || !ok || l.start == 1 {
				number = len(more)
				more = append(more, 0)
			}
			if whole {
				full[l.says] = number
			} else if end, is := full[l.says]; !is || end != number {
				begun[l.says] = number
			}
			pages[l] = number
			more[number] += len(l.added) - gone[n]
		}
	}
	for l, number := range pages {
		l.says += more[number]
	}
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
		switch {
		case l.makes == "":
			parts = append(parts, part{l.open + 1, l.shut, text})
		case len(l.added) > 0:
			parts = append(parts, part{l.shut, l.shut, []byte(l.makes + "[" + string(text) + "]")})
		}
		counts := func(c span, n int) {
			if is := s.data[c.from:c.to]; c.to > 0 && string(is) != fmt.Sprint(n) {
				parts = append(parts, part{c.from, c.to, fmt.Append(nil, n)})
			}
		}
		if l.total.to > 0 {
			counts(l.total, l.says)
		}
		if l.perPage.to > 0 && more != 0 {
			counts(l.perPage, int(gjson.ParseBytes(s.data[l.perPage.from:l.perPage.to]).Int())+more)
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
		b.Write(layout(added, like, first, s.end))
		written++
		more++
	}
	if l.makes == "" {
		b.Write(s.data[at:l.shut])
	}
	return b.Bytes(), more
}
