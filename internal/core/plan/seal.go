package plan

import (
	"bytes"
	"crypto/sha256"
	"encoding"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"runtime"
	"slices"
	"sort"
	"strings"

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

// ChangeID derives a change's id from what the change does: 60 bits of a
// SHA-256 as twelve letters. The same difference has the same id in every
// plan. Of a create, the attributes do not count: it is the same account.
func ChangeID(c *Change) string {
	text := make([]byte, 0, 256)
	field := func(s string) {
		text = binary.BigEndian.AppendUint32(text, uint32(len(s)))
		text = append(text, s...)
	}
	field(c.App)
	field(c.Verb.String())
	field(c.Account)
	field(c.Person)
	if c.Thing != nil {
		field(c.Thing.Kind.String())
		field(c.Thing.Name)
	}
	if c.Attribute != "" {
		field(c.Attribute)
		field(fmt.Sprint(c.Before))
		field(fmt.Sprint(c.After))
	}
	sum := sha256.Sum256(text)
	return letters(sum[:], 12)
}

// jsonOf encodes a value as JSON without escaping for HTML.
func jsonOf(v any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), nil
}

// canonicalForm is RFC 8785's form of any object or list.
func canonicalForm(v any) ([]byte, error) {
	text, err := jsonOf(v)
	if err != nil {
		return nil, err
	}
	return jcs.Transform(text)
}

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

// canonicalList is the canonical form of a list, which is that of its parts
// joined; they are made concurrently. The elements' members stand in canonical
// order already, so that most parts are canonical as they are written.
func canonicalList[T any](list []T) (Sealed, error) {
	const size = 512
	parts := make([][]byte, (len(list)+size-1)/size)
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i := range parts {
		group.Go(func() (err error) {
			part := list[i*size : min((i+1)*size, len(list))]
			if parts[i], err = jsonOf(part); err == nil && !written(parts[i]) {
				parts[i], err = canonicalForm(part)
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	out := Sealed{{'['}}
	for i, p := range parts {
		if i > 0 {
			out = append(out, []byte{','})
		}
		out = append(out, p[1:len(p)-1])
	}
	return append(out, []byte{']'}), nil
}

// members returns the plan's top-level members in canonical form.
func (p *Plan) members() (map[string]Sealed, error) {
	small := *p
	small.Changes, small.SetAside, small.Reasons = nil, nil, nil
	text, err := canonicalForm(&small)
	if err != nil {
		return nil, err
	}
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, err
	}
	out := make(map[string]Sealed, len(raw))
	for k, v := range raw {
		out[k] = Sealed{v}
	}
	if out["changes"], err = canonicalList(p.Changes); err != nil {
		return nil, err
	}
	if out["reasons"], err = canonicalList(p.Reasons); err != nil {
		return nil, err
	}
	if out["setAside"], err = canonicalList(p.SetAside); err != nil {
		return nil, err
	}
	return out, nil
}

// names lists the names of members in RFC 8785's order; all of them are ASCII.
func names(members map[string]Sealed) []string {
	keys := make([]string, 0, len(members))
	for k := range members {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// A Sealed is the text of a plan's file, or a part of it, in pieces: a plan of
// many changes is long, and nobody needs it in one.
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

// member is one member of an object, with what goes before it.
func member(first bool, name string, value Sealed) Sealed {
	before := ","
	if first {
		before = "{"
	}
	return append(Sealed{fmt.Appendf(nil, "%s%q:", before, name)}, value...)
}

// Seal sets the plan's id and digest and returns the text of its file: the
// canonical form (RFC 8785) and one line end. The id follows from the SHA-256
// of that form without id and digest, the digest from that without digest; up to
// the id they are the same, and hashed once.
func (p *Plan) Seal() (Sealed, error) {
	p.Format = Format
	m, err := p.members()
	if err != nil {
		return nil, err
	}
	delete(m, "id")
	delete(m, "digest")
	keys := names(m)
	at, _ := slices.BinarySearch(keys, "id")
	add := func(h hash.Hash, s Sealed) { _, _ = s.WriteTo(h) } // a hash never fails
	whole := sha256.New()
	for i, k := range keys[:at] {
		add(whole, member(i == 0, k, m[k]))
	}
	without, err := clone(whole)
	if err != nil {
		return nil, err
	}
	rest := func(h hash.Hash) []byte {
		for _, k := range keys[at:] {
			add(h, member(false, k, m[k]))
		}
		add(h, Sealed{{'}'}})
		return h.Sum(nil)
	}
	p.ID = letters(rest(without), 8)
	m["id"] = Sealed{[]byte(`"` + p.ID + `"`)}
	add(whole, member(at == 0, "id", m["id"]))
	p.Digest = "sha256:" + hex.EncodeToString(rest(whole))
	m["digest"] = Sealed{[]byte(`"` + p.Digest + `"`)}
	var out Sealed
	for i, k := range names(m) {
		out = append(out, member(i == 0, k, m[k])...)
	}
	return append(out, []byte("}\n")), nil
}

// is reports whether the text is what a file holds.
func (s Sealed) is(data []byte) bool {
	for _, piece := range s {
		rest, ok := bytes.CutPrefix(data, piece)
		if !ok {
			return false
		}
		data = rest
	}
	return len(data) == 0
}

// clone returns a SHA-256 that has read what another has.
func clone(h hash.Hash) (hash.Hash, error) {
	state, err := h.(encoding.BinaryMarshaler).MarshalBinary()
	if err != nil {
		return nil, err
	}
	out := sha256.New()
	return out, out.(encoding.BinaryUnmarshaler).UnmarshalBinary(state)
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
	var p Plan
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&p); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrChanged, jsonError(data, dec.InputOffset(), err))
	}
	wantID, wantDigest := p.ID, p.Digest
	sealed, err := p.Seal()
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrChanged, err)
	}
	if p.ID != wantID || p.Digest != wantDigest || !sealed.is(data) {
		return nil, fmt.Errorf("%w: its digest does not fit its contents", ErrChanged)
	}
	return &p, nil
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
	return fmt.Errorf("line %d, column %d: %w", line, column, err)
}
