package integration_test

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/sim/docsim"
	"dexamen/internal/sim/searchsim"
)

// TestFolderHeldByItsServers: the files of document servers are locked, and search servers
// take no writes, while a folder of theirs is copied; not longer, whatever happens.
func TestFolderHeldByItsServers(t *testing.T) {
	t.Parallel()
	rs, err := docsim.Start(docsim.Options{Name: "meadow"})
	require.NoError(t, err)
	defer rs.Close()
	search, err := searchsim.Start(searchsim.Options{Name: "clover"})
	require.NoError(t, err)
	defer search.Close()
	for _, index := range []string{"fieldnotes-a", "fieldnotes-b", "frozen"} {
		ask(t, http.MethodPut, search.URL()+"/"+index, "{}")
		ask(t, http.MethodPut, search.URL()+"/"+index+"/_doc/1", `{"n":1}`)
	}
	ask(t, http.MethodPut, search.URL()+"/frozen/_block/write", "")
	home := t.TempDir()
	noise := make([]byte, 60<<20)
	_, _ = rand.NewChaCha8([32]byte{16}).Read(noise)
	for _, name := range []string{"files", "nodes"} {
		require.NoError(t, os.Mkdir(filepath.Join(home, name), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(home, name, "data"), noise, 0o600))
	}
	cli := cliProgram{builtBinary(t), filepath.Join(home, "dexamen.yaml")}
	configure := func(version string) {
		require.NoError(t, os.WriteFile(cli.config, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/larder.key" } }
clusters:
  meadow: { address: "mongodb://%[2]s/?replicaSet=meadow" }
  clover: { address: "search+http://%[3]s" }
  meadow-files: { address: "file://%[1]s/files" }
  clover-files: { address: "file://%[1]s/nodes" }
quiesce:
  members: { applies_to: { name: "meadow-*" %[5]s }, cluster: meadow, members: [%[4]q] }
  blocked: { applies_to: { name: "clover-*" }, cluster: clover }
`, home, rs.Addresses()[0], search.Addresses()[0], rs.Addresses()[1], version), 0o600))
	}
	configure("")
	cli.say(t, 0, "store", "create", "larder")
	blocked := func() []string {
		var out []string
		for _, index := range []string{"fieldnotes-a", "fieldnotes-b", "frozen"} {
			if strings.Contains(ask(t, http.MethodGet, search.URL()+"/"+index+"/_settings/index.blocks.write", ""),
				`"true"`) {
				out = append(out, index)
			}
		}
		return out
	}
	for _, cluster := range []string{"meadow-files", "clover-files"} {
		written := func() { // what was written just now is read again while it is held
			now := time.Now()
			for _, name := range []string{"files", "nodes"} {
				require.NoError(t, os.Chtimes(filepath.Join(home, name, "data"), now, now))
			}
		}
		written()
		held := func() bool {
			if cluster == "meadow-files" {
				return rs.FileLocks(1) > 0
			}
			return len(blocked()) == 3
		}
		free := func() bool {
			return rs.FileLocks(0)+rs.FileLocks(1)+rs.FileLocks(2) == 0 && len(blocked()) == 1
		}
		cmd := cli.command("--json", "snapshot", cluster, "--full-read")
		var out, said strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &said
		require.NoError(t, cmd.Start())
		require.Eventually(t, held, 20*time.Second, time.Millisecond, cluster)
		require.NoError(t, cmd.Wait(), said.String()+out.String())
		require.True(t, free(), "%s: %d %v", cluster, rs.FileLocks(1), blocked())
		require.Contains(t, out.String(), `"exact": true`)
		// Killed.
		written()
		cmd = cli.command("snapshot", cluster, "--full-read")
		require.NoError(t, cmd.Start())
		require.Eventually(t, held, 20*time.Second, time.Millisecond, cluster)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		require.Eventually(t, free, 5*time.Second, time.Millisecond, cluster)
		if cluster == "clover-files" {
			time.Sleep(4 * time.Second) // that long it is seen to that no block comes back
		}
		// What somebody locks after that is not touched by the next run.
		require.Contains(t, cli.say(t, 0, "snapshot", cluster), "it was started again at once")
		// Let go on by somebody else meanwhile: void.
		written()
		before := cli.say(t, 0, "--json", "points", cluster)
		cmd = cli.command("snapshot", cluster, "--full-read")
		out.Reset()
		cmd.Stderr = &out
		require.NoError(t, cmd.Start())
		require.Eventually(t, held, 20*time.Second, time.Millisecond, cluster)
		if cluster == "meadow-files" {
			rs.UnlockFiles(1)
		} else {
			ask(t, http.MethodPut, search.URL()+"/fieldnotes-b/_settings", `{"index.blocks.write":null}`)
		}
		require.Error(t, cmd.Wait())
		require.Contains(t, out.String(), "it was not held still all the time")
		require.Equal(t, before, cli.say(t, 0, "--json", "points", cluster))
		require.True(t, free(), cluster)
	}
	configure(", version: '99.1'")
	require.Contains(t, cli.say(t, 1, "snapshot", "meadow-files"), "it fits in kind and is for version 99.1 and later")
	require.Contains(t, cli.say(t, 1, "cluster", "check", "meadow-files"), "it fits in kind and is for version 99.1")
}

// ask sends a request that must succeed.
func ask(t testing.TB, method, url, body string) string {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Less(t, res.StatusCode, 300, "%s %s: %s", method, url, b)
	var v any
	require.NoError(t, json.Unmarshal(b, &v))
	return string(b)
}
