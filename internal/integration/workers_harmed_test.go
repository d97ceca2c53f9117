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

	"dexamen/internal/demo"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/workers/workerstest"
)

// workerHarm is something that is done while a snapshot is taken, and what ends it.
type workerHarm struct {
	name string
	do   func() (undo func())
}

// TestWorkersAreHarmed takes snapshots of eight shards, DEXAMEN_HARMED of them (make workers: 100), by six workers in
// networks of their own and three NATS servers, while one or two of them are killed, cut off or slowed, or who
// began the snapshot is killed. Each must end with the content that is there; one of which the process was
// killed, or that failed, is taken again. It needs root, ip and tc.
func TestWorkersAreHarmed(t *testing.T) {
	rounds, _ := strconv.Atoi(os.Getenv("DEXAMEN_HARMED"))
	if rounds == 0 {
		t.Skip("a measurement: make workers")
	}
	const crew, megabits, documents = 6, 24, 480_000
	bin, dir := builtBinary(t), t.TempDir()
	nets := networks(t, crew, megabits)
	sim, err := docsim.StartSharded(docsim.ShardedOptions{Name: "orchard", Shards: 8, Members: 1,
		Set: docsim.Options{Host: hub, LogBytes: 64 << 20, NoopEvery: 500 * time.Millisecond}})
	require.NoError(t, err)
	t.Cleanup(sim.Close)
	require.NoError(t, demo.Telemetry{Seed: 1, Documents: documents}.Fill(ctx, connect(t, sim.URI())))
	queue := workerstest.Start(t, 3, func(o *server.Options) { o.Host = "0.0.0.0" })
	var where []string
	for _, a := range queue.Addresses() {
		where = append(where, strconv.Quote(strings.Replace(a, "127.0.0.1", hub, 1)))
	}
	config := func(name, site string) string {
		path := filepath.Join(dir, name+".yaml")
		require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: %[1]s/larder.key } }
clusters: { orchard: { address: %[2]q } }
limits: { memory: 128MiB, temp: %[1]s }
workers:
  name: %[3]s
  labels: { site: %[4]s }
  servers: [%[5]s]
  parallel: 2
  lost_after: 3s
  rules: [ { clusters: ["*"], only: { site: away } } ]
`, dir, sim.URI(), name, site, strings.Join(where, ", ")), 0o600))
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
		_ = running[i].Process.Kill()
		_ = running[i].Wait()
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
			return func() { join(i) }
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
	var want string
	snapshot := func(chosen []workerHarm) (roots string, said string, took2 time.Duration, err error) {
		cmd := exec.Command(bin, "--config", desk, "--json", "snapshot", "orchard")
		var out, log bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &log
		begun := time.Now()
		require.NoError(t, cmd.Start())
		took = cmd
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		var undo []func()
		for _, h := range chosen {
			select {
			case <-time.After(time.Duration(rng.IntN(2500)) * time.Millisecond):
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
		if err == nil {
			var p pointMade
			require.NoError(t, json.Unmarshal(out.Bytes(), &p), out.String())
			roots = fmt.Sprint(p.Namespaces)
		}
		return roots, log.String() + out.String(), time.Since(begun), err
	}
	want, said, longest, err := snapshot(nil)
	require.NoError(t, err, said)
	t.Logf("without harm: %s", longest.Round(time.Millisecond))
	for round := range rounds {
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
		if table[name] == nil {
			table[name] = &outcome{}
		}
		got, said, took, err := snapshot(chosen)
		if err == nil {
			table[name].at++
		} else {
			killed := slices.Contains(names, "who began it is killed")
			if !killed {
				t.Logf("round %d: %s: %v: %.400s", round, name, err, said)
				table[name].failed++
			}
			got, said, took, err = snapshot(nil)
			require.NoError(t, err, said)
			table[name].again++
		}
		require.Equal(t, want, got, "round %d: %s", round, name)
		longest = max(longest, took)
		t.Logf("round %d of %d: %s: %s", round+1, rounds, name, took.Round(time.Millisecond))
	}
	for _, name := range slices.Sorted(maps.Keys(table)) {
		o := table[name]
		t.Logf("%-60s done %d, taken again %d (failed %d)", name, o.at, o.again, o.failed)
	}
	t.Logf("the longest took %s", longest.Round(time.Millisecond))
	for _, args := range [][]string{{"capture", "orchard"}, {"verify", "orchard@latest", "--live", "orchard"},
		{"store", "scrub", "larder"}} {
		out, err := exec.Command(bin, append([]string{"--config", desk}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
}
