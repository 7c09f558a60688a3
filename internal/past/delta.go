package past

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
)

// Delta is how a text differs from one before: the lines of that one that are gone, by
// their numbers from 1, and those that have come. Both have their lines sorted, but for
// the first. O(lines).
//
//	-17
//	-23
//	+ann	open	3 4
func Delta(before, after []byte) []byte {
	old, now := linesOf(before), linesOf(after)
	var out bytes.Buffer
	gone := func(i int) { fmt.Fprintf(&out, "-%d\n", i+1) }
	come := func(line []byte) { fmt.Fprintf(&out, "+%s\n", line) }
	i, j := 0, 0
	if len(old) > 0 && len(now) > 0 {
		if !bytes.Equal(old[0], now[0]) {
			gone(0)
			come(now[0])
		}
		i, j = 1, 1
	}
	for i < len(old) || j < len(now) {
		switch order := compare(old, now, i, j); {
		case order == 0:
			i, j = i+1, j+1
		case order < 0:
			gone(i)
			i++
		default:
			come(now[j])
			j++
		}
	}
	return out.Bytes()
}

func compare(old, now [][]byte, i, j int) int {
	switch {
	case i == len(old):
		return 1
	case j == len(now):
		return -1
	}
	return bytes.Compare(old[i], now[j])
}

func linesOf(text []byte) [][]byte {
	if len(text) == 0 {
		return nil
	}
	return bytes.Split(bytes.TrimSuffix(text, []byte{'\n'}), []byte{'\n'})
}

// ErrDelta says that a difference is not one to the text that it is applied to.
var ErrDelta = errors.New("the difference does not fit what it is to")

// Apply returns the text that differs so from one before.
func Apply(before, delta []byte) ([]byte, error) {
	old := linesOf(before)
	gone := make([]bool, len(old))
	var come [][]byte
	var first []byte
	for _, line := range linesOf(delta) {
		switch {
		case len(line) > 1 && line[0] == '-':
			n, err := strconv.Atoi(string(line[1:]))
			if err != nil || n < 1 || n > len(old) || gone[n-1] {
				return nil, ErrDelta
			}
			gone[n-1] = true
		case len(line) > 0 && line[0] == '+' && len(gone) > 0 && gone[0] && first == nil:
			first = line[1:]
		case len(line) > 0 && line[0] == '+':
			come = append(come, line[1:])
		default:
			return nil, ErrDelta
		}
	}
	out := make([][]byte, 0, len(old)+len(come))
	for i, line := range old {
		if i == 0 && first != nil {
			out = append(out, first)
			continue
		}
		for i > 0 && len(come) > 0 && bytes.Compare(come[0], line) < 0 {
			out, come = append(out, come[0]), come[1:]
		}
		if !gone[i] {
			out = append(out, line)
		}
	}
	if out = append(out, come...); len(out) == 0 {
		return nil, nil
	}
	return append(bytes.Join(out, []byte{'\n'}), '\n'), nil
}
