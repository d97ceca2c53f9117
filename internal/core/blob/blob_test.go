package blob_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/blob/blobtest"
	"dexamen/internal/core/store"
	"dexamen/internal/servertest"
	"dexamen/internal/sim/s3sim"
)

func TestMemory(t *testing.T) {
	blobtest.Run(t, func(*testing.T) blob.Backend { return blob.NewMemory() })
}

func TestDir(t *testing.T) {
	blobtest.Run(t, func(t *testing.T) blob.Backend { return blob.NewDir(filepath.Join(t.TempDir(), "larder")) })
}

func TestS3(t *testing.T) {
	srv := servertest.S3(t)
	n := 0
	open := func(prefix string, change func(*blob.S3Options)) *blob.S3 {
		o := blob.S3Options{Location: "s3://" + srv.Bucket + prefix, Endpoint: srv.Endpoint, Region: "us-east-1",
			PathStyle: true, Access: srv.Access, Secret: srv.Secret}
		if change != nil {
			change(&o)
		}
		b, err := blob.NewS3(o)
		require.NoError(t, err)
		return b
	}
	blobtest.Run(t, func(t *testing.T) blob.Backend {
		n++
		return open(fmt.Sprintf("/larders/%d", n), nil)
	})
	ctx := context.Background()
	require.Equal(t, "s3://loft/x", open("/x", nil).String())
	probe, err := store.CheckPlace(ctx, open("/probe", nil), 1<<20)
	require.NoError(t, err, "the server heeds conditional puts")
	require.Positive(t, probe.Write)
	require.ErrorContains(t, open("", func(o *blob.S3Options) { o.Secret = "mistyped" }).Create(ctx, "a", nil),
		"refuses the credentials")
	require.ErrorContains(t, open("", func(o *blob.S3Options) { o.Location = "s3://larder" }).Create(ctx, "a", nil),
		"no bucket larder")
	gone, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	require.Error(t, open("", func(o *blob.S3Options) { o.Endpoint = "http://127.0.0.1:1" }).Create(gone, "a", nil))
	for _, bad := range []blob.S3Options{
		{Location: "s3://"}, {Location: "s3://loft/../x"}, {Location: "s3://loft", Endpoint: "loft:9000"}} {
		_, err := blob.NewS3(bad)
		require.ErrorContains(t, err, "store location")
	}
}

// TestTheStandIn runs the suite on the stand-in: as it is, where it is slow and
// loses answers, and where it heeds no conditions.
func TestTheStandIn(t *testing.T) {
	for name, o := range map[string]s3sim.Options{
		"as it is": {}, "slow, answers lost": {SlowDown: 7, Lost: 5, Latency: time.Millisecond}, "no conditions": {
			Heedless: true, Latency: time.Millisecond}, "with locks": {Locks: true},
		"conflicts": {Conflict: 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			open := standIn(t, o)
			n := 0
			blobtest.Run(t, func(*testing.T) blob.Backend {
				n++
				b := open(fmt.Sprintf("/larders/%d", n), nil)
				if o.Heedless {
					b.UseReservations()
				}
				return b
			})
		})
	}
}

// standIn runs one with a bucket, loft, and gives how to open it.
func standIn(t *testing.T, o s3sim.Options) func(prefix string, change func(*blob.S3Options)) *blob.S3 {
	o.Access, o.Secret = "lindenholt", "made up for tests"
	srv, err := s3sim.Start(o)
	require.NoError(t, err)
	t.Cleanup(srv.Close)
	srv.MakeBucket("loft")
	return func(prefix string, change func(*blob.S3Options)) *blob.S3 {
		s := blob.S3Options{Location: "s3://loft" + prefix, Endpoint: srv.Endpoint(), Region: "us-east-1",
			PathStyle: true, Access: o.Access, Secret: o.Secret}
		if change != nil {
			change(&s)
		}
		b, err := blob.NewS3(s)
		require.NoError(t, err)
		return b
	}
}

