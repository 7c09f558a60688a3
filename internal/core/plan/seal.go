package plan

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"pravet/internal/core/plain"

	quick "github.com/goccy/go-json"
	"github.com/gowebpki/jcs"
	"golang.org/x/sync/errgroup"
)

// alphabet writes ids: 32 letters and digits without those that look alike.
const alphabet = "abcdefghijkmnpqrstuvwxyz23456789"

func letters(sum []byte, n int) string {
	out := make([]byte, n)
	v := binary.BigEndian.Uint64(sum)
	for i := range out {
		out[i] = alphabet[v>>59]
		v <<= 5
	}
	return string(out)
}

// ChangeID derives a change's id from the difference that it is about: 60 bits of a SHA-256 as twelve
// letters. The same difference has the same id in every plan, however the account is spelled by then:
// it is known by its person or, where it belongs to nobody, by its name. Of a create, the
// attributes do not count: it is the same account.
func ChangeID(c *Change) string { return changeID(c, "by subject", c.subject()) }

// FormerID is the id that a change had in plans before accounts were known by their persons: earlier
// rejections are remembered by it.
func FormerID(c *Change) string { return changeID(c, c.Account, c.Person) }

func changeID(c *Change, account, person string) string {
	parts := append(make([]string, 0, 10), c.App, c.Verb.String(), account, person)
	if c.Thing != nil {
		parts = append(parts, c.Thing.Kind.String(), c.Thing.Name)
		if c.Attribute == "" && c.Before.Text() != "" { // what is exchanged for it
			parts = append(parts, c.Before.Text())
		}
	}
	if c.Attribute != "" {
		parts = append(parts, c.Attribute, c.Before.String(), c.After.String())
	}
	if c.Blocked {
		parts = append(parts, "blocked")
	}
	return short(parts...)
}

// joined writes parts one after the other, each with its length.
func joined(parts ...string) []byte {
	all := make([]byte, 0, 256)
	for _, s := range parts {
		all = binary.BigEndian.AppendUint32(all, uint32(len(s)))
		all = append(all, s...)
	}
	return all
}

// Name derives a short name from what it names, by parts: 40 bits of a SHA-256 as
// eight letters.
func Name(parts ...string) string {
	sum := sha256.Sum256(joined(parts...))
	return letters(sum[:], 8)
}

