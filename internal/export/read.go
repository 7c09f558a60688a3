package export

import (
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"

	"github.com/zeebo/blake3"
)

// Info is what is known of an export besides its accounts.
type Info struct {
	Digest  string    // SHA-256 of the file, or over the digests of several
	TakenAt time.Time // when it was taken: as it says, else when the file was written last, the oldest of several
	Says    bool      // it says so itself
}

// Read reads an application's export. Errors about the files are of type
// *source.Problem.
func Read(ctx context.Context, tree *source.Tree, spec *Spec, app *model.App) (*model.Accounts, *Info, error) {
	return read(ctx, tree, spec, app, nil)
}

// Find reads, of an application's export, the accounts that may be one with any of
// some match values: at least that, and of CSV files few more. The Info has no
// digest.
func Find(
	ctx context.Context,
	tree *source.Tree,
	spec *Spec,
	app *model.App,
	keys ...string,
) (*model.Accounts, *Info, error) {
	return read(ctx, tree, spec, app, keys)
}

func read(
	ctx context.Context,
	tree *source.Tree,
	spec *Spec,
	app *model.App,
	only []string,
) (*model.Accounts, *Info, error) {
	b := newBuilder(app)
	info := &Info{}
	var sums []string
	var scim *scimReader
	var records *recordReader
	var err error
	for i, path := range spec.Files() {
		name := path.Text
		var src *source.Reader
		if src, err = tree.OpenAs(ctx, name, spec.Encoding); err != nil {
			return nil, nil, atSpec(err, spec, path.Pos)
		}
		switch {
		case i >= len(spec.Paths):
			b.out.Definitions, err = readDefinitions(src, name, spec.Definitions, app)
		case spec.Format == "csv":
			err = readCSV(src, name, spec, b, only)
		case spec.Format == "scim":
			if scim == nil {
				scim = newSCIMReader(spec, b)
			}
			err = scim.read(src, name)
		case spec.Format == "jsonl", spec.Format == "ldif":
			if records == nil {
				records = newRecordReader(app, b)
			}
			if spec.Format == "ldif" {
				err = records.readLDIF(src, name, spec)
			} else {
				err = records.read(src, name)
			}
		}
		if err != nil {
			src.Close()
			return nil, nil, err
		}
		sum := ""
		if only == nil {
			sum, err = src.Digest()
		}
		if t := src.Modified(); info.TakenAt.IsZero() || t.Before(info.TakenAt) {
			info.TakenAt = t
		}
		src.Close()
		if err != nil {
			return nil, nil, err
		}
		sums = append(sums, sum)
	}
	if scim != nil {
		if err := scim.finish(); err != nil {
			return nil, nil, err
		}
	}
	if records != nil {
		records.finish()
	}
	info.Digest = Combine(sums)
	if !spec.Named.IsZero() {
		info.TakenAt, info.Says = spec.Named, true
	}
	if spec.Taken != "" {
		if info.TakenAt, err = b.takenAt(spec); err != nil {
			return nil, nil, err
		}
		info.Says = true
	}
	b.out.Unwritable = writes(spec.Encoding)
	return b.finish(spec.Paths[0].Text), info, nil
}

// Combine makes one digest of those of several files; that of one file is its
// own.
func Combine(sums []string) string {
	if len(sums) == 1 {
		return sums[0]
	}
	sum := blake3.Sum256([]byte(strings.Join(sums, "\n")))
	return "blake3:" + hex.EncodeToString(sum[:])
}

// atSpec adds to the problem of a missing export where the file is named.
func atSpec(err error, spec *Spec, pos model.Pos) error {
	if p, ok := err.(*source.Problem); ok && p.Rule == "missing-file" {
		if spec.Missing != "" {
			p.Hint = spec.Missing
			return err
		}
		p.Hint = fmt.Sprintf("it is named in %s; put the application's export there", pos)
		if strings.Contains(p.Pos.File, DatedMark) {
			p.Hint += ", with a time like 2026-11-23 or 20261123T1830 for " + DatedMark
		}
	}
	return err
}

// builder gathers accounts in columns.
type builder struct {
	named map[int]string // see nameless
	app   *model.App
	out   *model.Accounts
	cells [model.Kinds]map[string]*cell
	last  [model.Kinds]*cell // of the row before: some are the same all the way down
	own   *table.Column      // the key's column when no kept attribute is the key
	count int

	unions int    // how many unions the cells have room for
	taken  string // the latest time that a row says, as text
}

