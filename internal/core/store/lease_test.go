package store_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dexamen/internal/core/sealed/sealedtest"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// TestOneHolderAtATime has eight processes take and give up one claim as fast
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
	require.Len(t, namesBelow(t, b, "claims/"), 1, "what is over does not pile up")

	// A claim that is held is told with its holder, and ends by itself.
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

// pausing calls a function when a point is about to be made.
type pausing struct {
	blob.Backend
	pause func()
}

func (p pausing) Create(ctx context.Context, name string, data []byte) error {
	if strings.HasPrefix(name, "points/") && p.pause != nil {
		p.pause()
	}
	return p.Backend.Create(ctx, name, data)
}

// TestAPausedWriter makes no point: what it relies on may be gone. That it wakes
// up and prolongs its claim changes nothing.
func TestAPausedWriter(t *testing.T) {
	mem := blob.NewMemory()
	_, err := store.Create(ctx, mem, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	for _, when := range []string{"before the point", "while the point is made"} {
		b := &pausing{Backend: mem}
		s, err := store.Open(ctx, b, store.Options{})
		require.NoError(t, err)
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(w)
		require.NoError(t, tb.Add(ctx, record.Record{Key: []byte("hive"), Value: []byte(when)}))
		root, err := tb.Finish(ctx)
		require.NoError(t, err)
		_, err = w.Flush(ctx)
		require.NoError(t, err)
		if when == "before the point" {
			sealedtest.StandStill(t, s.Objects)
		} else {
			b.pause = func() { sealedtest.StandStill(t, s.Objects) }
		}
		p := &store.Point{ID: store.NewPointID(time.Now()), Cluster: "meadow", Time: time.Now(), Finished: time.Now(),
			Namespaces: []store.PointNamespace{{Namespace: record.Namespace{Name: "apiary.hives"}, Root: root}}}
		require.ErrorIs(t, s.PutPoint(ctx, p), store.ErrLapsed, when)
		require.ErrorIs(t, s.PutPoint(ctx, p), store.ErrLapsed, "for good")
		points, _, err := s.Points(ctx, "meadow")
		require.NoError(t, err)
		require.Empty(t, points, when)
		s.Close()
	}
}
