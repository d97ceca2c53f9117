package integration_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/demo"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/workers/workerstest"
)

// workerHarm is something that is done while a snapshot is taken, and what ends it.
type workerHarm struct {
	name string
	do   func() (undo func())
}

// TestWorkersAreHarmed takes snapshots of eight shards, captures what was written since, and restores a moment in the
// log to eight other shards, DEXAMEN_HARMED times each (make workers: 100), by six workers in networks of their own and
// three NATS servers, while one or two of them are killed, cut off or slowed, or who began it is killed. Each must end
// with the content that is there; one of which the process was killed, or that failed, is done again. It needs root, ip
// and tc.
func TestWorkersAreHarmed(t *testing.T) {
	rounds, _ := strconv.Atoi(os.Getenv("DEXAMEN_HARMED"))
	if rounds == 0 {
		t.Skip("a measurement: make workers")
	}
	const crew, megabits, documents = 6, 24, 120_000
	bin, dir := builtBinary(t), t.TempDir()
	nets := networks(t, crew, megabits)
	sim, err := docsim.StartSharded(docsim.ShardedOptions{Name: "orchard", Shards: 8, Members: 1,
		Set: docsim.Options{Host: hub, LogBytes: 64 << 20, NoopEvery: 500 * time.Millisecond}})
	require.NoError(t, err)
	t.Cleanup(sim.Close)
	require.NoError(t, demo.Telemetry{Seed: 1, Documents: documents}.Fill(ctx, connect(t, sim.URI())))
	grove, err := docsim.StartSharded(docsim.ShardedOptions{Name: "grove", Shards: 8, Members: 1,
		Set: docsim.Options{Host: hub, LogBytes: 16 << 20, NoopEvery: 500 * time.Millisecond}})
	require.NoError(t, err)
	t.Cleanup(grove.Close)
	queue := workerstest.Start(t, 3, func(o *server.Options) { o.Host = "0.0.0.0" })
	var where []string
	for _, a := range queue.Addresses() {
		where = append(where, strconv.Quote(strings.Replace(a, "127.0.0.1", hub, 1)))
	}
	config := func(name, site string) string {
		path := filepath.Join(dir, name+".yaml")
		require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: %[1]s/larder.key } }
clusters: { orchard: { address: %[2]q }, grove: { address: %[6]q } }
limits: { memory: 128MiB, temp: %[1]s }
workers:
  name: %[3]s
  labels: { site: %[4]s }
  servers: [%[5]s]
  parallel: 2
  lost_after: 3s
  rules: [ { clusters: ["*"], only: { site: away } } ]
