package integration_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/undo"
)

// TestUndo: whatever a restore did, on clusters of each kind, undoing it brings the former
// state back, and undoing that what the restore had made.
func TestUndo(t *testing.T) {
	for name, fixture := range map[string]func(testing.TB) *engineFixture{"document": documentFixture,
		"etcd": etcdFixture, "redis": lonePrimaryFixture} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			undoing(t, fixture(t))
		})
	}
}

func undoing(t *testing.T, b *engineFixture) {
	r := rand.New(rand.NewPCG(17, 4))
	e := newRunner(t)
	_, drv, err := engine.ForAddress(b.target.Address)
	require.NoError(t, err)
	dial := func(context.Context) (engine.Cluster, error) { return drv.Open(ctx, b.target) }
	connected := func(do func(c engine.Cluster)) {
		c, err := dial(ctx)
		require.NoError(t, err)
		defer c.Close()
		do(c)
	}
	name := b.target.Name
	for n := range 100 {
		b.put(t, b.one, n, "calm")
		b.put(t, b.other, n, "untouched")
	}
	var p *store.Point
	connected(func(c engine.Cluster) { p, err = snapshot.Take(ctx, e, name, c) })
	require.NoError(t, err)
	all := func() map[string]map[string]string {
		return map[string]map[string]string{b.one: b.state(t, b.one), b.other: b.state(t, b.other),
			b.renamedOne: b.state(t, b.renamedOne)}
	}
	// What the program does, with its run.
	redo := func(rn *store.Run, there []string, do func(e *run.Runner, r *store.Run) error) {
		if len(there) > 0 {
			rn.Kept, err = undo.Keep(ctx, e, name, dial, there)
			require.NoError(t, err)
		}
		require.NoError(t, e.Record(ctx, rn, run.RecordOptions{},
			func(_ context.Context, e *run.Runner, r *store.Run) error {
				return do(e, r)
			}))
	}
	undoOf := func(of *store.Run, changed bool) *store.Run {
		rn := &store.Run{Kind: store.RunUndo, Cluster: name, Target: name, Undoes: of.ID}
		connected(func(c engine.Cluster) {
			u, err := undo.New(ctx, e, of, c)
			require.NoError(t, err)
			defer u.Close()
			require.Equal(t, changed, len(u.Changed()) > 0, "%+v", u.Items)
			for _, it := range u.Items {
				rn.Restored = append(rn.Restored, store.RunRestored{To: it.Name, There: !it.Absent})
			}
			redo(rn, u.Names(), func(_ *run.Runner, r *store.Run) error {
				done, err := u.Run(ctx)
				for i := range r.Restored {
					for _, d := range done {
						if d.To == r.Restored[i].To {
							r.Restored[i].Root, r.Restored[i].Replayed = d.Root, d.Replayed
						}
					}
				}
				return err
			})
			_, err = undo.New(ctx, e, of, c)
			require.ErrorIs(t, err, run.ErrRefused, "it is undone once")
		})
		return rn
	}
	for round := range long(9, 4) {
		for n := range 110 {
			switch r.IntN(4) {
			case 0:
				b.remove(t, b.one, n)
			case 1:
				b.put(t, b.one, n, fmt.Sprint("spoiled ", round))
			}
		}
		before := all()
		o := restore.Options{Pattern: b.one}
		switch round % 4 {
		case 0:
			o.Conflict = restore.Replace
		case 1:
			o.Rename = map[string]string{b.one: b.renamedOne}
		case 2:
			o.Conflict = restore.Merge
		case 3:
			o.Conflict = restore.Fill
		}
		rn := &store.Run{Kind: store.RunRestore, Cluster: name, Target: name}
		connected(func(c engine.Cluster) {
			plan, err := restore.NewPlan(ctx, e, mustResolve(t, e, p), c, o)
			require.NoError(t, err)
			defer plan.Close()
			var there []string
			for _, it := range plan.Items {
				rn.Restored = append(rn.Restored, store.RunRestored{From: it.From, To: it.To, There: it.There})
				if it.There {
					there = append(there, it.To)
				}
			}
			redo(rn, there, func(_ *run.Runner, r *store.Run) error {
				done, err := plan.Run(ctx)
				r.Restored[0].Root = done[0].Root
				return err
			})
		})
		after := all()
		require.NotEqual(t, before, after, "round %d", round)
		changed := round%3 == 2
		if changed {
			b.put(t, rn.Restored[0].To, 500, "written since")
			after = all()
		}
		u := undoOf(rn, changed)
		require.Equal(t, before, all(), "round %d: undone", round)
		if round%2 == 0 {
			undoOf(u, false)
			require.Equal(t, after, all(), "round %d: the undo undone", round)
		}
	}
}

