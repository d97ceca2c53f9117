package blob_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/blob/blobtest"
)

func TestMemory(t *testing.T) {
	blobtest.Run(t, func(*testing.T) blob.Backend { return blob.NewMemory() })
}

func TestDir(t *testing.T) {
	blobtest.Run(t, func(t *testing.T) blob.Backend { return blob.NewDir(filepath.Join(t.TempDir(), "cellar")) })
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