`, dir, sim.URI(), name, site, strings.Join(where, ", "), grove.URI()), 0o600))
		return path
	}
	desk := config("desk", "here")
	out, err := exec.Command(bin, "--config", desk, "store", "create", "larder").CombinedOutput()
	require.NoError(t, err, "%s", out)
	running := make([]*exec.Cmd, crew)
	join := func(i int) {
		cmd := nets[i].command(bin, "--config", config(fmt.Sprint("away-", i), "away"), "workers", "join")
		require.NoError(t, cmd.Start())
		running[i] = cmd
	}
	kill := func(i int) {
		if running[i] != nil {
			_ = running[i].Process.Kill()
			_ = running[i].Wait()
			running[i] = nil
		}
	}
	for i := range crew {
		join(i)
		t.Cleanup(func() { kill(i) })
	}
	rng := rand.New(rand.NewPCG(25, uint64(rounds)))
	var took *exec.Cmd // the snapshot that goes on
	harms := []workerHarm{
		{"a worker is killed", func() func() {
			i := rng.IntN(crew)
			kill(i)
			return func() {
				if running[i] == nil {
					join(i)
				}
			}
		}},
		{"a link is cut", func() func() {
			link := nets[rng.IntN(crew)].link
			ip(t, "link", "set", link, "down")
			return func() { ip(t, "link", "set", link, "up") }
		}},
		{"a link is slow", func() func() {
			link := nets[rng.IntN(crew)].link
			rate := func(megabits int) {
				_, _ = exec.Command("tc", "qdisc", "change", "dev", link, "root", "tbf", "rate",
					fmt.Sprintf("%dmbit", megabits), "burst", "64kb", "latency", "400ms").CombinedOutput()
			}
			rate(1)
			return func() { rate(megabits) }
		}},
		{"a NATS server is killed", func() func() {
			i := rng.IntN(3)
			queue.Kill(i)
			return func() { queue.Begin(t, i) }
		}},
		{"who began it is killed", func() func() {
			_ = took.Process.Kill()
			return func() {}
		}},
	}
	type outcome struct{ at, again, failed int }
	table := map[string]*outcome{}
	// Within how long after it has begun harm is done, in ms: each takes about as long without.
	soon := map[string]int{"snapshot": 1200, "capture": 400, "restore": 4000}
	do := func(chosen []workerHarm, args ...string) (out []byte, said string, err error) {
		cmd := exec.Command(bin, append([]string{"--config", desk, "--json"}, args...)...)
		var result, log bytes.Buffer
		cmd.Stdout, cmd.Stderr = &result, &log
		require.NoError(t, cmd.Start())
		took = cmd
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		var undo []func()
		for _, h := range chosen {
			select {
			case <-time.After(time.Duration(rng.IntN(soon[args[0]])) * time.Millisecond):
				undo = append(undo, h.do())
			case err = <-ended:
				ended <- err
			}
		}
		later := time.After(time.Second + time.Duration(rng.IntN(5000))*time.Millisecond)
		for done := false; !done; {
			select {
			case <-later:
				for _, u := range undo {
					u()
				}
				undo = nil
			case err = <-ended:
				done = true
			}
		}
		for _, u := range undo {
			u()
		}
		return result.Bytes(), log.String() + result.String(), err
	}
	cl, back := connect(t, sim.URI()), connect(t, grove.URI())
	notes := int64(0)
	write := func() {
		var list []any
		for range 1000 {
			list = append(list, map[string]any{"_id": notes, "text": strings.Repeat("note ", int(notes%40))})
			notes++
		}
		_, err := cl.Database("notes").Collection("log").InsertMany(ctx, list)
		require.NoError(t, err)
	}
	write()
	// What each must show when it is done.
	roots := func(out []byte) string {
		var p pointMade
		require.NoError(t, json.Unmarshal(out, &p), "%s", out)
		text, n := "", int64(0)
		for _, ns := range p.Namespaces {
			if ns.Name == "notes.log" {
				n += ns.Records
			} else {
				text += fmt.Sprint(ns)
			}
		}
		require.Equal(t, notes, n, "what was written by then")
		return text
	}
	out, said, err := do(nil, "snapshot", "orchard")
	require.NoError(t, err, said)
	want := roots(out)
	count := func(cl *mongo.Client, db, coll string) int64 {
		n, err := cl.Database(db).Collection(coll).CountDocuments(ctx, map[string]any{})
		require.NoError(t, err)
		return n
	}
	jobs := []struct {
		kind  string
		args  []string
		check func(out []byte)
	}{
		{"snapshot", []string{"snapshot", "orchard"}, func(out []byte) { require.Equal(t, want, roots(out)) }},
		{"capture", []string{"capture", "orchard"}, func(out []byte) {
			require.NotContains(t, string(out), `"gaps"`)
			require.NotContains(t, string(out), `"missing"`)
		}},
		{"restore", []string{"restore", "orchard@latest", "--to", "grove", "--conflict", "replace", "--yes",
			"--without-undo"}, func([]byte) { // read back and equal, or it had failed
			require.Equal(t, notes, count(back, "notes", "log"))
			require.EqualValues(t, count(cl, "telemetry", "readings"), count(back, "telemetry", "readings"))
			dbs, err := back.Database("telemetry").ListCollectionNames(ctx, map[string]any{})
			require.NoError(t, err)
			require.Len(t, dbs, 2, "no stage is left")
		}},
	}
	longest := map[string]time.Duration{}
	for round := range rounds {
		write()
		for _, j := range jobs {
			var chosen []workerHarm
			for range 1 + rng.IntN(2) {
				chosen = append(chosen, harms[rng.IntN(len(harms))])
			}
			names := []string{}
			for _, h := range chosen {
				if !slices.Contains(names, h.name) {
					names = append(names, h.name)
				}
			}
			slices.Sort(names)
			name := strings.Join(names, ", ")
			row := j.kind + ": " + name
			if table[row] == nil {
				table[row] = &outcome{}
			}
			began := time.Now()
			out, said, err := do(chosen, j.args...)
			if err == nil {
				table[row].at++
			} else {
				if !slices.Contains(names, "who began it is killed") {
					t.Logf("round %d: %s: %v: %.600s", round, row, err, said[max(0, len(said)-600):])
					table[row].failed++
				}
				out, said, err = do(nil, j.args...)
				require.NoError(t, err, said)
				table[row].again++
			}
			j.check(out)
			took := time.Since(began)
			longest[j.kind] = max(longest[j.kind], took)
			t.Logf("round %d of %d: %s: %s", round+1, rounds, row, took.Round(time.Millisecond))
		}
		if round%10 == 9 || round == rounds-1 {
			out, said, err := do(nil, "verify", "orchard@latest", "--live", "orchard")
			require.NoError(t, err, "%s%s", said, out)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(table)) {
		o := table[name]
		t.Logf("%-70s done %d, done again %d (failed %d)", name, o.at, o.again, o.failed)
	}
	t.Logf("the longest took %v", longest)
	for _, args := range [][]string{{"verify", "orchard@latest"}, {"store", "scrub", "larder"}} {
		_, said, err := do(nil, args...)
		require.NoError(t, err, said)
	}
}
