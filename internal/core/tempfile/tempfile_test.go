package tempfile_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/tempfile"
)

// TestNew: what is written can be read, and the folder stays empty all the time.
func TestNew(t *testing.T) {
	dir := t.TempDir()
	f, err := tempfile.New(dir, "some-*")
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte("honey"), 7)
	require.NoError(t, err)
	b := make([]byte, 5)
	_, err = f.ReadAt(b, 7)
	require.NoError(t, err)
	require.Equal(t, "honey", string(b))
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, list)
	_, err = tempfile.New(dir+"/none", "some-*")
	require.ErrorIs(t, err, os.ErrNotExist)
}
