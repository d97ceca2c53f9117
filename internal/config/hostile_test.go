package config_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/command"
	"dexamen/internal/config"
)

// bombs are small files that would hold a parser for long, or fill the memory.
func bombs() map[string]string {
	fold := func(base, each string, n int) string {
		var b strings.Builder
		b.WriteString(base)
		for i := 1; i <= n; i++ {
			fmt.Fprintf(&b, each, i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 9), ","))
		}
		return b.String()
	}
	return map[string]string{
		"brackets": "stores: " + strings.Repeat("[", 200_000),
		"braces":   "stores: " + strings.Repeat("{a: ", 100_000),
		"lines":    strings.Join(staircase(3000), "\n"),
		"aliases":  fold("a0: &a0 [x,x,x,x,x,x,x,x,x]\n", "a%d: &a%d [%s]\n", 9),
		"merges":   fold("a0: &a0 {x: 1}\n", "a%d: &a%d {<<: [%s]}\n", 9),
		"itself":   "stores: &a\n  larder: { <<: *a }\n",
	}
}

func staircase(n int) (out []string) {
	for i := range n {
		out = append(out, strings.Repeat(" ", i)+"a:")
	}
	return out
}

// TestSmallFilesCostLittle: whatever a file holds, it is refused with its line before it costs much.
func TestSmallFilesCostLittle(t *testing.T) {
	for name, text := range bombs() {
		t.Run(name, func(t *testing.T) {
			begun := time.Now()
			_, err := config.Parse([]byte(text), "f.yaml")
			require.ErrorContains(t, err, "f.yaml:")
			require.Regexp(t, `nested more than|more than \d+ values|part of`, err.Error())
			require.Less(t, time.Since(begun), 20*time.Second)
		})
	}
}

// TestWhatIsNoConfiguration: pipes, devices, folders and what is too large are refused, and nothing is
// waited for.
func TestWhatIsNoConfiguration(t *testing.T) {
	dir := t.TempDir()
	pipe, large := filepath.Join(dir, "pipe"), filepath.Join(dir, "large")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(large, bytes.Repeat([]byte("# and so on\n"), 1<<20), 0o600))
	for path, want := range map[string]string{pipe: "a pipe", "/dev/zero": "a device", dir: "a folder",
		large: "more than it may"} {
		_, err := config.Load(path)
		require.ErrorContains(t, err, want)
		require.ErrorContains(t, err, path)
		c, err := config.Parse(fmt.Appendf(nil,
			"clusters: { pond: { address: 'redis://h', login: { user: u, secret: { file: %q } } } }", path), "f.yaml")
		if err == nil {
			_, err = c.Target(context.Background(), "pond")
		}
		require.Error(t, err)
		require.Regexp(t, want+"|folder|no file", err.Error())
	}
}

// TestAFileThatAllCanRead: a secret that every user of a machine can read works, and is warned of.
func TestAFileThatAllCanRead(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	for mode, warnings := range map[os.FileMode]int{0o600: 0, 0o640: 0, 0o644: 1} {
		require.NoError(t, os.WriteFile(file, []byte("made up"), mode))
		require.NoError(t, os.Chmod(file, mode))
		c, err := config.Parse(fmt.Appendf(nil, "stores:\n  larder: { location: 'file:///x', key: { file: %q } }\n", file), "f.yaml")
		require.NoError(t, err)
		require.Len(t, c.Warnings, warnings, "%v", mode)
		if warnings > 0 {
			require.Contains(t, c.Warnings[0], "f.yaml:2:")
			require.Contains(t, c.Warnings[0], "chmod 600")
		}
	}
}

// TestASecretCommandEnds: one that never ends, one whose child never does, and one that goes on
// giving, are ended and told.
func TestASecretCommandEnds(t *testing.T) {
	for command, want := range map[string]string{
		`[yes]`:                          command.ErrTooMuch.Error(),
		`[sh, -c, "sleep 600 & echo x"]`: "", // what it leaves behind is not waited for
		`[sh, -c, "echo the safe is shut >&2; false"]`: "the safe is shut",
	} {
		c, err := config.Parse([]byte("clusters: { pond: { address: 'redis://h', login: { user: u, secret: { command: "+
			command+" } } } }"), "f.yaml")
		require.NoError(t, err)
		begun := time.Now()
		_, err = c.Target(context.Background(), "pond")
		require.Less(t, time.Since(begun), 25*time.Second, command)
		if want != "" {
			require.ErrorContains(t, err, want)
			require.ErrorContains(t, err, "clusters.pond.login.secret")
		}
	}
}

