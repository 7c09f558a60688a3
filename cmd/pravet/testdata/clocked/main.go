// Command clocked is Pravet with a clock that tests set: it is the moment that
// the variable CLOCK names (RFC 3339), so that what a day brings can be tested on
// any day.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	"time"

	"pravet/internal/cli"
)

func main() {
	now, err := time.Parse(time.RFC3339, os.Getenv("CLOCK"))
	if err != nil {
		panic(err)
	}
	signal.Ignore(syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop)
	env := cli.System("v0.0.0-test")
	env.Now = func() time.Time { return now }
	os.Exit(cli.Run(ctx, os.Args[1:], env))
}
