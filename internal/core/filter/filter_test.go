package filter_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	scim "github.com/scim2/filter-parser/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

const today = day.Day(20781) // 2026-11-24

var maren = map[string]string{
	"username": "maren.holt", "displayname": "Maren Holt", "department": "Planning", "title": "Berth planner",
	"name.givenname": "Maren",
	"lastactive":     "2026-10-20T08:15:00Z", "starts": "2021-03-01", "extra.badge": "17", "active": "true",
	"email": "maren.holt@marrowick.example",
}

func get(attr string) string { return maren[strings.ToLower(attr)] }

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		filter string
		want   bool
	}{
		{`department eq "planning"`, true},
		{`DEPARTMENT EQ "PLANNING"`, true},
		{`department eq "Plan"`, false},
		{`department ne "Deck"`, true},
		{`nickName ne "Mo"`, true}, // an absent value is unequal to everything
		{`nickName eq "Mo"`, false},
		{`nickName eq null`, true},
		{`department eq null`, false},
		{`nickName pr`, false},
		{`title pr and not (nickName pr)`, true},
		{`title co "PLAN"`, true},
		{`title sw "berth"`, true},
		{`title ew "planner"`, true},
		{`title sw "planner"`, false},
		{`department eq "Deck" or department eq "Planning" and title eq "x"`, false}, // and binds closer than or
		{`(department eq "Deck" or department eq "Planning") and title sw "B"`, true},
		{`not (department eq "Deck") and not (title sw "Trainee")`, true},
		{`name[givenName eq "maren"]`, true},
		{`name.givenName eq "Maren"`, true},
		{`department.value eq "Planning"`, true},
		{`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department eq "Planning"`, true},
		{`active eq true`, true},
		{`active eq false`, false},
		{`extra.badge gt 16`, true},
		{`extra.badge lt 16.5`, false},
		{`extra.badge eq 17.0`, true},
		{`title gt 3`, false}, // a text is not a number
		{`starts le "2021-03-01"`, true},
		{`starts lt "2021-03-01"`, false},
		{`starts gt "2020-12-31" and starts ge "2021-03-01"`, true},
		{`lastActive lt "-P30D"`, true},
		{`lastActive lt "-P36D"`, false},
		{`lastActive ge "-P2M"`, true},
		{`starts gt "P1D"`, false},
		{`nickName lt "-P30D"`, false}, // never is not long ago
		{`displayName eq "Maren \"M\" Holt"`, false},
		{`nickName eq "P3D"`, false},
		{`displayName eq "Mar\u0065n Holt"`, true},
		{`displayName co "\u004d"`, true},
		{`displayName gt "Anna" and displayName lt "Zoe"`, true},
		{`email ew "@MARROWICK.example"`, true},
	} {
		f, err := filter.Parse(c.filter)
		require.NoError(t, err, c.filter)
		require.Equal(t, c.want, f.Match(get, today), c.filter)
		require.Equal(t, c.filter, f.String())
	}
}

// TestValuesAreWrittenAsInJSON (RFC 7644 §3.4.2.2).
func TestValuesAreWrittenAsInJSON(t *testing.T) {
	for _, c := range []struct{ filter, value string }{
		{`title eq "Cid \"Quist\""`, `Cid "Quist"`},
		{`title co "\""`, `a "b"`},
		{`title eq "\u00c5sa"`, "Åsa"},
		{`title eq "a\\b"`, `a\b`},
		{`title eq "a\tb"`, "a\tb"}, {`title eq "a\/b"`, "a/b"}, {`title eq "\ud83d\udea2"`, "🚢"},
		{`location eq "P3D"`, "P3D"}, {`location eq "-P3D"`, "-p3d"}, {`location eq "P1X"`, "P1X"},
	} {
		f, err := filter.Parse(c.filter)
		require.NoError(t, err, c.filter)
		require.True(t, f.Match(func(string) string { return c.value }, today), c.filter)
		require.False(t, f.Match(func(string) string { return "other" }, today), c.filter)
	}
}

