// Package wait waits, as long as a context lets it.
package wait

import (
	"context"
	"time"
)

// For waits for a time. It returns the context's error as soon as that ends.
func For(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}
