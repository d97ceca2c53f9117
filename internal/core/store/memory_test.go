package store_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// peak returns by how much more than before was reachable, while something was done, in bytes.
func peak(do func()) int64 {
	defer debug.SetGCPercent(debug.SetGCPercent(10))
	now := func() int64 {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	runtime.GC()
	before, most := now(), int64(0)
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-time.After(5 * time.Millisecond):
				most = max(most, now()-before)
			case <-end:
				return
			}
		}
	}()
	do()
	close(end)
	<-ended
	return most
}

// TestMemoryOfUpkeep: of a store of many nodes (DEXAMEN_UPKEEP, in thousands; two else) with little room for
// where they lie, upkeep holds a few bits of each at most. That is what it says for many; few show only that it works.
func TestMemoryOfUpkeep(t *testing.T) {
	nodes := 2000
	if s := os.Getenv("DEXAMEN_UPKEEP"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		nodes = 1000 * n
	}
	h := newHolder(t)
	h.opt.FileBytes, h.opt.IndexBytes, h.opt.CacheBytes = 256<<10, 1<<20, 1<<20
	dir := t.TempDir()
	h.opt.Temp = dir
	b := blob.NewDir(filepath.Join(dir, "store"))
	h.create(t, b, "")
	s := h.open(t, b)
	value := make([]byte, 256<<10) // one or two leaves each, of almost nothing once compressed
	var points []*store.Point
	for i := range 2 {
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(w)
		for k := range nodes / 2 {
			binary.BigEndian.PutUint64(value, uint64(i*nodes+k))
			key := binary.BigEndian.AppendUint64(nil, uint64(k))
			require.NoError(t, tb.Add(ctx, record.Record{Key: key, Value: value}))
		}
		root, err := tb.Finish(ctx)
		require.NoError(t, err)
		_, err = w.Flush(ctx)
		require.NoError(t, err)
		p := &store.Point{ID: fmt.Sprint("p", i), Cluster: "meadow", Time: time.Unix(int64(i), 0),
			Namespaces: []store.PointNamespace{{Namespace: record.Namespace{Name: "apiary.colonies"}, Root: root}}}
		require.NoError(t, s.PutPoint(ctx, p))
		points = append(points, p)
	}
	s.Close()
	s = h.open(t, b)
	var used store.Usage
	did := func(what string, do func() error) {
		var err error
		began := time.Now()
		n := peak(func() { err = do() })
		require.NoError(t, err, what)
		t.Logf("%s: %.1f MiB in memory at most, %.1f s", what, float64(n)/(1<<20), time.Since(began).Seconds())
		require.Less(t, n, int64(24<<20)+int64(nodes)/2, what)
	}
	did("usage", func() (err error) { used, err = s.Usage(ctx); return err })
	t.Logf("%d nodes in %d content files", used.Nodes, used.Objects["content"])
	require.Greater(t, used.Nodes, nodes*3/4)
	did("shares", func() error {
		shares, dead, bad, err := s.Shares(ctx)
		require.Empty(t, bad)
		require.Len(t, shares, 1)
		require.Zero(t, dead)
		return err
	})
	to := blob.NewDir(filepath.Join(dir, "mirror"))
	did("mirror", func() error { _, err := s.Mirror(ctx, to, store.MirrorOptions{}); return err })
	did("scrub", func() error {
		r, err := s.Scrub(ctx, store.ScrubOptions{From: to, Repair: true})
		require.True(t, r.Sound())
		return err
	})
	_, err := s.Retire(ctx, "meadow", []string{"p0"}, "")
	require.NoError(t, err)
	did("reclaim", func() error {
		r, err := s.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
		if err == nil {
			require.InDelta(t, r.Files/2, r.Dead, 2)
		}
		return err
	})
	require.NoError(t, check(h.open(t, b), points[1]))
}

// sink counts content files and listings, and keeps neither.
type sink struct {
	blob.Backend
	files, listings atomic.Int64
}

func (s *sink) Create(ctx context.Context, name string, data []byte) error {
	switch {
	case strings.HasPrefix(name, "content/"):
		s.files.Add(1)
	case strings.HasPrefix(name, "listings/"):
		s.listings.Add(1)
	default:
		return s.Backend.Create(ctx, name, data)
	}
	return nil
}

// TestMemoryOfWriting: what a writer holds does not grow with what is written (DEXAMEN_WRITTEN, in MiB; 128 else),
// nor does it become slower.
func TestMemoryOfWriting(t *testing.T) {
	size := int64(128)
	if s := os.Getenv("DEXAMEN_WRITTEN"); s != "" {
		n, err := strconv.ParseInt(s, 10, 64)
		require.NoError(t, err)
		size = n
	}
	h := newHolder(t)
	h.opt = store.Options{Unlock: h.opt.Unlock, IndexBytes: 1 << 20, CacheBytes: 1 << 20, WriteBytes: 8 << 20,
		Temp: t.TempDir()}
	to := &sink{Backend: blob.NewMemory()}
	h.create(t, to, "")
	s := h.open(t, to)
	value := noise(1, 1000)
	n := peak(func() {
		w := s.NewWriter(ctx)
		l := tree.NewLoader(w, w, tree.Root{}, t.TempDir(), 8<<20)
		defer l.Close()
		part := l.Part()
		var done, told int64
		key, began := make([]byte, 8), time.Now()
		for i := uint64(0); done < size<<20; i++ {
			binary.BigEndian.PutUint64(key, i)
			copy(value[i%900:], key)
			require.NoError(t, part.Add(ctx, record.Record{Key: key, Value: value}))
			done += int64(len(key) + len(value))
			if done-told >= size<<20/10 {
				t.Logf("%d MiB: %.0f MiB/s", done>>20, float64(done-told)/(1<<20)/time.Since(began).Seconds())
				told, began = done, time.Now()
			}
		}
		root, err := l.Finish(ctx)
		require.NoError(t, err)
		_, err = w.Flush(ctx)
		require.NoError(t, err)
		require.Equal(t, done, root.Bytes)
	})
	t.Logf("%.1f MiB in memory at most; %d content files, %d listings", float64(n)/(1<<20), to.files.Load(),
		to.listings.Load())
	require.Positive(t, to.listings.Load())
	require.Less(t, n, int64(64<<20))
}
