package integration_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/search/searchtest"
)

// TestSearchNoBlockStays kills the program whenever it holds writes back: they go on
// within moments, without anybody doing anything; what an administrator has blocked
// stays blocked.
func TestSearchNoBlockStays(t *testing.T) {
	t.Parallel()
	bin := builtBinary(t)
	c := searchtest.Start(t, searchtest.Options{})
	var names []string
	for i := range 12 {
		names = append(names, fmt.Sprintf("fieldnotes-%02d", i))
		c.Do(t, http.MethodPut, "/"+names[i], `{"settings":{"number_of_shards":3,"number_of_replicas":0}}`)
		c.Do(t, http.MethodPut, "/"+names[i]+"/_doc/1", `{"n":1}`)
	}
	c.Do(t, http.MethodPut, "/frozen", "{}")
	c.Do(t, http.MethodPut, "/frozen/_block/write", "")
	dir := t.TempDir()
	config := filepath.Join(dir, "dexamen.yaml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/larder.key" } }
clusters:
  clover: { address: "%[2]s", options: { quiesce: write-block }, store: larder }
`, dir, c.Address()), 0o600))
	dexamen := func(args ...string) *exec.Cmd {
		return exec.Command(bin, append([]string{"--config", config}, args...)...)
	}
	out, err := dexamen("store", "create", "larder").CombinedOutput()
	require.NoError(t, err, "%s", out)
	// A block is in force with its setting or without it.
	blocked := func() int {
		_, b, err := c.Try(http.MethodGet, "/_cluster/state/blocks", "")
		require.NoError(t, err)
		var inForce struct {
			Blocks struct{ Indices map[string]map[string]any }
		}
		require.NoError(t, json.Unmarshal(b, &inForce))
		n := 0
		for name, by := range inForce.Blocks.Indices {
			if _, write := by["8"]; write && name != "frozen" {
				n++
			}
		}
		_, with, err := c.Try(http.MethodGet, "/fieldnotes-*/_settings/index.blocks.write", "")
		require.NoError(t, err)
		return n + strings.Count(string(with), `"write":"true"`)
	}
	killed, back, longest, last := 0, 0, time.Duration(0), time.Duration(0)
	for killed < long(50, 5) {
		cmd := dexamen("snapshot", "clover")
		require.NoError(t, cmd.Start())
		ended := make(chan bool)
		go func() { _ = cmd.Wait(); close(ended) }()
		hit := false
		for wait := true; wait; {
			select {
			case <-ended:
				wait = false
			default:
				if blocked() > 0 {
					hit, wait = true, false
					_ = cmd.Process.Kill()
					<-ended
				}
			}
		}
		if !hit {
			continue
		}
		killed++
		begin := time.Now()
		require.Eventually(t, func() bool { return blocked() == 0 }, 20*time.Second, 5*time.Millisecond, "writes go on")
		longest = max(longest, time.Since(begin))
		// Servers add a block in two steps: one that was asked for before the kill may come
		// back once more, and goes again.
		for _, n := range names {
			require.Eventually(t, func() bool {
				status, _, err := c.Try(http.MethodPut, "/"+n+"/_doc/1", `{"n":2}`)
				if err == nil && status == http.StatusForbidden {
					back++
				}
				return err == nil && status < 300
			}, 20*time.Second, 20*time.Millisecond, n)
		}
		last = time.Since(begin)
	}
	require.Never(t, func() bool { return blocked() > 0 }, 5*time.Second, 50*time.Millisecond, "no block comes back")
	status, _, err := c.Try(http.MethodPut, "/frozen/_doc/1", `{"n":2}`)
	require.NoError(t, err)
	require.Equal(t, http.StatusForbidden, status, "what somebody else has blocked stays so")
	out, err = dexamen("snapshot", "clover").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "started again after")
	t.Logf("%d kills while writes were held back; the longest until they went on: %s; a block that came back was met "+
		"%d times; the last one took %s in all", killed, longest, back, last)
}
