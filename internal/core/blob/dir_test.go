package blob_test

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
)

func namesIn(b blob.Backend, prefix string) (names []string, err error) {
	err = b.List(context.Background(), prefix, func(i blob.Info) error { names = append(names, i.Name); return nil })
	return names, err
}

// TestAFolderThatIsALink lists what is behind the link, and refuses links in
// the folder wherever they are.
func TestAFolderThatIsALink(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	real, link := filepath.Join(dir, "real"), filepath.Join(dir, "link")
	require.NoError(t, os.Mkdir(real, 0o700))
	require.NoError(t, os.Symlink(real, link))
	b := blob.NewDir(link)
	require.NoError(t, b.Create(ctx, "points/meadow/a", []byte("whole")))
	names, err := namesIn(b, "")
	require.NoError(t, err)
	require.Equal(t, []string{"points/meadow/a"}, names)

	away := filepath.Join(dir, "away")
	require.NoError(t, os.Rename(filepath.Join(real, "points"), away))
	require.NoError(t, os.Symlink(away, filepath.Join(real, "points")))
	for _, prefix := range []string{"", "points/", "points/meadow/"} {
		_, err = namesIn(b, prefix)
		require.ErrorIs(t, err, blob.ErrLink, prefix)
		require.ErrorContains(t, err, filepath.Join(real, "points"))
	}
	require.NoError(t, os.Remove(filepath.Join(real, "points")))
	require.NoError(t, os.Rename(away, filepath.Join(real, "points")))
	loop := filepath.Join(real, "points", "meadow", "b")
	require.NoError(t, os.Symlink(loop, loop))
	_, err = b.Read(ctx, "points/meadow/b")
	require.ErrorIs(t, err, blob.ErrDamaged)
	require.ErrorContains(t, err, "symbolic link")
}

// TestAFolderThatGoesAway: once a store was opened its folder is never made
// anew, and an empty one in its place is not taken for it.
func TestAFolderThatGoesAway(t *testing.T) {
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), "disk", "larder")
	b := blob.NewDir(dir)
	require.NoError(t, b.Create(ctx, "dexamen-store", []byte("who it is")))
	require.NoError(t, b.Anchor(ctx, "dexamen-store"))
	require.NoError(t, b.Create(ctx, "content/one", nil))
	gone := func() {
		t.Helper()
		require.ErrorIs(t, b.Create(ctx, "content/two", nil), blob.ErrGone)
		require.ErrorIs(t, b.Remove(ctx, "content/one"), blob.ErrGone)
		_, err := b.Read(ctx, "content/one")
		require.ErrorIs(t, err, blob.ErrGone)
		_, err = namesIn(b, "content/")
		require.ErrorIs(t, err, blob.ErrGone)
	}
	require.NoError(t, os.Rename(dir, dir+".away"))
	gone()
	_, err := os.Stat(dir)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.Mkdir(dir, 0o700)) // the mount point below
	gone()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left)
	require.NoError(t, os.Remove(dir))
	require.NoError(t, os.Rename(dir+".away", dir))
	require.NoError(t, b.Create(ctx, "content/two", nil), "it is back")
}

// TestNewFilesFollowTheFolder in their permissions, and in their owner where
// root writes to the store of another user.
func TestNewFilesFollowTheFolder(t *testing.T) {
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), "larder")
	require.NoError(t, os.Mkdir(dir, 0o700))
	mode := os.FileMode(0o750)
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(dir, 1234, 2345))
		mode |= os.ModeSetgid
	}
	require.NoError(t, os.Chmod(dir, mode))
	require.NoError(t, blob.NewDir(dir).Create(ctx, "content/ab/one", []byte("x")))
	for name, want := range map[string]os.FileMode{"content": mode, "content/ab": mode, "content/ab/one": 0o640} {
		st, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		require.Equal(t, want, st.Mode()&(os.ModePerm|os.ModeSetgid), name)
		if os.Geteuid() == 0 {
			sys := st.Sys().(*syscall.Stat_t)
			require.EqualValues(t, 1234, sys.Uid, name)
			require.EqualValues(t, 2345, sys.Gid, name)
		}
	}
	require.NoError(t, blob.NewDir(dir).Lock(ctx, "content/ab/one", time.Now().Add(time.Hour)))
}
