package intake_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/desired"
	"pravet/internal/intake"
	"pravet/internal/sheet"
	"pravet/internal/source"
)

// repository is one whose people have an id, a user name and a department.
func repository(t *testing.T) *desired.Repo {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"pravet.yaml":       "organization: Marrowick Ferries\n",
		"people/ashore.csv": "id,userName,department\nE1,ada.holt,Harbour\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, tree.Close()) })
	repo := desired.Rules(context.Background(), tree)
	repo.ReadPeople()
	require.Zero(t, repo.Problems.Errors(), "%v", repo.Problems.Sorted())
	return repo
}

func understood(t *testing.T, csv string, maps ...string) (*intake.Mapping, error) {
	repo := repository(t)
	table, err := sheet.Read([]byte(csv), "monday.csv", sheet.Options{})
	require.NoError(t, err)
	var said []desired.Mapped
	for _, m := range maps {
		attr, text, _ := strings.Cut(m, "=")
		one, err := repo.Mapping(attr, text)
		require.NoError(t, err)
		said = append(said, one)
	}
	return intake.Understand(table, repo, said, false)
}

const joined = `userName={join: [First name, Last name], with: ".", case: lower, plain: true}`

func TestColumnsAreUnderstood(t *testing.T) {
	for _, x := range []struct {
		header string
		maps   []string
		want   []string // attribute, column, why
		left   string
	}{
		{"id,userName", nil, []string{"id, id, named so", "userName, userName, named so"}, ""},
		{"Staff no.,Login", nil, []string{
			"id, Staff no., usually called so", "userName, Login, usually called so",
		}, ""},
		{"USERNAME,Cost centre", nil, []string{
			"userName, USERNAME, named so", "costCenter, Cost centre, usually called so",
		}, ""},
		{"Login,Account,Shoe size", nil, []string{"userName, Login, usually called so"}, "Account Shoe size"},
		{"Login,Account", []string{"userName=Account"}, []string{"userName, Account, as said"}, "Login"},
		{"First name,Last name", []string{joined}, []string{"userName, First name, Last name, as said"}, ""},
		{"Login", []string{"userType={constant: Employee}"}, []string{
			"userType, , as said", "userName, Login, usually called so",
		}, ""},
	} {
		m, err := understood(t, x.header+"\n", x.maps...)
		require.NoError(t, err, x.header)
		var got []string
		for _, c := range m.Columns {
			got = append(got, strings.Join([]string{c.Attr, c.From, c.How}, ", "))
		}
		require.Equal(t, x.want, got, x.header)
		require.Equal(t, x.left, strings.Join(m.Left, " "), x.header)
	}
}

func TestWhatCannotBeUnderstoodIsSaid(t *testing.T) {
	for _, x := range []struct {
		maps []string
		want string
	}{
		{[]string{"userName=Logn"}, `monday.csv:1: there is no column "Logn" for userName; did you mean Login?`},
		{[]string{"userName=Shoe"}, `there is no column "Shoe" for userName; its columns are Login, Kind`},
		{[]string{"userName=Login", "userName=Kind"}, "userName is mapped twice; keep one"},
		{[]string{"userName={join: [Nose, Login]}"}, `there is no column "Nose" for userName`},
	} {
		_, err := understood(t, "Login,Kind\nada,x\n", x.maps...)
		require.ErrorContains(t, err, x.want)
	}
}

// TestRowsSayWhatTheirCellsSay goes from cells to values, and from what is wrong to its place.
func TestRowsSayWhatTheirCellsSay(t *testing.T) {
	const kinds = "userType={from: Kind, map: {S: Seasonal, E: Employee}}"
	for name, x := range map[string]struct {
		csv, date string
		maps      []string
		values    string
		wrong     string // place: what
	}{
		"as it is":          {csv: "id,Login\n E7 ,  eve.dahl\n", values: "E7|eve.dahl"},
		"joined, plain":     {csv: "First name,Last name\nSøren,Ørsted Å\n", maps: []string{joined}, values: "soren.orsteda"},
		"joined, in part":   {csv: "First name,Last name\nSøren,\n", maps: []string{joined}, values: "soren"},
		"by a table":        {csv: "id,Kind\nE7,s\n", maps: []string{kinds}, values: "Seasonal|E7"},
		"a date as it is":   {csv: "id,Start\nE7,2026-12-01\n", values: "E7|2026-12-01"},
		"a date as said":    {csv: "id,Start\nE7,01.12.2026\n", date: "DD.MM.YYYY", values: "E7|2026-12-01"},
		"a date, either":    {csv: "id,Start\nE7,2026-12-01\n", date: "DD.MM.YYYY", values: "E7|2026-12-01"},
		"not in the table":  {csv: "id,Kind\nE7,q\n", maps: []string{kinds}, values: "|E7", wrong: `monday.csv:2: the table for userType has no line for "q"`},
		"another form":      {csv: "id,Start\nE7,1/12/26\n", values: "E7|1/12/26", wrong: `monday.csv:2:4: "1/12/26" is no date like 2026-11-24`},
		"no such day":       {csv: "id,Start\nE7,31.09.2026\n", date: "DD.MM.YYYY", values: "E7|31.09.2026", wrong: `monday.csv:2:4: "31.09.2026" is not a valid date in the given format`},
		"a formula":         {csv: "id,Login\nE7,=A2\n", values: "E7|=A2", wrong: `monday.csv:2:4: "=A2" is a formula, and its value is expected`},
		"a row with less":   {csv: "id,Login\nE7\n", values: "|", wrong: "monday.csv:2: the row has 1 field and the header has 2"},
		"cells with breaks": {csv: "id,Login\n\"E\n7\",x\nE8,=A2\n", values: "E\n7|x", wrong: `monday.csv:4:4: "=A2" is a formula`},
	} {
		t.Run(name, func(t *testing.T) {
			m, err := understood(t, x.csv, x.maps...)
			require.NoError(t, err)
			date := ""
			if x.date != "" {
				date, err = desired.DateForm(x.date)
				require.NoError(t, err)
			}
			rows := m.Rows(date)
			require.NotEmpty(t, rows)
			require.Equal(t, x.values, strings.Join(rows[0].Values, "|"))
			var wrong []string
			for _, r := range rows {
				for i := range r.Wrong {
					wrong = append(wrong, m.Problem(r.Line, &r.Wrong[i]).Error())
				}
			}
			if x.wrong == "" {
				require.Empty(t, wrong)
				return
			}
			require.Len(t, wrong, 1)
			require.Contains(t, wrong[0], x.wrong)
			require.Contains(t, wrong[0], "; ", "it says what to do")
		})
	}
}
