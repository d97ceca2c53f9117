package files_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/folder/files"
)

var ctx = context.Background()

func TestRules(t *testing.T) {
	r := files.Rules{LeaveOut: []string{"*.tmp", "cache/**", "/logs"},
		Only: []string{"letters/**/*.jpg", "*.txt", "whole"}}
	for p, left := range map[string]bool{"a.tmp": true, "deep/er/a.tmp": true, "cache/x": true, "cache": true,
		"other/cache/x": false, "logs": true, "other/logs": false, "a.jpg": false} {
		require.Equal(t, left, r.Left(p), p)
	}
	for p, taken := range map[string]bool{"letters/1.jpg": true, "letters/2026/may/1.jpg": true, "photos/1.jpg": false,
		"any/where/a.txt": true, "whole/of/it": true, "letters/1.png": false} {
		require.Equal(t, taken, r.Takes(p, false), p)
	}
	for p, taken := range map[string]bool{"": true, "letters": true, "letters/2026": true, "photos": true} {
		require.Equal(t, taken, r.Takes(p, true), p)
	}
	only := files.Rules{Only: []string{"letters/*.jpg"}}
	require.False(t, only.Takes("photos", true))
	require.True(t, only.Takes("letters", true))
	require.Error(t, files.CheckPattern("[a"))
	require.NoError(t, files.CheckPattern("**/*.{jpg,png}"))
}

// TestWalkIsInOrder of the keys of records, whatever bytes names are made of.
func TestWalkIsInOrder(t *testing.T) {
	host, err := files.NewLocal()
	require.NoError(t, err)
	root := t.TempDir()
	r := rand.New(rand.NewPCG(16, 1))
	alphabet := []string{"a", "b", "-", ".", "0", "\n", "\xff", " ", "ä", "!"}
	want := map[string]bool{}
	dirs := []string{""}
	for range 400 {
		name := ""
		for range 1 + r.IntN(3) {
			name += alphabet[r.IntN(len(alphabet))]
		}
		if name == "." || name == ".." {
			continue
		}
		p := filepath.Join(dirs[r.IntN(len(dirs))], name)
		if want[p] {
			continue
		}
		want[p] = true
		if r.IntN(3) == 0 {
			require.NoError(t, os.Mkdir(filepath.Join(root, p), 0o700))
			dirs = append(dirs, p)
		} else {
			require.NoError(t, os.WriteFile(filepath.Join(root, p), []byte(p), 0o600))
		}
	}
	var keys []string
	require.NoError(t, host.Walk(ctx, root, files.Rules{}, func(batch []files.Entry) error {
		for _, e := range batch {
			require.True(t, e.Path == "" || want[e.Path], "%q", e.Path)
			keys = append(keys, string(files.Prefix(e.Path)))
		}
		return nil
	}))
	require.Len(t, keys, len(want)+1)
	require.True(t, sort.StringsAreSorted(keys))
}

func FuzzParse(f *testing.F) {
	for _, it := range []files.Item{
		{Path: "a/b", Kind: files.Regular, Mode: 0o640, UID: 1, GID: 2, Size: 3, MTime: -5, Data: []byte("abc"),
			Attributes: []files.Attribute{{"user.note", "\x00"}}},
		{Path: "a/b", Piece: true, Offset: 1 << 20, Data: bytes.Repeat([]byte("x"), 100)},
		{Path: "l", Kind: files.Symlink, Target: "../out"},
	} {
		b := it.Append(nil)
		got, err := files.Parse(b)
		require.NoError(f, err)
		if len(got.Data) == 0 {
			got.Data = nil
		}
		require.Equal(f, it, got)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		it, err := files.Parse(b)
		if err != nil {
			return
		}
		// What is read says the same when it is written again, and never leads elsewhere.
		again, err := files.Parse(it.Append(nil))
		require.NoError(t, err)
		require.Equal(t, it.Key(), again.Key())
		require.Equal(t, it.Append(nil), again.Append(nil))
		require.NotContains(t, "/"+it.Path+"/", "/../")
	})
}

// TestNothingEscapes: whatever a point holds, nothing is written outside the folder.
func TestNothingEscapes(t *testing.T) {
	host, err := files.NewLocal()
	require.NoError(t, err)
	home := t.TempDir()
	outside := filepath.Join(home, "outside")
	require.NoError(t, os.Mkdir(outside, 0o700))
	file := func(path string) files.Item {
		return files.Item{Path: path, Kind: files.Regular, Mode: 0o600, UID: uint32(os.Geteuid()),
			GID:  uint32(os.Getegid()),
			Size: 3, Data: []byte("bad")}
	}
	link := func(path, target string) files.Item {
		return files.Item{Path: path, Kind: files.Symlink, Target: target, UID: uint32(os.Geteuid()),
			GID: uint32(os.Getegid())}
	}
	hard := file("h")
	hard.LinkTo = "out/../../outside/x"
	for i, items := range [][]files.Item{
		{file("../outside/x")}, {file("a/../../outside/x")}, {file("/outside/x")}, {file("")},
		{link("out", outside), file("out/x")}, {link("out", "../outside"), file("out/x")},
		{link("out", outside), {Path: "out/deep", Kind: files.Folder, Mode: 0o700}},
		{link("out", outside), link("out/x", "/etc/passwd")},
		{hard},
		{{Path: "p", Piece: true, Offset: 5, Data: []byte("bad")}},
	} {
		stage := filepath.Join(home, fmt.Sprint("stage", i))
		require.NoError(t, host.Make(ctx, stage))
		var recs [][]byte
		for _, it := range items {
			recs = append(recs, it.Append(nil))
		}
		err := host.Write(ctx, stage, recs)
		if err == nil {
			err = host.Finish(ctx, stage)
		}
		require.Error(t, err, "%d", i)
		left, err := os.ReadDir(outside)
		require.NoError(t, err)
		require.Empty(t, left)
	}
	left, err := os.ReadDir(home)
	require.NoError(t, err)
	for _, e := range left {
		require.True(t, e.IsDir(), e.Name())
	}
}

// TestInUse: a folder whose files a process has open, or locked, is told.
func TestInUse(t *testing.T) {
	host, err := files.NewLocal()
	require.NoError(t, err)
	root := t.TempDir()
	used, _, err := host.InUse(ctx, root)
	require.NoError(t, err)
	require.Empty(t, used)
	require.NoError(t, os.WriteFile(filepath.Join(root, "server.pid"), []byte(fmt.Sprint(os.Getppid(), "\n")), 0o600))
	used, _, err = host.InUse(ctx, root)
	require.NoError(t, err)
	require.Len(t, used, 1)
	require.Equal(t, os.Getppid(), used[0].PID)
	require.True(t, used[0].Locked)
	require.NoError(t, os.WriteFile(filepath.Join(root, "server.pid"), []byte("4194303\n"), 0o600))
	used, _, err = host.InUse(ctx, root)
	require.NoError(t, err)
	require.Empty(t, used, "what a process left that is gone")
}