// TestTheGrammarIsThatOfALibrary: filters drawn at random are read as a parser
// that others wrote reads them, condition by condition.
func TestTheGrammarIsThatOfALibrary(t *testing.T) {
	var draw func(t *rapid.T, depth int, within bool) string
	draw = func(t *rapid.T, depth int, within bool) string {
		kind := rapid.IntRange(0, 9).Draw(t, "kind")
		if depth > 3 || within { // the library reads no more than one condition in brackets
			kind = 9
		}
		switch {
		case kind < 2:
			return draw(t, depth+1, within) + " and " + draw(t, depth+1, within)
		case kind < 4:
			return draw(t, depth+1, within) + " or " + draw(t, depth+1, within)
		case kind == 4:
			return "not (" + draw(t, depth+1, within) + ")"
		case kind == 5:
			return "(" + draw(t, depth+1, within) + ")"
		case kind == 6 && !within:
			return "name[" + draw(t, depth+1, true) + "]"
		}
		attr := rapid.SampledFrom([]string{"a", "b", "Title", "userName"}).Draw(t, "attribute")
		switch rapid.IntRange(0, 3).Draw(t, "value") {
		case 0:
			return attr + " pr"
		case 1:
			return attr + " eq " + rapid.SampledFrom([]string{"true", "false", "null", "12", "-0.5", "3e4"}).
				Draw(t, "literal")
		case 2:
			return attr + " lt " + rapid.SampledFrom([]string{"7", `"2026-01-01"`}).Draw(t, "literal")
		}
		return attr + " " + rapid.SampledFrom([]string{"eq", "ne", "co", "sw", "ew"}).
			Draw(t, "operator") +
			` "` + rapid.StringMatching(`[a-zA-Z ()\[\]]{0,6}`).
			Draw(t, "text") +
			`"`
	}
	rapid.Check(t, func(t *rapid.T) {
		src := draw(t, 0, false)
		tree, err := scim.ParseFilterNumber([]byte(src))
		require.NoError(t, err, src)
		f, err := filter.Parse(src)
		require.NoError(t, err, src)
		var attrs []string
		theirs := libraryTruth(tree, "", &attrs)
		require.Len(t, f.Clauses(), len(attrs), src)
		for i, c := range f.Clauses() {
			require.Equal(t, attrs[i], c.Attr+" "+c.Op, src)
		}
		for range 8 {
			truth := make([]bool, len(attrs))
			for i := range truth {
				truth[i] = rapid.Bool().Draw(t, "truth")
			}
			require.Equal(t, theirs(truth), f.Truth(func(i int) bool { return truth[i] }), src)
		}
	})
}

// libraryTruth is how a filter that the library has read follows from the truth of
// its conditions, which it lists as they stand.
func libraryTruth(e scim.Expression, within string, attrs *[]string) func([]bool) bool {
	switch e := e.(type) {
	case *scim.LogicalExpression:
		left, right := libraryTruth(e.Left, within, attrs), libraryTruth(e.Right, within, attrs)
		if e.Operator == scim.AND {
			return func(t []bool) bool { return left(t) && right(t) }
		}
		return func(t []bool) bool { return left(t) || right(t) }
	case *scim.NotExpression:
		of := libraryTruth(e.Expression, within, attrs)
		return func(t []bool) bool { return !of(t) }
	case *scim.ValuePath:
		return libraryTruth(e.ValueFilter, e.AttributePath.AttributeName+".", attrs)
	case *scim.AttributeExpression:
		n := len(*attrs)
		*attrs = append(*attrs, within+e.AttributePath.AttributeName+" "+strings.ToLower(string(e.Operator)))
		return func(t []bool) bool { return t[n] }
	}
	panic("unknown expression")
}

func TestCaseIsFoldedAsUnicodeDoes(t *testing.T) {
	for _, c := range [][2]string{{"SØREN", "søren"}, {"ſtern", "Stern"}, {"K", "k"}, {"ΣΊΣΥΦΟΣ", "σίσυφος"}} {
		f, err := filter.Parse(fmt.Sprintf("title eq %q", c[0]))
		require.NoError(t, err)
		require.True(t, f.Match(func(string) string { return c[1] }, today), c)
	}
}

func TestErrorsNameTheColumnAndWhatIsExpected(t *testing.T) {
	for _, c := range []struct {
		filter string
		column int
		says   string
	}{
		{``, 1, "the filter is empty"},
		{`department = "Deck"`, 12, `a comparison is expected after "department", not "="; write eq`},
		{`department eq Deck`, 15, `a value is expected after "eq", not "Deck"; write "Deck" in double quotes`},
		{`department eq 'Deck'`, 15, "double quotes"},
		{`department eq "Deck`, 15, "no closing quote"},
		{`department eq`, 14, "a value is expected"},
		{`department`, 11, "a comparison is expected"},
		{`eq "Deck"`, 1, `an attribute is expected here, not the word "eq"`},
		{`department eq "Deck" title pr`, 22, `join two conditions with "and" or "or"`},
		{`department eq "Deck" and`, 25, "an attribute is expected here, not the end"},
		{`not department eq "Deck"`, 5, `"not" is followed by "("`},
		{`(department eq "Deck"`, 22, `")" is expected here`},
		{`department eq "Deck")`, 21, "is not expected here"},
		{`name[givenName eq "a"`, 22, `"]" is expected here`},
		{`name[a[b eq "c"]]`, 7, "brackets do not stand within brackets"},
		{`department!="Deck"`, 11, `comparisons are words`},
		{`active gt true`, 1, "cannot be compared with true by gt"},
		{`extra.badge co 3`, 1, "write the number in double quotes"},
		{`starts gt "P1H"`, 1, "units come as Y, M, W, D"},
		{`title eq 01`, 10, "a value is expected"},
		{strings.Repeat("(", 100) + "title pr" + strings.Repeat(")", 100), 66, "nested too deeply"},
		{`title eq "é" and nope`, 22, "a comparison is expected"}, // columns count characters
	} {
		_, err := filter.Parse(c.filter)
		var fe *filter.Error
		require.True(t, errors.As(err, &fe), "%s: %v", c.filter, err)
		require.Equal(t, c.column, fe.Column, "%s: %v", c.filter, err)
		require.Contains(t, err.Error(), c.says, c.filter)
	}
}