// jsonOf encodes a value as JSON without escaping for HTML.
func jsonOf(v any) ([]byte, error) {
	b := buffers.Get().(*bytes.Buffer)
	defer buffers.Put(b)
	b.Reset()
	enc := json.NewEncoder(b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	return bytes.Clone(bytes.TrimSuffix(b.Bytes(), []byte("\n"))), nil
}

var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// written tells that encoding/json has written a value whose members stand in
// order as RFC 8785 has it: its only numbers are line numbers, and it holds
// neither what encoding/json escapes and RFC 8785 does not (two separators, and
// what is no UTF-8), nor characters beyond the basic plane, by which keys sort
// otherwise in UTF-16.
func written(text []byte) bool {
	for _, c := range text {
		if c >= 0xf0 { // begins a character beyond the basic plane
			return false
		}
	}
	return !bytes.Contains(text, []byte(`\u202`)) && !bytes.Contains(text, []byte(`\ufffd`))
}

// canonical is the canonical form of a value whose members stand in that order
// already, so that most are canonical as they are written.
func canonical(v any) ([]byte, error) {
	text, err := jsonOf(v)
	if err != nil || written(text) {
		return text, err
	}
	return jcs.Transform(text)
}

// A Sealed is the text of a plan's file, in pieces: a plan of many changes is
// long, and nobody needs it in one.
type Sealed [][]byte

// WriteTo writes the text.
func (s Sealed) WriteTo(w io.Writer) (n int64, err error) {
	for _, piece := range s {
		wrote, err := w.Write(piece)
		if n += int64(wrote); err != nil {
			return n, err
		}
	}
	return n, nil
}

// Bytes is the text in one.
func (s Sealed) Bytes() []byte { return bytes.Join(s, nil) }

// A piece is a part of a plan's text that is yet to be made.
type piece struct {
	make func() ([]byte, error)
	text []byte
	err  error
	done chan struct{}
}

// whole is a value in one piece: a text or a map.
func whole[T string | map[string]string](v T) []*piece {
	return []*piece{{make: func() ([]byte, error) { return canonical(v) }}}
}

// small is a value in one piece, whose members may stand in any order.
func small(v any) []*piece {
	return []*piece{{make: func() ([]byte, error) {
		text, err := jsonOf(v)
		if err != nil {
			return nil, err
		}
		return jcs.Transform(text)
	}}}
}

// list is a list in many pieces.
func list[T any](all []T) []*piece {
	const size = 512
	out := []*piece{{text: []byte{'['}}}
	for from := 0; from < len(all); from += size {
		out = append(out, &piece{make: func() ([]byte, error) {
			text, err := canonical(all[from:min(from+size, len(all))])
			if err != nil {
				return nil, err
			}
			text = text[:len(text)-1] // the bracket at the end
			if from == 0 {
				return text[1:], nil
			}
			text[0] = ','
			return text, nil
		}})
	}
	return append(out, &piece{text: []byte{']'}})
}

// pieces are the members of a plan but for its id and its digest, by name.
func (p *Plan) pieces() map[string][]*piece {
	out := map[string][]*piece{
		"asOf":         whole(p.AsOf),
		"changes":      list(p.Changes),
		"desired":      small(p.Desired),
		"exports":      small(p.Exports),
		"format":       whole(p.Format),
		"notices":      small(p.Notices),
		"organization": whole(p.Organization),
		"people":       whole(p.People),
		"reasons":      list(p.Reasons),
		"setAside":     list(p.SetAside),
		"totals":       small(p.Totals),
	}
	if len(p.Costs) > 0 {
		out["costs"] = small(p.Costs)
	}
	if p.Selection != nil {
		out["selection"] = small(p.Selection)
	}
	if p.Undoes != "" {
		out["undoes"] = whole(p.Undoes)
	}
	return out
}

// press makes pieces, several at a time, in their order.
func press(pieces []*piece) {
	var group errgroup.Group // each piece has its own error
	group.SetLimit(runtime.GOMAXPROCS(0))
	pieces = slices.DeleteFunc(slices.Clone(pieces), func(p *piece) bool { return p.make == nil })
	for _, p := range pieces {
		p.done = make(chan struct{})
	}
	go func() {
		for _, p := range pieces {
			group.Go(func() error {
				p.text, p.err = p.make()
				close(p.done)
				return nil
			})
		}
	}()
}

// Seal sets the plan's id and digest and returns the text of its file: the
// canonical form (RFC 8785) and one line end. The digest is the SHA-256 of that
// form without id and digest, and the id its beginning. It is reckoned while the
// text is made.
func (p *Plan) Seal() (Sealed, error) {
	p.Format = Format
	members := p.pieces()
	names := slices.Sorted(maps.Keys(members)) // all ASCII: RFC 8785's order
	var all []*piece
	starts := map[string]int{} // of members, in all
	for i, name := range names {
		before := ","
		if i == 0 {
			before = "{"
		}
		starts[name] = len(all)
		all = append(all, &piece{text: fmt.Appendf(nil, "%s%q:", before, name)})
		all = append(all, members[name]...)
	}
	all = append(all, &piece{text: []byte{'}'}})
	press(all)
	sum := sha256.New()
	text := make(Sealed, 0, len(all)+3)
	var failed error
	for _, piece := range all {
		if piece.done != nil {
			<-piece.done
		}
		failed = errors.Join(failed, piece.err)
		sum.Write(piece.text)
		text = append(text, piece.text)
	}
	if failed != nil {
		return nil, failed
	}
	digest := sum.Sum(nil)
	p.ID, p.Digest = letters(digest, 8), "sha256:"+hex.EncodeToString(digest)
	insert := func(before, name, value string) {
		text = slices.Insert(text, starts[before], fmt.Appendf(nil, ",%q:%q", name, value))
	}
	insert("notices", "id", p.ID) // the later one first, so that what stands before it does not move
	insert("exports", "digest", p.Digest)
	return append(text, []byte{'\n'}), nil
}

// Errors of Read that callers tell apart.
var (
	ErrNotPlan = errors.New("this is not a plan")
	ErrChanged = errors.New("the plan was changed after it was drafted")
	ErrNewer   = errors.New("the plan has a newer format than this program reads")
	ErrOlder   = errors.New("the plan has an older format")
)

// Read reads a plan file and proves that not a byte of it has changed since
// it was drafted.
func Read(data []byte) (*Plan, error) {
	found := make(chan *proof, 1)
	go func() { found <- prove(data) }()
	p, err := decode(data)
	if err == nil && p.Format == Format {
		return p, p.proven(<-found)
	}
	var head struct{ Format string }
	if err := json.Unmarshal(data, &head); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrNotPlan, jsonError(data, int64(len(data)), err))
	}
	if head.Format != Format {
		if head.Format == "pravet.plan/1" {
			return nil, fmt.Errorf("%w: it was drafted by an older Pravet, as %s", ErrOlder, head.Format)
		}
		if v, ok := strings.CutPrefix(head.Format, "pravet.plan/"); ok && v > "2" {
			return nil, fmt.Errorf("%w: it is %s, and this program reads %s", ErrNewer, head.Format, Format)
		}
		return nil, fmt.Errorf("%w: its format is %q, not %q", ErrNotPlan, head.Format, Format)
	}
	return nil, fmt.Errorf("%w: %v", ErrChanged, err)
}

