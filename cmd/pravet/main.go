// Command pravet keeps people's access to business applications as it is
// described in files.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"pravet/internal/cli"
)

// version is set when the program is built.
var version = "unversioned"

func main() {
	if os.Getenv("GOGC") == "" { // whoever sets it knows better
		pace()
	}
	// A reader that goes away must not end a run half-way.
	signal.Ignore(syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // whoever interrupts twice means it
	cli.EndSoon(ctx)
	os.Exit(cli.Run(ctx, os.Args[1:], cli.System(version)))
}
