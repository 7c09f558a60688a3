// Package start holds the commented files that a new repository begins with.
package start

import "embed"

// Files are the files; gitignore stands for .gitignore.
//
//go:embed pravet.yaml standing.yaml gitignore apps kits people exports
var Files embed.FS

// Empty is pravet.yaml of a repository that has nothing else yet; ORGANIZATION stands for the organization's name.
//
//go:embed empty/pravet.yaml
var Empty string
