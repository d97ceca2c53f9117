package integration_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// costs runs a command and measures it.
func costs(t testing.TB, name string, args ...string) usage {
	cmd := exec.Command(name, args...)
	begin := time.Now()
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	r := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	return usage{wall: time.Since(begin), cpu: cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime(),
		peak: int(r.Maxrss >> 10), out: string(out)}
}

// pointOf reads what a snapshot said of its point.
func pointOf(t testing.TB, u usage) (p struct {
	Made  string
	Stats struct{ Records, Bytes, Stored int64 }
}) {
	var said struct{ Point json.RawMessage }
	require.NoError(t, json.Unmarshal([]byte(u.out), &said), u.out)
	if said.Point == nil {
		said.Point = []byte(u.out)
	}
	require.NoError(t, json.Unmarshal(said.Point, &p), u.out)
	return p
}

// TestFolderCosts measures folders beside what cp -a takes for the same: one large file of
// which pages change, many small ones, and as much in files of a megabyte or so. With
// DEXAMEN_FOLDER_MIB set (make folders) at full size.
func TestFolderCosts(t *testing.T) {
	mib, err := strconv.Atoi(os.Getenv("DEXAMEN_FOLDER_MIB"))
	if err != nil {
		mib = long(256, 32)
	}
	r := rand.New(rand.NewPCG(16, 2))
	noise := rand.NewChaCha8([32]byte{16})
	fill := func(path string, n int) {
		f, err := os.Create(path)
		require.NoError(t, err)
		buf := make([]byte, 1<<20)
		for ; n > 0; n -= len(buf) {
			buf = buf[:min(len(buf), n)]
			_, _ = noise.Read(buf)
			_, err = f.Write(buf)
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
	}
	setup := func(t *testing.T, name string) (src string, dexamen func(args ...string) usage, cp func(string) usage) {
		dir := t.TempDir()
		src = filepath.Join(dir, name)
		require.NoError(t, os.Mkdir(src, 0o700))
		dexamen = measuredProgram(t, "file://"+src, "file://"+dir+"/restored/")
		require.NoError(t, os.Mkdir(filepath.Join(dir, "restored"), 0o700))
		return src, dexamen, func(to string) usage { return costs(t, "cp", "-a", src, filepath.Join(dir, to)) }
	}
	t.Run("pages of a large file", func(t *testing.T) {
		src, dexamen, cp := setup(t, "data")
		file := filepath.Join(src, "large.db")
		fill(file, mib<<20)
		floor := cp("copied")
		first := dexamen("snapshot", "from")
		f, err := os.OpenFile(file, os.O_RDWR, 0)
		require.NoError(t, err)
		page := make([]byte, 4096)
		pages := mib << 20 / len(page)
		for _, p := range r.Perm(pages)[:pages/100] {
			_, _ = noise.Read(page)
			_, err = f.WriteAt(page, int64(p*len(page)))
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
		second := dexamen("snapshot", "from")
		p := pointOf(t, second)
		part := float64(p.Stats.Stored) / float64(mib<<20)
		t.Logf("%d MiB: cp -a %v; first %v; after 1 %% of its pages %v, stored %.2f %%", mib, floor, first, second,
			100*part)
		require.Less(t, part, 0.03)
		restored := dexamen("restore", "from@latest/data", "--to", "to", "--yes")
		t.Logf("restored, read back and compared: %v", restored)
	})
	t.Run("many small files", func(t *testing.T) {
		src, dexamen, cp := setup(t, "many")
		n := mib * 100
		for i := range n {
			dir := filepath.Join(src, fmt.Sprint(i/500))
			if i%500 == 0 {
				require.NoError(t, os.Mkdir(dir, 0o700))
			}
			text := make([]byte, r.IntN(1200))
			for j := range text {
				text[j] = "colony visit note "[(i+j)%18]
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("note-%06d", i)), text, 0o600))
		}
		floor := cp("copied")
		first := dexamen("snapshot", "from")
		time.Sleep(2100 * time.Millisecond) // what was written just now is read again
		dexamen("snapshot", "from")
		begin, walked := time.Now(), 0
		require.NoError(t, filepath.WalkDir(src, func(_ string, d fs.DirEntry, err error) error {
			if err == nil {
				walked++
				_, err = d.Info()
			}
			return err
		}))
		walk := time.Since(begin)
		second := dexamen("snapshot", "from")
		p := pointOf(t, second)
		t.Logf("%d files: cp -a %v; first %v; a bare walk %s; second %v", walked, floor, first,
			walk.Round(time.Millisecond), second)
		require.Equal(t, "changes", p.Made)
		require.Zero(t, p.Stats.Stored)
		restored := dexamen("restore", "from@latest/many", "--to", "to", "--yes")
		t.Logf("restored, read back and compared: %v", restored)
	})
	t.Run("files of a megabyte", func(t *testing.T) {
		src, dexamen, cp := setup(t, "photos")
		for size := 0; size < mib<<20; {
			n := 1 + r.IntN(2<<20)
			fill(filepath.Join(src, fmt.Sprintf("photo-%09d.jpg", size)), n)
			size += n
		}
		floor := cp("copied")
		first := dexamen("snapshot", "from")
		again := cp("copied-again")
		restored := dexamen("restore", "from@latest/photos", "--to", "to", "--yes")
		t.Logf("%d MiB: cp -a %v; snapshot %v; cp -a %v; restored, read back and compared %v", mib, floor, first,
			again, restored)
		require.Less(t, max(first.peak, restored.peak), 400, "MiB: memory does not grow with files")
	})
}
