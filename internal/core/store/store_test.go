package store_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

var ctx = context.Background()

func open(t testing.TB, b blob.Backend) *store.Store {
	s, err := store.Open(ctx, b, store.Options{FileBytes: 1 << 20})
	require.NoError(t, err)
	return s
}

func keysOf(t testing.TB, s *store.Store) journal.Keys {
	k, err := s.SegmentKeys(ctx)
	require.NoError(t, err)
	return k
}

func fresh(t testing.TB) (*blob.Memory, *store.Store) {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	return b, open(t, b)
}

// save writes n records, version by version alike but for every step-th, and a
// point of them.
func save(t testing.TB, s *store.Store, n, step int, near tree.Root) (*store.Point, store.WriteStats) {
	w := s.NewWriter(ctx)
	b := tree.NewBuilder(w).Near(w, near)
	for i := range n {
		v := fmt.Sprintf("colony %d stands in the north yard, weight %d", i, i*7919%1000)
		if step > 0 && i%step == 0 {
			v += " and was weighed anew"
		}
		require.NoError(t, b.Add(ctx, record.Record{
			Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: []byte(v)}))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	stats, err := w.Flush(ctx)
	require.NoError(t, err)
	now := time.Now()
	p := &store.Point{ID: store.NewPointID(now), Cluster: "meadow", Time: now,
		Namespaces: []store.PointNamespace{
			{Namespace: record.Namespace{Name: "apiary.colonies", Kind: "collection"}, Root: root}}}
	require.NoError(t, s.PutPoint(ctx, p))
	return p, stats
}

func check(s *store.Store, p *store.Point) error {
	return s.CheckPoint(ctx, p, func(string, int64, int64) {})
}

func TestAStoreGivesBackWhatItTook(t *testing.T) {
	b, s := fresh(t)
	p, _ := save(t, s, 30_000, 0, tree.Root{})
	require.NoError(t, check(s, p))
	again := open(t, b)
	points, bad, err := again.Points(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, points, 1)
	require.NoError(t, check(again, points[0]))
	_, stats := save(t, again, 30_000, 0, tree.Root{})
	require.Zero(t, stats.New, "the same content takes no space")
}

func TestScatteredChangesAreStoredAsPatches(t *testing.T) {
	b, s := fresh(t)
	p1, first := save(t, s, 200_000, 0, tree.Root{})
	p2, second := save(t, s, 200_000, 100, p1.Namespaces[0].Root)
	require.Less(t, float64(second.Stored), 0.05*float64(first.Stored), "1 %% of the records changed")
	require.Positive(t, second.Patched)
	// A third version against the second, whose leaves are patches.
	p3, _ := save(t, s, 200_000, 90, p2.Namespaces[0].Root)
	again := open(t, b)
	for _, p := range []*store.Point{p1, p2, p3} {
		require.NoError(t, check(again, p))
	}
}

func TestOrderOfArrivalCostsNoSpace(t *testing.T) {
	_, s := fresh(t)
	rng := rand.New(rand.NewPCG(2, 2))
	load := func(step int, near tree.Root) (tree.Root, store.WriteStats) {
		w := s.NewWriter(ctx)
		l := tree.NewLoader(w, w, near, t.TempDir(), 1<<20)
		p := l.Part()
		for _, i := range rng.Perm(100_000) {
			v := fmt.Sprintf("colony %d stands in the heath, weight %d", i, i*7919%1000)
			if step > 0 && i%step == 0 {
				v += " and was weighed anew"
			}
			require.NoError(t, p.Add(ctx,
				record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: []byte(v)}))
		}
		root, err := l.Finish(ctx)
		require.NoError(t, err)
		stats, err := w.Flush(ctx)
		require.NoError(t, err)
		return root, stats
	}
	root, first := load(0, tree.Root{})
	again, none := load(0, root)
	require.Equal(t, root, again)
	require.Less(t, float64(none.Stored), 0.01*float64(first.Stored))
	_, second := load(100, root)
	require.Less(t, float64(second.Stored), 0.05*float64(first.Stored))
}

func TestTheIndexIsMadeAnewFromPacks(t *testing.T) {
	b, s := fresh(t)
	p, _ := save(t, s, 20_000, 0, tree.Root{})
	remove := func(prefix string) {
		var names []string
		require.NoError(t, b.List(ctx, prefix, func(i blob.Info) error { names = append(names, i.Name); return nil }))
		for _, n := range names {
			require.NoError(t, b.Remove(ctx, n))
		}
	}
	remove("listings/")
	again := open(t, b)
	require.NoError(t, check(again, p), "without an index the content files' own lists serve")
	packs, nodes, bad, err := again.RebuildListings(ctx)
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Positive(t, packs)
	require.Positive(t, nodes)
	require.NoError(t, check(open(t, b), p))
	remove("content/")
	require.ErrorIs(t, check(open(t, b), p), store.ErrMissing)
}

func putSegment(t testing.TB, s *store.Store, after, last string, n int) journal.Header {
	sb := journal.NewBuilder(keysOf(t, s), "meadow", "yard", record.Mark{Position: record.Position(after)})
	for i := range n {
		require.NoError(t,
			sb.Add(&record.Change{Op: record.Put, Namespace: "apiary.colonies", Key: []byte{byte(i)},
				Value: []byte("v"), At: record.Position(last), Wall: int64(i)}))
	}
	h, data, err := sb.Seal(tree.Hash{}, "member")
	require.NoError(t, err)
	require.NoError(t, s.PutSegment(ctx, h, data))
	return h
}

func TestOneStretchOfLogIsWrittenOnce(t *testing.T) {
	_, s := fresh(t)
	putSegment(t, s, "a", "c", 3)
	sb := journal.NewBuilder(keysOf(t, s), "meadow", "yard", record.Mark{Position: "a"})
	sb.CoverTo(record.Mark{Position: "d"})
	h, data, err := sb.Seal(tree.Hash{}, "other")
	require.NoError(t, err)
	require.ErrorIs(t, s.PutSegment(ctx, h, data), blob.ErrExists)
}

func TestCreateLeavesWhatIsThereAlone(t *testing.T) {
	b, _ := fresh(t)
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.ErrorIs(t, err, store.ErrStoreExists)
	other := blob.NewMemory()
	require.NoError(t, other.Create(ctx, "letters/1", nil))
	_, err = store.Create(ctx, other, store.CreateOptions{Tool: "test", Plain: true})
	require.ErrorIs(t, err, store.ErrStoreExists)
	_, err = store.Open(ctx, other, store.Options{})
	require.ErrorIs(t, err, store.ErrNoStore)
}

func TestProbe(t *testing.T) {
	b, _ := fresh(t)
	_, err := store.CheckPlace(ctx, b, 100_000)
	require.NoError(t, err)
	require.NoError(t, b.List(ctx, "check/", func(i blob.Info) error { return errors.New("left behind: " + i.Name) }))
}