// TestUndoWithoutALog: where no log covers what is replaced, or the cluster is not protected at
// all, a protective point is made first; it changes nothing about the cluster's own moments.
func TestUndoWithoutALog(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	photos, restored := filepath.Join(dir, "photos"), filepath.Join(dir, "restored")
	for _, d := range []string{photos, restored} {
		require.NoError(t, os.Mkdir(d, 0o755))
	}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(photos, name), []byte(text), 0o600))
	}
	read := func() map[string]string {
		out := map[string]string{}
		list, err := os.ReadDir(photos)
		require.NoError(t, err)
		for _, f := range list {
			text, err := os.ReadFile(filepath.Join(photos, f.Name()))
			require.NoError(t, err)
			out[f.Name()] = string(text)
		}
		return out
	}
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	tool := newTool(t, dir, fmt.Sprintf("  comb: { address: %q }\n  meadow: { address: %q }\n", "file://"+photos,
		rs.URI()))
	write("a", "north")
	write("b", "south")
	tool.run(t, 0, "snapshot", "comb")
	write("a", "spoiled")
	write("c", "new since")
	spoiled := read()
	points := func() string { return tool.run(t, 0, "points", "comb") }
	before := points()
	tool.run(t, 0, "restore", tool.point(t, "comb"), "--conflict", "merge", "--yes")
	require.Equal(t, map[string]string{"a": "north", "b": "south", "c": "new since"}, read())
	require.Equal(t, before, points())
	tool.run(t, 0, "undo", tool.lastRun(t, "restore"), "--yes")
	require.Equal(t, spoiled, read())
	tool.run(t, 0, "undo", tool.lastRun(t, "undo"), "--yes")
	require.Equal(t, map[string]string{"a": "north", "b": "south", "c": "new since"}, read())

	// A collection that its point does not have.
	coll := cl.Database("apiary").Collection("colonies")
	_, err := coll.InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	tool.run(t, 0, "snapshot", "meadow")
	_, err = cl.Database("garden").Collection("beds").InsertOne(ctx,
		bson.D{{Key: "_id", Value: "unknown to the store"}})
	require.NoError(t, err)
	was := readWorld(t, cl)
	tool.run(t, 5, "restore", tool.point(t, "meadow"), "--rename", "apiary.colonies=garden.beds", "--yes")
	tool.run(t, 0, "restore", tool.point(t, "meadow"), "--rename", "apiary.colonies=garden.beds", "--conflict",
		"replace",
		"--yes")
	require.NotEqual(t, was, readWorld(t, cl))
	tool.run(t, 0, "undo", tool.lastRun(t, "restore"), "--yes")
	was.equal(t, readWorld(t, cl), "undone")
	tool.run(t, 5, "undo", tool.lastRun(t, "restore"), "--yes")
	tool.run(t, 2, "undo", "20990101-000000", "--yes")
}

// TestRestoresForATime: what was restored beside for a time goes when it is over, also where
// the program that restored it is gone; what is there already is not restored over for a time.
func TestRestoresForATime(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	_, err := cl.Database("apiary").Collection("colonies").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	tool := newTool(t, t.TempDir(), fmt.Sprintf("  meadow: { address: %q }\n", rs.URI()))
	text, err := os.ReadFile(tool.config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(tool.config,
		append(text, "policies:\n  nightly: { clusters: [meadow], snapshot: every 6h }\n"...), 0o600))
	tool.run(t, 0, "snapshot", "meadow")
	was := readWorld(t, cl)
	tool.run(t, 2, "restore", tool.point(t, "meadow"), "--conflict", "replace", "--for", "2s", "--yes")
	tool.run(t, 0, "restore", tool.point(t, "meadow"), "--rename", "apiary.colonies=apiary.look", "--for", "2s",
		"--yes")
	require.Contains(t, readWorld(t, cl), "apiary.look")
	_, err = cl.Database("apiary").Collection("look").InsertOne(ctx, bson.D{{Key: "_id", Value: "worked with"}})
	require.NoError(t, err)
	tool.run(t, 0, "due", "--run")
	require.Eventually(t, func() bool {
		tool.run(t, 0, "due", "--run")
		_, there := readWorld(t, cl)["apiary.look"]
		return !there
	}, 30*time.Second, 500*time.Millisecond)
	was.equal(t, readWorld(t, cl), "gone again")
	tool.run(t, 0, "due", "--run")
	require.Len(t, tool.runs(t, "undo"), 1)
	// And that can be had back, too.
	tool.run(t, 0, "undo", tool.lastRun(t, "undo"), "--yes")
	n, err := cl.Database("apiary").Collection("look").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
}

