// What an export held is written as text, so that any past day can be asked
// about: the accounts with the attributes and the things that Pravet keeps, and what
// brings what along there. What else an export has is not in it.
//
// The text is a line of JSON, the head, and a line for each account, sorted; one that
// changed little since another is written as the difference (Delta).

package past

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// Format names the form of the text.
const Format = "pravet.held/1"

type head struct {
	Format      string              `json:"format"`
	App         string              `json:"app"`
	Match       string              `json:"match"`
	Attrs       []string            `json:"attrs"`                 // columns after the key, the state and what is held
	Things      []string            `json:"things"`                // "role seller"; rows name them by number
	Nested      map[string][]string `json:"nested,omitempty"`      // group → the groups that it is in, where the export shows that
	Definitions map[string][]string `json:"definitions,omitempty"` // what each thing that is defined brings, where the export shows that
	Shows       bool                `json:"shows,omitempty"`       // it shows groups within groups
	Defines     bool                `json:"defines,omitempty"`     // it shows what its own things bring
}

// fields that hold a tab, a line end or a backslash are escaped.
var (
	escaper   = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`, "\r", `\r`)
	unescaper = strings.NewReplacer(`\\`, `\`, `\t`, "\t", `\n`, "\n", `\r`, "\r")
)

func escape(s string) string {
	if !strings.ContainsAny(s, "\\\t\n\r") {
		return s
	}
	return escaper.Replace(s)
}

// Write writes the accounts of an application. O(accounts · log accounts), or
// O(accounts) where they stand in order.
func Write(app *model.App, accounts *model.Accounts) ([]byte, error) {
	h := head{Format: Format, App: app.ID, Match: app.Match, Attrs: []string{}, Things: []string{}}
	var columns []*table.Column
	for n, a := range app.Attrs {
		if c := accounts.Attrs[n]; c != nil && c != accounts.Key && !a.Observed {
			h.Attrs, columns = append(h.Attrs, a.Name), append(columns, c)
		}
	}
	name := func(t int32) string { return app.Things[t].String() }
	for t := range app.Things {
		h.Things = append(h.Things, name(int32(t)))
	}
	names := func(things []int32) []string {
		out := []string{}
		for _, t := range things {
			out = append(out, name(t))
		}
		return out
	}
	if h.Shows = accounts.Nested != nil; h.Shows {
		h.Nested = map[string][]string{}
		for t, in := range accounts.Nested {
			if len(in) > 0 {
				h.Nested[name(int32(t))] = names(in)
			}
		}
	}
	if defs := accounts.Definitions; defs != nil && defs.Brings {
		h.Defines, h.Definitions = true, map[string][]string{}
		for t, d := range defs.Of {
			if d != nil {
				h.Definitions[name(int32(t))] = names(d.Along)
			}
		}
	}
	first, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	sets := make([]string, accounts.Sets.Count())
	out := append(append(make([]byte, 0, 128*(accounts.Len()+1)), first...), '\n')
	begin := len(out)
	ends := make([]int, accounts.Len())
	sorted := true
	for i := range ends {
		set := accounts.Held[i]
		if set != 0 && sets[set] == "" {
			var numbers []string
			for _, t := range accounts.Sets.Members(set) {
				numbers = append(numbers, strconv.Itoa(int(t)))
			}
			sets[set] = strings.Join(numbers, " ")
		}
		from := len(out)
		out = append(append(out, escape(accounts.Key.At(i))...), '\t')
		out = append(append(out, accounts.States[i].String()...), '\t')
		out = append(out, sets[set]...)
		for _, c := range columns {
			out = append(append(out, '\t'), escape(c.At(i))...)
		}
		out = append(out, '\n')
		ends[i] = len(out)
		if i > 0 && sorted {
			before := begin
			if i > 1 {
				before = ends[i-2]
			}
			sorted = bytes.Compare(out[before:from-1], out[from:len(out)-1]) <= 0
		}
	}
	if sorted {
		return out, nil
	}
	lines := make([]line, len(ends))
	from := begin
	for i, end := range ends {
		lines[i].text, from = out[from:end-1], end
	}
	sortLines(lines)
	in := append(make([]byte, 0, len(out)), out[:begin]...)
	for i := range lines {
		in = append(append(in, lines[i].text...), '\n')
	}
	return in, nil
}

// A line is a line with the eight bytes in which it differs from others first, so that most comparisons are of two
// numbers.
type line struct {
	begins uint64
	text   []byte
}

// sortLines sorts lines by their bytes.
func sortLines(lines []line) {
	common := len(lines[0].text)
	for i := range lines {
		n := 0
		for n < min(common, len(lines[i].text)) && lines[i].text[n] == lines[0].text[n] {
			n++
		}
		common = n
	}
	for i := range lines {
		var begins [8]byte
		copy(begins[:], lines[i].text[common:])
		lines[i].begins = binary.BigEndian.Uint64(begins[:])
	}
	slices.SortFunc(lines, func(x, y line) int {
		if x.begins != y.begins {
			return cmp.Compare(x.begins, y.begins)
		}
		return bytes.Compare(x.text, y.text)
	})
}

// Read reads the text for an application as its file is today. Things that its catalog
// does not list any more are counted as unmanaged.
func Read(text []byte, app *model.App) (*model.Accounts, error) {
	first, rest, _ := bytes.Cut(text, []byte{'\n'})
	var h head
	if err := json.Unmarshal(first, &h); err != nil {
		return nil, fmt.Errorf("what an export held cannot be read: %w", err)
	}
	if h.Format != Format {
		return nil, fmt.Errorf("what an export held has the format %q, and %s is expected", h.Format, Format)
	}
	out := &model.Accounts{
		Sets: model.NewSets(), Unmanaged: map[model.UnmanagedThing]int{}, Attrs: make([]*table.Column, len(app.Attrs)),
		Key: &table.Column{},
	}
	if n := app.Attr(h.Match); n >= 0 {
		out.Attrs[n] = out.Key
	}
	columns := make([]*table.Column, len(h.Attrs))
	for i, a := range h.Attrs {
		if n := app.Attr(a); n >= 0 && out.Attrs[n] == nil {
			columns[i] = &table.Column{}
			out.Attrs[n] = columns[i]
		}
	}
	number := numbering(app)
	things := make([]int32, len(h.Things))
	for i, t := range h.Things {
		things[i] = number(t)
	}
	h.graph(out, app, number)
	known := map[string]uint32{"": 0}
	for line := range bytes.Lines(rest) {
		fields := strings.Split(strings.TrimSuffix(string(line), "\n"), "\t")
		if len(fields) != 3+len(h.Attrs) {
			return nil, errors.New("what an export held is damaged")
		}
		set, ok := known[fields[2]]
		if !ok {
			var held []int32
			for _, n := range strings.Fields(fields[2]) {
				at, err := strconv.Atoi(n)
				if err != nil || at < 0 || at >= len(things) {
					return nil, errors.New("what an export held is damaged")
				}
				if things[at] >= 0 {
					held = append(held, things[at])
				}
			}
			set = out.Sets.Of(held)
			known[fields[2]] = set
		}
		if !out.Key.Append(unescaper.Replace(fields[0])) {
			return nil, errors.New("what an export held is too large")
		}
		out.States = append(out.States, model.ParseState(fields[1]))
		out.Held = append(out.Held, set)
		for i, c := range columns {
			if c != nil && !c.Append(unescaper.Replace(fields[3+i])) {
				return nil, errors.New("what an export held is too large")
			}
		}
	}
	return out, nil
}

// numbering finds things in an application's catalog by "role seller"; -1 for one that is
// not there.
func numbering(app *model.App) func(text string) int32 {
	return func(text string) int32 {
		word, name, _ := strings.Cut(text, " ")
		if kind, ok := model.ParseKind(word); ok {
			return app.Thing(kind, name)
		}
		return -1
	}
}

// graph sets what brings what along in the application as it was.
func (h *head) graph(out *model.Accounts, app *model.App, number func(string) int32) {
	numbers := func(names []string) (things []int32) {
		for _, n := range names {
			if t := number(n); t >= 0 {
				things = append(things, t)
			}
		}
		slices.Sort(things)
		return things
	}
	if h.Shows {
		out.Nested = make([][]int32, len(app.Things))
		for name, in := range h.Nested {
			if t := number(name); t >= 0 {
				out.Nested[t] = numbers(in)
			}
		}
	}
	if h.Defines {
		out.Definitions = &model.Definitions{Of: make([]*model.Definition, len(app.Things)), Brings: true}
		for name, brings := range h.Definitions {
			if t := number(name); t >= 0 {
				out.Definitions.Of[t] = &model.Definition{
					Kind: app.Things[t].Kind, Name: app.Things[t].Name, Brings: brings, Along: numbers(brings),
				}
			}
		}
	}
}
