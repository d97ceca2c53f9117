package store_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// TestMirrorByOthers holds that a mirror is whole of which others have copied content files, whatever they leave out or
// only say that they have done, and that they refuse another store's place.
func TestMirrorByOthers(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "")
	s := h.open(t, b)
	for n := 1; n <= 12; n++ {
		require.NoError(t, version(s, "meadow", n))
		require.NoError(t, stretch(s, "meadow", n))
	}
	to := blob.NewMemory()
	other := h.open(t, b)
	asked := 0
	m, err := s.Mirror(ctx, to, store.MirrorOptions{Others: func(ctx context.Context, files []string,
		done func([]string, *store.FilesCopied)) error {
		asked = len(files)
		for i, of := range slices.Collect(slices.Chunk(files, 2)) {
			switch i % 3 {
			case 0: // left out
			case 1: // said, and not done
				done(of, &store.FilesCopied{Copied: len(of)})
			case 2:
				for range 2 { // once more is no harm
					r, err := other.CopyFiles(ctx, to, of)
					require.NoError(t, err)
					require.Empty(t, r.Damaged)
				}
				done(of, &store.FilesCopied{Copied: len(of)})
			}
		}
		return nil
	}})
	require.NoError(t, err)
	require.Greater(t, asked, 8)
	require.Empty(t, m.Damaged)
	ms := h.open(t, to)
	r, err := ms.Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	require.True(t, r.Sound(), "%+v", r)
	points, _, err := ms.Points(ctx, "")
	require.NoError(t, err)
	require.Len(t, points, 12)
	for _, p := range points {
		require.NoError(t, check(ms, p))
	}
	elsewhere := blob.NewMemory()
	h.create(t, elsewhere, "")
	var names []string
	require.NoError(t, to.List(ctx, "content/", func(i blob.Info) error { names = append(names, i.Name); return nil }))
	_, err = s.CopyFiles(ctx, elsewhere, names)
	require.ErrorIs(t, err, store.ErrOtherStore)
	_, err = s.CopyFiles(ctx, to, []string{"points/x"})
	require.ErrorContains(t, err, "no content file")
}
