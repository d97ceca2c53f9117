package store_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// TestDamageThatIsKnownIsWrittenAnew: once a scrub has found a content file damaged, a
// new point relies on nothing in it; what it writes heals the older points too.
func TestDamageThatIsKnownIsWrittenAnew(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "")
	require.NoError(t, version(h.open(t, b), "meadow", 1))
	packs := namesBelow(t, b, "content/")
	for _, p := range packs {
		b.Flip(p, 5000)
	}
	scrub := func(o store.ScrubOptions) *store.ScrubReport {
		a, err := h.open(t, b).Scrub(ctx, o)
		require.NoError(t, err)
		return a
	}
	require.Len(t, scrub(store.ScrubOptions{}).Points, 1)
	s := h.open(t, b)
	require.NoError(t, version(s, "orchard", 1))   // other content, of another cluster
	require.NoError(t, version(s, "meadow", 1001)) // the same but for what changed
	a := scrub(store.ScrubOptions{})
	require.Len(t, a.Damaged, len(packs))
	require.Equal(t, 1, a.Intact["meadow"], "the new point")
	require.Len(t, namesBelow(t, b, "suspect/"), 1)

	// The very same content again: then the old point is whole too.
	points, _, err := s.Points(ctx, "meadow")
	require.NoError(t, err)
	require.Error(t, check(s, points[0]))
	for _, n := range namesBelow(t, b, "points/") {
		if folder, ok := strings.CutSuffix(n, "v1001"); ok {
			require.NoError(t, b.Remove(ctx, folder+"v001"))
		}
	}
	require.NoError(t, version(s, "meadow", 1))
	require.NoError(t, check(h.open(t, b), points[0]), "what was lost has come by again")
	a = scrub(store.ScrubOptions{Repair: true})
	require.True(t, a.Sound(), "%+v", a)
	require.Empty(t, scrub(store.ScrubOptions{}).Damaged)
	_, err = h.open(t, b).Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
	require.NoError(t, err)
	require.Empty(t, namesBelow(t, b, "suspect/"))
}