// clocks are the forms in which exports write a time, all of which sort as text.
var clocks = []string{
	time.RFC3339,
	"2006-01-02T15:04:05",
	"2006-01-02 15:04:05",
	"2006-01-02T15:04",
	"2006-01-02 15:04",
	time.DateOnly,
}

// takenAt is the latest time that the export says.
func (b *builder) takenAt(spec *Spec) (time.Time, error) {
	for _, form := range clocks {
		if t, err := time.Parse(form, b.taken); err == nil {
			return t, nil
		}
	}
	says := fmt.Sprintf(
		"%s is no date or time as RFC 3339 has it, by which the export would say when it was taken",
		spec.Taken,
	)
	if b.taken == "" {
		says = fmt.Sprintf("no row says under %s when the export was taken", spec.Taken)
	}
	return time.Time{}, source.NewProblem(
		spec.TakenPos,
		"wrong-date",
		says,
		"name another column under taken, or take it out",
	)
}

// A cell is a list of names as one field holds it, looked up once.
type cell struct {
	text      string
	set       uint32
	unmanaged []model.UnmanagedThing
	seen      int
	with      []uint32 // another set, by its number → its union with this one, plus one
}

// maxUnions bounds the unions that all cells of an export remember: 16 MiB.
const maxUnions = 4 << 20

// unite returns the union of a set with a cell's. Most accounts have one of a few
// sets of one kind and one of many of another, so that a look into the cell of
// the other finds it.
func (b *builder) unite(c *cell, u uint32) uint32 {
	if u == 0 {
		return c.set
	}
	if int(u) < len(c.with) && c.with[u] > 0 {
		return c.with[u] - 1
	}
	out := b.out.Sets.Union(u, c.set)
	if more := int(u) + 1 - len(c.with); more > 0 {
		if b.unions += more; b.unions > maxUnions {
			b.unions -= more
			return out
		}
		c.with = append(c.with, make([]uint32, more)...)
	}
	c.with[u] = out + 1
	return out
}

func newBuilder(app *model.App) *builder {
	b := &builder{app: app, out: &model.Accounts{Sets: model.NewSets(), Unmanaged: map[model.UnmanagedThing]int{}}}
	b.out.Attrs = make([]*table.Column, len(app.Attrs))
	for k := range b.cells {
		b.cells[k] = map[string]*cell{}
	}
	return b
}

// column makes the column of an attribute that the export shows.
func (b *builder) column(attr string) *table.Column {
	if n := b.app.Attr(attr); n >= 0 {
		if b.out.Attrs[n] == nil {
			b.out.Attrs[n] = &table.Column{}
		}
		if attr == b.app.Match {
			b.out.Key = b.out.Attrs[n]
		}
		return b.out.Attrs[n]
	}
	if attr == b.app.Match {
		if b.own == nil {
			b.own = &table.Column{}
			b.out.Key = b.own
		}
		return b.own
	}
	return nil
}

// names looks up a list of names of one kind.
func (b *builder) names(kind model.Kind, names []string) *cell {
	c := &cell{}
	var things []int32
	for _, name := range names {
		if t := b.app.Thing(kind, name); t >= 0 {
			things = append(things, t)
		} else {
			u := model.UnmanagedThing{Kind: kind, Name: name}
			if !slices.Contains(c.unmanaged, u) {
				c.unmanaged = append(c.unmanaged, u)
			}
		}
	}
	c.set = b.out.Sets.Of(things)
	return c
}

// field looks up the field of a file that lists names, once for each text.
func (b *builder) field(kind model.Kind, text, split string) *cell {
	if last := b.last[kind]; last != nil && last.text == text {
		last.seen++
		return last
	}
	c, ok := b.cells[kind][text]
	if !ok {
		text = strings.Clone(text)
		c = b.names(kind, splitNames(text, split))
		c.text = text
		b.cells[kind][text] = c
	}
	b.last[kind] = c
	c.seen++
	return c
}

// splitNames parts a field into names, without the spaces around them.
func splitNames(text, split string) []string {
	parts := []string{text}
	if split != "" {
		parts = strings.Split(text, split)
	}
	var out []string
	for _, p := range parts {
		if p = strings.TrimSpace(p); p != "" {
			out = append(out, p)
		}
	}
	return out
}

// hold unites the sets of the kinds; a kind without a cell holds nothing.
func (b *builder) hold(cells [model.Kinds]*cell) uint32 {
	u := uint32(0)
	for _, c := range cells {
		if c != nil {
			u = b.unite(c, u)
		}
	}
	return u
}

