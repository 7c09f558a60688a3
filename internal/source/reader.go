package source

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"math"
	"os"
	"time"
	"unicode/utf8"

	"pravet/internal/core/model"

	"github.com/zeebo/blake3"
)

// MaxRecord is how many bytes one record (a row, a SCIM resource) may have.
// What is longer is no record but a broken file, and is refused before it
// fills the memory.
const MaxRecord = 1 << 20

// ReadAhead is how many bytes of a file are read at a time: as many as stay in a
// processor's nearest memory while they are looked at.
const ReadAhead = 1 << 16

// MaxFile is how large a file may be that is kept in columns.
const MaxFile = 1<<32 - 1

// A Reader reads a file once. It refuses what is not UTF-8 without NUL bytes,
// drops a byte order mark, and computes the SHA-256 of the file's bytes.
type Reader struct {
	// Limit is how many bytes one record may have: MaxRecord, unless the
	// caller sets another before the first read.
	Limit int64

	ctx     context.Context
	name    string
	file    *os.File
	sum     hash.Hash
	offset  int64 // bytes given out, byte order mark aside
	bom     int
	mark    int64
	started bool
	carry   [utf8.UTFMax]byte // the beginning of a character that a read cut
	carried int
	err     error
	ended   bool

	given string      // the digest, where the file was in another encoding
	info  fs.FileInfo // likewise
}

// newReader begins to read an open file, which it closes after an error.
func newReader(ctx context.Context, f *os.File, name string) (*Reader, error) {
	info, err := f.Stat()
	switch {
	case err != nil:
		err = Unreadable(name, err)
	case regular(info, name) != nil:
		err = regular(info, name)
	case info.Size() > MaxFile:
		err = NewProblem(
			model.Pos{File: name},
			"too-large",
			"the file is larger than 4 GiB",
			"split it into several files",
		)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Reader{Limit: MaxRecord, ctx: ctx, name: name, file: f, sum: blake3.New()}, nil
}

// Unreadable is the problem of a file that cannot be opened or read.
func Unreadable(name string, err error) *Problem {
	pos := model.Pos{File: name}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return NewProblem(pos, "missing-file", "there is no such file or folder", "check the path, or create it")
	case notAFolder(err):
		return NewProblem(
			pos, "missing-file", "a part of its path is a file, and a folder is expected there", "check the path",
		)
	case errors.Is(err, fs.ErrPermission):
		return NewProblem(pos, "unreadable-file", "it may not be read", "give yourself the permission to read it")
	}
	return NewProblem(pos, "unreadable-file", "it cannot be read: "+Reason(err).Error(), "")
}

// Close closes the file.
func (r *Reader) Close() error { return r.file.Close() }

// Info describes the file as it was opened.
func (r *Reader) Info() (fs.FileInfo, error) {
	if r.info != nil {
		return r.info, nil
	}
	return r.file.Stat()
}

