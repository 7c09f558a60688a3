package secret

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// A Keeper reads the secrets of a call, and takes them out of all that others say: an application, a mail server or a
// program may quote what it was sent. It may be used by several goroutines.
type Keeper struct {
	Environ []string // where secrets of the environment are
	// Named are variables that references name: a program that prints a secret gets none of them.
	Named []string

	mu    sync.RWMutex
	kept  map[string]bool
	grams map[string]bool // what a form of a secret has anywhere, gram bytes each, in lower case
	short map[string]bool // secrets and forms of them that are shorter, in lower case
	base  map[string]bool // as grams, where a form is Base64: what stands around it belongs to it
}

const (
	// gram is how many bytes of a secret in a row give it away.
	gram = 8
	// word is how long a secret must be to be looked for within words.
	word = 4
	// MaxSaid is how much of what others say is passed on, in characters.
	MaxSaid = 300
	// maxHeard is how much of it is looked at, in bytes.
	maxHeard = 16 << 10
	// instead stands for a secret.
	instead = "[secret]"
)

// Read reads the secret that a reference leads to, and keeps it. The error never holds it.
func (k *Keeper) Read(ctx context.Context, ref string) (string, error) {
	text, err := read(ctx, ref, k.Environ, k.Named)
	if err == nil {
		k.Keep(text)
	}
	return text, err
}

// Keep takes a secret that is known otherwise: a token that was given out, a password that was made.
func (k *Keeper) Keep(text string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.kept[text] || text == "" {
		return
	}
	if k.grams == nil {
		k.kept = map[string]bool{}
		k.grams, k.short, k.base = map[string]bool{}, map[string]bool{}, map[string]bool{}
	}
	k.kept[text] = true
	for _, form := range forms(text) {
		k.add(k.grams, form)
	}
	for _, form := range inBase64(text) {
		k.add(k.base, form)
	}
}

func (k *Keeper) add(grams map[string]bool, form string) {
	if form = lower(form); len(form) < gram {
		k.short[form] = true
		return
	}
	for i := range len(form) - gram + 1 {
		grams[form[i:i+gram]] = true
	}
}

// forms are a secret as it may be written by those who quote it.
func forms(text string) []string {
	quoted, _ := json.Marshal(text) // a string has a form in JSON
	out := []string{
		text, url.QueryEscape(text), url.PathEscape(text), html.EscapeString(text),
		strings.Trim(string(quoted), `"`), hex.EncodeToString([]byte(text)),
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// inBase64 are the characters that stand in Base64 (RFC 4648, sections 4 and 5) of whatever holds a secret, wherever it
// begins there.
func inBase64(text string) (out []string) {
	for before := range 3 {
		whole := make([]byte, before, before+len(text))
		whole = append(whole, text...)
		skip := 0
		if before > 0 {
			skip = before + 1 // the last of them is made by the secret and by what is before it
		}
		for _, enc := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			form := enc.EncodeToString(whole)
			if len(whole)%3 != 0 {
				form = form[:len(form)-1]
			}
			if len(form)-skip > word {
				out = append(out, form[skip:])
			}
		}
	}
	return out
}

// Clean is what somebody said, without what a form of a secret has in it, and no longer than MaxSaid characters.
func (k *Keeper) Clean(text string) string {
	if len(text) > maxHeard {
		text = text[:maxHeard]
	}
	k.mu.RLock()
	text = k.without(text)
	k.mu.RUnlock()
	text = strings.ToValidUTF8(text, "\ufffd")
	if runes := []rune(text); len(runes) > MaxSaid {
		text = string(runes[:MaxSaid]) + "…"
	}
	return text
}

func (k *Keeper) without(text string) string {
	small := lower(text)
	gone := make([]bool, len(text))
	hit := false
	mark := func(from, to int) {
		hit = true
		for i := from; i < to; i++ {
			gone[i] = true
		}
	}
	for i := range len(small) - gram + 1 {
		at := small[i : i+gram]
		if k.grams[at] {
			mark(i, i+gram)
		}
		if k.base[at] {
			from, to := i, i+gram
			for from > 0 && isBase64(small[from-1]) {
				from--
			}
			for to < len(small) && isBase64(small[to]) {
				to++
			}
			mark(from, to)
		}
	}
	for s := range k.short {
		for from := 0; s != ""; {
			i := strings.Index(small[from:], s)
			if i < 0 {
				break
			}
			i += from
			from = i + 1
			if len(s) >= word || !within(small, i, i+len(s)) {
				mark(i, i+len(s))
			}
		}
	}
	if !hit {
		return text
	}
	var b strings.Builder
	for i := range len(text) {
		switch {
		case !gone[i]:
			b.WriteByte(text[i])
		case i == 0 || !gone[i-1]:
			b.WriteString(instead)
		}
	}
	return b.String()
}

// within reports whether a part of a text is no word by itself.
func within(text string, from, to int) bool {
	return from > 0 && isBase64(text[from-1]) || to < len(text) && isBase64(text[to])
}

func isBase64(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("+/-_=", c) >= 0
}

// lower folds letters of ASCII, so that every byte stays where it is.
func lower(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}

// usual are the variables that every program gets: how it finds others, where it may write, and how it speaks.
var usual = []string{
	"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LANGUAGE", "TZ", "TMPDIR", "TERM", "SSH_AUTH_SOCK",
	"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_RUNTIME_DIR",
	"SYSTEMROOT", "USERPROFILE", "APPDATA", "LOCALAPPDATA", "TEMP", "TMP", "COMSPEC", "PATHEXT",
}

// For is the environment of a program: the usual variables, and those that are named for it, which are kept as secrets.
// It has none of the others, as they may be secrets of somebody else.
func (k *Keeper) For(named []string) (out []string) {
	for _, e := range k.Environ {
		name, value, _ := strings.Cut(e, "=")
		if slices.Contains(named, name) {
			k.Keep(value)
		} else if !slices.Contains(usual, strings.ToUpper(name)) && !strings.HasPrefix(name, "LC_") {
			continue
		}
		out = append(out, e)
	}
	return out
}
