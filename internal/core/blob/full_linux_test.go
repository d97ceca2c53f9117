package blob_test

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
)

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

// TestAFullDisk: where a disk is full, content finds no room, and what makes room can begin. It runs
// itself again in namespaces of its own, in which it may mount a small file system.
func TestAFullDisk(t *testing.T) {
	if os.Getenv("DEXAMEN_MOUNTS") == "" {
		cmd := exec.Command(os.Args[0], "-test.run=^TestAFullDisk$", "-test.v")
		cmd.Env = append(os.Environ(), "DEXAMEN_MOUNTS=yes")
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS,
			UidMappings: []syscall.SysProcIDMap{{HostID: os.Getuid(), Size: 1}},
			GidMappings: []syscall.SysProcIDMap{{HostID: os.Getgid(), Size: 1}}}
		out, err := cmd.CombinedOutput()
		if errors.Is(err, syscall.EPERM) {
			t.Skip("this machine lets nobody mount a file system, not even in a namespace of its own")
		}
		require.NoError(t, err, "%s", out)
		require.Contains(t, string(out), "--- PASS: TestAFullDisk")
		return
	}
	ctx := context.Background()
	disk := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=80m"))
	defer func() { _ = syscall.Unmount(disk, 0) }()
	root := filepath.Join(disk, "larder")
	room, left := filepath.Join(root, ".incoming", ".room"), filepath.Join(root, ".incoming", "w-123")
	require.NoError(t, os.MkdirAll(filepath.Dir(left), 0o700))
	require.NoError(t, os.WriteFile(left, []byte("half of"), 0o600))
	old := time.Now().Add(-48 * time.Hour)
	require.NoError(t, os.Chtimes(left, old, old))

	b := blob.NewDir(root)
	require.NoError(t, b.Create(ctx, "content/one", make([]byte, 1<<20)))
	st, err := os.Stat(room)
	require.NoError(t, err)
	require.EqualValues(t, 4<<20, st.Size(), "room is kept")
	_, err = os.Stat(left)
	require.ErrorIs(t, err, os.ErrNotExist, "what a write left behind is gone")

	filler, err := os.Create(filepath.Join(disk, "filler"))
	require.NoError(t, err)
	_, err = io.Copy(filler, zeros{})
	require.ErrorIs(t, err, syscall.ENOSPC)
	err = b.Create(ctx, "content/two", make([]byte, 1<<20))
	require.True(t, errors.Is(err, syscall.ENOSPC))
	require.ErrorContains(t, err, "make room")
	_, err = os.Stat(room)
	require.NoError(t, err, "content does not get the room that is kept")
	require.NoError(t, b.Create(ctx, "claims/reclaim/0000000001", []byte("somebody is at it")))
	_, err = os.Stat(room)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, b.Remove(ctx, "content/one"))

	require.NoError(t, errors.Join(filler.Close(), os.Remove(filler.Name())))
	require.NoError(t, blob.NewDir(root).Create(ctx, "claims/reclaim/0000000002", nil))
	_, err = os.Stat(room)
	require.NoError(t, err, "it is kept again")
}