// TestWhatIsRemovedLeavesNothing in a bucket that keeps versions, the stand-in's and a real
// server's; what a lock keeps below other bytes stays, and is hidden.
func TestWhatIsRemovedLeavesNothing(t *testing.T) {
	ctx := context.Background()
	real := servertest.S3(t)
	sim, err := s3sim.Start(s3sim.Options{Access: real.Access, Secret: real.Secret, Locks: true})
	require.NoError(t, err)
	t.Cleanup(sim.Close)
	sim.MakeBucket(real.Locked)
	for name, endpoint := range map[string]string{"stand-in": sim.Endpoint(), "server": real.Endpoint} {
		b, err := blob.NewS3(blob.S3Options{Location: "s3://" + real.Locked + "/kept", Endpoint: endpoint,
			Region: "us-east-1", PathStyle: true, Access: real.Access, Secret: real.Secret})
		require.NoError(t, err)
		t.Run(name, func(t *testing.T) {
			b.UseLocks()
			if _, err := store.CheckPlace(ctx, b, 100); err != nil {
				// That server lets no name be made again that was removed where it keeps versions.
				require.ErrorIs(t, err, store.ErrSpent)
				b.UseReservations()
				_, err = store.CheckPlace(ctx, b, 100)
				require.NoError(t, err)
			}
			below := func(name string) (n int, hidden bool) {
				require.NoError(t, b.Older(ctx, name, func([]byte) bool { n++; return false }))
				require.NoError(t, b.Hidden(ctx, name, func(of string, _, _ time.Time) error {
					hidden = hidden || of == name
					return nil
				}))
				return n, hidden
			}
			for range 3 { // the same name again and again, as claims are
				require.NoError(t, b.Create(ctx, "claims/reclaim/1", []byte("held")))
				require.NoError(t, b.Create(ctx, "claims/reclaim/11", []byte("another")))
				require.NoError(t, b.Remove(ctx, "claims/reclaim/1"))
				_, err := b.Read(ctx, "claims/reclaim/1")
				require.ErrorIs(t, err, blob.ErrNotFound)
				n, hidden := below("claims/reclaim/1")
				require.Zero(t, n)
				require.False(t, hidden)
				got, err := b.Read(ctx, "claims/reclaim/11")
				require.NoError(t, err)
				require.Equal(t, "another", string(got))
				require.NoError(t, b.Remove(ctx, "claims/reclaim/11"))
			}
			require.ErrorIs(t, b.Remove(ctx, "claims/reclaim/1"), blob.ErrNotFound)

			until := time.Now().Add(time.Hour)
			require.NoError(t, b.Create(ctx, "content/aa", []byte("right")))
			require.NoError(t, b.Lock(ctx, "content/aa", until))
			require.ErrorIs(t, b.Remove(ctx, "content/aa"), blob.ErrLocked)
			thief, err := minio.New(strings.TrimPrefix(endpoint, "http://"), &minio.Options{
				Creds: credentials.NewStaticV4(real.Access, real.Secret, ""), Region: "us-east-1",
				BucketLookup: minio.BucketLookupPath})
			require.NoError(t, err)
			_, err = thief.PutObject(ctx, real.Locked, "kept/content/aa", strings.NewReader("wrong"), 5,
				minio.PutObjectOptions{SendContentMd5: true})
			require.NoError(t, err)
			require.NoError(t, b.Remove(ctx, "content/aa"))
			_, hidden := below("content/aa")
			require.True(t, hidden)
			right := false
			require.NoError(t, b.Older(ctx, "content/aa", func(data []byte) bool {
				right = string(data) == "right"
				return right
			}))
			require.True(t, right)
		})
	}
}

// TestWhatGoesWrongHasItsOwnError names what an administrator can do about.
func TestWhatGoesWrongHasItsOwnError(t *testing.T) {
	ctx := context.Background()
	create := func(o s3sim.Options, change func(*blob.S3Options)) error {
		return standIn(t, o)("/x", change).Create(ctx, "a", make([]byte, 2000))
	}
	require.ErrorContains(t, create(s3sim.Options{}, func(o *blob.S3Options) { o.Secret = "mistyped" }),
		"refuses the credentials (SignatureDoesNotMatch)")
	require.ErrorContains(t, create(s3sim.Options{}, func(o *blob.S3Options) { o.Access = "nobody" }),
		"refuses the credentials (InvalidAccessKeyId)")
	require.ErrorContains(t, create(s3sim.Options{}, func(o *blob.S3Options) { o.Location = "s3://larder" }),
		"there is no bucket larder")
	require.ErrorContains(t, create(s3sim.Options{ClockAhead: time.Hour}, nil), "clock")
	require.ErrorContains(t, create(s3sim.Options{Room: 1000}, nil), "no room left")
	for errno, want := range map[syscall.Errno]string{
		syscall.ENOSPC: "is full; make room", syscall.EROFS: "is mounted so that nobody",
		syscall.EACCES: "may not write to", syscall.ESTALE: "mount it again"} {
		require.ErrorContains(t, blob.NewDir("/srv/larder").Explain(&fs.PathError{
			Op: "write", Path: "/srv/larder/x", Err: errno}), want)
	}
	lock := standIn(t, s3sim.Options{})("/x", nil)
	require.NoError(t, lock.Create(ctx, "a", nil))
	require.ErrorContains(t, lock.Lock(ctx, "a", time.Now().Add(time.Hour)), "was not made for object lock")
	_, err := store.CheckPlace(ctx, standIn(t, s3sim.Options{Heedless: true})("/x", nil), 100)
	require.ErrorIs(t, err, store.ErrReplaced)
}

func TestDirHidesWhatACrashLeft(t *testing.T) {
	dir := t.TempDir()
	b := blob.NewDir(dir)
	require.NoError(t, b.Create(context.Background(), "points/a", []byte("whole")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".incoming", "w-123"), []byte("ha"), 0o600))
	var names []string
	require.NoError(t, b.List(context.Background(), "",
		func(i blob.Info) error { names = append(names, i.Name); return nil }))
	require.Equal(t, []string{"points/a"}, names)
}

func TestOpen(t *testing.T) {
	b, err := blob.Open("file:///srv/dexamen/larder")
	require.NoError(t, err)
	require.Equal(t, "file:///srv/dexamen/larder", b.String())
	for _, bad := range []string{"file://srv/x", "/srv/x", "ftp://x/y", "%zz"} {
		_, err := blob.Open(bad)
		require.ErrorContains(t, err, "store location")
	}
}