// decode decodes a plan; where anything is wrong, encoding/json says what, and where.
func decode(data []byte) (*Plan, error) {
	var p Plan
	if utf8.Valid(data) {
		dec := quick.NewDecoder(bytes.NewReader(data))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&p); err == nil {
			return &p, nil
		}
	}
	return slowly(data)
}

func slowly(data []byte) (*Plan, error) {
	var p Plan
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&p); err != nil {
		return nil, jsonError(data, dec.InputOffset(), err)
	}
	return &p, nil
}

// A proof is what a file's bytes say of themselves: the digest and the id in them, and
// the digest that they have without these two.
type proof struct{ digest, id, sum string }

// prove finds a plan's digest and id where Seal puts them, and hashes the rest; nil
// where they are not there.
func prove(data []byte) *proof {
	var found proof
	rest := data
	sum := sha256.New()
	for _, member := range []struct {
		name, next string
		value      *string
	}{{"digest", "exports", &found.digest}, {"id", "notices", &found.id}} {
		at, value := between(rest, `,"`+member.name+`":"`, `","`+member.next+`":[`)
		if at < 0 {
			return nil
		}
		*member.value = value
		sum.Write(rest[:at])
		rest = rest[at+len(`,"`+member.name+`":"`)+len(value)+len(`"`):]
	}
	rest, whole := bytes.CutSuffix(rest, []byte{'\n'})
	if !whole {
		return nil
	}
	sum.Write(rest)
	digest := sum.Sum(nil)
	found.sum = "sha256:" + hex.EncodeToString(digest)
	if found.id != letters(digest, 8) {
		found.id = ""
	}
	return &found
}

// between finds the first value without quotes that stands between two texts, and where
// the first of them begins. Within a text of a plan the quotes would be escaped.
func between(data []byte, before, after string) (at int, value string) {
	for from := 0; ; {
		at := bytes.Index(data[from:], []byte(before))
		if at < 0 {
			return -1, ""
		}
		at += from
		from = at + len(before)
		end := bytes.IndexByte(data[from:], '"')
		if end >= 0 && bytes.HasPrefix(data[from+end:], []byte(after)) {
			return at, string(data[from : from+end])
		}
	}
}

// proven makes sure that a plan has the digest of its file, and the id that follows from
// it.
func (p *Plan) proven(by *proof) error {
	switch {
	case by == nil || by.digest != p.Digest:
		return fmt.Errorf("%w: its id or its digest is not where it should be", ErrChanged)
	case by.sum != p.Digest || by.id != p.ID:
		return fmt.Errorf("%w: its digest does not fit its contents", ErrChanged)
	}
	return nil
}

// jsonError adds the line and the column to an error of encoding/json; at is
// where it was found when the error itself does not tell.
func jsonError(data []byte, at int64, err error) error {
	var syntax *json.SyntaxError
	var typ *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		at = syntax.Offset
	case errors.As(err, &typ):
		at = typ.Offset
	}
	before := data[:min(at, int64(len(data)))]
	line := 1 + bytes.Count(before, []byte{'\n'})
	column := len(before) - bytes.LastIndexByte(before, '\n')
	return fmt.Errorf("line %d, column %d: %w", line, column, plain.JSON(err))
}
