package source

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/zeebo/blake3"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/transform"

	"pravet/internal/core/model"
)

// Encoding is a character encoding by its name as IANA registers it, nil for UTF-8 and for
// none.
func Encoding(name string) (encoding.Encoding, error) {
	if name == "" || strings.EqualFold(name, "utf-8") {
		return nil, nil
	}
	e, err := ianaindex.IANA.Encoding(name)
	if err != nil || e == nil {
		return nil, fmt.Errorf("%q is no encoding that can be read", name)
	}
	return e, nil
}

// OpenAs opens a file in an encoding, and reads it as if it were UTF-8. Its digest is that of
// the bytes of the file itself.
func (t *Tree) OpenAs(ctx context.Context, name, encoded string) (*Reader, error) {
	e, err := Encoding(encoded)
	switch {
	case err != nil:
		return nil, err
	case e == nil:
		return t.Open(ctx, name)
	}
	raw, err := t.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer raw.Close()
	info, err := raw.Info()
	if err != nil {
		return nil, Unreadable(name, err)
	}
	plain, err := os.CreateTemp("", "pravet-")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(plain.Name()) // where that cannot be while it is open, the system removes it later
	sum := blake3.New()
	out := &strict{w: plain}
	_, err = io.Copy(out, transform.NewReader(io.TeeReader(&patient{raw.file, ctx}, sum), e.NewDecoder()))
	if err == nil {
		_, err = plain.Seek(0, io.SeekStart)
	}
	if err != nil {
		plain.Close()
		if errors.Is(err, errNoCharacter) {
			return nil, NewProblem(
				model.Pos{File: name, Line: out.lines + 1}, "not-encoded", "this is not "+encoded,
				"name the encoding that the file is really in, as IANA does",
			)
		}
		return nil, Unreadable(name, err)
	}
	r, err := newReader(ctx, plain, name)
	if err != nil {
		return nil, err
	}
	r.given, r.info = "blake3:"+hex.EncodeToString(sum.Sum(nil)), info
	return r, nil
}

// patient reads until the context ends.
type patient struct {
	r   io.Reader
	ctx context.Context
}

func (p *patient) Read(b []byte) (int, error) {
	if err := p.ctx.Err(); err != nil {
		return 0, err
	}
	return p.r.Read(b)
}

var errNoCharacter = errors.New("these bytes stand for no character")

// strict refuses what decoders put in the place of bytes that mean nothing.
type strict struct {
	w     io.Writer
	lines int
	last  []byte
}

func (s *strict) Write(p []byte) (int, error) {
	joined := append(s.last, p...)
	if i := bytes.Index(joined, []byte("\ufffd")); i >= 0 {
		s.lines += bytes.Count(joined[:i], []byte{'\n'})
		return 0, errNoCharacter
	}
	s.lines += bytes.Count(p, []byte{'\n'})
	s.last = append([]byte(nil), joined[max(0, len(joined)-2):]...)
	return s.w.Write(p)
}

// Encoded writes UTF-8 in an encoding. A character that has no place in it is an error. The
// writer is closed by whoever has it.
func Encoded(w io.Writer, encoded string) (io.WriteCloser, error) {
	e, err := Encoding(encoded)
	if err != nil {
		return nil, err
	}
	if e == nil {
		return plainly{w}, nil
	}
	return &spoken{transform.NewWriter(w, e.NewEncoder()), encoded}, nil
}

type plainly struct{ io.Writer }

func (plainly) Close() error { return nil }

type spoken struct {
	w    *transform.Writer
	name string
}

func (s *spoken) Write(p []byte) (int, error) {
	n, err := s.w.Write(p)
	if err != nil {
		err = fmt.Errorf("a character has no place in %s: %w", s.name, err)
	}
	return n, err
}

func (s *spoken) Close() error { return s.w.Close() }
