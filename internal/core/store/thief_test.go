package store_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// thief deletes every second object of a locked store and overwrites the others,
// with the backup host's own credentials. All of it is still there.
func thief(t *testing.T, b *blob.S3, o blob.S3Options) {
	h := newHolder(t)
	who, err := store.HolderOf(h.secret, "", store.Read)
	require.NoError(t, err)
	_, err = store.Create(ctx, b, store.CreateOptions{
		Tool: "test", Holders: []store.Holder{who}, ImmutableFor: time.Hour})
	require.NoError(t, err)
	s := h.open(t, b)
	require.NoError(t, version(s, "meadow", 1))
	require.NoError(t, stretch(s, "meadow", 1))
	require.NoError(t, version(s, "meadow", 2))

	c, err := minio.New(strings.TrimPrefix(o.Endpoint, "http://"),
		&minio.Options{Creds: credentials.NewStaticV4(o.Access, o.Secret, ""), Region: o.Region})
	require.NoError(t, err)
	bucket, prefix, _ := strings.Cut(strings.TrimPrefix(o.Location, "s3://"), "/")
	n := 0
	for _, p := range []string{"content/", "points/", "journal/"} {
		for _, name := range namesBelow(t, b, p) {
			key := prefix + "/" + name
			if n++; n%2 == 0 {
				require.NoError(t, c.RemoveObject(ctx, bucket, key, minio.RemoveObjectOptions{}))
				continue
			}
			_, err := c.PutObject(ctx, bucket, key, bytes.NewReader([]byte("pay, or")), 7,
				minio.PutObjectOptions{SendContentMd5: true})
			require.NoError(t, err)
		}
	}
	require.Greater(t, n, 4)
	a, err := h.open(t, b).Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	require.Len(t, a.Damaged, n)
	a, err = h.open(t, b).Scrub(ctx, store.ScrubOptions{Repair: true})
	require.NoError(t, err)
	require.True(t, a.Sound(), "%+v", a)
	s = h.open(t, b)
	points, bad, err := s.Points(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, points, 2)
	for _, p := range points {
		require.NoError(t, check(s, p))
	}
	chains, bad, err := s.Chains(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, chains["yard"].Segments, 1)
}
