package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/servertest"
)

var binary string

func TestMain(m *testing.M) {
	binary = os.Getenv("DEXAMEN_BIN")
	dir, err := os.MkdirTemp("", "dexamen-test-*")
	if err == nil {
		err = os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state")) // not what this machine's user has seen
	}
	if err != nil {
		panic(err)
	}
	if binary == "" {
		binary = filepath.Join(dir, "dexamen")
		build := exec.Command("go", "build", "-o", binary, "dexamen/cmd/dexamen")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(fmt.Sprintf("%v\n%s", err, out))
		}
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// site is a folder with a configuration, and a stand-in cluster beside it.
type site struct {
	t    *testing.T
	dir  string
	port int
}

func newSite(t *testing.T, documents int) *site {
	s := &site{t: t, dir: t.TempDir()}
	// The stand-in takes three ports in a row, of which another test may have
	// one: then others are tried.
	for try := 0; ; try++ {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		s.port = l.Addr().(*net.TCPAddr).Port
		require.NoError(t, l.Close())
		cmd := exec.Command(binary, "sim", "--port", fmt.Sprint(s.port), "--documents", fmt.Sprint(documents),
			"--user", "dexamen")
		cmd.Env = append(os.Environ(), "SIM_SECRET=made up")
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		line := make([]byte, 200)
		if _, err = out.Read(line); err == nil { // it says when it is up and filled
			t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
			break
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		require.Less(t, try, 20, "no three free ports in a row")
	}
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), []byte(fmt.Sprintf(`stores:
  larder: { location: "file://%s", key: { file: %q } }
clusters:
  meadow: { address: "mongodb://127.0.0.1:%d/", login: { user: dexamen, secret: { env: MEADOW_SECRET } } }
  wrong: { address: "mongodb://127.0.0.1:%d/", login: { user: dexamen, secret: { env: WRONG_SECRET } } }
  gone: { address: "mongodb://127.0.0.1:1/" }
`, s.path("larder"), s.path("larder.key"), s.port, s.port)), 0o600))
	return s
}

func (s *site) path(name string) string { return filepath.Join(s.dir, name) }

func (s *site) command(args ...string) *exec.Cmd {
	cmd := exec.Command(binary, args...)
	cmd.Dir = s.dir
	cmd.Env = append(os.Environ(), "MEADOW_SECRET=made up", "WRONG_SECRET=mistyped",
		"DEXAMEN_CONFIG="+s.path("dexamen.yaml"), "TMPDIR="+s.dir)
	return cmd
}

// run runs a command line and checks its exit code.
func (s *site) run(want int, args ...string) (stdout, stderr string) {
	s.t.Helper()
	cmd := s.command(args...)
	var out, errw bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errw
	_ = cmd.Run()
	require.Equal(s.t, want, cmd.ProcessState.ExitCode(), "dexamen %s\n%s%s", strings.Join(args, " "), out.String(),
		errw.String())
	require.NotContains(s.t, out.String()+errw.String(), "%!", "a message and its arguments differ")
	return out.String(), errw.String()
}

func (s *site) json(v any, args ...string) {
	s.t.Helper()
	out, _ := s.run(0, append([]string{"--json"}, args...)...)
	require.NoError(s.t, json.Unmarshal([]byte(out), v), out)
}

