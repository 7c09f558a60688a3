// Package docs holds the pages of this folder, for the program to show.
package docs

import (
	"embed"
	"slices"
	"strings"
)

//go:embed *.md
var files embed.FS

// Topics are the names of the pages, sorted.
func Topics() (out []string) {
	entries, err := files.ReadDir(".")
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), ".md"); ok && err == nil {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Page is a page in Markdown; ok is false where there is none of that name.
func Page(topic string) (text string, ok bool) {
	if !slices.Contains(Topics(), topic) {
		return "", false
	}
	data, err := files.ReadFile(topic + ".md")
	return string(data), err == nil
}

// Title is the first heading of a page.
func Title(topic string) string {
	text, _ := Page(topic)
	for line := range strings.SplitSeq(text, "\n") {
		if title, ok := strings.CutPrefix(line, "# "); ok {
			return title
		}
	}
	return topic
}
