package blob_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
)

// TestObjectsThatNeverEnd: an object that is larger than anything in a store, a server that sends
// without end, and one that sends more than it was asked for, are damage, and cost no memory.
func TestObjectsThatNeverEnd(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	b := blob.NewDir(dir)
	require.NoError(t, b.Create(ctx, "points/meadow/a", []byte("whole")))
	require.NoError(t, os.Truncate(filepath.Join(dir, "points/meadow/a"), 6<<30))
	zeros := make([]byte, 1<<20)
	says := int64(-1)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"x"`)
		w.Header().Set("Last-Modified", "Mon, 23 Nov 2026 10:00:00 GMT")
		if says >= 0 {
			w.Header().Set("Content-Length", strconv.FormatInt(says, 10))
		}
		if r.Header.Get("Range") != "" {
			w.WriteHeader(http.StatusPartialContent)
		}
		for sent := 0; r.Context().Err() == nil && sent < 4<<10; sent++ {
			if _, err := w.Write(zeros); err != nil {
				return
			}
		}
	}))
	defer server.Close()
	s3, err := blob.NewS3(blob.S3Options{Location: "s3://loft/x", Endpoint: server.URL, PathStyle: true,
		Region: "north", Access: "a", Secret: "b"})
	require.NoError(t, err)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = b.Read(ctx, "points/meadow/a")
	require.ErrorIs(t, err, blob.ErrDamaged)
	require.ErrorContains(t, err, "larger than")
	_, err = b.ReadAt(ctx, "points/meadow/a", 6<<30-5, 1<<40)
	require.ErrorIs(t, err, blob.ErrRange)
	for _, says = range []int64{-1, 6 << 30} {
		_, err = s3.ReadAt(ctx, "points/meadow/a", 0, 1000)
		require.ErrorIs(t, err, blob.ErrDamaged)
		require.ErrorContains(t, err, "more than it was asked for")
	}
	_, err = s3.Read(ctx, "points/meadow/a") // the last of them says how much it is
	require.ErrorIs(t, err, blob.ErrDamaged)
	runtime.ReadMemStats(&after)
	require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64<<20))
}
