package store_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// TestReclaimTakesNothingThatIsNeeded takes points of content that changes a
// little and comes back to what it was before, as patches where that is small;
// retires some, reclaims with no time of grace, by processes that know more or
// less of what is there; and reads all points that are left each time.
func TestReclaimTakesNothingThatIsNeeded(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			reclaimHistory(t, seed)
		})
	}
}

func reclaimHistory(t *testing.T, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 5))
	h := newHolder(t)
	h.opt.FileBytes = 100 << 10
	b := blob.NewMemory()
	h.create(t, b, "")
	type world [150]int // of each record, which of its contents it has
	var past []world
	past = append(past, world{})
	var points []*store.Point
	removed, patched := 0, int64(0)
	stores := []*store.Store{h.open(t, b)}
	for step := range 45 {
		what := fmt.Sprintf("seed %d, step %d", seed, step)
		if len(stores) < 3 || rng.IntN(4) == 0 { // processes come and go
			stores = append(stores, h.open(t, b))
			if len(stores) > 3 {
				stores[0].Close()
				stores = stores[1:]
			}
		}
		s := stores[rng.IntN(len(stores))]
		switch n := rng.IntN(10); {
		case n < 5:
			now := past[rng.IntN(len(past))] // also one that was before
			for range rng.IntN(3) {
				now[rng.IntN(len(now))] = rng.IntN(4)
			}
			if rng.IntN(6) == 0 {
				for i := range now {
					now[i] = rng.IntN(4)
				}
			}
			past = append(past, now)
			var near tree.Root
			if len(points) > 0 && rng.IntN(4) > 0 {
				near = points[rng.IntN(len(points))].Namespaces[0].Root
			}
			w := s.NewWriter(ctx)
			tb := tree.NewBuilder(w).Near(w, near)
			for i, v := range now {
				require.NoError(t, tb.Add(ctx,
					record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: noise(i*10+v+1, 4000)}),
					what)
			}
			root, err := tb.Finish(ctx)
			require.NoError(t, err, what)
			stats, err := w.Flush(ctx)
			require.NoError(t, err, what)
			patched += stats.Patched
			p := &store.Point{ID: fmt.Sprintf("p%03d", step), Cluster: "meadow", Time: time.Unix(int64(step), 0),
				Namespaces: []store.PointNamespace{{Namespace: record.Namespace{Name: "apiary.colonies"}, Root: root}}}
			require.NoError(t, s.PutPoint(ctx, p), what)
			points = append(points, p)
		case n < 7 && len(points) > 2:
			i := rng.IntN(len(points) - 1)
			_, err := s.Retire(ctx, "meadow", []string{points[i].ID}, "")
			require.NoError(t, err, what)
			points = slices.Delete(points, i, i+1)
		default:
			r, err := s.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
			require.NoError(t, err, what)
			removed += r.Removed
			if rng.IntN(2) == 0 { // nobody is left that began before
				for _, s := range stores {
					s.Close()
				}
				stores = stores[:0]
				stores = append(stores, h.open(t, b))
			}
		}
		fresh := h.open(t, b)
		for _, p := range points {
			require.NoError(t, check(fresh, p), "%s: point %s", what, p.ID)
		}
	}
	a, err := h.open(t, b).Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	require.True(t, a.Sound(), "%+v", a)
	t.Logf("%d points left, %d content files removed, %d leaves patched", len(points), removed, patched)
}

