package program

import (
	"pravet/internal/connect"
	"pravet/internal/connect/live"
)

// Way is for applications that a program of the organization's own reaches.
var Way = &connect.Way{
	Name: "program", Live: true, TellsAge: true,
	Keys: []connect.Key{{
		Name:   "run",
		Doc:    "The program and its arguments",
		Schema: `{"type": "array", "items": {"type": ["string", "number"]}, "minItems": 1}`,
	}},
	Read: func(r connect.Reader, s *connect.Spec) {
		if s.At = r.Words("run"); len(s.At) == 0 {
			r.Wrong("", "missing-key", "connect does not say which program to run", "add run: [PROGRAM, ARGUMENT]")
		}
		s.Parallel = 1
	},
	Open: live.Opener(Open),
}
