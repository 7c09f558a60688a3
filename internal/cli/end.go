package cli

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"time"
)

// grace is how long a command that is interrupted may take to end by itself.
const grace = 900 * time.Millisecond

// serving is that this program has servers running for trying, which it ends itself, however long that takes.
var serving atomic.Bool

// EndSoon ends the program soon after a context has ended, whatever it is doing: whatever is half done then is
// finished by the next command, as after a kill.
func EndSoon(ctx context.Context) {
	context.AfterFunc(ctx, func() {
		time.Sleep(grace)
		if serving.Load() {
			return
		}
		fmt.Fprintln(os.Stderr, "pravet:", sayEnded())
		os.Exit(Failed)
	})
}

// sayEnded is that a command was ended in the middle.
func sayEnded() string {
	return "interrupted in the middle; what was begun is finished or undone by the next command, which says so"
}
