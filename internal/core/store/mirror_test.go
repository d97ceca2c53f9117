package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// TestMirror copies all, some clusters, and young points only; what is copied is
// a store of its own, whatever else there was.
func TestMirror(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "")
	s := h.open(t, b)
	for n := 1; n <= 4; n++ {
		for _, c := range []string{"meadow", "orchard"} {
			require.NoError(t, version(s, c, n))
			require.NoError(t, stretch(s, c, n))
		}
	}
	mirror := func(to blob.Backend, o store.MirrorOptions) (*store.Mirrored, *store.Store) {
		m, err := s.Mirror(ctx, to, o)
		require.NoError(t, err)
		require.Empty(t, m.Damaged)
		ms := h.open(t, to)
		a, err := ms.Scrub(ctx, store.ScrubOptions{})
		require.NoError(t, err)
		require.True(t, a.Sound(), "%+v", a)
		points, _, err := ms.Points(ctx, "")
		require.NoError(t, err)
		require.Len(t, points, m.Points)
		for _, p := range points {
			require.NoError(t, check(ms, p))
		}
		return m, ms
	}
	whole := blob.NewMemory()
	m, _ := mirror(whole, store.MirrorOptions{})
	require.Equal(t, 8, m.Points)
	m, _ = mirror(whole, store.MirrorOptions{})
	require.LessOrEqual(t, m.Copied, 2, "what is there is not copied again")
	require.NoError(t, version(s, "meadow", 5))
	m, ms := mirror(whole, store.MirrorOptions{})
	require.Equal(t, 9, m.Points)
	// It can be written to, reclaimed and mirrored itself.
	require.NoError(t, version(ms, "meadow", 6))
	_, err := ms.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
	require.NoError(t, err)

	some := blob.NewMemory()
	m, ms = mirror(some, store.MirrorOptions{Clusters: []string{"orchard"}})
	require.Equal(t, 4, m.Points)
	chains, _, err := ms.Chains(ctx, "orchard")
	require.NoError(t, err)
	require.Len(t, chains["yard"].Segments, 4)
	require.Less(t, len(namesBelow(t, some, "content/")), len(namesBelow(t, b, "content/")))
	chains, _, err = ms.Chains(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, chains)
	m, _ = mirror(some, store.MirrorOptions{})
	require.Equal(t, 9, m.Points, "the rest can follow")

	young := blob.NewMemory()
	m, ms = mirror(young, store.MirrorOptions{Since: time.Unix(2500, 0)})
	require.Equal(t, 5, m.Points)
	chains, _, err = ms.Chains(ctx, "meadow")
	require.NoError(t, err)
	require.Len(t, chains["yard"].Segments, 3, "the log that leads to the oldest point is not needed but for its end")

	other := blob.NewMemory()
	h.create(t, other, "")
	_, err = s.Mirror(ctx, other, store.MirrorOptions{})
	require.ErrorIs(t, err, store.ErrOtherStore)
	full := blob.NewMemory()
	require.NoError(t, full.Create(ctx, "somebody/elses", nil))
	_, err = s.Mirror(ctx, full, store.MirrorOptions{})
	require.ErrorIs(t, err, store.ErrStoreExists)

	// What is damaged is said, and not passed on.
	name := namesBelow(t, b, "content/")[0]
	b.Flip(name, 4000)
	fresh := blob.NewMemory()
	m, err = s.Mirror(ctx, fresh, store.MirrorOptions{})
	require.NoError(t, err)
	require.Equal(t, []string{name}, m.Damaged)
}
