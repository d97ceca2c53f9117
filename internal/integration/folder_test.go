package integration_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/engine/folder"
	"dexamen/internal/engine/folder/files"
	"dexamen/internal/engine/folder/sshhost/sshtest"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
)

// listing is all that is to be seen of a folder's files: what listings say of each, their
// content, targets and attributes, and which are hard links of one another.
func listing(t testing.TB, root string) map[string]string {
	host, err := files.NewLocal()
	require.NoError(t, err)
	out := map[string]string{}
	first := map[uint64]string{}
	require.NoError(t, host.Walk(ctx, root, files.Rules{}, func(batch []files.Entry) error {
		for _, e := range batch {
			c, err := host.Read(ctx, root, e)
			require.NoError(t, err, e.Path)
			if c.Handle != 0 {
				offsets, _, err := host.Pieces(ctx, c.Handle, 0, 1<<20)
				require.NoError(t, err)
				for _, off := range offsets {
					data, err := host.ReadAt(ctx, c.Handle, off, files.PieceSize)
					require.NoError(t, err)
					c.Data = append(c.Data, data...)
				}
				require.NoError(t, host.CloseFile(c.Handle))
			}
			link := ""
			if e.Kind == files.Regular && e.Links > 1 {
				if first[e.Ino] == "" {
					first[e.Ino] = e.Path
				}
				link = first[e.Ino]
			}
			out[e.Path] = fmt.Sprintf("%s %o %d:%d %d bytes %d %q %v sparse %v link %q: %.20q %d", e.Kind, e.Mode,
				e.UID, e.GID,
				e.Size, e.MTime, c.Target, c.Attributes, c.Sparse, link, c.Data, len(c.Data))
		}
		return nil
	}))
	return out
}

