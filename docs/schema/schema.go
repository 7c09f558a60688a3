// Package schema holds the JSON Schemas (draft 2020-12) of the files that
// Pravet reads and writes, and of what its commands write as JSON, for editors and for
// validators.
package schema

import (
	"embed"
	"fmt"
	"slices"
	"strings"
)

//go:embed *.json output
var files embed.FS

// kinds are the kinds of files that have a schema.
var kinds = []string{"pravet", "people", "app", "kits", "paths", "standing", "plan"}

// Names lists the kinds of files that have a schema and, as output/COMMAND, the commands.
func Names() []string {
	out := slices.Clone(kinds)
	entries, err := files.ReadDir("output")
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), ".json"); ok && err == nil {
			out = append(out, "output/"+name)
		}
	}
	return out
}

// Get returns the schema of a kind of file, or of what a command writes.
func Get(name string) ([]byte, error) {
	if slices.Contains(Names(), name) {
		return files.ReadFile(name + ".json")
	}
	return nil, fmt.Errorf("there is no schema %q; there are %s", name, strings.Join(Names(), ", "))
}
