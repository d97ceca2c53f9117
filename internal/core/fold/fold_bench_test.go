package fold_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime/metrics"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// peak watches how much memory the process has from the system.
func peak(stop chan struct{}) chan uint64 {
	out := make(chan uint64, 1)
	go func() {
		most := uint64(0)
		sample := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
		for {
			metrics.Read(sample)
			most = max(most, sample[0].Value.Uint64()-sample[1].Value.Uint64())
			select {
			case <-stop:
				out <- most
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	return out
}

func hive(dst []byte, r *rand.Rand, i int) []byte {
	return fmt.Appendf(dst, `{"_id":%d,"yard":"north","status":"thriving","queen":%d,"weight":%.3f,"seen":%d}`, i,
		2022+r.IntN(5), 20+r.Float64()*30, r.Uint32())
}

func key(i int) []byte { return binary.BigEndian.AppendUint64(nil, uint64(i)) }

// BenchmarkTenMillion builds, diffs and folds ten million records in a store in
// a folder, beside the bare compressor and hash over the same bytes, and tells
// the peak memory. DEXAMEN_RECORDS sets another number.
func BenchmarkTenMillion(b *testing.B) {
	ctx := context.Background()
	n := 10_000_000
	if s := os.Getenv("DEXAMEN_RECORDS"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	for range b.N {
		dir := b.TempDir()
		backend := blob.NewDir(dir)
		_, err := store.Create(ctx, backend, store.CreateOptions{Tool: "bench", Plain: true})
		require.NoError(b, err)
		s, err := store.Open(ctx, backend, store.Options{})
		require.NoError(b, err)
		stop := make(chan struct{})
		most := peak(stop)
		rate := func(name string, records int, since time.Time) {
			b.ReportMetric(float64(records)/time.Since(since).Seconds(), name+"-records/s")
		}

		var root tree.Root
		build := func(sink tree.Sink) tree.Root {
			r := rand.New(rand.NewPCG(1, 1))
			t := tree.NewBuilder(sink)
			var v []byte
			for i := range n {
				v = hive(v[:0], r, i)
				require.NoError(b, t.Add(ctx, record.Record{Key: key(i), Value: v}))
			}
			root, err := t.Finish(ctx)
			require.NoError(b, err)
			return root
		}
		start := time.Now()
		r := rand.New(rand.NewPCG(1, 1))
		var v []byte
		for i := range n {
			v = hive(v[:0], r, i)
		}
		rate("generate", n, start)

		// The floor: the same bytes through the compressor and the hash alone,
		// on one core.
		start = time.Now()
		var block, out []byte
		r = rand.New(rand.NewPCG(1, 1))
		for i := range n {
			block = hive(block, r, i)
			if len(block) >= 100<<10 {
				out = frame.Append(out[:0], frame.Leaf, block)
				_ = blake3.Sum256(block)
				block = block[:0]
			}
		}
		rate("floor", n, start)

		start = time.Now()
		w := s.NewWriter(ctx)
		root = build(w)
		_, err = w.Flush(ctx)
		require.NoError(b, err)
		rate("build", n, start)

		// One record in a hundred changes, scattered.
		f := fold.New(plainModel{}, false, dir, 64<<20)
		f.Base(record.Namespace{Name: "apiary.colonies", Kind: "collection"}, root)
		start = time.Now()
		changes := 0
		for i := range n / 100 {
			k := (i * 7919) % n
			require.NoError(b,
				f.Change(&record.Change{
					Op: record.Put, Namespace: "apiary.colonies", Key: key(k), Value: hive(nil, r,
						k), At: record.Position("p")}))
			changes++
		}
		w = s.NewWriter(ctx)
		var folded tree.Root
		require.NoError(b, f.Merge(ctx, w, w, nil,
			func(_ *fold.Namespace, r tree.Root) error { folded = r; return nil }))
		_, err = w.Flush(ctx)
		require.NoError(b, err)
		f.Close()
		rate("fold", n, start)

		start = time.Now()
		differ := 0
		require.NoError(b, tree.Diff(ctx, tree.Side{Source: s, Root: root}, tree.Side{Source: s, Root: folded},
			func(tree.Difference) error { differ++; return nil }))
		require.Equal(b, changes, differ)
		rate("diff", n, start)
		close(stop)
		b.ReportMetric(float64(<-most)/(1<<20), "MiB-peak")
		b.ReportMetric(float64(root.Bytes)/(1<<20), "MiB-content")
		b.ReportMetric(0, "ns/op")
	}
}
