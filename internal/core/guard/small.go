package guard

import (
	"maps"
	"slices"

	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
)

// First are the first few of a list, sorted, as a fact names them.
func First(names []string) []string {
	slices.Sort(names)
	return names[:min(len(names), fact.MaxNames)]
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
