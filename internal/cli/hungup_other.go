//go:build !unix

package cli

import "context"

// hungUp is a context that also ends when the terminal goes away.
func hungUp(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithCancel(ctx)
}
