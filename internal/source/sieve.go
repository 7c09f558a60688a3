package source

import (
	"bytes"
	"io"
	"slices"
	"strings"

	"pravet/internal/core/table"
)

// A sieve passes on, of CSV records (RFC 4180), the first and those that hold one
// of some words, case ignored, and of all others only their line ends, so that
// lines keep their numbers. It is how one person is found among a million: at
// the speed at which bytes are looked through.
type sieve struct {
	src   *Reader
	words [][]byte
	buf   []byte // read, and not yet looked through
	out   []byte // to be given out
	begun bool   // the first record was passed on
	err   error
}

// Sieve returns what of a CSV file has to do with some words. The file's digest
// is not computed.
func Sieve(src *Reader, words []string) io.Reader {
	src.sum = nil
	s := &sieve{src: src}
	for _, w := range words {
		if w != "" {
			// Within a field in quotes a quote is doubled (RFC 4180 §2).
			s.words = append(s.words, []byte(table.Fold(strings.ReplaceAll(w, `"`, `""`))))
		}
	}
	return s
}

// sieveBlock is how many bytes are looked through at a time.
const sieveBlock = 1 << 18

func (s *sieve) Read(p []byte) (int, error) {
	for len(s.out) == 0 {
		if s.err != nil {
			return 0, s.err
		}
		s.fill()
	}
	n := copy(p, s.out)
	s.out = s.out[n:]
	return n, nil
}

// fill reads a block and looks through the whole records in it.
func (s *sieve) fill() {
	from := len(s.buf)
	s.buf = slices.Grow(s.buf, sieveBlock)[:from+sieveBlock]
	n, err := s.src.Read(s.buf[from:])
	s.buf = s.buf[:from+n]
	whole := len(s.buf)
	if s.err = err; err == nil {
		if whole = lastRecord(s.buf); whole == 0 {
			return // the reader itself bounds a record
		}
		s.src.Mark()
	}
	chunk := s.buf[:whole]
	s.out = s.out[:0]
	if !s.begun && whole > 0 {
		first := max(firstRecord(chunk), 1)
		s.out = append(s.out, chunk[:first]...)
		chunk, s.begun = chunk[first:], true
	}
	s.look(chunk)
	s.buf = append(s.buf[:0], s.buf[whole:]...)
}

// look passes on what of whole records is wanted.
func (s *sieve) look(chunk []byte) {
	if !s.wanted(chunk) {
		s.blank(chunk)
		return
	}
	for len(chunk) > 0 {
		end := firstRecord(chunk)
		if record := chunk[:end]; s.wanted(record) {
			s.out = append(s.out, record...)
		} else {
			s.blank(record)
		}
		chunk = chunk[end:]
	}
}

func (s *sieve) blank(b []byte) {
	for range bytes.Count(b, []byte{'\n'}) {
		s.out = append(s.out, '\n')
	}
}

func (s *sieve) wanted(b []byte) bool {
	folded := fold(b)
	return slices.ContainsFunc(s.words, func(w []byte) bool { return bytes.Contains(folded, w) })
}

// fold folds as table.Fold does; what is ASCII, without looking at characters.
func fold(b []byte) []byte {
	out := make([]byte, len(b))
	for i, c := range b {
		if c >= 0x80 {
			return []byte(table.Fold(string(b)))
		}
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		out[i] = c
	}
	return out
}

// firstRecord is the length of the first record with its line end: up to a line
// end with an even number of quotes before it.
func firstRecord(b []byte) int {
	quotes, at := 0, 0
	for {
		n := bytes.IndexByte(b[at:], '\n')
		if n < 0 {
			return len(b)
		}
		quotes += bytes.Count(b[at:at+n], []byte{'"'})
		if at += n + 1; quotes%2 == 0 {
			return at
		}
	}
}

// lastRecord is the length of all whole records.
func lastRecord(b []byte) int {
	quotes := bytes.Count(b, []byte{'"'})
	for end := len(b); end > 0; {
		n := bytes.LastIndexByte(b[:end], '\n')
		if n < 0 {
			return 0
		}
		if quotes -= bytes.Count(b[n:end], []byte{'"'}); quotes%2 == 0 {
			return n + 1
		}
		end = n
	}
	return 0
}
