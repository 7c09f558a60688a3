package edit_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	yaml "go.yaml.in/yaml/v4"
	"pgregory.net/rapid"

	"pravet/internal/edit"
)

// Every field that nothing was set in keeps its bytes; every other one reads as what was set.
func TestARowKeepsEveryOtherByte(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end")
		mark := rapid.SampledFrom([]string{"", "\ufeff"}).Draw(t, "mark")
		field := rapid.SampledFrom(
			[]string{"", "x", " y ", `"z"`, `"a,b"`, `"say ""so"""`, "ø", `"two` + end + `lines"`},
		)
		rows := rapid.IntRange(1, 6).Draw(t, "rows")
		var raw [][]string
		var text strings.Builder
		text.WriteString(mark + "id,name,note" + end)
		lines := []int{}
		line := 2
		for r := range rows {
			cells := []string{fmt.Sprint("P", r), field.Draw(t, "name"), field.Draw(t, "note")}
			raw = append(raw, cells)
			row := strings.Join(cells, ",")
			lines = append(lines, line)
			line += 1 + strings.Count(row, "\n")
			text.WriteString(row + end)
		}
		file := edit.New("people/x.csv", []byte(text.String()))
		x, err := edit.ReadCSV(file, ',')
		require.NoError(t, err)
		at := rapid.IntRange(0, rows-1).Draw(t, "at")
		value := rapid.SampledFrom([]string{"", "plain", `with "quotes"`, "a,b", " spaces ", "two\nlines"}).
			Draw(t, "value")
		widen := rapid.Bool().Draw(t, "widen")
		column := "name"
		if widen {
			column = "more"
			x.AddColumn(column)
		}
		require.NoError(t, x.Set(lines[at], map[string]string{column: value}))
		require.NoError(t, x.Finish())
		out, err := file.Bytes()
		require.NoError(t, err)

		rd := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(out, []byte("\ufeff"))))
		all, err := rd.ReadAll()
		require.NoError(t, err)
		if widen {
			require.Equal(t, value, all[at+1][3])
		} else {
			require.Equal(t, value, all[at+1][1])
		}
		for r, cells := range raw { // the bytes of all that was not set are there still, in their order
			kept := strings.Join(cells, ",")
			if !widen && r == at {
				kept = cells[0] + ","
			}
			require.Contains(t, string(out), kept)
		}
		if !widen {
			before, after := strings.Count(text.String(), end), strings.Count(string(out), end)
			if value != "two\nlines" && !strings.Contains(raw[at][1], "\n") {
				require.Equal(t, before, after)
			}
		}
	})
}

// kits are lists written in every way that people write them.
const kits = `# top
kits:
  one:   # first
    gives: {app: {roles: [a, b]}}
    holders:
      - {person: E1, because: x}   # kept
      # a note
      - person: E2
        because: y

  two:
    gives: {app: {roles: [a]}}
    holders: [{person: E1, because: x}, {person: E2, because: "a, [b]"}]
  three: {gives: {app: {roles: [a]}}, holders: []}
  four:
    holders: []
    gives: {app: {roles: [a]}}
  five:
    gives:
      app: {roles: [a]}
  six: {gives: {app: {roles: [a]}}}
# end
`

func parsed(t require.TestingT, data []byte) map[string]any {
	var out map[string]any
	require.NoError(t, yaml.Load(data, &out))
	return out["kits"].(map[string]any)
}

func people(kit any) (out []string) {
	list, _ := kit.(map[string]any)["holders"].([]any)
	for _, x := range list {
		out = append(out, x.(map[string]any)["person"].(string))
	}
	return out
}

// Whatever comes into a list or goes out of it, the file reads as it should, lines that are not
// about it stay, and what comes in and goes out again leaves every byte as it was.
func TestListsChangeByThemselves(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end")
		data := []byte(strings.ReplaceAll(kits, "\n", end))
		name := rapid.SampledFrom([]string{"one", "two", "three", "four", "five", "six"}).Draw(t, "kit")
		had := people(parsed(t, data)[name])
		var gone []int
		var want []string
		for i, who := range had {
			if rapid.Bool().Draw(t, "gone") {
				gone = append(gone, i)
			} else {
				want = append(want, who)
			}
		}
		var add []string
		for n := range rapid.IntRange(0, 3).Draw(t, "add") {
			add = append(add, fmt.Sprintf("{person: N%d, because: %s}", n, edit.Inline("because, of [it]")))
			want = append(want, fmt.Sprint("N", n))
		}
		if len(gone)+len(add) == 0 {
			return
		}
		file := edit.New("kits/x.yaml", data)
		y, err := edit.ReadYAML(file)
		require.NoError(t, err)
		require.NoError(t, y.ChangeItems(y.Get("kits", name), "holders", gone, add))
		out, err := file.Bytes()
		require.NoError(t, err)
		after := parsed(t, out)
		require.Equal(t, want, people(after[name]), string(out))
		for other, kit := range parsed(t, data) {
			if other != name {
				require.Equal(t, kit, after[other])
			}
		}
		require.Contains(t, string(out), "# top"+end)
		require.True(t, strings.HasSuffix(string(out), "# end"+end))

		if len(gone) == 0 && len(had) > 0 { // and back again
			back := edit.New("kits/x.yaml", out)
			y, err := edit.ReadYAML(back)
			require.NoError(t, err)
			var all []int
			for i := range add {
				all = append(all, len(had)+i)
			}
			require.NoError(t, y.ChangeItems(y.Get("kits", name), "holders", all, nil))
			again, err := back.Bytes()
			require.NoError(t, err)
			require.Equal(t, string(data), string(again))
		}
	})
}

func TestValuesAreWrittenAsTheyAreRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringMatching(`[ -~äø\n\t]{1,20}`).Draw(t, "value")
		style := rapid.SampledFrom([]string{"old", `"old"`, "'old'"}).Draw(t, "style")
		file := edit.New(
			"people/x.yaml",
			[]byte("people:\n- id: E1\n  title: "+style+"   # kept\n  more: {title: "+style+"}\n"),
		)
		y, err := edit.ReadYAML(file)
		require.NoError(t, err)
		person := y.Get("people").Content[0]
		require.NoError(t, y.SetText(edit.Get(person, "title"), value))
		require.NoError(t, y.SetKey(person, "extra.one", edit.Inline(value)))
		require.NoError(t, y.SetKey(edit.Get(person, "more"), "two", edit.Inline(value)))
		out, err := file.Bytes()
		require.NoError(t, err)
		var read struct{ People []map[string]any }
		require.NoError(t, yaml.Load(out, &read), string(out))
		for _, got := range []any{read.People[0]["title"], read.People[0]["extra.one"], read.People[0]["more"].(map[string]any)["two"]} {
			require.Equal(t, value, got, string(out))
		}
		require.Contains(t, string(out), "   # kept\n")
	})
}

func TestHunksSayWhatDiffers(t *testing.T) {
	file := edit.New("x", []byte("a\nb\nc\nd"))
	file.Replace(2, 3, "B")
	file.Append("e", "f")
	hunks, err := file.Hunks()
	require.NoError(t, err)
	assert.Equal(t, []edit.Hunk{
		{Line: 2, Was: []string{"b"}, Is: []string{"B"}}, {Line: 5, Was: nil, Is: []string{"e", "f"}},
	}, hunks)
	file.Replace(2, 3, "X")
	_, err = file.Bytes()
	assert.EqualError(t, err, "x:2: the same words are to be changed in two ways")
}