// Size is the file's size in bytes.
func (r *Reader) Size() int64 {
	info, err := r.file.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

// Modified is when the file was written last.
func (r *Reader) Modified() time.Time {
	info, err := r.Info()
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// Mark says that a record is complete: Limit counts from here.
func (r *Reader) Mark() { r.mark = r.offset }

// Read gives the file's next bytes.
func (r *Reader) Read(p []byte) (int, error) {
	if r.err != nil {
		return 0, r.err
	}
	if r.err = r.ctx.Err(); r.err != nil {
		return 0, r.err
	}
	least := 1
	if !r.started {
		least = min(len(p), 3) // as many as a byte order mark has
	}
	n, err := io.ReadAtLeast(r.file, p, least)
	if err == io.ErrUnexpectedEOF {
		err = nil // the next read tells
	}
	b := p[:n]
	if r.sum != nil {
		r.sum.Write(b)
	}
	if !r.started && n > 0 {
		r.started = true
		if bytes.HasPrefix(b, []byte("\xff\xfe")) || bytes.HasPrefix(b, []byte("\xfe\xff")) {
			r.err = NewProblem(
				model.Pos{File: r.name, Line: 1, Column: 1},
				"not-utf-8",
				"the file is UTF-16, and UTF-8 is expected",
				"save it as UTF-8",
			)
			return 0, r.err
		}
		if rest, ok := bytes.CutPrefix(b, []byte("\ufeff")); ok {
			r.bom = 3
			n = copy(p, rest)
			b = p[:n]
		}
	}
	if bad, says := r.invalid(b); says != "" {
		r.err = NewProblem(r.at(r.offset+int64(bad)), "not-utf-8", says, "save the file as UTF-8")
		return 0, r.err
	}
	r.offset += int64(len(b))
	if r.offset-r.mark > r.Limit+int64(len(p)) {
		r.err = NewProblem(
			model.Pos{File: r.name, Line: r.at(r.mark).Line},
			"record-too-long",
			fmt.Sprintf("the record that begins here is longer than %s bytes", model.Thousands(int(r.Limit))),
			"look for a missing line end or a quote that is never closed",
		)
		return 0, r.err
	}
	if err == io.EOF {
		r.ended = true
		if r.carried > 0 {
			r.err = NewProblem(
				r.at(r.offset),
				"not-utf-8",
				"the file ends in the middle of a character",
				"the file was cut short; export it again",
			)
			return 0, r.err
		}
	} else if err != nil {
		r.err = Unreadable(r.name, err)
		return 0, r.err
	}
	return n, err
}

// at is the place of an offset, or the file alone where it cannot be read again.
func (r *Reader) at(offset int64) model.Pos {
	pos, err := r.Position(offset)
	if err != nil {
		return model.Pos{File: r.name}
	}
	return pos
}

// invalid finds the first byte in b that is not UTF-8, or is NUL; says is ""
// when there is none. Characters that a read cuts in two are put together
// again, so the place may be before b.
func (r *Reader) invalid(b []byte) (at int, says string) {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		return i, "there is a NUL byte here, and text is expected"
	}
	from := 0
	if r.carried > 0 {
		k := copy(r.carry[r.carried:], b)
		joined := r.carry[:r.carried+k]
		if !utf8.FullRune(joined) {
			r.carried += k
			return 0, ""
		}
		c, size := utf8.DecodeRune(joined)
		if c == utf8.RuneError && size == 1 {
			return -r.carried, "this is not UTF-8"
		}
		from = size - r.carried
		r.carried = 0
	}
	rest := b[from:]
	if utf8.Valid(rest) {
		return 0, ""
	}
	for i := 0; i < len(rest); {
		c, size := utf8.DecodeRune(rest[i:])
		if c == utf8.RuneError && size == 1 {
			if !utf8.FullRune(rest[i:]) {
				r.carried = copy(r.carry[:], rest[i:])
				return 0, ""
			}
			return from + i, "this is not UTF-8"
		}
		i += size
	}
	return 0, ""
}

// Digest reads what is left and returns "blake3:" and the BLAKE3 digest of the
// whole file in hexadecimal, as b3sum prints it: on processors without
// instructions for SHA-256, that would cost a fifth of a draft.
func (r *Reader) Digest() (string, error) {
	if r.given != "" {
		return r.given, nil
	}
	if !r.ended {
		r.Mark()
		buf := make([]byte, 64<<10)
		for {
			_, err := r.Read(buf)
			r.Mark()
			if err == io.EOF {
				break
			}
			if err != nil {
				return "", err
			}
		}
	}
	return "blake3:" + hex.EncodeToString(r.sum.Sum(nil)), nil
}

// Position turns an offset, byte order mark aside, into a place by reading
// the file again. Columns count characters.
func (r *Reader) Position(offset int64) (model.Pos, error) {
	f := io.NewSectionReader(r.file, 0, math.MaxInt64)
	pos := model.Pos{File: r.name, Line: 1, Column: 1}
	left := offset + int64(r.bom)
	buf := make([]byte, 64<<10)
	for left > 0 {
		n, err := f.Read(buf[:min(int64(len(buf)), left)])
		b := buf[:n]
		if i := bytes.LastIndexByte(b, '\n'); i >= 0 {
			pos.Line += bytes.Count(b, []byte{'\n'})
			pos.Column = 1
			b = b[i+1:]
		}
		for _, c := range b {
			if utf8.RuneStart(c) {
				pos.Column++
			}
		}
		left -= int64(n)
		if err != nil {
			break
		}
	}
	if r.bom > 0 && pos.Line == 1 {
		pos.Column--
	}
	return pos, nil
}

// all reads the whole file of at most limit bytes.
func (r *Reader) all(limit int64) (data []byte, digest string, err error) {
	name := r.name
	if size := r.Size(); size > limit {
		return nil, "", NewProblem(
			model.Pos{File: name},
			"too-large",
			fmt.Sprintf("the file has %s bytes, and at most %s are read",
				model.Thousands(int(size)), model.Thousands(int(limit))),
			"keep large rosters as CSV",
		)
	}
	var b bytes.Buffer
	buf := make([]byte, 64<<10)
	for {
		n, err := r.Read(buf)
		r.Mark()
		b.Write(buf[:n])
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, "", err
		}
		if int64(b.Len()) > limit {
			return nil, "", NewProblem(model.Pos{File: name}, "too-large", "the file grew while it was read", "")
		}
	}
	digest, err = r.Digest()
	return b.Bytes(), digest, err
}

// HasBOM tells, after the first read, whether the file begins with a byte
// order mark.
func (r *Reader) HasBOM() bool { return r.bom > 0 }
