package files

import "pravet/internal/connect"

// Way is for applications whose users live in the files that they export.
var Way = &connect.Way{
	Name: "files", Formats: []string{"csv", "scim", "ldif"},
	Open: func(o *connect.Opening) connect.Application {
		return &Files{Tree: o.Tree, Spec: o.Export, App: o.App, Now: o.Now}
	},
}
