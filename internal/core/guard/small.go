package guard

import (
	"maps"
	"slices"
	"strings"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// maxNamed is how many accounts or things a notice names before it counts.
const maxNamed = 5

// Some names the first few of a list, sorted, and counts the rest.
func Some(names []string) string {
	slices.Sort(names)
	if len(names) <= maxNamed {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:maxNamed], ", ") + " and " + model.Count(len(names)-maxNamed, "more", "more")
}

func every(*diff.Change) bool { return true }

func contains(sorted []string, s string) bool {
	_, ok := slices.BinarySearch(sorted, s)
	return ok
}

func sorted(s []string) []string {
	slices.Sort(s)
	return s
}

func sortedKeys[V any](m map[int32]V) []int32 { return slices.Sorted(maps.Keys(m)) }
