package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// configured puts a policy, and more, into a site's configuration; the clusters that are wrong are
// said to be unprotected on purpose.
func (s *site) configured(more string) {
	s.t.Helper()
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(s.t, err)
	all := strings.ReplaceAll(string(text), `mongodb://127.0.0.1:1/"`, `mongodb://127.0.0.1:1/", unprotected: true`)
	all = strings.ReplaceAll(all, "WRONG_SECRET } }", "WRONG_SECRET } }, unprotected: true")
	require.NoError(s.t, os.WriteFile(s.path("dexamen.yaml"), []byte(all+more), 0o600))
}

// TestStatus: one look tells; a second copy is part of a policy; nobody at work, a store that is
// gone and a copy that is behind are each said, with what to do.
func TestStatus(t *testing.T) {
	t.Parallel()
	s := newSite(t, 100)
	s.configured("policies:\n  nightly: { clusters: [meadow], store: larder, snapshot: every 1h, capture: " +
		"10m, rpo: 2h, " +
		"mirror_to: loft, mirror_every: 1s, keep: { every_moment: 1d, never_fewer: 3 } }\n")
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), []byte(strings.Replace(string(text), "clusters:\n",
		"  loft: { location: \"file://"+s.path("loft")+"\", key: { file: \""+s.path("larder.key")+"\" } }\nclusters:\n", 1)),
		0o600))
	s.run(0, "config", "check")
	s.run(0, "store", "create", "larder")
	_, errs := s.run(5, "store", "create", "loft")
	require.Contains(t, errs, "dexamen store mirror larder loft")
	out, _ := s.run(0, "store", "list")
	require.Contains(t, out, "the first copy of larder makes it")
	s.run(1, "status") // there is no moment to restore, and no second store
	s.run(0, "due", "--run")
	out, _ = s.run(0, "runs", "meadow", "--kind", "mirror")
	require.Contains(t, out, "copied to loft")
	var mirrored []struct{ ID, Store string }
	out, _ = s.run(0, "--json", "points")
	require.NoError(t, json.Unmarshal([]byte(out), &mirrored))
	require.Len(t, mirrored, 2, "of a cluster in two stores")
	require.Equal(t, mirrored[0].ID, mirrored[1].ID)
	require.Equal(t, []string{"larder", "loft"}, []string{mirrored[0].Store, mirrored[1].Store})
	out, _ = s.run(0, "status")
	require.Regexp(t, `(?m)^meadow +\S+ ago .* well; in loft \S+ ago`, out)
	out, _ = s.run(0, "--json", "status")
	var st struct {
		Well     bool
		Clusters []struct {
			Cluster string
			Newest  time.Time
			Mirror  string
			Alerts  []any
		}
		Stores []struct{ Up bool }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &st))
	require.True(t, st.Well && len(st.Clusters) == 1 && st.Clusters[0].Mirror == "loft" && len(st.Stores) == 2, out)
	require.Less(t, time.Since(st.Clusters[0].Newest), time.Minute)
	// The store goes away: what is in the other can still be had, and which is gone is said.
	require.NoError(t, os.Rename(s.path("larder"), s.path("elsewhere")))
	out, errs = s.run(1, "status")
	require.Contains(t, out, "not known")
	require.Contains(t, errs, "store larder")
	s.run(0, "--store", "loft", "verify", "meadow@latest")
	require.NoError(t, os.Rename(s.path("elsewhere"), s.path("larder")))
	s.run(0, "status")
	// The key in use is not dropped by the way.
	out, _ = s.run(0, "--json", "store", "keys", "list", "larder")
	var keys struct{ Holders []struct{ ID string } }
	require.NoError(t, json.Unmarshal([]byte(out), &keys))
	s.run(0, "store", "keys", "new", s.path("second.key"))
	second, err := os.ReadFile(s.path("second.key"))
	require.NoError(t, err)
	_, public, _ := strings.Cut(string(second), "public key: ")
	public, _, _ = strings.Cut(public, "\n")
	s.run(0, "store", "keys", "add", "larder", "--recipient", public)
	_, errs = s.run(5, "store", "keys", "drop", "larder", keys.Holders[0].ID)
	require.Contains(t, errs, "locked out")
	s.run(0, "status")
	out, _ = s.run(0, "store", "keys", "drop", "larder", keys.Holders[0].ID, "--yes")
	require.Contains(t, out, "drop it there too")
	s.run(1, "status")
}

