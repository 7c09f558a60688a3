package past

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLinesAreSortedByTheirBytes, whatever they have in common, however short they are.
func TestLinesAreSortedByTheirBytes(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		prefix := strings.Repeat("user.", r.IntN(3))
		var lines []line
		var want [][]byte
		for range 1 + r.IntN(60) {
			text := []byte(prefix)
			for range r.IntN(14) {
				text = append(text, []byte{0, 'a', 'b', 0xff, '\t'}[r.IntN(5)])
			}
			lines, want = append(lines, line{text: text}), append(want, text)
		}
		slices.SortFunc(want, bytes.Compare)
		sortLines(lines)
		for i := range lines {
			require.Equal(t, want[i], lines[i].text)
		}
	}
}