// TestMergingKilled: a merge that is killed at any instant is run again, and is right; what
// was there before the first of them comes back, also when undoing is killed.
func TestMergingKilled(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(17, 5))
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	coll := cl.Database("apiary").Collection("colonies")
	tool := newTool(t, t.TempDir(), fmt.Sprintf("  meadow: { address: %q }\n", rs.URI()))
	set := func(n int, text string) {
		_, err := coll.ReplaceOne(ctx, bson.D{{Key: "_id", Value: n}}, bson.D{{Key: "text", Value: text}},
			options.Replace().SetUpsert(true))
		require.NoError(t, err)
	}
	for n := range 3000 {
		set(n, "calm")
	}
	tool.run(t, 0, "snapshot", "meadow")
	then := readWorld(t, cl)["apiary.colonies"].docs
	killed := 0
	for round := range long(20, 5) {
		for range 300 {
			n := r.IntN(3300)
			if r.IntN(3) == 0 {
				_, err := coll.DeleteOne(ctx, bson.D{{Key: "_id", Value: n}})
				require.NoError(t, err)
			} else {
				set(n, fmt.Sprint("spoiled ", round))
			}
		}
		before := readWorld(t, cl)
		want := map[string]bool{}
		for _, d := range then {
			want[d] = true
		}
		args := []string{"restore", tool.point(t, "meadow") + "/apiary.colonies", "--conflict", "merge", "--yes"}
		first := ""
		for try := 1; ; try++ { // each may take longer: on a busy machine it ends, too
			ended := tool.kill(t, time.Duration(r.IntN(500*try))*time.Millisecond, args...)
			if id := tool.lastRun(t, "restore"); first == "" && id != "" && !tool.known[id] {
				first = id
			}
			if ended {
				break
			}
			killed++
		}
		for _, d := range readWorld(t, cl)["apiary.colonies"].docs {
			delete(want, d)
		}
		require.Empty(t, want, "everything is as it was then")
		for id := range maps.Keys(tool.runs(t, "restore")) {
			tool.known[id] = true
		}
		require.NotEmpty(t, first)
		for try := 1; !tool.kill(t, time.Duration(r.IntN(600*try))*time.Millisecond, "undo", first, "--yes"); try++ {
			killed++
		}
		before.equal(t, readWorld(t, cl), fmt.Sprintf("round %d, %s undone", round, first))
	}
	t.Logf("%d were killed", killed)
	require.Positive(t, killed)
}

// builtTool is the built program with a configuration.
type builtTool struct {
	bin, config string
	known       map[string]bool
}

func newTool(t testing.TB, dir, clusters string) *builtTool {
	tool := &builtTool{bin: builtBinary(t), config: filepath.Join(dir, "dexamen.yaml"), known: map[string]bool{}}
	require.NoError(t, os.WriteFile(tool.config, fmt.Appendf(nil,
		"stores:\n  larder: { location: %q, key: { file: %q } }\nclusters:\n%slimits: { temp: %q }\n",
		"file://"+filepath.Join(dir, "larder"), filepath.Join(dir, "larder.key"), clusters, dir), 0o600))
	tool.run(t, 0, "store", "create", "larder")
	return tool
}

// run runs one command, which must end with a code, and returns what it printed.
func (b *builtTool) run(t testing.TB, code int, args ...string) string {
	t.Helper()
	return b.anyOf(t, []int{code}, args...)
}

// anyOf is run of a command that may end with any of some codes.
func (b *builtTool) anyOf(t testing.TB, codes []int, args ...string) string {
	t.Helper()
	cmd := exec.Command(b.bin, append([]string{"--config", b.config}, args...)...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	var xe *exec.ExitError
	if !errors.As(err, &xe) {
		require.NoError(t, err)
	}
	require.Contains(t, codes, cmd.ProcessState.ExitCode(), "%v\n%s", args, out.String())
	return out.String()
}

// kill runs a command and kills it after a time; true where it had ended well before.
func (b *builtTool) kill(t testing.TB, after time.Duration, args ...string) bool {
	cmd := exec.Command(b.bin, append([]string{"--config", b.config}, args...)...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	timer := time.AfterFunc(after, func() { _ = cmd.Process.Kill() })
	defer timer.Stop()
	err := cmd.Wait()
	if err == nil || strings.Contains(out.String(), "was undone already, by") {
		return true // or the one before was killed when all was done and recorded
	}
	require.Equal(t, -1, cmd.ProcessState.ExitCode(), "%v\n%s", args, out.String())
	return false
}

// runs returns the runs of a kind, those that died among them.
func (b *builtTool) runs(t testing.TB, kind string) map[string]store.Run {
	var list []store.Run
	var any json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(b.run(t, 0, "--json", "runs", "--kind", kind)), &any))
	if json.Unmarshal(any, &list) != nil {
		var in struct{ Runs []store.Run }
		require.NoError(t, json.Unmarshal(any, &in), string(any))
		list = in.Runs
	}
	out := map[string]store.Run{}
	for _, r := range list {
		out[r.ID] = r
	}
	return out
}

// lastRun returns the newest run of a kind; empty where there is none.
func (b *builtTool) lastRun(t testing.TB, kind string) (id string) {
	for i := range b.runs(t, kind) {
		id = max(id, i)
	}
	return id
}

// point returns the address of a cluster's newest point.
func (b *builtTool) point(t testing.TB, cluster string) string {
	var list []struct{ ID string }
	var any json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(b.run(t, 0, "--json", "points", cluster)), &any))
	if json.Unmarshal(any, &list) != nil {
		var in struct{ Points []struct{ ID string } }
		require.NoError(t, json.Unmarshal(any, &in), string(any))
		list = in.Points
	}
	last := ""
	for _, p := range list {
		last = max(last, p.ID)
	}
	require.NotEmpty(t, last)
	return cluster + "@" + last
}