func TestFormsOfFiles(t *testing.T) {
	c, err := config.Parse([]byte("\ufeffstores: { larder: { location: 'file:///x' } }\n"), "f.yaml")
	require.NoError(t, err, "a mark of byte order is no part of it")
	require.Len(t, c.Stores, 1)
	_, err = config.Parse([]byte("stores: { larder: { location: 'file:///x' } }\n---\nclusters: {}\n"), "f.yaml")
	require.ErrorContains(t, err, "f.yaml:3:")
	require.ErrorContains(t, err, "second document")
	_, err = config.Parse([]byte("# nothing yet\n"), "f.yaml")
	require.NoError(t, err)
	for _, size := range []string{"64xyzMiB", "-1MiB", "NaNMiB", "1e30TiB", "64"} {
		_, err = config.Parse([]byte("limits:\n  memory: "+size+"\n"), "f.yaml")
		require.ErrorContains(t, err, "f.yaml:2:11: ", size)
	}
	_, err = config.Parse([]byte("clusters:\n  m:\n    address: mongodb://h/\n    max_lag: soon\n"), "f.yaml")
	require.ErrorContains(t, err, "f.yaml:4:14: ")
}

// TestIncludedFiles: files dropped beside the configuration add clusters and policies; what is wrong
// in one names it, what is twice names both, and a watch sees them come, change and go.
func TestIncludedFiles(t *testing.T) {
	dir := t.TempDir()
	main := filepath.Join(dir, "dexamen.yaml")
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		old := time.Now().Add(-time.Minute)
		require.NoError(t, os.Chtimes(path, old, old))
		return path
	}
	write("dexamen.yaml", "include: [clusters.d/*.yaml]\nstores: { larder: { location: 'file:///x' } }\nclusters:\n"+
		"  meadow: { address: 'mongodb://h/' }\n")
	c, err := config.Load(main)
	require.NoError(t, err)
	watch := config.NewWatch(c)
	require.False(t, watch.Changed())
	write("clusters.d/pond.yaml", "clusters:\n  pond: { address: 'redis://h' }\npolicies:\n"+
		"  hourly: { clusters: [pond], snapshot: every 1h, keep: { never_fewer: 3 } }\n")
	require.True(t, watch.Changed())
	require.False(t, watch.Changed())
	c, err = watch.Load()
	require.NoError(t, err)
	require.Equal(t, []string{"meadow", "pond"}, config.Names(c.Clusters))
	require.Equal(t, []string{"pond"}, c.Protected(c.Policies["hourly"]))
	require.Contains(t, c.Where("clusters.pond.address"), "clusters.d/pond.yaml:2:")

	twice := write("clusters.d/reed.yaml", "clusters:\n  pond: { address: 'redis://i' }\n")
	_, err = watch.Load()
	require.ErrorContains(t, err, twice+":2:")
	require.ErrorContains(t, err, "pond.yaml:2:")
	wrong := write("clusters.d/reed.yaml", "clusters:\n  reed: { address: 'redis://i', stroe: larder }\n")
	_, err = watch.Load()
	require.ErrorContains(t, err, wrong+":2:33: ")
	wrong = write("clusters.d/reed.yaml", "clusters:\n  reed: { address: 'redis://i', store: celar }\n")
	_, err = watch.Load()
	require.ErrorContains(t, err, wrong+":2:40: clusters.reed.store: there is no store \"celar\"")
	write("clusters.d/reed.yaml", "stores: { loft: { location: 'file:///y' } }\n")
	_, err = watch.Load()
	require.ErrorContains(t, err, "reed.yaml:1:1: ")
	require.NoError(t, os.Remove(filepath.Join(dir, "clusters.d/reed.yaml")))
	require.NoError(t, os.Remove(filepath.Join(dir, "clusters.d/pond.yaml")))
	require.True(t, watch.Changed())
	c, err = watch.Load()
	require.NoError(t, err)
	require.Len(t, c.Clusters, 1)
}

// TestTheDefaultStore is what is meant where nothing else says which.
func TestTheDefaultStore(t *testing.T) {
	text := "stores: { larder: { location: 'file:///x' }, loft: { location: 'file:///y' } }\n" +
		"clusters: { m: { address: 'mongodb://h/' }, n: { address: 'mongodb://i/', store: larder } }\n"
	c, err := config.Parse([]byte(text), "f.yaml")
	require.NoError(t, err)
	_, err = c.StoreOf("", "m")
	require.ErrorContains(t, err, "several stores")
	c, err = config.Parse([]byte(text+"default_store: loft\n"), "f.yaml")
	require.NoError(t, err)
	for cluster, want := range map[string]string{"m": "loft", "n": "larder", "": "loft"} {
		got, err := c.StoreOf("", cluster)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	_, err = config.Parse([]byte(text+"default_store: lofty\n"), "f.yaml")
	require.ErrorContains(t, err, "f.yaml:3:16: default_store: there is no store \"lofty\"")
}

// FuzzParse: nothing panics, and nothing takes long.
func FuzzParse(f *testing.F) {
	f.Add([]byte(config.Sample))
	for _, text := range bombs() {
		f.Add([]byte(text[:min(len(text), 2000)]))
	}
	f.Add([]byte("clusters: { m: { address: 'mongodb://h,,i' } }\npolicies: { p: { clusters: [m], snapshot: '0 2 * * *' } }\n"))
	f.Fuzz(func(_ *testing.T, data []byte) { _, _ = config.Parse(data, "f.yaml") })
}
