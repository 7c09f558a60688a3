package desk_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/desk"
	"pravet/internal/prepare"
)

// yearOf makes a repository of so many people in one application, of whom many come and leave in the year to come.
func yearOf(t testing.TB, n int) string {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	var people, export strings.Builder
	people.WriteString("id,userName,displayName,department,starts,ends\n")
	export.WriteString("Login,Name,State,Teams\n")
	first := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	for i := range n {
		starts, ends := "", ""
		on := first.AddDate(0, 0, i*7919%365).Format(time.DateOnly)
		switch i % 10 {
		case 0, 1:
			ends = on
		case 2:
			starts = on
		}
		fmt.Fprintf(&people, "E%05d,person.%d,Person %d,Dock %d,%s,%s\n", i, i, i, i%9, starts, ends)
		if starts == "" {
			fmt.Fprintf(&export, "person.%d,Person %d,Open,dock-%d\n", i, i, i%9)
		}
	}
	write("pravet.yaml", "organization: Marrowick Ferries\nguards: {removals: 100, suspensions: 100%, narrowing: 100%}\n")
	write("people/all.csv", people.String())
	write("exports/docks.csv", export.String())
	var groups, kits strings.Builder
	for i := range 9 {
		fmt.Fprintf(&groups, "  dock-%d: {}\n", i)
		fmt.Fprintf(&kits, "  dock-%d:\n    for: department eq \"Dock %d\"\n    gives: {docks: {groups: [dock-%d]}}\n", i, i, i)
	}
	write("apps/docks.yaml", `app: docks
export: {format: csv, path: exports/docks.csv, columns: {userName: Login, displayName: Name, active: {column: State, true: Open, false: Blocked}, groups: {column: Teams, split: ";"}}}
connect: {by: files}
match: userName
account: {userName: userName, displayName: displayName}
groups:
`+groups.String())
	write("kits/kits.yaml", "kits:\n"+kits.String())
	write("paths/leaving.yaml", "paths:\n  all:\n    for: userName pr\n    when: ended\n    steps:\n      - {do: suspend}\n      - {after: P14D, do: strip}\n      - {after: P30D, do: remove}\n")
	return dir
}

// at opens a repository on the first day.
func at(t testing.TB, dir string) *desk.Desk {
	t.Helper()
	d, err := desk.Open(context.Background(), desk.Place{
		Dir: dir, Folder: dir, By: "Farah Linden", Environ: []string{"HOME=" + dir},
		Now: func() time.Time { return time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC) },
		Ear: desk.Ear{
			Log: func(string) {}, Closed: func(desk.Closed) {}, Counting: func(string, int) {}, Fetched: func([]prepare.Fetched) {},
			Finished: func([]string) {},
		},
	})
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	_, err = d.Draft(desk.Drafting{On: d.Today()})
	require.NoError(t, err)
	return d
}

// TestDaysAreRehearsed: who comes gets an account on the first day, who leaves is blocked, stripped and removed after the waits of the
// path; nothing of the repository is touched; and what is for good is done only where everything is accepted.
func TestDaysAreRehearsed(t *testing.T) {
	dir := yearOf(t, 20)
	d := at(t, dir)
	before, err := os.ReadFile(filepath.Join(dir, "exports", "docks.csv"))
	require.NoError(t, err)
	x, err := d.RehearseDays("P1Y", true, nil, nil)
	require.NoError(t, err)
	days := map[string]string{} // what is done for the person who leaves first
	for _, day := range x.Lived {
		for _, h := range day.Done {
			if h.Person == "E00000" {
				days[day.On] += h.Says + "; "
			}
		}
	}
	require.Equal(t, map[string]string{
		"2026-12-02": "docks: suspend account for Person 0 (E00000); ",
		"2026-12-16": "docks: leave group dock-0 for Person 0 (E00000); ",
		"2027-01-15": "docks: remove account for Person 0 (E00000); ",
	}, days)
	require.Equal(t, "2026-12-01", x.From)
	require.Equal(t, "2027-12-01", x.To)
	after, err := os.ReadFile(filepath.Join(dir, "exports", "docks.csv"))
	require.NoError(t, err)
	require.Equal(t, string(before), string(after))
	plans, err := filepath.Glob(filepath.Join(dir, "plans", "*.json"))
	require.NoError(t, err)
	require.Len(t, plans, 1, "the one that was drafted before")

	_, err = d.RehearseDays("P1Y", false, nil, nil)
	require.ErrorContains(t, err, "pravet.yaml has no unattended")
	_, err = d.RehearseDays("P9Y", true, nil, nil)
	require.ErrorContains(t, err, "a span from P1D to P5Y is expected")
}

// TestAYearWithNobodyThere: of what is rehearsed only that is carried out which pravet.yaml lets be carried out with nobody there;
// the rest waits, from the day on which it came up.
func TestAYearWithNobodyThere(t *testing.T) {
	dir := yearOf(t, 20)
	settings := filepath.Join(dir, "pravet.yaml")
	data, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings, append(data, "unattended: effect eq \"narrows\"\n"...), 0o600))
	x, err := at(t, dir).RehearseDays("P1Y", false, nil, nil)
	require.NoError(t, err)
	for _, day := range x.Lived {
		for _, h := range day.Done {
			require.Equal(t, "narrows", h.Effect.String())
			require.False(t, h.ForGood)
		}
	}
	waits := map[string]string{}
	for _, p := range x.Pending {
		waits[p.Says] = p.Since + " " + p.Why
	}
	require.Equal(t, "2027-01-15 a decision", waits["docks: remove account for Person 0 (E00000), for good"]+waits["docks: remove account for Person 0 (E00000)"])
}

// BenchmarkDays lives through a year of 1,000 people.
func BenchmarkDays(b *testing.B) {
	d := at(b, yearOf(b, 1000))
	for b.Loop() {
		x, err := d.RehearseDays("P1Y", true, nil, nil)
		require.NoError(b, err)
		require.NotEmpty(b, x.Lived)
	}
}