func TestCommands(t *testing.T) {
	s := newSite(t, 3000)
	_, errs := s.run(1, "points")
	require.Contains(t, errs, "dexamen store create larder")
	s.run(0, "store", "create", "larder")
	_, errs = s.run(5, "store", "create", "larder")
	require.Contains(t, errs, "there is something there already")
	out, _ := s.run(0, "config", "check")
	require.Contains(t, out, "1 store, 3 clusters")
	out, _ = s.run(0, "config", "sample")
	require.NoError(t, os.WriteFile(s.path("sample.yaml"), []byte(out), 0o600))
	s.run(0, "config", "check", s.path("sample.yaml"))
	s.run(0, "cluster", "check", "meadow")
	out, errs = s.run(1, "cluster", "check", "wrong")
	require.Contains(t, out+errs, "login refused")
	require.NotContains(t, out+errs, "mistyped", "a secret is shown")
	out, _ = s.run(1, "cluster", "check", "gone")
	require.Contains(t, out, "no server answers")
	_, errs = s.run(2, "cluster", "inspect", "meado")
	require.Contains(t, errs, "near it: meadow")
	_, errs = s.run(2, "snapshot", "--fould", "meadow")
	require.Contains(t, errs, "fould")
	_, errs = s.run(2, "restore", "meadow@25:99")
	require.Contains(t, errs, "is no moment")
	_, errs = s.run(2, "snapshott", "meadow")
	require.Contains(t, errs, "snapshott")
	_, errs = s.run(5, "capture", "meadow")
	require.Contains(t, errs, "dexamen snapshot meadow")

	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")
	var points []struct{ ID string }
	s.json(&points, "points")
	require.Len(t, points, 1)
	s.run(0, "snapshot", "meadow")
	s.json(&points, "points", "meadow")
	require.Len(t, points, 2, "an earlier point stays")

	out, _ = s.run(0, "points", "--json", "meadow")
	require.NoError(t, json.Unmarshal([]byte(out), &points), "global flags count wherever they stand")
	out, _ = s.run(0, "browse", "meadow@latest/apiary.harvests")
	require.Contains(t, out, `index batch {"batch":1} unique true`)
	require.Contains(t, out, "jars")
	_, errs = s.run(1, "browse", "meadow@latest/apiary.harvest")
	require.Contains(t, errs, "near it: apiary.harvests, apiary.harvests_2025")
	s.run(0, "compare", "meadow@"+points[0].ID, "meadow@live")
	out, _ = s.run(3, "compare", "meadow@"+points[0].ID+"/apiary.harvests", "meadow@live/apiary.harvests_2025")
	require.Contains(t, out, "missing")
	s.run(0, "verify", "meadow@"+points[1].ID)
	_, errs = s.run(5, "restore", "meadow@"+points[0].ID+"/apiary.harvests")
	require.Contains(t, errs, "--conflict replace")
	_, errs = s.run(5, "restore", "meadow@"+points[0].ID+"/apiary.harvests", "--conflict", "replace")
	require.Contains(t, errs, "--yes")
	out, _ = s.run(0, "restore", "meadow@"+points[0].ID+"/apiary.harvests", "--conflict", "replace", "--yes")
	require.Contains(t, out, "will be replaced")
	require.Contains(t, out, "equal")
	s.run(0, "verify", "meadow@"+points[0].ID+"/apiary.harvests", "--live", "meadow")
	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")
	var coverage []struct{ Stretches []any }
	s.json(&coverage, "coverage")
	require.Len(t, coverage, 1)
	s.run(0, "store", "check", "larder")
	s.run(0, "store", "scrub", "larder", "--relist")
	for _, help := range [][]string{{"--help"}, {"restore", "--help"}, {"cluster", "--help"}} {
		out, _ = s.run(0, help...)
		require.Contains(t, out, "USAGE")
	}
}

