package plain_test

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/plain"
)

func TestWhatIsWrongWithJSONIsSaidInWords(t *testing.T) {
	type any struct {
		Name string
		List []int
	}
	for text, want := range map[string]string{
		`{"a": r}`:           `'r' stands where a value is expected`,
		`{a: 1}`:             `'a' stands where a key in quotes is expected`,
		`{"a" 1}`:            `'1' stands where a colon is expected`,
		`{"a": 1 "b": 2}`:    `'"' stands where a comma or the end of the object is expected`,
		`[1 2]`:              `'2' stands where a comma or the end of the list is expected`,
		`{"Name": "a` + "\n": `'\n' stands where a text goes on, and it has to be escaped there`,
		`{"Name": "\q"}`:     `'q' stands where a text goes on after a backslash, where it means nothing`,
		`{"Name": "\u12x4"}`: `'x' stands where four hexadecimal digits are expected`,
		`{"Name": tru1}`:     `'1' stands where a word is expected, and true, false and null are the only ones`,
		`{"List": [1.x]}`:    `'x' stands where a digit is expected`,
		`{"Name": "a"`:       `it ends in the middle`,
		``:                   `it ends in the middle`,
		`{"Name": 7}`:        `Name is a number, which is not expected there`,
		`{"Other": 7}`:       `"Other" is no key that is expected there`,
		`'`:                  `'\'' stands where a value is expected`,
	} {
		dec := json.NewDecoder(bytes.NewReader([]byte(text)))
		dec.DisallowUnknownFields()
		err := dec.Decode(&any{})
		require.Error(t, err, text)
		assert.EqualError(t, plain.JSON(err), want, text)
	}
	require.NoError(t, plain.JSON(nil))
	assert.ErrorIs(t, plain.JSON(assert.AnError), assert.AnError)
}
