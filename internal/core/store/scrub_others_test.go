package store_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// TestScrubByOthers holds that a scrub of which other processes read the content files finds what one
// that reads them itself finds: of a store that is whole, and of one with any byte of a content file or of
// its parity changed, cut off or gone; and that it reads what is right no more.
func TestScrubByOthers(t *testing.T) {
	for _, parity := range []string{"", "4+2"} {
		h := newHolder(t)
		h.opt.FileBytes = 8 << 10
		b := blob.NewMemory()
		h.create(t, b, parity)
		s := h.open(t, b)
		require.NoError(t, version(s, "meadow", 1))
		require.NoError(t, version(s, "orchard", 7))
		for n := range 12 {
			require.NoError(t, version(s, "barn", 20+n))
		}
		s.Close()
		var files []string
		require.NoError(t, b.List(ctx, "", func(i blob.Info) error {
			if strings.HasPrefix(strings.TrimPrefix(i.Name, "parity/"), "content/") {
				files = append(files, i.Name)
			}
			return nil
		}))
		require.Greater(t, len(files), 10)
		scrub := func(shared bool) (*store.ScrubReport, int) {
			s := h.open(t, b)
			defer s.Close()
			o := store.ScrubOptions{}
			right := 0
			if shared {
				o.Others = func(ctx context.Context, names []string, done func([]string, *store.FilesChecked)) error {
					for part := range slices.Chunk(names, 3) {
						helper := h.open(t, b)
						r, err := helper.CheckFiles(ctx, part)
						helper.Close()
						if err != nil {
							return err
						}
						right += len(part) - len(r.Doubtful)
						done(part, r)
					}
					return nil
				}
			}
			r, err := s.Scrub(ctx, o)
			require.NoError(t, err)
			r.Took, r.Created = 0, time.Time{}
			return r, right
		}
		contents := len(files)
		if parity != "" {
			contents /= 2
		}
		same := func(what string) {
			alone, _ := scrub(false)
			shared, right := scrub(true)
			// Each scrub writes its own report, which the next one reads.
			shared.Objects, shared.Bytes = alone.Objects, alone.Bytes
			require.Equal(t, alone, shared, what)
			require.Less(t, right, contents, what)
			require.Greater(t, right, contents/2, what)
			require.False(t, alone.Sound(), what)
		}
		alone, _ := scrub(false)
		require.True(t, alone.Sound())
		shared, right := scrub(true)
		require.True(t, shared.Sound())
		require.Equal(t, contents, right, "all were read by others")
		for _, name := range []string{files[0], files[len(files)/3], files[len(files)-1]} {
			data, err := b.Read(ctx, name)
			require.NoError(t, err)
			for _, at := range []int{0, len(data) / 3, len(data) - 5} {
				harmed := slices.Clone(data)
				harmed[at] ^= 0x10
				require.NoError(t, b.Remove(ctx, name))
				require.NoError(t, b.Create(ctx, name, harmed))
				same(name)
			}
			require.NoError(t, b.Remove(ctx, name))
			same(name + " gone")
			require.NoError(t, b.Create(ctx, name, data))
		}
		alone, _ = scrub(false)
		require.True(t, alone.Sound(), "as it was")
	}
}