// TestKilledAtAnyMoment ends snapshot, capture and restore by kill -9 at
// random moments: the store stays valid, the next run succeeds, and nothing
// half-done is listed or live.
func TestKilledAtAnyMoment(t *testing.T) {
	s := newSite(t, 10_000)
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	rng := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	var points []struct{ ID string }
	kill := func(args ...string) {
		cmd := s.command(args...)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(5+rng.IntN(400)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	sound := func() {
		t.Helper()
		s.json(&points, "points")
		for _, p := range points {
			s.run(0, "verify", "meadow@"+p.ID)
		}
	}
	rounds := 2
	if os.Getenv("DEXAMEN_LONG") != "" {
		rounds = 6
	}
	for round := range rounds {
		to := fmt.Sprintf("rehearsal.colonies_%d", round)
		restore := []string{"restore", "meadow@latest/apiary.inspections", "--rename", "apiary.inspections=" + to,
			"--yes"}
		kill("snapshot", "meadow")
		kill("capture", "meadow")
		kill(restore...)
		sound()
		var live struct {
			Namespaces []struct {
				Name    string
				Records int64
			}
		}
		s.json(&live, "browse", "meadow@live")
		there := false
		for _, ns := range live.Namespaces {
			if ns.Name == to {
				there = true
				s.run(0, "verify", "meadow@latest/apiary.inspections", "--live", "meadow", "--rename",
					"apiary.inspections="+to)
			}
		}
		if !there {
			s.run(0, restore...)
		} else {
			s.run(0, append(restore, "--conflict", "replace")...)
		}
		out, _ := s.run(0, "browse", "meadow@live")
		require.NotContains(t, out, "dexamen_stage_", "stages that were left behind are cleared up")
		s.run(0, "capture", "meadow")
	}
	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")
	sound()
	left, err := filepath.Glob(s.path("dexamen-s*"))
	require.NoError(t, err)
	require.Empty(t, left, "temporary files are left behind")
}

func TestInterruptedAndRunAgain(t *testing.T) {
	s := newSite(t, 5000)
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	cmd := s.command("capture", "meadow", "--follow", "--flush", "100ms")
	var errw bytes.Buffer
	cmd.Stderr = &errw
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(s.say(0, "runs"), "capture") }, time.Minute,
		50*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	require.Equal(t, 0, cmd.ProcessState.ExitCode(), errw.String())
	s.run(0, "capture", "meadow")
}

func TestDemo(t *testing.T) {
	out, err := exec.Command(binary, "demo", "--documents", "4000").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "content, counts, indexes and options are equal")
	require.Contains(t, string(out), "gives the same roots")
}

// TestEveryCommandSpeaksJSON: with --json standard output is one JSON value,
// also when the command fails.
func TestEveryCommandSpeaksJSON(t *testing.T) {
	s := newSite(t, 1500)
	f, err := os.OpenFile(s.path("dexamen.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(
		"policies:\n  nightly: { clusters: [meadow], snapshot: every 1h, capture: 1h, keep: { every_moment: 1d } }\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	for _, c := range []struct {
		want int
		line string
	}{
		{4, "config check"}, {0, "cluster list"}, {0, "cluster inspect meadow"}, {0, "cluster check meadow"}, {
			1, "points"},
		{0, "store create larder"}, {0, "store check larder"}, {0, "points"}, {0, "coverage"},
		{1, "browse meadow@latest"},
		{0, "snapshot meadow"}, {0, "capture meadow"}, {0, "snapshot meadow"}, {0, "points meadow"},
		{0, "coverage meadow"},
		{0, "browse meadow@latest"}, {0, "browse meadow@latest/apiary.keepers"}, {0, "browse meadow@live/apiary.*"},
		{0, "verify meadow@latest"},
		{0, "verify meadow@latest --live meadow"}, {0, "compare meadow@latest meadow@live"},
		{3, "compare meadow@latest/apiary.harvests meadow@live/apiary.keepers"},
		{5, "restore meadow@latest/apiary.keepers"},
		{0, "restore meadow@latest/apiary.keepers --rename apiary.keepers=apiary.k2 --yes"},
		{2, "restore meadow/apiary.keepers"}, {0, "restore meadow@latest/apiary.keepers --preview"},
		{0, "restore meadow@latest/apiary.keepers --conflict replace --yes"}, {0, "store inspect larder"},
		{0, "policy list"}, {0, "policy preview"}, {0, "due"}, {0, "due --run"}, {0, "retention"},
		{0, "retention meadow --apply"},
		{0, "hold meadow@latest --until 1d --why audit"}, {0, "hold meadow@latest --lift"},
		{2, "hold meadow@latest --lift"}, {0, "runs"}, {0, "runs meadow --failed"}, {2, "snapshot nowhere"},
		{2, "restore meadow@noon"},
	} {
		out, said := s.run(c.want, append([]string{"--json"}, strings.Fields(c.line)...)...)
		dec := json.NewDecoder(strings.NewReader(out))
		var v any
		require.NoError(t, dec.Decode(&v), "%s\n%s", c.line, out)
		require.False(t, dec.More(), "%s: more than one document\n%s", c.line, out)
		require.NotContains(t, out, "0001-01-01", "%s: a time that is none", c.line)
		if m, _ := v.(map[string]any); c.want != 0 {
			if m["error"] == nil { // beside the result
				lines := strings.Split(strings.TrimSpace(said), "\n")
				require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &m), "%s: %s", c.line, said)
			}
			require.NotEmpty(t, m["error"], c.line)
			require.EqualValues(t, c.want, m["exit"], c.line)
		}
		require.NotContains(t, out, "made up", "a secret is shown")
	}
}

