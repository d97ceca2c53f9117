package blob_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/blob/blobtest"
	"dexamen/internal/core/store"
	"dexamen/internal/servertest"
)

func TestMemory(t *testing.T) {
	blobtest.Run(t, func(*testing.T) blob.Backend { return blob.NewMemory() })
}

func TestDir(t *testing.T) {
	blobtest.Run(t, func(t *testing.T) blob.Backend { return blob.NewDir(filepath.Join(t.TempDir(), "cellar")) })
}

func TestS3(t *testing.T) {
	srv := servertest.S3(t)
	n := 0
	open := func(prefix string, change func(*blob.S3Options)) *blob.S3 {
		o := blob.S3Options{Location: "s3://" + srv.Bucket + prefix, Endpoint: srv.Endpoint, Region: "us-east-1", PathStyle: true, Access: srv.Access, Secret: srv.Secret}
		if change != nil {
			change(&o)
		}
		b, err := blob.NewS3(o)
		require.NoError(t, err)
		return b
	}
	blobtest.Run(t, func(t *testing.T) blob.Backend {
		n++
		return open(fmt.Sprintf("/cellars/%d", n), nil)
	})
	ctx := context.Background()
	require.Equal(t, "s3://attic/x", open("/x", nil).String())
	probe, err := store.Probe(ctx, open("/probe", nil), 1<<20)
	require.NoError(t, err, "the server heeds conditional puts")
	require.Positive(t, probe.Write)
	require.ErrorContains(t, open("", func(o *blob.S3Options) { o.Secret = "mistyped" }).Create(ctx, "a", nil), "refuses the credentials")
	require.ErrorContains(t, open("", func(o *blob.S3Options) { o.Location = "s3://cellar" }).Create(ctx, "a", nil), "no bucket cellar")
	gone, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	require.Error(t, open("", func(o *blob.S3Options) { o.Endpoint = "http://127.0.0.1:1" }).Create(gone, "a", nil))
	for _, bad := range []blob.S3Options{{Location: "s3://"}, {Location: "s3://attic/../x"}, {Location: "s3://attic", Endpoint: "attic:9000"}} {
		_, err := blob.NewS3(bad)
		require.ErrorContains(t, err, "store location")
	}
}

func TestDirHidesWhatACrashLeft(t *testing.T) {
	dir := t.TempDir()
	b := blob.NewDir(dir)
	require.NoError(t, b.Create(context.Background(), "points/a", []byte("whole")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".incoming", "w-123"), []byte("ha"), 0o600))
	var names []string
	require.NoError(t, b.List(context.Background(), "", func(i blob.Info) error { names = append(names, i.Name); return nil }))
	require.Equal(t, []string{"points/a"}, names)
}

func TestOpen(t *testing.T) {
	b, err := blob.Open("file:///srv/dexamen/cellar")
	require.NoError(t, err)
	require.Equal(t, "file:///srv/dexamen/cellar", b.String())
	for _, bad := range []string{"file://srv/x", "/srv/x", "ftp://x/y", "%zz"} {
		_, err := blob.Open(bad)
		require.ErrorContains(t, err, "store location")
	}
}
