// Package schema holds the JSON Schemas (draft 2020-12) of the files that
// Pravet reads and writes, for editors and for validators.
package schema

import (
	"embed"
	"fmt"
	"strings"
)

//go:embed *.json
var files embed.FS

// Names lists the kinds of files that have a schema.
func Names() []string {
	return []string{"pravet", "people", "app", "kits", "paths", "standing", "plan"}
}

// Get returns the schema of a kind of file.
func Get(name string) ([]byte, error) {
	for _, n := range Names() {
		if n == name {
			return files.ReadFile(n + ".json")
		}
	}
	return nil, fmt.Errorf("there is no schema %q; there are %s", name, strings.Join(Names(), ", "))
}
