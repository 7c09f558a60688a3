package secret_test

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"html"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/secret"
)

// TestWhatOthersSayHasNoSecretInIt: however a server quotes what it was sent, nothing of a secret that would help
// anybody is left, and what is said around it stays.
func TestWhatOthersSayHasNoSecretInIt(t *testing.T) {
	const signs = `abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 &"<'%+/=-_.~äß`
	for seed := range uint64(400) {
		rng := rand.New(rand.NewPCG(seed, 21))
		var b strings.Builder
		for range 12 + rng.IntN(50) {
			all := []rune(signs)
			b.WriteRune(all[rng.IntN(len(all))])
		}
		text := b.String()
		k := &secret.Keeper{}
		k.Keep(text)
		both := fmt.Sprintf("%s\x00pravet\x00%s", strings.Repeat("u", rng.IntN(3)), text)
		from := rng.IntN(len(text) - 10)
		for how, quoted := range map[string]string{
			"as it is":   text,
			"upper case": strings.Map(upper, text),
			"part of it": text[from : from+10],
			"cut off":    text[:10],
			"URL":        url.QueryEscape(text),
			"path":       url.PathEscape(text),
			"HTML":       html.EscapeString(text),
			"JSON":       fmt.Sprintf("%q", text),
			"hex":        hex.EncodeToString([]byte(text)),
			"Base64":     base64.StdEncoding.EncodeToString([]byte(text)),
			"login":      base64.StdEncoding.EncodeToString([]byte(both)),
			"login, URL": base64.RawURLEncoding.EncodeToString([]byte(both + "\x00and more")),
			"wrapped":    wrapped(base64.StdEncoding.EncodeToString([]byte(both)), 20),
		} {
			got := k.Clean("535 bad credentials: " + quoted + ", said mail")
			require.Contains(t, got, "535 bad credentials:", "%d %s", seed, how)
			require.Contains(t, got, "[secret]", "%d %s: %q in %q", seed, how, text, quoted)
			require.True(t, utf8.ValidString(got))
			if how == "wrapped" {
				continue // of its first line the user is left, and of the secret no more than a few letters
			}
			require.Contains(t, got, "said mail", "%d %s", seed, how)
			for i := range len(quoted) - 8 {
				require.NotContains(t, strings.TrimSuffix(got, "said mail"), quoted[i:i+9], "%d %s: %q", seed, how, got)
			}
		}
	}
}

func upper(r rune) rune {
	if r >= 'a' && r <= 'z' {
		return r - 'a' + 'A'
	}
	return r
}

func wrapped(s string, n int) string {
	var b strings.Builder
	for i := 0; i < len(s); i += n {
		b.WriteString(s[i:min(i+n, len(s))] + "\n")
	}
	return b.String()
}

func TestOnlySecretsAreTakenOut(t *testing.T) {
	k := &secret.Keeper{
		Environ: []string{"PATH=/bin", "TILL_TOKEN=swordfish-swordfish", "PAY_TOKEN=herring-herring", "LC_ALL=C"},
	}
	k.Keep("")
	k.Keep("ab")
	k.Keep("crew7")
	for said, want := range map[string]string{
		"the directory refused it: no such object": "the directory refused it: no such object",
		"ab is not accepted, about that":           "[secret] is not accepted, about that",
		"bad crew7.":                               "bad [secret].",
		"PAY herring-herring":                      "PAY herring-herring", // nobody was given it yet
	} {
		assert.Equal(t, want, k.Clean(said))
	}
	long := k.Clean(strings.Repeat("ä", 5<<20))
	assert.Equal(t, strings.Repeat("ä", secret.MaxSaid)+"…", long)

	// A program gets what is named for it, and that is a secret from then on.
	assert.Equal(t, []string{"PATH=/bin", "PAY_TOKEN=herring-herring", "LC_ALL=C"}, k.For([]string{"PAY_TOKEN"}))
	assert.Equal(t, "PAY [secret]", k.Clean("PAY herring-herring"))
	assert.Equal(t, []string{"PATH=/bin", "LC_ALL=C"}, k.For(nil))
}