// TestAPatchWhoseBaseHasGone is of no use, though it is still there: content
// that comes back is written anew.
func TestAPatchWhoseBaseHasGone(t *testing.T) {
	h := newHolder(t)
	h.opt.FileBytes = 60 << 10 // a content file for each leaf
	b := blob.NewMemory()
	h.create(t, b, "")
	n := 0
	write := func(near tree.Root, change func(i int) int) *store.Point {
		n++
		s := h.open(t, b)
		defer s.Close()
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(w).Near(w, near)
		for i := range 150 {
			require.NoError(t, tb.Add(ctx,
				record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)),
					Value: noise(i*10+change(i)+1, 4000)}))
		}
		root, err := tb.Finish(ctx)
		require.NoError(t, err)
		_, err = w.Flush(ctx)
		require.NoError(t, err)
		p := &store.Point{ID: fmt.Sprint("p", n), Cluster: "meadow", Time: time.Unix(int64(n), 0),
			Namespaces: []store.PointNamespace{{Namespace: record.Namespace{Name: "apiary.colonies"}, Root: root}}}
		require.NoError(t, s.PutPoint(ctx, p))
		return p
	}
	first := write(tree.Root{}, func(int) int { return 0 })
	// Two leaves change a little: two patches, in one frame of one content file.
	ends := func(i int) int {
		if i == 0 || i == 149 {
			return 1
		}
		return 0
	}
	second := write(first.Namespaces[0].Root, ends)
	// The first leaf changes wholly, the last one stays: its patch keeps the content file.
	third := write(second.Namespaces[0].Root, func(i int) int {
		if i < 80 {
			return 2
		}
		return ends(i)
	})
	s := h.open(t, b)
	_, err := s.Retire(ctx, "meadow", []string{first.ID, second.ID}, "")
	require.NoError(t, err)
	removed := 0
	for range 3 {
		r, err := s.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
		require.NoError(t, err)
		removed += r.Removed
	}
	s.Close()
	require.Positive(t, removed, "the first leaf's base has gone")
	again := write(third.Namespaces[0].Root, ends)
	require.Equal(t, second.Namespaces[0].Root, again.Namespaces[0].Root)
	fresh := h.open(t, b)
	require.NoError(t, check(fresh, third))
	require.NoError(t, check(fresh, again))
}

// TestASmallContentFileStays as it is: its footer is larger than what it holds, and copying that
// out would make another one of the kind, for ever.
func TestASmallContentFileStays(t *testing.T) {
	b, s := fresh(t)
	w := s.NewWriter(ctx)
	tb := tree.NewBuilder(w)
	require.NoError(t, tb.Add(ctx, record.Record{Key: []byte("k"), Value: []byte("v")}))
	root, err := tb.Finish(ctx)
	require.NoError(t, err)
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	require.NoError(t, s.PutPoint(ctx, &store.Point{ID: "p", Cluster: "meadow", Time: time.Unix(1, 0),
		Namespaces: []store.PointNamespace{{Namespace: record.Namespace{Name: "apiary.colonies"}, Root: root}}}))
	s.Close()
	files := namesBelow(t, b, "content/")
	for range 3 {
		r, err := open(t, b).Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
		require.NoError(t, err)
		require.Zero(t, r.CopiedOut)
	}
	require.Equal(t, files, namesBelow(t, b, "content/"))
}

// TestReclaimNowAndThen: of several who see to it one is enough for a while, but
// for one that failed.
func TestReclaimNowAndThen(t *testing.T) {
	b, s := fresh(t)
	every := store.ReclaimOptions{Every: time.Hour}
	r, err := s.Reclaim(ctx, every)
	require.NoError(t, err)
	require.NotNil(t, r, "none before")
	other, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	defer other.Close()
	r, err = other.Reclaim(ctx, every)
	require.NoError(t, err)
	require.Nil(t, r)
	cut, cancel := context.WithCancel(ctx)
	_, err = other.Reclaim(cut, store.ReclaimOptions{Emit: func(string) { cancel() }})
	require.ErrorIs(t, err, context.Canceled)
	r, err = s.Reclaim(ctx, every)
	require.NoError(t, err)
	require.NotNil(t, r, "the last one failed")
	r, err = s.Reclaim(ctx, store.ReclaimOptions{})
	require.NoError(t, err)
	require.NotNil(t, r, "asked for")
}

// TestWhatIsRetiredCanBeBroughtBack for a time, whatever is reclaimed meanwhile, and is
// whole then; a point that somebody holds at the last moment stays.
func TestWhatIsRetiredCanBeBroughtBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, s := fresh(t)
		for n := 1; n <= 4; n++ {
			require.NoError(t, version(s, "meadow", n))
		}
		s.Close()
		s = open(t, b)
		require.NoError(t, s.PutHold(ctx, &store.Hold{Cluster: "meadow", Point: "v003",
			Until: time.Now().Add(time.Hour)}))
		out, err := s.Retire(ctx, "meadow", []string{"v001", "v002", "v003"}, "")
		require.NoError(t, err)
		require.Equal(t, []string{"v003"}, out.Held)
		require.Equal(t, []string{"v001", "v002"}, out.Dropped)
		reclaim := func() {
			for range 3 {
				_, err := open(t, b).Reclaim(ctx, store.ReclaimOptions{})
				require.NoError(t, err)
				time.Sleep(25 * time.Hour)
			}
		}
		reclaim()
		s = open(t, b)
		require.ErrorIs(t, func() error { _, err := s.BringBack(ctx, "orchard", "v001"); return err }(), store.ErrNoPoint)
		p, err := s.BringBack(ctx, "meadow", "v001")
		require.NoError(t, err)
		require.NoError(t, check(open(t, b), p.Point))
		lost, err := s.Missing(ctx)
		require.NoError(t, err)
		require.Empty(t, lost)

		// What was brought back and goes missing is told; what was retired is not.
		require.NoError(t, b.Remove(ctx, "points/meadow/v001"))
		a, err := open(t, b).Scrub(ctx, store.ScrubOptions{})
		require.NoError(t, err)
		require.True(t, a.Sound(), "nothing names it: %+v", a)
		s.Close()
		reclaim()
		reclaim()
		s = open(t, b)
		_, err = s.BringBack(ctx, "meadow", "v002")
		require.ErrorIs(t, err, store.ErrNoPoint, "its time is over")
		points, _, err := s.Points(ctx, "meadow")
		require.NoError(t, err)
		require.Len(t, points, 2)
		for _, p := range points {
			require.NoError(t, check(s, p))
		}
		require.Empty(t, namesBelow(t, b, "dropped/"))
	})
}

