package plan

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzDecode: what the quick decoder takes, encoding/json takes too, and for the same.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{
		`{"format":"pravet.plan/2","people":{"E1":"Ada"},"totals":{"changes":1}}`,
		`{"changes":[{"account":"ada","after":{"mail":"a@b.example"},"before":null,"effect":"widens","verb":"create",` +
			`"reasons":[0,1],"thing":{"kind":"role","name":"x"}}]}`,
		`{"changes":[{"after":[1,2.5,"x",true,null]}],"reasons":[{"facts":{"kind":"away","names":["a"]},"says":"\u00e9"}]}`,
		`{"FORMAT":"x","format":"y"}`, `{"setAside":[{"change":{"verb":"remove"}}]}`,
	} {
		f.Add([]byte(s))
	}
	if data, err := os.ReadFile("../../../docs/schema/plan.json"); err == nil {
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := decode(data)
		want, slow := slowly(data)
		if err != nil {
			require.Error(t, slow)
			return
		}
		require.NoError(t, slow)
		require.Equal(t, want, got)
	})
}
