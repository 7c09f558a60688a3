package show

import (
	"bytes"
	"io"
	"os"
	"unicode/utf8"

	"pravet/internal/core/words"
)

// Safe returns a writer for people to read from: whatever text from files and
// applications comes along, a terminal that shows it neither obeys it nor shows
// it in another order than it has. Control characters, separators of lines and
// marks of direction become U+FFFD; of the sequences of a terminal only those
// that colour pass (ECMA-48 §8.3.117), and of those none that hides text.
//
// What it writes to w stands for w in asking whether that is a terminal.
func Safe(w io.Writer) io.Writer {
	s := &safe{w: w}
	if f, ok := w.(*os.File); ok {
		return &safeFile{safe: s, file: f}
	}
	return s
}

type safe struct {
	w    io.Writer
	rest []byte // the beginning of a character or a sequence that was cut
}

// safeFile has the methods by which a terminal is known.
type safeFile struct {
	*safe
	file *os.File
}

func (s *safeFile) Fd() uintptr                { return s.file.Fd() }
func (s *safeFile) Read(p []byte) (int, error) { return s.file.Read(p) }
func (s *safeFile) Close() error               { return s.file.Close() }

const replacement = "\ufffd"

func (s *safe) Write(p []byte) (int, error) {
	in := p
	if len(s.rest) > 0 {
		in = append(s.rest, p...)
		s.rest = nil
	}
	if plain(in) {
		_, err := s.w.Write(in)
		return len(p), err
	}
	var out bytes.Buffer
	for i := 0; i < len(in); {
		if in[i] == 0x1b {
			n, whole := colour(in[i:])
			switch {
			case !whole && len(in)-i < maxColour:
				s.rest = append([]byte(nil), in[i:]...)
				i = len(in)
			case n > 0:
				out.Write(in[i : i+n])
				i += n
			default:
				out.WriteString(replacement)
				i++
			}
			continue
		}
		if in[i] == '\r' && i+1 < len(in) && in[i+1] == '\n' {
			out.WriteByte('\r')
			i++
			continue
		}
		if !utf8.FullRune(in[i:]) {
			s.rest = append([]byte(nil), in[i:]...)
			break
		}
		r, size := utf8.DecodeRune(in[i:])
		if r == utf8.RuneError || words.Hostile(r) {
			out.WriteString(replacement)
		} else {
			out.Write(in[i : i+size])
		}
		i += size
	}
	_, err := s.w.Write(out.Bytes())
	return len(p), err
}

// plain reports whether a text is printable ASCII and line ends, also those of CSV, as most is.
func plain(b []byte) bool {
	for i, c := range b {
		if c >= ' ' && c < 0x7f || c == '\n' || c == '\t' || c == '\r' && i+1 < len(b) && b[i+1] == '\n' {
			continue
		}
		return false
	}
	return true
}

// maxColour is how long a sequence of colours may be.
const maxColour = 64

// colour finds a sequence of colours at the beginning of a text. n is 0 where
// there is none; whole is false where the text ends before that can be told.
func colour(b []byte) (n int, whole bool) {
	if len(b) < 2 {
		return 0, false
	}
	if b[1] != '[' {
		return 0, true
	}
	for i := 2; i < len(b) && i < maxColour; i++ {
		switch c := b[i]; {
		case c == 'm':
			if hides(b[2:i]) {
				return 0, true
			}
			return i + 1, true
		case c != ';' && c != ':' && (c < '0' || c > '9'):
			return 0, true
		}
	}
	return 0, len(b) >= maxColour
}

// hides reports whether colours conceal text, or show it as its background.
func hides(parameters []byte) bool {
	for _, p := range bytes.FieldsFunc(parameters, func(r rune) bool { return r == ';' }) {
		switch string(p) {
		case "7", "8", "48":
			return true
		case "38":
			return false // what follows is a colour
		}
	}
	return false
}
