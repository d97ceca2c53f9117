package store_test

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// TestOneHolderAtATime has eight processes take and give up one lease as fast
// as they can.
func TestOneHolderAtATime(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "")
	until := time.Now().Add(time.Second)
	var inside, held atomic.Int64
	var wg sync.WaitGroup
	for range 8 {
		s := h.open(t, b)
		wg.Go(func() {
			for time.Now().Before(until) {
				l, err := s.Acquire(ctx, "reclaim")
				if errors.Is(err, store.ErrHeld) {
					continue
				}
				if err != nil {
					t.Error(err)
					return
				}
				if inside.Add(1) != 1 {
					t.Error("two hold it")
				}
				held.Add(1)
				inside.Add(-1)
				l.Release(ctx)
			}
		})
	}
	wg.Wait()
	require.Greater(t, held.Load(), int64(20))
	require.Len(t, namesBelow(t, b, "leases/"), 1, "what is over does not pile up")

	// A lease that is held is told with its holder, and ends by itself.
	s := h.open(t, b)
	l, err := s.Acquire(ctx, "reclaim")
	require.NoError(t, err)
	require.NoError(t, l.Check())
	_, err = h.open(t, b).Reclaim(ctx, store.ReclaimOptions{})
	require.ErrorIs(t, err, store.ErrHeld)
	require.ErrorContains(t, err, "process")
	l.Release(ctx)
	_, err = h.open(t, b).Reclaim(ctx, store.ReclaimOptions{})
	require.NoError(t, err)
}