// unnamed notes an account that has no value in the match attribute, and by what
// else it may be known; attr gives an attribute by its number.
func (b *builder) unnamed(pos model.Pos, attr func(n int) string) {
	u := model.Unnamed{Pos: pos}
	for n, a := range b.app.Attrs {
		v := strings.Clone(attr(n))
		switch {
		case v == "":
		case a.Name == "displayName":
			u.Name = v
		case a.Name == "department":
			u.Department = v
		default:
			u.Values = append(u.Values, model.Told{Attr: a.Name, Value: v})
		}
	}
	b.out.Unnamed = append(b.out.Unnamed, u)
}

// nameless notes that the account that comes next has no value in the match attribute, and is known by a
// name of its own.
func (b *builder) nameless(own string) {
	if b.named == nil {
		b.named = map[int]string{}
	}
	b.named[b.count] = strings.Clone(own)
}

// rename puts the own names of accounts into the place of the values that they do not have.
func (b *builder) rename() {
	if len(b.named) == 0 {
		return
	}
	key := &table.Column{}
	b.out.Nameless = map[int32]bool{}
	for i := range b.count {
		name, own := b.named[i]
		if !own {
			name = b.out.Key.At(i)
		}
		b.out.Nameless[int32(i)] = own
		key.Append(name)
	}
	maps.DeleteFunc(b.out.Nameless, func(_ int32, own bool) bool { return !own })
	b.out.Key = key
}

func (b *builder) add(state model.State, held uint32) {
	b.out.States = append(b.out.States, state)
	b.out.Held = append(b.out.Held, held)
	b.count++
}

// writes tells what a file in an encoding cannot hold.
func writes(encoding string) func(text string) string {
	e, err := source.Encoding(encoding)
	if err != nil || e == nil {
		return nil
	}
	return func(text string) string {
		for _, letter := range text {
			if _, err := e.NewEncoder().String(string(letter)); err != nil {
				return string(letter)
			}
		}
		return ""
	}
}

func (b *builder) finish(file string) *model.Accounts {
	b.out.File = file
	for k := range b.cells {
		for _, c := range b.cells[k] {
			for _, u := range c.unmanaged {
				b.out.Unmanaged[u] += c.seen
			}
		}
	}
	b.defined()
	b.direct()
	b.out.Lay()
	if b.out.Key == nil {
		b.out.Key = &table.Column{}
	}
	for _, c := range b.out.Attrs {
		if c != nil {
			c.Pad(b.count)
		}
	}
	b.out.Key.Pad(b.count)
	b.rename()
	return b.out
}

// defined lists the names of the groups and roles that a file of definitions
// shows.
func (b *builder) defined() {
	defs := b.out.Definitions
	if defs == nil {
		return
	}
	shown := b.out.Defined // of the export itself, as the groups of SCIM
	b.out.Defined[model.Group], b.out.Defined[model.Role] = []string{}, []string{}
	for _, d := range append(slices.Clone(defs.Of), defs.Others...) {
		if d != nil {
			b.out.Defined[d.Kind] = append(b.out.Defined[d.Kind], d.Name)
		}
	}
	slices.Sort(b.out.Defined[model.Group])
	slices.Sort(b.out.Defined[model.Role])
	for _, kind := range []model.Kind{model.Group, model.Role} {
		if len(b.out.Defined[kind]) == 0 && (kind == model.Group || shown[kind] != nil) {
			b.out.Defined[kind] = shown[kind] // the file has none of the kind
		}
	}
}

// direct leaves of what is shown what is held directly, once for each set.
func (b *builder) direct() {
	sets, g := b.out.Sets, model.ExportedGraph(b.app, b.out)
	direct := make([]uint32, sets.Count())
	for set := range direct {
		direct[set] = g.Direct(b.app, sets, uint32(set))
	}
	for i, set := range b.out.Held {
		b.out.Held[i] = direct[set]
	}
}

// A FileDigest is the digest of one file of an export.
type FileDigest struct{ Path, Digest string }

// Digests returns the digest of each file of an export, reading them only as
// bytes.
func Digests(ctx context.Context, tree *source.Tree, spec *Spec) ([]FileDigest, error) {
	var out []FileDigest
	for _, path := range spec.Files() {
		src, err := tree.OpenAs(ctx, path.Text, spec.Encoding)
		if err != nil {
			return nil, atSpec(err, spec, path.Pos)
		}
		sum, err := src.Digest()
		src.Close()
		if err != nil {
			return nil, err
		}
		out = append(out, FileDigest{path.Text, sum})
	}
	return out, nil
}
