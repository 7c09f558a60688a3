// Package ways lists the ways of reaching applications. A new one is a package beside this one,
// and a line here.
package ways

import (
	"pravet/internal/connect"
	"pravet/internal/connect/files"
	"pravet/internal/connect/ldap"
	"pravet/internal/connect/postgres"
	"pravet/internal/connect/program"
	"pravet/internal/connect/scim"
	"pravet/internal/connect/upload"
)

// All are the ways, in the order in which they are told.
var All = []*connect.Way{files.Way, scim.Way, ldap.Way, postgres.Way, program.Way, upload.Way}

// Named finds a way by its name; nil where there is none.
func Named(name string) *connect.Way {
	for _, w := range All {
		if w.Name == name {
			return w
		}
	}
	return nil
}

// Names are the names of the ways.
func Names() (out []string) {
	for _, w := range All {
		out = append(out, w.Name)
	}
	return out
}
