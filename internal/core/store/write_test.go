package store_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
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

// slowPacks takes its time over content files, and counts those that are on their way.
type slowPacks struct {
	blob.Backend
	away, most, all atomic.Int32
}

func (s *slowPacks) Create(ctx context.Context, name string, data []byte) error {
	if strings.HasPrefix(name, "content/") {
		n := s.away.Add(1)
		defer s.away.Add(-1)
		s.most.Store(max(s.most.Load(), n))
		s.all.Add(1)
		time.Sleep(20 * time.Millisecond)
	}
	return s.Backend.Create(ctx, name, data)
}

// rereading reads, after each node it is given, one of those before: still to be
// written, in a content file that is being filled or on its way, or stored.
type rereading struct {
	*store.Writer
	past  []tree.Hash
	nodes [][]byte
}

func (r *rereading) PutNode(ctx context.Context, h tree.Hash, node []byte, near tree.Hash) error {
	r.past, r.nodes = append(r.past, h), append(r.nodes, bytes.Clone(node))
	if err := r.Writer.PutNode(ctx, h, node, near); err != nil {
		return err
	}
	n := len(r.past)
	i := n - 1 - n*7%min(n, 40)
	got, err := r.Node(ctx, r.past[i])
	if err == nil && !bytes.Equal(got, r.nodes[i]) {
		err = fmt.Errorf("node %s is another", h.Short())
	}
	return err
}

// TestAWriterHoldsFewPacks: however many compress, and however slow the store
// is, no more content files are held than WriteBytes has room for; and what was written
// through room that is used again is what was given.
func TestAWriterHoldsFewPacks(t *testing.T) {
	b := &slowPacks{Backend: blob.NewMemory()}
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	const pack = 256 << 10
	s, err := store.Open(ctx, b, store.Options{
		Workers: 8, FileBytes: pack, WriteBytes: 3 * (pack + pack/8), CacheBytes: 1})
	require.NoError(t, err)
	defer s.Close()
	w := s.NewWriter(ctx)
	tb := tree.NewBuilder(&rereading{Writer: w})
	for i := range 3000 {
		require.NoError(t, tb.Add(ctx, record.Record{
			Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: noise(i, 3000)}))
	}
	root, err := tb.Finish(ctx)
	require.NoError(t, err)
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	require.Greater(t, b.all.Load(), int32(20))
	require.EqualValues(t, 2, b.most.Load(), "two on their way, one being filled")
	i := 0
	require.NoError(t, tree.Walk(ctx, s, root, func(r record.Record) error {
		require.Equal(t, noise(i, 3000), r.Value)
		i++
		return nil
	}))
	require.Equal(t, 3000, i)
}

// heedful ends what it is asked for when the context does, after a while.
type heedful struct{ blob.Backend }

func (h heedful) Create(ctx context.Context, name string, data []byte) error {
	time.Sleep(10 * time.Millisecond)
	if err := ctx.Err(); err != nil {
		return err
	}
	return h.Backend.Create(ctx, name, data)
}

// TestNodesOutliveWhoHandedThemIn: a node is stored though the scan that it came
// from has ended by then, and its context with it; the context of the whole work
// ends it.
func TestNodesOutliveWhoHandedThemIn(t *testing.T) {
	b := heedful{blob.NewMemory()}
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{Workers: 1, FileBytes: 64 << 10})
	require.NoError(t, err)
	defer s.Close()
	put := func(w *store.Writer, from int) (hashes []tree.Hash, err error) {
		scan, end := context.WithCancel(ctx)
		defer end()
		for i := range 40 {
			node := noise(from+i, 30_000)
			hashes = append(hashes, tree.HashOf(node))
			if err := w.PutNode(scan, tree.HashOf(node), node, tree.Hash{}); err != nil {
				return nil, err
			}
		}
		return hashes, nil
	}
	w := s.NewWriter(ctx)
	hashes, err := put(w, 0)
	require.NoError(t, err)
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	for _, h := range hashes {
		_, err := s.Node(ctx, h)
		require.NoError(t, err)
	}
	work, end := context.WithCancel(ctx)
	w = s.NewWriter(work)
	end()
	_, _ = put(w, 1000)
	_, err = w.Flush(ctx)
	require.ErrorIs(t, err, context.Canceled)
}

// TestCompress: however hard what is written was compressed, it is the same and read the same; small is
// smaller than fast, and auto is no larger, as nobody waits where one record comes after the other.
func TestCompress(t *testing.T) {
	stored := map[store.Compress]int64{}
	var first tree.Root
	for _, how := range []store.Compress{store.CompressFast, store.CompressAuto, store.CompressSmall} {
		b := blob.NewMemory()
		_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
		require.NoError(t, err)
		s, err := store.Open(ctx, b, store.Options{Compress: how})
		require.NoError(t, err)
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(unkeyed{w})
		value := func(i int) []byte {
			return fmt.Appendf(nil, `{"colony":%d,"keeper":"member-%d","weight":%d.%d,"note":"%s"}`, i, i*i%977,
				i%41, i%9, strings.Repeat(fmt.Sprintf("hive %d ", i%13), 1+i%5))
		}
		for i := range 20_000 {
			require.NoError(t, tb.Add(ctx, record.Record{
				Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: value(i)}))
			if i%500 == 0 {
				time.Sleep(time.Millisecond)
			}
		}
		root, err := tb.Finish(ctx)
		require.NoError(t, err)
		stats, err := w.Flush(ctx)
		require.NoError(t, err)
		stored[how] = stats.Stored
		if how == store.CompressFast {
			first = root
		}
		require.Equal(t, first, root)
		s.Close()
		i := 0
		require.NoError(t, tree.Walk(ctx, open(t, b), root, func(r record.Record) error {
			require.Equal(t, value(i), r.Value)
			i++
			return nil
		}))
		require.Equal(t, 20_000, i)
	}
	t.Log(stored)
	require.Less(t, stored[store.CompressSmall], stored[store.CompressFast]*98/100)
	require.LessOrEqual(t, stored[store.CompressAuto], stored[store.CompressFast])
}

// unkeyed has nodes end where they do in every store.
type unkeyed struct{ *store.Writer }

func (unkeyed) Cuts() tree.Cuts { return tree.Cuts{} }
