// Command clocked is Pravet with a clock that tests set: it is the moment that
// the variable CLOCK names (RFC 3339), so that what a day brings can be tested on
// any day. With KILL_AT=N it kills itself when the clock is asked for the N-th time, which
// happens within every write to the ledger; with ASKED=FILE it writes there how often that
// was. TERM_OF_LEASE is how long a lease of a shared record lasts.
package main

import (
	"context"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"pravet/internal/cli"
)

func main() {
	now, err := time.Parse(time.RFC3339, os.Getenv("CLOCK"))
	if err != nil {
		panic(err)
	}
	now = now.In(time.Local) // as the clock of a machine is
	signal.Ignore(syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop)
	cli.EndSoon(ctx)
	settle(now)
	env := cli.System("v0.0.0-test")
	env.Term, _ = time.ParseDuration(os.Getenv("TERM_OF_LEASE"))
	asked := 0
	killAt, _ := strconv.Atoi(os.Getenv("KILL_AT"))
	env.Now = func() time.Time {
		if asked++; asked == killAt {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		}
		return now
	}
	status := cli.Run(ctx, os.Args[1:], env)
	if file := os.Getenv("ASKED"); file != "" {
		_ = os.WriteFile(file, []byte(strconv.Itoa(asked)), 0o600)
	}
	os.Exit(status)
}

// settle lets exports that were written by the machine's clock be of this one's.
func settle(now time.Time) {
	for _, pattern := range []string{"exports/*", "*/exports/*"} {
		files, _ := filepath.Glob(pattern)
		for _, f := range files {
			if info, err := os.Stat(f); err == nil && info.ModTime().After(now.Add(24*time.Hour)) {
				_ = os.Chtimes(f, now, now)
			}
		}
	}
}
