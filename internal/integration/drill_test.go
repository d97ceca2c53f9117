package integration_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/core/store"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/engine/redis/redistest"
)

func loneRedisFixture(t testing.TB) *engineFixture {
	s := redistest.Start(t)
	return redisBed(t, redistest.Address(s), redistest.Client(t, s), nil, nil, nil)
}

// TestDrills rehearses restores with the built program onto real etcd and Redis servers and the stand-in of
// document clusters: each outcome is told apart, the scratch cluster is empty afterwards, whatever
// happens, and evidence of each is left.
func TestDrills(t *testing.T) {
	t.Parallel()
	for name, fixture := range map[string]func(testing.TB) *engineFixture{"document": documentFixture,
		"etcd": etcdFixture, "redis": loneRedisFixture} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			drills(t, fixture(t), fixture(t), name)
		})
	}
}

// drilled is what drill --json prints.
type drilled struct {
	Run      store.Run
	Evidence struct {
		Number int64
		Result string
	}
}

func drills(t *testing.T, src, onto *engineFixture, name string) {
	dir := t.TempDir()
	said := filepath.Join(dir, "said")
	tool := newTool(t, dir, fmt.Sprintf("  meadow: { address: %q }\n  paddock: { address: %q }\n", src.target.Address,
		onto.target.Address))
	ns := src.one
	if name == "redis" {
		ns = "db0"
	}
	text, err := os.ReadFile(tool.config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(tool.config, fmt.Appendf(text, `policies:
  nightly:
    clusters: [meadow]
    snapshot: every 6h
    capture: 10m
    drill:
      schedule: every 30d
      to: paddock
      within: 10m
      checks:
        - that: counts[%q] >= 300 && recovery < 600.0
        - find: %q
          at_least: 300
        - run: [sh, -c, 'echo "$DEXAMEN_ADDRESS $DEXAMEN_CLUSTER $DEXAMEN_TARGET" > %s; test -n "$DEXAMEN_MOMENT"']
`, ns, ns, said), 0o600))
	for i := range 200 {
		src.put(t, src.one, i, "calm")
	}
	tool.run(t, 0, "snapshot", "meadow")
	for i := range 100 {
		src.put(t, src.one, 500+i, "later")
		src.put(t, src.other, i, "other")
	}
	tool.run(t, 0, "capture", "meadow")
	empty := func() {
		t.Helper()
		require.Empty(t, onto.state(t, onto.one))
		require.Empty(t, onto.state(t, onto.other))
	}
	drill := func(code int, args ...string) (d drilled) {
		t.Helper()
		out := tool.run(t, code, append([]string{"--json", "--quiet", "drill", "meadow"}, args...)...)
		dec := json.NewDecoder(strings.NewReader(out[strings.Index(out, "{"):]))
		require.NoError(t, dec.Decode(&d), out)
		return d
	}
	d := drill(0)
	require.Equal(t, store.RunDone, d.Run.Result)
	require.Positive(t, d.Run.Drill.FirstAnswer)
	require.GreaterOrEqual(t, d.Run.Drill.Recovery, d.Run.Drill.FirstAnswer)
	require.Len(t, d.Run.Drill.Checks, 3)
	require.EqualValues(t, 1, d.Evidence.Number)
	told, err := os.ReadFile(said)
	require.NoError(t, err)
	require.Equal(t, onto.target.Address+" meadow paddock\n", string(told))
	empty()

	// A check that fails.
	d = drill(3, "--that", fmt.Sprintf("counts[%q] > 100000", ns))
	require.Equal(t, store.RunDiffers, d.Run.Result)
	require.Contains(t, d.Run.Error, "100000")
	empty()
	// A name that is not there is a failure, and no success.
	d = drill(3, "--that", `counts["apairy.colonies"] > 0`)
	require.Contains(t, d.Run.Error, "apairy")
	empty()
	d = drill(3, "--within", "1ms")
	require.Contains(t, d.Run.Error, "promised")
	empty()

	// A scratch cluster that is not empty is left as it is.
	onto.put(t, onto.one, 7, "somebody's")
	d = drill(5)
	require.Contains(t, d.Run.Error, "not empty")
	require.Len(t, onto.state(t, onto.one), 1)
	onto.remove(t, onto.one, 7)
	if name == "document" { // an empty collection is something, too
		drill(5)
		cl := connect(t, onto.target.Address)
		dropAll(t, cl)
	}
	// At random: what is asked of the newest moment need not hold for each of them.
	require.Regexp(t, `"chosen": "random in 1h"`, tool.anyOf(t, []int{0, 3}, "--json", "drill", "meadow", "--random",
		"1h"))

	// Served, where the protocol is answered.
	if name == "redis" {
		require.Contains(t, drill(5, "--serve").Run.Error, "scratch")
	} else {
		d = drill(0, "--serve")
		require.True(t, d.Run.Drill.Served)
		require.EqualValues(t, 400, d.Run.Records)
	}

	// Killed at any instant: the next one begins by taking away what was left.
	r := rand.New(rand.NewPCG(23, 1))
	killed := 0
	for try := range long(30, 6) {
		if !tool.kill(t, time.Duration(r.IntN(150*(try%5+1)))*time.Millisecond, "drill", "meadow") {
			killed++
		}
	}
	if name == "document" {
		killedWhileStaging(t, tool, connect(t, onto.target.Address))
	}
	t.Logf("%d were killed", killed)
	require.Positive(t, killed)
	drill(0)
	empty()

	// A spoiled store.
	flipAll(t, filepath.Join(dir, "larder", "content"))
	d = drill(1)
	require.Equal(t, store.RunFailed, d.Run.Result)
	empty()
	require.Equal(t, store.RunFailed, d.Evidence.Result)
	file := filepath.Join(dir, "evidence.jws")
	tool.run(t, 0, "evidence", "export", "--to", file)
	require.Contains(t, tool.run(t, 0, "evidence", "check", file), "nothing is missing")
	out := tool.run(t, 0, "evidence", "list")
	for _, what := range []string{"done", "differs", "refused", "failed"} {
		require.Contains(t, out, what)
	}
}

