package intake_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/intake"
)

var today = func() day.Day { d, _ := day.Parse("2026-11-24"); return d }()

// people are rows under a header, written as CSV without quotes.
func people(t require.TestingT, text string) *model.People {
	p := model.NewPeople()
	file := p.File("people/x.csv")
	var attrs []int
	for i, line := range strings.Split(strings.TrimSpace(text), "\n") {
		cells := strings.Split(line, ",")
		if i == 0 {
			for _, c := range cells {
				attrs = append(attrs, p.Attribute(c))
			}
			continue
		}
		require.True(t, p.Add(file, i+1, attrs, cells))
	}
	p.Close()
	return p
}

func rows(text string) (attrs []string, out []intake.Row) {
	for i, line := range strings.Split(strings.TrimSpace(text), "\n") {
		cells := strings.Split(line, ",")
		if i == 0 {
			attrs = cells
			continue
		}
		out = append(out, intake.Row{Line: i + 1, Values: cells})
	}
	return attrs, out
}

const known = `id,userName,displayName,email,title,starts,ends,formerly,extra.birth
E01,ada.holt,Ada Holt,ada@m.example,Clerk,2020-01-01,,,1990-01-01
E02,bo.lind,Bo Lind,bo@m.example,Clerk,2020-01-01,,bo.berg,1991-01-01
E03,cy.orr,Cy Orr,,Lead,2020-01-01,2026-10-31,,`

// said is what becomes of a row, in a few words.
func said(e *intake.Entry) string {
	out := []string{e.State.String(), e.ID}
	for _, c := range e.Changes {
		out = append(out, fmt.Sprintf("%s %q>%q", c.Attr, c.From, c.To))
	}
	for _, w := range e.Wrong {
		out = append(out, w.Attr+": "+w.Says)
	}
	for _, d := range e.Doubles {
		out = append(out, d.Why+" as "+d.ID)
	}
	return strings.Join(out, "; ")
}

func TestWhatBecomesOfARow(t *testing.T) {
	for _, x := range []struct{ name, rows, want string }{
		{"the same", "id,title\nE01,Clerk", "same; E01"},
		{"another value", "id,title\nE01,Lead", `changed; E01; title "Clerk">"Lead"`},
		{"an empty cell leaves a value", "id,title\nE01,", "same; E01"},
		{"by user name, case ignored", "userName,title\nADA.HOLT,Lead", `changed; E01; userName "ada.holt">"ADA.HOLT"; title "Clerk">"Lead"`},
		{"by email", "email,title\nbo@m.example,Lead", `changed; E02; title "Clerk">"Lead"`},
		{"new", "id,userName\nE10,di.fell", "new; E10"},
		{"no id", "userName\ndi.fell", "wrong; ; id: the row has no id"},
		{"no user name", "id,title\nE10,Clerk", "wrong; E10; userName: the row has no user name"},
		{
			"somebody else's user name", "id,userName\nE10,ada.holt",
			"wrong; E10; userName: the userName ada.holt is that of Ada Holt (E01) already",
		},
		{
			"somebody else's email", "id,userName,email\nE10,di.fell,ada@m.example",
			"wrong; E10; email: the email ada@m.example is that of Ada Holt (E01) already",
		},
		{"a former name", "id,userName\nE10,bo.berg", "wrong; E10; userName: bo.berg was the user name of Bo Lind (E02)"},
		{"called alike", "id,userName,displayName\nE10,a.holt,ada  HOLT", "new; E10; the same name as E01"},
		{"born alike", "id,userName,displayName,extra.birth\nE10,a.holt,Ada Holt,1990-01-01", "new; E10; the same name and birth as E01"},
		{"born otherwise", "id,userName,displayName,extra.birth\nE10,a.holt,Ada Holt,1999-01-01", "new; E10"},
		{"no address", "id,email\nE01,ada", `wrong; E01; email: "ada" is no email address`},
		{"a space", "id,userName\nE10,di fell", `wrong; E10; userName: there is a space in "di fell"`},
		{"ends before it starts", "id,ends\nE01,2019-01-01", "wrong; E01; ends: ends 2019-01-01 is before starts 2020-01-01"},
		{
			"twice", "id,title\nE01,Lead\nE01,Lead",
			"wrong; E01; id: the id E01 is in line 3 as well|wrong; E01; id: the id E01 is in line 2 as well",
		},
		{
			"one person by two keys", "id,email,title\nE01,,Lead\n,ada@m.example,Lead",
			"wrong; E01; : line 3 is about the same person, E01|wrong; E01; : line 2 is about the same person, E01",
		},
		{"a wrong field", "id,extra.size\nE01,XL", `wrong; E01; extra.size: "XL" is none of its values: S, M`},
	} {
		attrs, list := rows(x.rows)
		out := intake.Compare(intake.Input{
			Attrs: attrs, Rows: list, People: people(t, known), Today: today,
			Fields: []model.Field{{Name: "extra.size", Type: "text", Values: []string{"S", "M"}}},
		})
		var got []string
		for i := range out.Entries {
			got = append(got, said(&out.Entries[i]))
		}
		assert.Equal(t, x.want, strings.Join(got, "|"), x.name)
	}
}