// rows is a table of generated values.
type rows map[string]*table.Column

func (r rows) Len() int                         { return r["title"].Len() }
func (r rows) Column(name string) *table.Column { return r[strings.ToLower(name)] }

// TestClassifyAgreesWithMatch holds for any filters over any rows, with
// columns that are coded and columns that are plain.
func TestClassifyAgreesWithMatch(t *testing.T) {
	values := []string{"", "Deck", "deck", "Desk", "Engine", "2026-11-24", "2026-10-01", "7", "true"}
	ops := []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"}
	rapid.Check(t, func(t *rapid.T) {
		var clause func(depth int) string
		clause = func(depth int) string {
			switch n := rapid.IntRange(0, 5).Draw(t, "shape"); {
			case n == 0 && depth < 3:
				return "not (" + clause(depth+1) + ")"
			case n <= 2 && depth < 3:
				return "(" + clause(depth+1) + rapid.SampledFrom([]string{" and ", " or "}).
					Draw(t, "join") +
					clause(depth+1) + ")"
			case n == 3:
				return rapid.SampledFrom([]string{"title", "nobody"}).Draw(t, "attr") + " pr"
			}
			return fmt.Sprintf(
				"%s %s %q",
				rapid.SampledFrom([]string{"title", "Department", "starts", "nobody"}).Draw(t, "attr"),
				rapid.SampledFrom(ops).Draw(t, "op"),
				rapid.SampledFrom(append(values, "-P30D")).Draw(t, "value"),
			)
		}
		var filters []*filter.Filter
		for range rapid.IntRange(1, 6).Draw(t, "filters") {
			f, err := filter.Parse(clause(0))
			require.NoError(t, err)
			filters = append(filters, f)
		}
		filters = append(filters, nil)
		r := rows{"title": {}, "department": {}, "starts": {}}
		n := rapid.IntRange(1, 30).Draw(t, "rows")
		for i := range n {
			for _, name := range []string{"title", "department", "starts"} {
				col := r[name]
				v := rapid.SampledFrom(values).Draw(t, name)
				if name == "starts" && i == 0 && n > 20 { // make the column plain
					for range 5000 {
						col.Append(fmt.Sprint(col.Len()))
					}
				}
				col.Append(v)
			}
		}
		for _, col := range r {
			col.Pad(r["starts"].Len())
		}
		classes := filter.Classify(r, filters, today)
		for row := range r.Len() {
			if row > 40 && row < r.Len()-5 {
				continue
			}
			get := func(attr string) string {
				if c := r.Column(attr); c != nil {
					return c.At(row)
				}
				return ""
			}
			for i, f := range filters {
				require.Equal(
					t,
					f == nil || f.Match(get, today),
					classes.Match(classes.Of[row], i),
					"row %d, %v",
					row,
					f,
				)
			}
		}
		for i, f := range filters {
			count := 0
			for _, class := range classes.Of {
				if classes.Match(class, i) {
					count++
				}
			}
			require.Equal(t, count, classes.Count(i), "%v", f)
		}
	})
}

func TestFailsNamesTheClause(t *testing.T) {
	for _, c := range []struct{ filter, attr string }{
		{`department eq "Deck"`, "department"},
		{`department eq "Planning" and title eq "Mate"`, "title"},
		{`department eq "Deck" or title eq "Mate"`, "title"},
		{`department eq "Planning"`, ""},
		{`not (department eq "Planning")`, ""},
	} {
		f, err := filter.Parse(c.filter)
		require.NoError(t, err)
		clause, ok := f.Fails(get, today)
		require.Equal(t, c.attr != "", ok, c.filter)
		require.Equal(t, c.attr, clause.Attr, c.filter)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{`department eq "Deck" and not (title sw "Trainee")`, `emails[type eq "work" and value co "@x"]`, `lastActive lt "-P30D"`,
		`a.b.c pr`, `urn:x:y:z eq 1e9`, `a eq "\u00e9\\"`, `((((a pr))))`, "a eq \"\x00\"", `a eq -0.5E+3 or b eq null`, `not (not (a pr))`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		parsed, err := filter.Parse(s)
		if err != nil {
			var fe *filter.Error
			if !errors.As(err, &fe) || fe.Column < 1 || fe.Column > len(s)+1 {
				t.Fatalf("%q: %v has no place", s, err)
			}
			return
		}
		got := parsed.Match(get, today)
		again, err := filter.Parse(parsed.String())
		if err != nil || again.Match(get, today) != got {
			t.Fatalf("%q does not parse again: %v", s, err)
		}
	})
}