// killedWhileStaging kills a drill while what it restores has not got its own name yet.
func killedWhileStaging(t *testing.T, tool *builtTool, target *mongo.Client) {
	staged := func() bool {
		names, err := target.Database("apiary").ListCollectionNames(ctx,
			bson.D{{Key: "name", Value: bson.D{{Key: "$regex", Value: "^dexamen_stage_"}}}})
		require.NoError(t, err)
		return len(names) > 0
	}
	for range 50 {
		cmd := exec.Command(tool.bin, "--config", tool.config, "drill", "meadow")
		require.NoError(t, cmd.Start())
		var ended atomic.Bool
		done := make(chan struct{})
		go func() {
			_ = cmd.Wait()
			ended.Store(true)
			close(done)
		}()
		for !ended.Load() && !staged() {
			time.Sleep(time.Millisecond)
		}
		_ = cmd.Process.Kill()
		<-done
		if staged() {
			return
		}
	}
	t.Fatal("no drill could be killed while it staged")
}

// flipAll spoils every file of a folder, in its middle.
func flipAll(t testing.TB, folder string) {
	n := 0
	require.NoError(t, filepath.Walk(folder, func(path string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for i := 8; i < len(data); i += 16 {
			data[i] ^= 1
		}
		n++
		require.NoError(t, os.Chmod(path, 0o600))
		return os.WriteFile(path, data, 0o600)
	}))
	require.Positive(t, n)
}

// TestDrillOfARealDocumentServer restores onto a document server that is no stand-in, and serves the moment.
func TestDrillOfARealDocumentServer(t *testing.T) {
	t.Parallel()
	src, onto := documenttest.Start(t, ""), documenttest.Start(t, "")
	tool := newTool(t, t.TempDir(), fmt.Sprintf("  meadow: { address: %q }\n  paddock: { address: %q }\n", src, onto))
	cl := connect(t, src)
	for i := range 300 {
		_, err := cl.Database("apiary").Collection("colonies").InsertOne(ctx, bson.D{{Key: "_id", Value: i},
			{Key: "yard", Value: []string{"north", "south"}[i%2]}})
		require.NoError(t, err)
	}
	tool.run(t, 0, "snapshot", "meadow")
	out := tool.run(t, 0, "drill", "meadow", "--to", "paddock", "--that", `counts["apiary.colonies"] == 300`)
	require.Contains(t, out, "paddock is empty again")
	require.Empty(t, readWorld(t, connect(t, onto)))
	tool.run(t, 0, "drill", "meadow", "--that", `counts["apiary.colonies"] == 300`)
}

// TestDrillsBySchedule has the daemon rehearse by schedule, and tell when that fails.
func TestDrillsBySchedule(t *testing.T) {
	t.Parallel()
	src, onto := etcdFixture(t), etcdFixture(t)
	dir := t.TempDir()
	tool := newTool(t, dir, fmt.Sprintf("  willow: { address: %q }\n  paddock: { address: %q }\n", src.target.Address,
		onto.target.Address))
	text, err := os.ReadFile(tool.config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(tool.config, append(text, `policies:
  nightly: { clusters: [willow], snapshot: every 6h, capture: 10m, drill: { schedule: every 2s, to: paddock } }
`...), 0o600))
	src.put(t, src.one, 1, "calm")
	tool.run(t, 0, "snapshot", "willow")
	cmd := exec.Command(tool.bin, "--config", tool.config, "daemon")
	require.NoError(t, cmd.Start())
	defer func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}()
	good := func(result string) (n int) {
		for _, r := range tool.runs(t, "drill") {
			if r.Policy == "nightly" && r.Result == result {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return good(store.RunDone) >= 2 }, time.Minute, 500*time.Millisecond)
	onto.put(t, "/somebody/", 1, "else's")
	require.Eventually(t, func() bool { return good(store.RunRefused) >= 1 }, time.Minute, 500*time.Millisecond)
	require.Contains(t, tool.run(t, 4, "status"), "not empty")
	require.Len(t, onto.state(t, "/somebody/"), 1)
	// What others are shown.
	file := filepath.Join(dir, "report.html")
	tool.run(t, 0, "report", "--to", file, "--csv", filepath.Join(dir, "tables"))
	tool.run(t, 5, "report", "--to", file)
	page, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, what := range []string{"willow", "all there after", "refused", "not empty", "drill"} {
		require.Contains(t, string(page), what)
	}
	table, err := os.ReadFile(filepath.Join(dir, "tables", "evidence.csv"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, strings.Count(string(table), "drill,willow"), 3)
}
