package pin_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/pin"
)

func TestPins(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("STATE_DIRECTORY", "")
	t.Setenv("XDG_STATE_HOME", dir)
	p := pin.Host()
	require.Equal(t, filepath.Join(dir, "dexamen", "stores"), p.Folder)
	require.NoError(t, p.Check("file:///larder", "aaaa"), "the first one is remembered")
	require.NoError(t, p.Check("file:///larder", "aaaa"))
	require.NoError(t, p.Check("file:///loft", "bbbb"), "each place has its own")
	err := p.Check("file:///larder", "bbbb")
	var changed *pin.ChangedError
	require.ErrorAs(t, err, &changed)
	require.Equal(t, "aaaa", changed.Identity)
	require.NoError(t, os.Remove(changed.File), "as the error says")
	require.NoError(t, p.Check("file:///larder", "bbbb"))
	require.NoError(t, p.Set("file:///larder", "cccc"), "who makes a store knows")
	require.NoError(t, p.Check("file:///larder", "cccc"))
	require.ErrorAs(t, p.Check("file:///larder", "bbbb"), &changed)

	require.NoError(t, os.WriteFile(changed.File, []byte("{"), 0o600))
	require.ErrorContains(t, p.Check("file:///larder", "cccc"), "remove it to begin anew")
	left, err := os.ReadDir(p.Folder)
	require.NoError(t, err)
	require.Len(t, left, 2)

	// A host without a place for them goes without.
	require.NoError(t, pin.Pins{}.Check("file:///larder", "x"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	require.NoError(t, pin.Pins{Folder: filepath.Join(dir, "file", "stores")}.Check("file:///a", "x"))
}