// TestFolderOddities: whatever can be in a folder comes back as it was, or is named.
func TestFolderOddities(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(home), 0o755)) //nolint:gosec // another user lists it
	require.NoError(t, os.Chmod(home, 0o755))               //nolint:gosec // likewise
	photos := filepath.Join(home, "photos")
	at := func(name string) string { return filepath.Join(photos, name) }
	require.NoError(t, os.MkdirAll(at("2026/may/deep"), 0o755)) //nolint:gosec // likewise
	write := func(name string, data string) {
		require.NoError(t, os.WriteFile(at(name), []byte(data), 0o644)) //nolint:gosec // likewise
	}
	write("empty", "")
	write("two\nlines", "a name with a newline")
	write("not \xff\xfe text", "a name that is no text")
	write("2026/-rf", "looks like a flag")
	write("2026/may/just under", strings.Repeat("x", files.Inline))
	write("2026/may/just over", strings.Repeat("x", files.Inline+1))
	write("2026/may/zeros", strings.Repeat("\x00", 3<<20))
	write("2026/may/piece", strings.Repeat("y", files.PieceSize))
	write("2026/may/pieces", strings.Repeat("z", 2*files.PieceSize+17))
	write("readonly", "nobody writes here")
	require.NoError(t, os.Chmod(at("readonly"), 0o400))
	require.NoError(t, os.Link(at("2026/may/pieces"), at("linked")))
	require.NoError(t, os.Symlink("../../etc/passwd", at("leads out")))
	require.NoError(t, os.Symlink("2026/may", at("leads in")))
	require.NoError(t, os.Symlink("nowhere", at("leads nowhere")))
	require.NoError(t, unix.Mkfifo(at("pipe"), 0o640))
	sparse, err := os.Create(at("sparse"))
	require.NoError(t, err)
	require.NoError(t, sparse.Truncate(1<<40))
	_, err = sparse.WriteAt([]byte("here"), 1<<39+5)
	require.NoError(t, err)
	require.NoError(t, sparse.Close())
	socket, err := net.Listen("unix", at("socket"))
	require.NoError(t, err)
	defer socket.Close()
	if unix.Setxattr(at("empty"), "user.note", []byte("kept\x00"), 0) != nil {
		t.Log("the file system keeps no attributes")
	}
	old := time.Date(1969, 12, 31, 1, 2, 3, 456789, time.UTC)
	require.NoError(t, os.Chtimes(at("empty"), old, old))
	require.NoError(t, os.Mkdir(at("closed"), 0o700))
	write("closed/inside", "in a folder that is closed")
	require.NoError(t, os.Chmod(at("closed"), 0o500))
	t.Cleanup(func() { _ = os.Chmod(at("closed"), 0o700) })

	s := sshtest.Start(t)
	cli := cliProgram{builtBinary(t), filepath.Join(home, "dexamen.yaml")}
	elevate, _ := json.Marshal(s.Elevate)
	require.NoError(t, os.WriteFile(cli.config, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/larder.key" } }
clusters:
  comb: { address: "file://%[1]s/photos", options: { leave_out: ["*.tmp"] } }
  shed: { address: "%[2]s", options: &o { key_file: %[3]q, known_hosts: %[4]q, elevate: %[5]s } }
  bare: { address: "%[2]s", options: { key_file: %[3]q, known_hosts: %[4]q } }
  gone: { address: "file://%[1]s/nowhere" }
  linked: { address: "file://%[1]s/by-link" }
`, home, s.Address(photos), s.KeyFile, s.KnownHosts, elevate), 0o600))
	cli.say(t, 0, "store", "create", "larder")
	write("left.tmp", "not wanted")
	out := cli.say(t, 0, "snapshot", "comb")
	require.Contains(t, out, "1 socket left out, with nothing to copy: socket")
	require.NoError(t, os.Remove(at("left.tmp")))
	require.NoError(t, os.Remove(at("socket")))
	touched := func() { // removing them has changed the folder's own time, which is none of its files'
		require.Contains(t, cli.say(t, 0, "compare", "comb@latest/photos", "comb@live/photos"), "equal")
	}
	touched()
	want := listing(t, photos)
	delete(want, "")
	for i, cluster := range []string{"comb", "shed"} {
		if cluster == "shed" {
			cli.say(t, 0, "snapshot", "shed")
		}
		name := fmt.Sprint("back-", i)
		cli.say(t, 0, "restore", cluster+"@latest/photos", "--rename", "photos="+name, "--yes")
		got := listing(t, filepath.Join(home, name))
		delete(got, "")
		require.Equal(t, want, got, cluster)
		t.Cleanup(func() { _ = os.Chmod(filepath.Join(home, name, "closed"), 0o700) })
	}
	// Over another connection nothing has changed, whoever reads.
	require.Contains(t, cli.say(t, 0, "compare", "shed@latest/photos", "comb@live/photos"), "equal")
	// Who may not read a file is told, and the point says what it lacks.
	if s.Password != "" {
		out = cli.say(t, 4, "snapshot", "bare")
		require.Contains(t, out, "readonly is left out: permission denied")
		require.Contains(t, out, "closed/ is left out: permission denied")
	}
	out = cli.say(t, 0, "browse", "comb@latest/photos", "--files", "2026/may/p*", "--show", "20")
	require.Regexp(t, `2026/may/pieces +2.0 MiB +0644`, out)
	require.NotContains(t, out, "piece at")
	require.NotContains(t, out, "zeros")
	require.Contains(t, cli.say(t, 0, "cluster", "grants", "shed"), s.User)
	require.Contains(t, cli.say(t, 1, "capture", "comb"), "can be protected by snapshots only")
	// Single files beside, by pattern.
	cli.say(t, 0, "restore", "comb@latest/photos", "--rename", "photos=some", "--files", "2026/**/pie*", "--yes")
	require.FileExists(t, filepath.Join(home, "some/2026/may/piece"))
	require.NoFileExists(t, filepath.Join(home, "some/2026/may/zeros"))
	out = cli.say(t, 1, "restore", "comb@latest/photos", "--files", "2026/**/pie*", "--conflict", "replace", "--yes")
	require.Contains(t, out, "single files are restored beside it")
	// Something that is there and not the cluster's is left alone.
	out = cli.say(t, 1, "restore", "comb@latest/photos", "--rename", "photos=larder", "--conflict", "replace", "--yes")
	require.Contains(t, out, "is none of the folders of cluster comb")
	// What was spoiled is found by path, and put back.
	write("2026/may/pieces", strings.Repeat("z", files.PieceSize)+"!"+strings.Repeat("z", files.PieceSize+16))
	require.NoError(t, os.Remove(at("2026/-rf")))
	write("new", "")
	out = cli.say(t, 3, "compare", "comb@latest/photos", "comb@live/photos")
	require.Regexp(t, `missing +2026/-rf\n`, out)
	require.Regexp(t, `extra +new\n`, out)
	require.Regexp(t, `changed +2026/may/pieces `, out)
	cli.say(t, 0, "restore", "comb@latest/photos", "--conflict", "replace", "--yes")
	got := listing(t, photos)
	delete(got, "")
	require.Equal(t, want, got)
	// A folder that is configured by a link is where that leads; the link stays.
	require.NoError(t, os.Symlink(photos, filepath.Join(home, "by-link")))
	cli.say(t, 0, "snapshot", "linked")
	require.Contains(t, cli.say(t, 0, "compare", "comb@latest/photos", "linked@latest/by-link"), "equal")
	write("new", "")
	cli.say(t, 0, "restore", "linked@latest/by-link", "--conflict", "replace", "--yes")
	require.NoFileExists(t, at("new"))
	to, err := os.Readlink(filepath.Join(home, "by-link"))
	require.NoError(t, err)
	require.Equal(t, photos, to)
	// A folder that is not there is no empty one.
	out = cli.say(t, 1, "snapshot", "gone")
	require.Contains(t, out, "there is no such folder")
	require.NoError(t, os.Rename(photos, photos+"-away"))
	out = cli.say(t, 1, "snapshot", "comb")
	require.Contains(t, out, "there is no such folder")
	left, err := filepath.Glob(filepath.Join(home, ".dexamen-*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// altering is a folder of which one file has other content than it had, and shows no sign
// of it.
type altering struct {
	engine.Revisited
	path string
}

func (a *altering) Revisit(ctx context.Context, ns engine.Namespace, before func() (record.Record, bool, error),
	v engine.Visit) error {
	put := v.Put
	v.Put = func(r record.Record) error {
		it, err := files.Parse(r.Value)
		if err == nil && it.Path == a.path && len(it.Data) > 0 {
			it.Data = append([]byte{it.Data[0] + 1}, it.Data[1:]...)
			r.Value = it.Append(nil)
		}
		return put(r)
	}
	return a.Revisited.Revisit(ctx, ns, before, v)
}

// TestFolderContentAlteredWithoutATrace: a full read finds content that is other than what
// sizes and times say.
func TestFolderContentAlteredWithoutATrace(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	photos := filepath.Join(home, "photos")
	require.NoError(t, os.Mkdir(photos, 0o700))
	for i := range 20 {
		data := []byte(strings.Repeat(fmt.Sprint("photo ", i), 20_000*i+1))
		require.NoError(t, os.WriteFile(filepath.Join(photos, fmt.Sprint(i)), data, 0o600))
	}
	time.Sleep(2100 * time.Millisecond) // what was written just now is read again
	c, err := folder.Driver{}.Open(ctx, engine.Target{Name: "comb", Address: "file://" + photos})
	require.NoError(t, err)
	defer c.Close()
	e := newRunner(t)
	var said []string
	e.OnEvent = func(ev run.Event) { said = append(said, ev.Text) }
	take(t, e, c, false)
	p := take(t, e, &altering{c.(engine.Revisited), "7"}, false)
	require.Equal(t, "changes", p.Made, "nothing is read that looks unchanged")
	require.Zero(t, p.Stats.Stored)
	p = take(t, e, c, true)
	require.Contains(t, strings.Join(said, "\n"), "all that looked unchanged since point")
	require.Len(t, p.Caveats, 1, "nothing holds it still")
	p = take(t, e, &altering{c.(engine.Revisited), "7"}, true)
	require.Contains(t, strings.Join(p.Caveats, "\n"), "altered without a trace")
	require.Contains(t, strings.Join(p.Caveats, "\n"), "(7")
}

// TestFolderOfChanges: whatever happens to a folder between two points, however soon after
// it was read, a point of what has changed is equal to one of all that is read.
func TestFolderOfChanges(t *testing.T) {
	t.Parallel()
	home := filepath.Join(t.TempDir(), "hives")
	require.NoError(t, os.Mkdir(home, 0o700))
	c, err := folder.Driver{}.Open(ctx, engine.Target{Name: "comb", Address: "file://" + home})
	require.NoError(t, err)
	defer c.Close()
	e := newRunner(t)
	rnd := rand.New(rand.NewPCG(1, 2))
	// Names that begin alike, in folders and beside them, of small and of large files.
	name := func() string {
		return filepath.Join(home, []string{"", "1", "1-", "2"}[rnd.IntN(4)], fmt.Sprint("hive-", rnd.IntN(40)))
	}
	step := func() {
		at := name()
		switch rnd.IntN(8) {
		case 0, 1, 2:
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o700))
			data := make([]byte, []int{0, 5, 5000, files.PieceSize + 7}[rnd.IntN(4)])
			for i := range data {
				data[i] = byte(rnd.IntN(4))
			}
			require.NoError(t, os.WriteFile(at, data, 0o600))
		case 3, 4, 5:
			_ = os.Remove(at)
		case 6:
			_ = os.Rename(at, name())
		default:
			if to := name(); os.Link(at, to) != nil {
				_ = os.RemoveAll(filepath.Dir(to))
				require.NoError(t, os.MkdirAll(home, 0o700))
			}
		}
	}
	made := map[string]int{}
	for round := range 60 {
		for range rnd.IntN(30) {
			step()
		}
		if round%20 == 19 {
			time.Sleep(2100 * time.Millisecond) // times tell of what was written before
			take(t, e, c, false)
			step()
		}
		p := take(t, e, c, false)
		all := take(t, e, c, true)
		require.Equal(t, all.Namespaces[0].Root, p.Namespaces[0].Root, "round %d", round)
		require.Len(t, all.Caveats, 1, "nothing looks unchanged that is not: %v", all.Caveats)
		made[p.Made]++
	}
	require.GreaterOrEqual(t, made["changes"], 59)
}

// take makes a point, of all that is read or of what has changed.
func take(t *testing.T, e *run.Runner, c engine.Cluster, full bool) *store.Point {
	e.FullRead = full
	p, err := snapshot.Take(ctx, e, "comb", c)
	require.NoError(t, err)
	return p
}