// TestReadOnlyHost: a host that may only look sees all there is, and says that its runs are not recorded.
func TestReadOnlyHost(t *testing.T) {
	t.Parallel()
	s := newSite(t, 50)
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	looked := s.path("looked-at")
	require.NoError(t, os.Mkdir(looked, 0o700))
	if os.Getuid() == 0 { // nothing else keeps root from writing
		require.NoError(t, syscall.Mount(s.path("larder"), looked, "", syscall.MS_BIND, ""))
		t.Cleanup(func() { _ = syscall.Unmount(looked, 0) })
		require.NoError(t, syscall.Mount("", looked, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	} else {
		looked = s.path("larder")
		out, err := exec.Command("chmod", "-R", "a-w", looked).CombinedOutput()
		require.NoError(t, err, string(out))
		t.Cleanup(func() { _ = exec.Command("chmod", "-R", "u+w", looked).Run() })
	}
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), []byte(strings.Replace(string(text),
		"file://"+s.path("larder")+"\",", "file://"+looked+"\", read_only: true,", 1)), 0o600))
	for _, line := range []string{"status", "points meadow", "browse meadow@latest", "verify meadow@latest",
		"compare meadow@latest meadow@live", "coverage meadow"} {
		s.run(0, strings.Fields(line)...)
	}
	out, errs := s.run(0, "restore", "meadow@latest/apiary.keepers", "--rename", "apiary.keepers=apiary.beside",
		"--yes")
	require.Contains(t, errs, "the run is not recorded")
	require.NotContains(t, out, "undo it with")
	s.run(1, "snapshot", "meadow")
}

// TestAlertsTest sends one alert through each channel, and says which did not take it.
func TestAlertsTest(t *testing.T) {
	t.Parallel()
	s := newSite(t, 1)
	_, errs := s.run(2, "alerts", "test")
	require.Contains(t, errs, "nobody is told of anything")
	s.configured("alerts: { webhook: { url: \"http://127.0.0.1:1/desk?key=hidden\" } }\n")
	out, errs := s.run(1, "alerts", "test")
	require.Contains(t, out, "webhook has not taken it")
	require.Contains(t, errs, "1 channel did not take the test")
	require.NotContains(t, out+errs, "hidden")
}

// TestOneLiners runs what the documentation shows, each as a shell would; none may print an error, or
// nothing where there is something.
func TestOneLiners(t *testing.T) {
	t.Parallel()
	s := newSite(t, 3000)
	s.configured("policies:\n  nightly: { clusters: [meadow], snapshot: every 1h, capture: 10m, " +
		"keep: { every_moment: 1d, never_fewer: 3 } }\n")
	s.run(0, "store", "create", "larder")
	s.run(0, "due", "--run")
	text, err := os.ReadFile("../../docs/reference/in-service.md")
	require.NoError(t, err)
	_, text2, found := strings.Cut(string(text), "```sh\n")
	require.True(t, found)
	block, _, _ := strings.Cut(text2, "```")
	nothing := []string{"clusters that are not well", "what failed lately", "namespaces that differ"}
	about, ran := "", 0
	for line := range strings.Lines(block) {
		line = strings.TrimSpace(line)
		if c, ok := strings.CutPrefix(line, "# "); ok {
			about = c
			continue
		}
		cmd := s.command()
		path := "PATH=" + s.path("bin") + ":" + os.Getenv("PATH")
		_ = os.MkdirAll(s.path("bin"), 0o700)
		_ = os.Symlink(binary, s.path("bin/dexamen"))
		sh := exec.Command("bash", "-o", "pipefail", "-c", line)
		sh.Dir, sh.Env = cmd.Dir, append(cmd.Env, path)
		out, err := sh.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, out)
		empty := false
		for _, n := range nothing {
			empty = empty || strings.HasPrefix(about, n)
		}
		require.Equal(t, empty, len(out) == 0, "%s: %s", line, out)
		require.NotContains(t, string(out), "null", line)
		ran++
	}
	require.GreaterOrEqual(t, ran, 10)
}
