package store_test

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/servertest"
)

// TestACrowd has eight writers, each with a store it opened for itself, take
// points, capture log, retire points and begin things they never end, while a
// reclaim runs again and again with hardly any time of grace; for DEXAMEN_CROWD
// seconds. In the end everything is sound, and nothing a point needs was taken.
func TestACrowd(t *testing.T) {
	t.Run("folder", func(t *testing.T) { crowd(t, blob.NewDir(t.TempDir())) })
	t.Run("object store", func(t *testing.T) {
		b, err := blob.NewS3(onS3(servertest.S3(t), "crowd"))
		require.NoError(t, err)
		crowd(t, b)
	})
}

func crowd(t *testing.T, b blob.Backend) {
	length := 4 * time.Second
	if s := os.Getenv("DEXAMEN_CROWD"); s != "" {
		n, _ := strconv.Atoi(s)
		length = time.Duration(n) * time.Second
	}
	h := newHolder(t)
	h.create(t, b, "")
	until := time.Now().Add(length)
	var points, segments, retired, dropped atomic.Int64
	var wg sync.WaitGroup
	errs := make(chan error, 16)
	for who := range 8 {
		cluster := fmt.Sprintf("meadow-%d", who/2) // two each write alike content
		name := who % 2
		wg.Go(func() {
			for n := 1; time.Now().Before(until); n += 2 {
				err := func() error {
					s, err := store.Open(ctx, b, h.opt)
					if err != nil {
						return err
					}
					defer s.Close()
					for k := range 2 {
						if err := version(s, cluster, 1000*(name+1)+n+k); err != nil {
							return err
						}
						points.Add(1)
						if name == 0 {
							if err := stretch(s, cluster, 1000+n+k); err != nil && !errors.Is(err, blob.ErrExists) {
								return err
							}
							segments.Add(1)
						}
					}
					w := s.NewWriter(ctx) // begun and given up
					_ = w.PutNode(ctx, hashOf(n), fmt.Appendf(nil, "Lnothing %d", n), hashOf(0))
					w.Abandon()
					dropped.Add(1)
					all, _, err := s.Points(ctx, cluster)
					if err != nil {
						return err
					}
					if name == 1 && len(all) > 6 {
						if _, err := s.Retire(ctx, cluster, []string{all[0].ID, all[1].ID}, ""); err != nil {
							return err
						}
						retired.Add(2)
					}
					return nil
				}()
				if err != nil {
					errs <- fmt.Errorf("writer %d: %w", who, err)
					return
				}
			}
		})
	}
	var total store.Reclaimed
	reclaims := 0
	wg.Go(func() {
		for time.Now().Before(until) {
			s, err := store.Open(ctx, b, h.opt)
			if err == nil {
				var r *store.Reclaimed
				if r, err = s.Reclaim(ctx, store.ReclaimOptions{Grace: 100 * time.Millisecond,
					Dropped: time.Nanosecond}); err == nil {
					reclaims++
					total.Removed += r.Removed
					total.Freed += r.Freed
					total.Withdrawn += r.Withdrawn
					total.PendingDelete += r.PendingDelete
				}
				s.Close()
			}
			if err != nil {
				errs <- fmt.Errorf("reclaim: %w", err)
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
	wg.Wait()
	close(errs)
	for err := range errs {
		t.Error(err)
	}
	s := h.open(t, b)
	for range 2 { // nobody writes any more, so all that was marked for deletion can go
		time.Sleep(150 * time.Millisecond)
		r, err := s.Reclaim(ctx, store.ReclaimOptions{Grace: 100 * time.Millisecond, Dropped: time.Nanosecond})
		require.NoError(t, err)
		total.Removed += r.Removed
		total.Freed += r.Freed
		total.PendingDelete += r.PendingDelete
	}
	a, err := s.Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	require.True(t, a.Sound(), "%+v", a)
	all, bad, err := s.Points(ctx, "")
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, all, int(points.Load()-retired.Load()))
	for _, p := range all {
		require.NoError(t, check(s, p))
	}
	t.Logf("%d points, %d retired, %d segments, %d given up, %d reclaims: %d content files marked for deletion, %d "+
		"removed (%d bytes), %d let go; %d objects left",
		points.Load(), retired.Load(), segments.Load(), dropped.Load(), reclaims, total.PendingDelete, total.Removed,
		total.Freed, total.Withdrawn, a.Objects)
	require.Positive(t, total.Removed)
}

func onS3(s servertest.S3Server, prefix string) blob.S3Options {
	return blob.S3Options{Location: "s3://" + s.Bucket + "/" + prefix, Endpoint: s.Endpoint, PathStyle: true,
		Access: s.Access, Secret: s.Secret}
}

func hashOf(n int) tree.Hash { return tree.HashOf(fmt.Appendf(nil, "Lnothing %d", n)) }
