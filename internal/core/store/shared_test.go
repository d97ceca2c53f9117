package store_test

import (
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// TestReclaimSparesWhatOthersWrote holds that content which another process has stored, or found there, for a
// piece of work that this one has begun is there until this one has made its point of it: that process may have ended
// long ago, and the point that had the content as well. Files are marked for deletion before the other
// begins, while it is at work, or after it has ended.
func TestReclaimSparesWhatOthersWrote(t *testing.T) {
	for _, marked := range []string{"before", "meanwhile", "after", "never"} {
		t.Run(marked, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				b, first := fresh(t)
				require.NoError(t, version(first, "meadow", 1))
				require.NoError(t, version(first, "orchard", 7))
				points, _, err := first.Points(ctx, "meadow")
				require.NoError(t, err)
				old := points[0]
				first.Close()

				s := open(t, b) // who began it
				w := s.NewWriter(ctx)
				require.NoError(t, w.Enlist())
				reclaim := func(when string) {
					if when != marked {
						return
					}
					other := open(t, b)
					_, err = other.Retire(ctx, "meadow", []string{old.ID}, "")
					require.NoError(t, err)
					other.Close()
					for range 4 {
						time.Sleep(time.Hour)
						r := open(t, b)
						_, err := r.Reclaim(ctx, store.ReclaimOptions{Grace: time.Minute, Dropped: time.Minute})
						require.NoError(t, err)
						r.Close()
					}
				}
				reclaim("before")
				helper := open(t, b)
				hw := helper.NewWriter(ctx)
				part := tree.NewBuilder(hw)
				source := open(t, b)
				require.NoError(t, tree.Walk(ctx, source, old.Namespaces[0].Root,
					func(r record.Record) error { return part.Add(ctx, r) }))
				source.Close()
				known, err := part.Finish(ctx)
				require.NoError(t, err)
				reclaim("meanwhile")
				part = tree.NewBuilder(hw)
				for i := range 50 { // and some that nobody has had
					require.NoError(t, part.Add(ctx, record.Record{Key: fmt.Appendf(nil, "\xff%04d", i),
						Value: make([]byte, 2000)}))
				}
				fresh, err := part.Finish(ctx)
				require.NoError(t, err)
				stats, err := hw.Flush(ctx)
				require.NoError(t, err)
				t.Logf("%d nodes written, %d found", stats.New, stats.Known)
				require.Equal(t, marked == "before", stats.Known == 0, "what is marked for deletion is not relied on")
				helper.Close()
				reclaim("after")

				require.NoError(t, s.Refresh(ctx))
				joined, err := tree.Join(ctx, w, []tree.Root{known, fresh}, tree.Root{}, w)
				require.NoError(t, err)
				require.Equal(t, known.Records+50, joined.Records)
				_, err = w.Flush(ctx)
				require.NoError(t, err)
				p := *old
				p.ID = "v009"
				p.Namespaces = []store.PointNamespace{{Namespace: old.Namespaces[0].Namespace, Root: joined}}
				require.NoError(t, s.PutPoint(ctx, &p))
				s.Close()
				for range 4 {
					time.Sleep(time.Hour)
					r := open(t, b)
					_, err := r.Reclaim(ctx, store.ReclaimOptions{Grace: time.Minute, Dropped: time.Minute})
					require.NoError(t, err)
					r.Close()
				}
				require.NoError(t, check(open(t, b), &p))
			})
		})
	}
}
