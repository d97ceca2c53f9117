package store_test

import (
	"context"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// counted is a place where every read is a request.
type counted struct {
	blob.Backend
	reads, bytes *atomic.Int64
}

func (c counted) Remote() bool { return true }

func (c counted) ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error) {
	c.reads.Add(1)
	c.bytes.Add(int64(n))
	return c.Backend.ReadAt(ctx, name, off, n)
}

// TestFewRequests: what lies together is fetched together, and hardly more than it.
func TestFewRequests(t *testing.T) {
	recs := benchRecords(64 << 20 / 320)
	back := counted{blob.NewMemory(), new(atomic.Int64), new(atomic.Int64)}
	h := newHolder(t)
	h.create(t, back, "")
	open := func() *store.Store {
		s, err := store.Open(ctx, back, store.Options{Unlock: h.opt.Unlock})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	s := open()
	w := s.NewWriter(ctx)
	b := tree.NewBuilder(w)
	for _, r := range recs {
		require.NoError(t, b.Add(ctx, r))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	stats, err := w.Flush(ctx)
	require.NoError(t, err)

	s = open()
	back.reads.Store(0)
	back.bytes.Store(0)
	n := 0
	require.NoError(t, tree.Walk(ctx, s, root, func(r record.Record) error {
		require.Equal(t, recs[n].Key, r.Key)
		n++
		return nil
	}))
	require.Equal(t, len(recs), n)
	mib := float64(stats.Stored) / (1 << 20)
	require.Less(t, float64(back.reads.Load()), 4+mib/2, "requests for %.0f MiB", mib)
	require.Less(t, float64(back.bytes.Load()), 1.5*float64(stats.Stored))
}