// TestAPointThatReliesOnWhatGoes is refused: what it began with was retired, and its content
// marked, before anybody knew of the one that is made.
func TestAPointThatReliesOnWhatGoes(t *testing.T) {
	b, s := fresh(t)
	require.NoError(t, version(s, "meadow", 1))
	points, _, err := s.Points(ctx, "meadow")
	require.NoError(t, err)
	require.NoError(t, version(s, "orchard", 2))
	s.Close()
	s = open(t, b)
	_, err = s.Retire(ctx, "meadow", []string{"v001"}, "")
	require.NoError(t, err)
	now := store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond}
	_, err = open(t, b).Reclaim(ctx, now)
	require.NoError(t, err)
	require.NotEmpty(t, namesBelow(t, b, "pending_delete/"))
	// A fold of no change takes the whole tree over.
	w := s.NewWriter(ctx)
	root, err := tree.Merge(ctx, w, points[0].Namespaces[0].Root, &noEdits{}, w)
	require.NoError(t, err)
	require.NoError(t, s.Enlist(ctx, s.Refresh))
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	p := *points[0]
	p.ID, p.Namespaces = "v009", []store.PointNamespace{{Namespace: p.Namespaces[0].Namespace, Root: root}}
	require.ErrorIs(t, s.PutPoint(ctx, &p), store.ErrCondemned)
}

type noEdits struct{}

func (*noEdits) NextKey(context.Context) ([]byte, bool, error) { return nil, false, nil }

func (*noEdits) Edit(context.Context, []byte, bool) ([]byte, bool, error) { return nil, false, nil }

// TestReclaimWaitsForWriters that were at work when content was marked: what one of them relies
// on, and nobody else knows of yet, stays.
func TestReclaimWaitsForWriters(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, first := fresh(t)
		require.NoError(t, version(first, "meadow", 1))
		require.NoError(t, version(first, "orchard", 7))
		points, _, err := first.Points(ctx, "meadow")
		require.NoError(t, err)
		old := points[0]
		first.Close()

		// A slow writer, of content that is there already.
		s := open(t, b)
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(w)
		require.NoError(t, tree.Walk(ctx, s, old.Namespaces[0].Root, func(r record.Record) error { return tb.Add(ctx, r) }))
		root, err := tb.Finish(ctx)
		require.NoError(t, err)
		stats, err := w.Flush(ctx)
		require.NoError(t, err)
		require.Zero(t, stats.New)

		other := open(t, b)
		_, err = other.Retire(ctx, "meadow", []string{old.ID}, "")
		require.NoError(t, err)
		now := store.ReclaimOptions{Grace: time.Minute, Dropped: time.Minute}
		waited, withdrawn := false, 0
		for range 4 {
			time.Sleep(time.Hour)
			r, err := open(t, b).Reclaim(ctx, now)
			require.NoError(t, err)
			waited = waited || len(r.Waiting) > 0
			require.Zero(t, r.Removed)
		}
		require.True(t, waited)
		p := *old
		p.ID, p.Namespaces = "v009", []store.PointNamespace{{Namespace: old.Namespaces[0].Namespace, Root: root}}
		require.NoError(t, s.PutPoint(ctx, &p))
		s.Close()
		for range 3 {
			time.Sleep(time.Hour)
			r, err := open(t, b).Reclaim(ctx, now)
			require.NoError(t, err)
			withdrawn += r.Withdrawn
		}
		require.Positive(t, withdrawn)
		require.NoError(t, check(open(t, b), &p))
	})
}