// BenchmarkClassify measures 200 rules over 100,000 people, and 2,000 rules: a
// rule costs what it selects on.
func BenchmarkClassify(b *testing.B) {
	r := rows{"title": {}, "department": {}, "starts": {}}
	for i := range 100_000 {
		r["title"].Append(fmt.Sprintf("Title %d", i%300))
		r["department"].Append(fmt.Sprintf("Department %d", i%50))
		r["starts"].Append(fmt.Sprintf("20%02d-01-01", i%30))
	}
	for _, n := range []int{200, 2000} {
		var filters []*filter.Filter
		for i := range n {
			f, err := filter.Parse(fmt.Sprintf(`department eq "Department %d" and title eq "Title %d"`, i%50, i))
			require.NoError(b, err)
			filters = append(filters, f)
		}
		b.Run(fmt.Sprintf("rules=%d", n), func(b *testing.B) {
			for b.Loop() {
				filter.Classify(r, filters, today)
			}
		})
	}
}

// TestWhatOnlyAComparisonByCoCatches: the rows that would not match without it,
// by their values, and where the text stands only inside a longer word.
func TestWhatOnlyAComparisonByCoCatches(t *testing.T) {
	people := model.NewPeople()
	title, place := people.Attribute("title"), people.Attribute("location")
	for _, row := range [][]string{
		{"Desk lead", "North"}, {"Misleading person", "North"}, {"Leader", "South"}, {"Clerk", "North"},
		{"Desk lead", "South"}, {"Lead, deck", "East"},
	} {
		people.Add(people.File("p"), 1, []int{title, place}, row)
	}
	people.Close()
	f, err := filter.Parse(`title co "lead" and location ne "East" or location eq "North"`)
	require.NoError(t, err)
	got := f.Catches(people, "co", func(i int) bool {
		return f.Match(func(attr string) string { return people.Get(i, attr) }, 0)
	}, 0)
	require.Len(t, got, 1)
	require.Equal(t, "title", got[0].Clause.Attr)
	require.Equal(t, 2, got[0].Rows, "those in the north match anyway")
	require.Equal(
		t,
		[]filter.Caught{{Value: "Desk lead", Rows: 1}, {Value: "Leader", Rows: 1, Within: true}},
		got[0].Values,
	)
}

// TestTheNearestAlternativeIsNamed: of an or, the one with the fewest clauses
// that fail.
func TestTheNearestAlternativeIsNamed(t *testing.T) {
	row := map[string]string{"title": "Mate", "department": "Deck", "location": "South"}
	get := func(attr string) string { return row[attr] }
	for text, want := range map[string]struct {
		clause string
		misses int
	}{
		`title eq "Captain" and location eq "North" or department eq "Deck" and location eq "North"`: {"location", 1},
		`title eq "Mate" and location eq "North" and department eq "Desk"`:                           {"location", 2},
		`title eq "Captain" or (location eq "North" and department eq "Desk")`:                       {"title", 1},
		`title eq "Mate"`: {"", 0},
		`not (title eq "Mate") and department eq "Desk"`: {"", 2},
	} {
		f, err := filter.Parse(text)
		require.NoError(t, err)
		c, _ := f.Fails(get, 0)
		require.Equal(t, want.clause, c.Attr, text)
		require.Equal(t, want.misses, f.Misses(get, 0), text)
	}
}

// TestOneOfSeveralValuesIsEnough, save for ne, which asks it of all.
func TestOneOfSeveralValuesIsEnough(t *testing.T) {
	rows := map[string][]string{"groups": {"north", "south"}, "roles": nil}
	for text, want := range map[string]bool{
		`groups eq "south"`: true, `groups eq "east"`: false, `groups ne "south"`: false, `groups ne "east"`: true,
		`groups co "or"`: true, `roles pr`: false, `roles eq "x"`: false, `roles ne "x"`: true,
		`not (groups eq "south")`: false,
	} {
		f, err := filter.Parse(text)
		require.NoError(t, err)
		require.Equal(t, want, f.MatchAny(func(attr string) []string { return rows[attr] }, 0), text)
	}
}
