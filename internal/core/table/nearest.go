package table

import "unicode/utf8"

// Nearest returns the candidate that is closest to name by edit distance, case
// ignored, or "" when none is close enough to be what was meant: at most one
// edit in three letters. Ties go to the first candidate.
// It costs O(len(name)·len(candidate)) for each candidate.
func Nearest(name string, candidates []string) string {
	best, bestAt := "", 1+(utf8.RuneCountInString(name)+1)/3
	folded := []rune(Fold(name))
	for _, c := range candidates {
		if d := distance(folded, []rune(Fold(c)), bestAt); d < bestAt {
			best, bestAt = c, d
		}
	}
	return best
}

// distance is the Levenshtein distance of a and b with swaps of neighbours
// counted as one edit, or limit where it is not below limit.
func distance(a, b []rune, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	var before []int
	prev := make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur := make([]int, len(b)+1)
		cur[0] = i
		low := i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], before[j-2]+1)
			}
			low = min(low, cur[j])
		}
		if low >= limit {
			return limit
		}
		before, prev = prev, cur
	}
	return min(prev[len(b)], limit)
}
