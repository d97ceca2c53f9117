package integration_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/verify"
)

// builtBinary returns the program as it is built.
func builtBinary(t testing.TB) string {
	if b := os.Getenv("DEXAMEN_BIN"); b != "" {
		return b
	}
	b := filepath.Join(t.TempDir(), "dexamen")
	out, err := exec.Command("go", "build", "-o", b, "dexamen/cmd/dexamen").CombinedOutput()
	require.NoError(t, err, string(out))
	return b
}

// TestAHundredKills runs snapshots, captures and restores of a sharded cluster
// with the built program while writers go on, and each time kills a router, a
// member or the program itself at a random instant. The table says how each
// ended; afterwards every moment that was noted is what it was.
func TestAHundredKills(t *testing.T) {
	t.Parallel()
	bin := builtBinary(t)
	y := newClusterFixture(t, 1)
	dir := t.TempDir()
	config := filepath.Join(dir, "dexamen.yaml")
	target := newClusterFixture(t, 4)
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "stores:\n  larder: { location: %q, key: { file: %q } "+
		"}\nclusters:\n  meadow: { address: %q }\n  paddock: { address: %q }\nlimits: { temp: %q }\n",
		"file://"+filepath.Join(dir, "larder"), filepath.Join(dir, "larder.key"), y.uri, target.uri, dir), 0o600))
	var last string
	runTool := func(kill func(*exec.Cmd), args ...string) int {
		cmd := exec.Command(bin, append([]string{"--config", config}, args...)...)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		require.NoError(t, cmd.Start())
		if kill != nil {
			kill(cmd)
		}
		err := cmd.Wait()
		last = out.String()
		var xe *exec.ExitError
		if errors.As(err, &xe) {
			return xe.ExitCode()
		}
		require.NoError(t, err)
		return 0
	}
	require.Zero(t, runTool(nil, "store", "create", "larder"), last)
	h := y.hand(t, 11)
	for range 60 {
		h.step()
	}
	note(t, connect(t, y.uri))
	require.Zero(t, runTool(nil, "snapshot", "meadow"), last)
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				h.step()
				time.Sleep(2 * time.Millisecond)
			}
		}
	})
	rng := rand.New(rand.NewPCG(7, 7))
	outcomes := map[string]map[string]int{}
	var times []bson.Timestamp
	for range long(100, 30) {
		args := [][]string{{"snapshot", "meadow"}, {"capture", "meadow"}, {"capture", "meadow"},
			{"restore", "meadow@latest", "--to", "paddock", "--conflict", "replace", "--yes"}}[rng.IntN(4)]
		victim := []string{"dexamen", "member", "router"}[rng.IntN(3)]
		after := time.Duration(rng.IntN(250)) * time.Millisecond
		var restart func()
		code := runTool(func(cmd *exec.Cmd) {
			time.Sleep(after)
			switch victim {
			case "dexamen":
				_ = cmd.Process.Kill()
			case "router":
				y.sharded.KillRouter(0)
				restart = func() { _ = y.sharded.RestartRouter(0) }
			case "member":
				rs, i := y.sets[rng.IntN(len(y.sets))], rng.IntN(3)
				rs.Kill(i)
				restart = func() {
					for rs.Restart(i) != nil {
						time.Sleep(5 * time.Millisecond)
					}
				}
			}
			if restart != nil {
				time.Sleep(100 * time.Millisecond)
				restart()
			}
		}, args...)
		how := map[int]string{0: "done", -1: "killed", 4: "done, incomplete", 1: "failed, said why"}[code]
		if how == "" {
			how = fmt.Sprint("exit code ", code)
		}
		if code == 1 || code > 4 {
			require.NotEmpty(t, last, "an error says what is wrong")
			t.Logf("%s, %s killed: %s", args[0], victim,
				strings.TrimSpace(last[strings.LastIndex(strings.TrimSpace(last), "\n")+1:]))
		}
		row := args[0] + ", killed: " + victim
		if outcomes[row] == nil {
			outcomes[row] = map[string]int{}
		}
		outcomes[row][how]++
		times = append(times, y.sets[rng.IntN(len(y.sets))].Committed())
	}
	close(stop)
	wg.Wait()
	var rows []string
	for row, hows := range outcomes {
		rows = append(rows, fmt.Sprintf("%-28s %v", row, hows))
	}
	sort.Strings(rows)
	t.Logf("outcomes:\n%s", strings.Join(rows, "\n"))

	require.Zero(t, runTool(nil, "capture", "meadow"), last)
	require.Zero(t, runTool(nil, "snapshot", "meadow"), last)
	require.Zero(t, runTool(nil, "capture", "meadow"), last)
	require.Zero(t, runTool(nil, "coverage", "meadow"), last)
	b, err := blob.Open("file://" + filepath.Join(dir, "larder"))
	require.NoError(t, err)
	key, err := os.ReadFile(filepath.Join(dir, "larder.key"))
	require.NoError(t, err)
	unlock, err := store.ParseSecret(string(key))
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{Unlock: unlock})
	require.NoError(t, err)
	e := &run.Runner{Store: s, Temp: dir}
	points, bad, err := s.Points(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, bad)
	for _, p := range points[1:] {
		proof, err := verify.Point(ctx, e, p)
		require.NoError(t, err)
		require.True(t, proof.Equal, proof.NotFolded)
	}
	for _, ts := range times {
		m, err := moment.Resolve(ctx, e, "meadow",
			address.When{Kind: address.Place, Text: fmt.Sprintf("%d.%d", ts.T, ts.I)}, restore.OnScratch{})
		require.NoError(t, err)
		compareMoment(t, e, m, y.at(ts), y.dropping(ts, m.Point), fmt.Sprintf("%d.%d", ts.T, ts.I))
	}
	t.Logf("%d points proven, %d moments compared", len(points), len(times))
	require.Zero(t, runTool(nil, "restore", "meadow@latest", "--to", "paddock", "--conflict", "replace", "--yes"), last)
	for _, rs := range target.sets {
		for ns := range rs.At(rs.Committed()) {
			require.NotContains(t, ns, "dexamen_stage", "nothing is left behind")
		}
	}
}
