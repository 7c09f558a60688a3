package guard

import (
	"maps"
	"slices"

	"pravet/internal/core/diff"
)

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