func TestNumbersAndWhoIsMissing(t *testing.T) {
	attrs, list := rows("userName,email\ndi.fell,di@m.example\nbo.lind,\ned.gray,x")
	in := intake.Input{
		Attrs: attrs, Rows: list, People: people(t, known), Today: today, Number: "E##", Arrive: "true",
		Owns: func(p int) bool { return true }, Ends: true,
	}
	out := intake.Compare(in)
	var got []string
	for i := range out.Entries {
		got = append(got, said(&out.Entries[i]))
	}
	assert.Equal(t, []string{
		"new; E04", "same; E02", `wrong; ; email: "x" is no email address`, `missing; E01; ends "">"2026-11-24"`,
	}, got, "who has left already is not missing")
	assert.Equal(t, "true", out.Entries[0].Values["away"])
	assert.Equal(t, 1, out.Ending)
	assert.Equal(t, 2, out.Here)

	attrs, list = rows("userName\n" + strings.Repeat("x", 1) + "\ny")
	in = intake.Input{Attrs: attrs, Rows: list, People: people(t, "id,userName\nE98,a"), Today: today, Number: "E##"}
	out = intake.Compare(in)
	assert.Equal(t, "new; E99", said(&out.Entries[0]))
	assert.Equal(t, "wrong; ; id: there is no number left for an id like E##", said(&out.Entries[1]))
}

func TestTwoOfOneNameAreNotOnePerson(t *testing.T) {
	attrs, list := rows("userName,displayName,email,starts\nada.holt,Ada Holt,other@m.example,2026-12-01")
	out := intake.Compare(
		intake.Input{Attrs: attrs, Rows: list, People: people(t, known), Today: today, Joined: true, Number: "E##"},
	)
	assert.Equal(t, "wrong; ; userName: the userName ada.holt is that of Ada Holt (E01) already", said(&out.Entries[0]))
}

// Whatever a sheet says: what was taken in, taken in again, changes nothing.
func TestTakenInAgainItChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := "id,userName,email,title,ends\n"
		for i := range rapid.IntRange(1, 8).Draw(t, "people") {
			text += fmt.Sprintf(
				"E%02d,user%d,u%d@m.example,%s,\n",
				i,
				i,
				i,
				rapid.SampledFrom([]string{"", "Clerk"}).Draw(t, "title"),
			)
		}
		sheet := "id,userName,email,title,ends\n"
		for range rapid.IntRange(1, 10).Draw(t, "rows") {
			n := rapid.IntRange(0, 12).Draw(t, "who")
			pick := func(values ...string) string { return rapid.SampledFrom(values).Draw(t, "value") }
			sheet += fmt.Sprintf(
				"%s,%s,%s,%s,%s\n",
				pick("", fmt.Sprintf("E%02d", n)),
				pick("", fmt.Sprint("user", n)),
				pick("", fmt.Sprintf("u%d@m.example", n), "broken"),
				pick("", "Clerk", "Lead"),
				pick("", "2026-12-31", "2026-11-01"),
			)
		}
		attrs, list := rows(sheet)
		clear := rapid.Bool().Draw(t, "clear")
		in := intake.Input{
			Attrs:      attrs,
			Rows:       list,
			People:     people(t, text),
			Today:      today,
			Number:     "E##",
			ClearEmpty: clear,
		}
		first := intake.Compare(in)

		after := strings.Split(strings.TrimSpace(text), "\n")
		for i := range first.Entries {
			e := &first.Entries[i]
			switch e.State {
			case intake.New:
				row := make([]string, len(attrs))
				for n, a := range attrs {
					row[n] = e.Values[a]
				}
				after = append(after, strings.Join(row, ","))
			case intake.Changed:
				row := strings.Split(after[e.Person+1], ",")
				for _, c := range e.Changes {
					for n, a := range attrs {
						if a == c.Attr {
							row[n] = c.To
						}
					}
				}
				after[e.Person+1] = strings.Join(row, ",")
			}
		}
		in.People = people(t, strings.Join(after, "\n"))
		second := intake.Compare(in)
		require.Zero(t, second.Counts[intake.New], "%s", sheet)
		require.Zero(t, second.Counts[intake.Changed], "%s", sheet)
		require.Equal(t, first.Counts[intake.Bad], second.Counts[intake.Bad], "%s", sheet)
	})
}
