package export_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// TestTheLatestOfDatedFiles is a table of folders and of what a name with a time in
// it finds there.
func TestTheLatestOfDatedFiles(t *testing.T) {
	for _, c := range []struct {
		names []string
		files []string
		want  []string
		taken string
		err   string
	}{
		{
			names: []string{"exports/till-{taken}.csv"},
			files: []string{
				"till-2026-11-09.csv", "till-2026-11-23.csv", "till-2026-13-01.csv", "till-old.csv", "till-.csv",
			},
			want:  []string{"exports/till-2026-11-23.csv"},
			taken: "2026-11-23T00:00:00Z",
		},
		{
			names: []string{"exports/{taken}.csv"},
			files: []string{"20261123.csv", "20261123T1830.csv", "2026-11-23_06-15-59.csv", "20261123183.csv"},
			want:  []string{"exports/20261123T1830.csv"},
			taken: "2026-11-23T18:30:00Z",
		},
		{ // of both lists, the latest that both have
			names: []string{"exports/users-{taken}.json", "exports/groups-{taken}.json"},
			files: []string{
				"users-2026-11-22.json", "users-2026-11-23.json", "groups-2026-11-22.json", "groups-2026-11-21.json",
			},
			want:  []string{"exports/users-2026-11-22.json", "exports/groups-2026-11-22.json"},
			taken: "2026-11-22T00:00:00Z",
		},
		{
			names: []string{"exports/groups.json", "exports/users-{taken}.json"},
			files: []string{"users-2026-11-22.json", "groups.json"},
			want:  []string{"exports/groups.json", "exports/users-2026-11-22.json"},
			taken: "2026-11-22T00:00:00Z",
		},
		{
			names: []string{"exports/till-{taken}.csv"}, files: []string{"till.csv"},
			err: "no file is named as exports/till-{taken}.csv says",
		},
		{
			names: []string{"exports/a-{taken}.json", "exports/b-{taken}.json"},
			files: []string{"a-2026-11-22.json", "b-2026-11-21.json"},
			err:   "there is no single export time for which every file exists, including exports/b-{taken}.json",
		},
	} {
		var paths []model.Name
		for _, n := range c.names {
			paths = append(paths, model.Name{Text: n})
		}
		got, taken, err := export.Latest(paths, func(folder string) ([]string, error) {
			require.Equal(t, "exports", folder)
			return c.files, nil
		})
		if c.err != "" {
			require.EqualError(t, err, c.err)
			continue
		}
		require.NoError(t, err)
		var texts []string
		for _, n := range got {
			texts = append(texts, n.Text)
		}
		require.Equal(t, c.want, texts)
		require.Equal(t, c.taken, taken.Format(time.RFC3339))
	}
}
