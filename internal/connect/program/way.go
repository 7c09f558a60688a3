package program

import (
	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/form"
)

// Way is for applications that a program of the organization's own reaches.
var Way = &connect.Way{
	Name: "program", Live: true,
	Keys: []form.Key{{
		Name: "run", Is: form.ListOf(1, form.Text("")), Need: true, Doc: "The program and its arguments",
		Lacks: "connect does not say which program to run", Add: "run: [PROGRAM, ARGUMENT]",
	}, connect.Variables},
	Read: func(r connect.Reader, s *connect.Spec) {
		s.At = r.Words("run")
		s.Parallel, s.Variables = 1, r.Names("variables")
	},
	Open: live.Opener(Open),
}