func TestConfigurationMistakes(t *testing.T) {
	dir := t.TempDir()
	rec := func(config string, args ...string) string {
		file := filepath.Join(dir, "dexamen.yaml")
		require.NoError(t, os.WriteFile(file, []byte(config), 0o600))
		cmd := exec.Command(binary, append([]string{"--config", file}, args...)...)
		out, _ := cmd.CombinedOutput()
		require.Equal(t, 2, cmd.ProcessState.ExitCode(), string(out))
		return string(out)
	}
	require.Contains(t, rec("clusters:\n  meadow:\n    adress: x\n", "config", "check"), "dexamen.yaml:3:5:")
	require.Contains(t, rec("clusters:\n  meadow: { address: 'mongodb://h/' }\n", "snapshot", "meadow"),
		"no store is configured")
	two := "stores:\n  a: { location: 'file:///a' }\n  b: { location: 'file:///b' }\nclusters:\n  meadow: { " +
		"address: 'mongodb://h/' }\n"
	require.Contains(t, rec(two, "snapshot", "meadow"), "several stores are configured (a, b)")
	require.Contains(t, rec(two, "--store", "c", "points"), `there is no store "c"`)
	require.Contains(t, rec(two, "compare", "meadow@latest"), "write: dexamen compare ADDRESS ADDRESS")
	require.Contains(t, rec(two, "--log-level", "loud", "points"), "use debug, info, warn or error")
	cmd := exec.Command(binary, "points")
	cmd.Dir, cmd.Env = dir, []string{"HOME=" + dir, "DEXAMEN_CONFIG="}
	require.NoError(t, os.Remove(filepath.Join(dir, "dexamen.yaml")))
	out, _ := cmd.CombinedOutput()
	require.Contains(t, string(out), "dexamen config sample > dexamen.yaml")
}

// TestAStoreOnAnObjectStore: the same work with the store in a bucket of a real
// object store; nothing but its location and login is needed to have it all.
func TestAStoreOnAnObjectStore(t *testing.T) {
	srv := servertest.S3(t)
	s := newSite(t, 2000)
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	loft := fmt.Sprintf("stores:\n  loft: { location: s3://%s/dexamen, endpoint: %q, region: us-east-1, path_style: "+
		"true, login: { user: %s, secret: { command: [echo, %q] } } }\n",
		srv.Bucket, srv.Endpoint, srv.Access, srv.Secret)
	_, clusters, _ := strings.Cut(string(text), "clusters:")
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), []byte(loft+"clusters:"+clusters), 0o600))
	s.run(0, "config", "check")
	s.run(0, "store", "create", "loft", "--plain")
	out, _ := s.run(0, "store", "check", "loft")
	require.Contains(t, out, "lets none be replaced")
	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")
	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")
	s.run(0, "verify", "meadow@latest")
	s.run(0, "restore", "meadow@latest/apiary.keepers", "--rename", "apiary.keepers=apiary.keepers_restored", "--yes")
	s.run(0, "verify", "meadow@latest/apiary.keepers", "--live", "meadow")
	out, errs := s.run(0, "store", "inspect", "loft")
	require.Contains(t, out, "s3://loft/dexamen")
	require.NotContains(t, out+errs, srv.Secret)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		[]byte(strings.ReplaceAll(loft, srv.Secret, "mistyped")+"clusters:"+clusters), 0o600))
	_, errs = s.run(1, "points", "meadow")
	require.Contains(t, errs, "refuses the credentials")
	require.NotContains(t, errs, "mistyped")
}
