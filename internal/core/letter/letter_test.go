package letter_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/letter"
)

var (
	all = letter.Reader{
		Name: "Farah Linden", Address: "farah@marrowick.example", All: true, Because: []string{"you administer it"},
	}
	owner = letter.Reader{
		Name: "Ines Calder", Address: "ines@marrowick.example", Apps: map[string]bool{"tickets": true},
		Because: []string{"you own tickets", "you own berths"},
	}
	manager = letter.Reader{
		Name: "Oskar Nyman", Address: "oskar@marrowick.example", People: map[string]bool{"E0042": true},
		Because: []string{"you manage people"},
	}
)

// items are a run with two changes, and two things that fall due.
func items() []letter.Item {
	return []letter.Item{
		{Key: "run-1", On: "2026-11-24", Run: "run-1", App: "tickets", Person: "E0042", Says: "tickets: suspend account"},
		{Key: "run-1", On: "2026-11-24", Run: "run-1", App: "berths", Person: "E0007", Says: "berths: grant role viewer"},
		{Key: "run-1", On: "2026-11-24", Run: "run-1", Says: "2 changes settled", Whole: true},
		{Key: "due-2", On: "2026-12-09", App: "tickets", Person: "E0007", Says: "tickets: remove account"},
		{Key: "due-1", On: "2026-12-01", App: "berths", Person: "E0042", Says: "berths: last day"},
	}
}

func write(readers []letter.Reader, items []letter.Item, told func(address, key string) bool) []letter.Letter {
	if told == nil {
		told = func(string, string) bool { return false }
	}
	return letter.Write("Marrowick Ferries", "2026-11-24", letter.Default(), readers, items, told)
}

func TestEachReaderSeesWhatIsTheirs(t *testing.T) {
	got := write([]letter.Reader{all, owner, manager}, items(), nil)
	require.Len(t, got, 3)
	require.Equal(t, `Dear Farah Linden,

Carried out by run-1 on 2026-11-24: 2 changes settled
  tickets: suspend account
  berths: grant role viewer

Falls due
  2026-12-01  berths: last day
  2026-12-09  tickets: remove account

Pravet writes this to you because you administer it.
`, got[0].Body)
	require.Equal(t, "Marrowick Ferries: 2 changes, 2 things fall due on 2026-11-24", got[0].Subject)
	require.Equal(t, `Dear Ines Calder,

Carried out by run-1 on 2026-11-24
  tickets: suspend account

Falls due
  2026-12-09  tickets: remove account

Pravet writes this to you because you own tickets, and because you own berths.
`, got[1].Body)
	require.Equal(t, "Marrowick Ferries: 1 change, 1 thing falls due on 2026-11-24", got[1].Subject)
	require.Contains(t, got[2].Body, "tickets: suspend account")
	require.Contains(t, got[2].Body, "berths: last day")
	require.NotContains(t, got[2].Body, "grant role viewer", "of somebody else's people")
	require.NotContains(t, got[2].Body, "settled", "a run as a whole is for administrators")
}

// TestNobodyIsToldTwice: what was told before is left out, and who has nothing new gets no letter.
func TestNobodyIsToldTwice(t *testing.T) {
	told := map[string]bool{}
	know := func(address, key string) bool { return told[address+" "+key] }
	first := write([]letter.Reader{all, owner}, items(), know)
	require.Len(t, first, 2)
	for _, l := range first {
		require.True(t, slices.IsSorted(l.Keys[:1]))
		for _, k := range l.Keys {
			told[l.Address+" "+k] = true
		}
	}
	require.Empty(t, write([]letter.Reader{all, owner}, items(), know))
	more := append(items(), letter.Item{Key: "due-3", On: "2026-12-24", App: "tickets", Says: "tickets: closed"})
	again := write([]letter.Reader{all, owner, manager}, more, know)
	require.Len(t, again, 3, "the manager was told nothing yet")
	require.Equal(t, []string{"due-3"}, again[0].Keys)
	require.NotContains(t, again[0].Body, "run-1")
	require.Equal(t, "Marrowick Ferries: 1 thing falls due on 2026-11-24", again[0].Subject)
}

// TestALetterIsKnownByWhatItTells, and to whom: the same one has the same id.
func TestALetterIsKnownByWhatItTells(t *testing.T) {
	ids := map[string]bool{}
	for _, l := range write([]letter.Reader{all, owner, manager}, items(), nil) {
		ids[l.ID] = true
	}
	require.Len(t, ids, 3)
	other := all
	other.Name = "Somebody Else"
	require.Equal(t, write([]letter.Reader{all}, items(), nil)[0].ID, write([]letter.Reader{other}, items(), nil)[0].ID)
	require.NotEqual(
		t, write([]letter.Reader{all}, items(), nil)[0].ID, write([]letter.Reader{all}, items()[:3], nil)[0].ID,
	)
}

func TestALongRunIsCutAndSaysSo(t *testing.T) {
	var many []letter.Item
	for i := range 43 {
		many = append(
			many, letter.Item{Key: "run-2", On: "2026-11-24", Run: "run-2", App: "tickets", Says: fmt.Sprintf("change %d", i)},
		)
	}
	body := write([]letter.Reader{all}, many, nil)[0].Body
	require.Contains(t, body, "  change 39\n  and 3 more; see: pravet log run-2\n")
	require.NotContains(t, body, "change 40")
}

func TestATemplateNamesFieldsInBraces(t *testing.T) {
	text := letter.Parse("Subject: {organization},\t{day}\n\nTo {reader}: {count}.\n{items}\n{because}; {no such}\n")
	l := letter.Write(
		"Marrowick\nFerries", "2026-11-24", text, []letter.Reader{owner}, items(), func(string, string) bool { return false },
	)[0]
	require.Equal(t, "Marrowick Ferries, 2026-11-24", l.Subject, "a subject is one line, whatever is put into it")
	require.True(t, strings.HasPrefix(l.Body, "To Ines Calder: 1 change, 1 thing falls due.\nCarried out by run-1"))
	require.Contains(t, l.Body, "{no such}", "what is no field stays")
	plain := letter.Parse("Only a body about {count}.")
	require.Equal(t, letter.Default().Subject, plain.Subject)
	require.Equal(t, "Only a body about {count}.\n", plain.Body)
	for _, field := range letter.Fields() {
		text := letter.Text{Subject: "x", Body: "{" + field + "}"}
		l := letter.Write(
			"Marrowick Ferries", "2026-11-24", text, []letter.Reader{owner}, items(), func(string, string) bool { return false },
		)[0]
		require.NotContains(t, l.Body, "{", "%s is a field", field)
	}
}

func TestARunIsSummedUp(t *testing.T) {
	for want, c := range map[string]struct {
		settled, not, held int
		stopped            string
	}{
		"1 change settled":                                 {settled: 1},
		"0 changes settled, 2 not settled":                 {not: 2},
		"3 changes settled, 1 not settled, 4 held":         {3, 1, 4, ""},
		"3 changes settled; stopped: the directory is ill": {settled: 3, stopped: "the directory is ill"},
	} {
		require.Equal(t, want, letter.Ended(c.settled, c.not, c.held, c.stopped))
	}
	run := []letter.Item{{Key: "run-3", On: "2026-11-24", Run: "run-3", Says: letter.Ended(0, 0, 2, ""), Whole: true}}
	require.Equal(t, "Marrowick Ferries: a run on 2026-11-24", write([]letter.Reader{all}, run, nil)[0].Subject)
	require.Empty(t, write([]letter.Reader{owner, manager}, run, nil))
}
