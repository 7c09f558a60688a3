package sheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"pravet/internal/sheet"
)

// said is a table in one line.
func said(t *sheet.Table) string {
	var out []string
	out = append(out, strings.Join(t.Header, "|"))
	for i := range t.Rows {
		out = append(out, t.Pos(&t.Rows[i], 1).String()+" "+strings.Join(t.Rows[i].Cells, "|"))
	}
	for _, p := range t.Problems {
		out = append(out, p.Error())
	}
	return strings.Join(out, "\n")
}

func TestSheetsAreReadAsTheyAre(t *testing.T) {
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String("id;name\r\nE1;Søren\r\n")
	require.NoError(t, err)
	for _, x := range []struct {
		name, data string
		o          sheet.Options
		want       string
	}{
		{"commas", "id,name\nE1,Ada\n", sheet.Options{}, "id|name\ns:2:4 E1|Ada"},
		{"semicolons, with commas within", "id;name;note\nE1;Holt, Ada;a,b\n", sheet.Options{}, "id|name|note\ns:2:4 E1|Holt, Ada|a,b"},
		{"tabs, a mark of the byte order, Windows line ends", "\ufeffid\tname\r\nE1\tAda\r\n", sheet.Options{}, "id|name\ns:2:4 E1|Ada"},
		{"UTF-16", wide, sheet.Options{}, "id|name\ns:2:4 E1|Søren"},
		{"another encoding", "id,name\nE1,S\xf8ren\n", sheet.Options{Encoding: "windows-1252"}, "id|name\ns:2:4 E1|Søren"},
		{"quotes, and a line end within", "id,name\nE1,\"Ada \"\"A\"\"\nHolt\"\nE2,Bo\n", sheet.Options{}, "id|name\ns:2:4 E1|Ada \"A\"\nHolt\ns:4:4 E2|Bo"},
		{"blank rows", "id,name\n,\n\nE1,Ada\n", sheet.Options{}, "id|name\ns:4:4 E1|Ada"},
		{
			"half a row", "id,name\nE1\nE2,Bo\n", sheet.Options{},
			"id|name\ns:3:4 E2|Bo\ns:2: the row has 1 field and the header has 2; look for a missing or an unquoted comma",
		},
		{"LDIF", "dn: uid=ada,o=m\nuid: ada\ncn: Ada Holt\n\ndn: uid=bo,o=m\nuid: bo\nmail: bo@m.example\n", sheet.Options{Format: "ldif"},
			"cn|uid|mail\ns:1 Ada Holt|ada|\ns:5 |bo|bo@m.example"},
		{
			"a SCIM list", `{"Resources": [{"userName": "ada", "name": {"givenName": "Ada"}, "active": true,
 "emails": [{"value": "x@m.example"}, {"value": "ada@m.example", "primary": true}],
 "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"department": "Deck", "manager": {"value": "E2"}}}]}`,
			sheet.Options{Format: "scim"}, "active|email|name.givenName|department|manager|userName\ns:1 true|ada@m.example|Ada|Deck|E2|ada",
		},
	} {
		got, err := sheet.Read([]byte(x.data), "s", x.o)
		require.NoError(t, err, x.name)
		assert.Equal(t, x.want, said(got), x.name)
	}
}

func TestWhatIsNoSheetIsRefusedWithItsPlace(t *testing.T) {
	for _, x := range []struct {
		name, data string
		o          sheet.Options
		want       string
	}{
		{"nothing", " \n", sheet.Options{}, "s:1: the file is empty; a header row and a row for each person are expected"},
		{"not UTF-8", "id,name\nE1,S\xf8ren\n", sheet.Options{}, "s:2:5: this is not UTF-8; save the file as UTF-8, or name its encoding, for example --encoding windows-1252"},
		{"NUL", "id,na\x00me\n", sheet.Options{}, "s:1:6: there is a NUL byte here, and text is expected; save the spreadsheet as CSV (UTF-8)"},
		{"a workbook", "PK\x03\x04", sheet.Options{}, "s:1: this is no CSV file; save the spreadsheet as CSV (UTF-8); a SCIM list of users ends in .json, or is named with --in scim"},
		{"a column twice", "id,Mail,mail\n", sheet.Options{}, "s:1:9: there are two columns named mail; give one of them another name, or take it out"},
		{"a quote that is never closed", "id,name\nE1,\"Ada\n", sheet.Options{}, "s:2:9: a quote stands where none is expected; a field in quotes ends before the next comma; a quote within it is doubled (\"\")"},
		{"no JSON", `{"Resources": [`, sheet.Options{Format: "scim"}, "s:1:16: this is not JSON of SCIM: it ends in the middle; export it again"},
		{"another JSON", `{"users": []}`, sheet.Options{Format: "scim"}, "s:1: there are no Resources; a list of users is expected (RFC 7644 §3.4.2)"},
		{"an unknown encoding", "id\n", sheet.Options{Encoding: "nothing"}, `"nothing" is no encoding that can be read`},
	} {
		_, err := sheet.Read([]byte(x.data), "s", x.o)
		assert.EqualError(t, err, x.want, x.name)
	}
	for cell, is := range map[string]bool{
		"": false, "Ada": false, "=A1": true, "@SUM(A1)": true, "#REF!": true, "#N/A": true, "#12": false, "-A1": true, "-12": false, "+44 20": false, "+cmd": true,
	} {
		assert.Equal(t, is, sheet.Formula(cell), cell)
	}
}

// Whatever a file holds, it is read or refused.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{"id,name\nE1,Ada\n", "\ufeffa;b\r\n\"x\"\"y\";\n", `{"Resources":[{"userName":"a"}]}`, "dn: uid=a\nuid: a\n", "PK\x03"} {
		for format := range len(sheet.Formats) {
			f.Add([]byte(seed), format)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte, format int) {
		table, err := sheet.Read(data, "s", sheet.Options{Format: sheet.Formats[uint(format)%uint(len(sheet.Formats))]})
		if err != nil {
			return
		}
		for i := range table.Rows {
			require.Len(t, table.Rows[i].Cells, len(table.Header))
			table.Pos(&table.Rows[i], 0)
		}
	})
}
