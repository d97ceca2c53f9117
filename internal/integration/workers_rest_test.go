package integration_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/demo"
	"dexamen/internal/engine/etcd/etcdtest"
)

// TestWorkersShareTheRest holds that captures, restores and verifications that workers have shared end as
// those of one process do: of a sharded cluster, to a moment that is in the log.
func TestWorkersShareTheRest(t *testing.T) {
	t.Parallel()
	const documents = 40_000
	c := newCrowd(t, 1, documents)
	for _, name := range []string{"w1", "w2"} {
		c.join(name, "  parallel: 2\n")
	}
	desk := c.config("desk", "")
	_, err := c.snapshot(desk)
	require.NoError(t, err)
	cl := connect(t, c.uri)
	require.NoError(t, (demo.Telemetry{Seed: 1, Documents: documents}).Work(ctx, cl, 7, 2000))
	did := func(what string, args ...string) string {
		began := time.Now()
		before, _ := c.servers.Traffic()
		out, err := c.run(desk, args...)
		require.NoError(t, err, out)
		after, _ := c.servers.Traffic()
		t.Logf("%s: %s, %d messages", args[0], time.Since(began).Round(time.Millisecond), after-before)
		require.Contains(t, out, what, "%v", args)
		return out
	}
	did("3 shards captured by", "capture", "orchard")
	did("pieces read by", "verify", "orchard@latest")
	did("pieces read by", "verify", "orchard@latest", "--live", "orchard")
	restored := did("pieces written by", "restore", "orchard@latest/telemetry.readings", "--yes", "--rename",
		"telemetry.readings=again.readings")
	require.Contains(t, restored, "pieces read by")
	require.Contains(t, restored, `"verified": true`)
	// One that shares nothing sees the same.
	alone := c.config("alone", "")
	out, err := c.run(alone, "verify", "orchard@latest/telemetry.readings", "--live", "orchard", "--rename",
		"telemetry.readings=again.readings")
	require.NoError(t, err, out)
	// What differs is named, also where others have read it.
	_, err = cl.Database("again").Collection("readings").DeleteOne(ctx, map[string]any{})
	require.NoError(t, err)
	out, err = c.run(desk, "verify", "orchard@latest/telemetry.readings", "--live", "orchard", "--rename",
		"telemetry.readings=again.readings")
	require.Error(t, err)
	require.Contains(t, out, `"missing": 1`)
	require.Empty(t, c.list().Jobs)
}

// TestWorkersRestoreEtcd holds that what was wiped from etcd comes back by workers, whole, and that they share its
// verification.
func TestWorkersRestoreEtcd(t *testing.T) {
	t.Parallel()
	s := etcdtest.Start(t, etcdtest.Options{Members: 1})
	cl := etcdtest.Client(t, s...)
	for i := range 9000 {
		_, err := cl.Put(ctx, fmt.Sprintf("colony/%05d", i), strings.Repeat(fmt.Sprint("bee ", i, " "), 40))
		require.NoError(t, err)
	}
	c := newCrowdOn(t, 1, etcdtest.Address(s...))
	for _, name := range []string{"w1", "w2"} {
		c.join(name, "  parallel: 2\n")
	}
	desk := c.config("desk", "")
	p, err := c.snapshot(desk)
	require.NoError(t, err)
	_, err = cl.Delete(ctx, "colony/", clientv3.WithPrefix())
	require.NoError(t, err)
	out, err := c.run(desk, "restore", "orchard@"+p.ID+"/colony/", "--yes")
	require.NoError(t, err, out)
	require.Contains(t, out, "pieces written by")
	require.Contains(t, out, "pieces read by")
	got, err := cl.Get(ctx, "colony/", clientv3.WithPrefix(), clientv3.WithCountOnly())
	require.NoError(t, err)
	require.EqualValues(t, 9000, got.Count)
	out, err = c.run(c.config("alone", ""), "verify", "orchard@"+p.ID, "--live", "orchard")
	require.NoError(t, err, out)
}

// TestWorkersWithKeysThatWrite holds that a worker whose key lets it write, and not read, reads a cluster and its log
// for who has a key that reads.
func TestWorkersWithKeysThatWrite(t *testing.T) {
	t.Parallel()
	const documents = 60_000
	c := newCrowd(t, 1, documents)
	alone := c.config("alone", "")
	first, err := c.snapshot(alone)
	require.NoError(t, err)
	out, err := c.run(alone, "store", "keys", "new", c.dir+"/night.key")
	require.NoError(t, err, out)
	var key struct{ Public string }
	require.NoError(t, json.Unmarshal([]byte(out), &key), out)
	out, err = c.run(alone, "store", "keys", "add", "larder", "--recipient", key.Public, "--write-only", "--label",
		"night")
	require.NoError(t, err, out)
	const away = "  labels: { site: away }\n"
	c.edit = func(name, text string) string {
		if name == "night" {
			return strings.ReplaceAll(text, "/larder.key", "/night.key")
		}
		return text
	}
	c.join("night", away)
	desk := c.config("desk", "  rules: [ { clusters: [\"*\"], only: { site: away } } ]\n")
	shared, err := c.snapshot(desk)
	require.NoError(t, err)
	require.Equal(t, first.Namespaces, shared.Namespaces)
	done := c.settled().Workers[0].Done
	require.GreaterOrEqual(t, done, int64(2))
	require.NoError(t, (demo.Telemetry{Seed: 1, Documents: documents}).Work(ctx, connect(t, c.uri), 7, 500))
	out, err = c.run(desk, "capture", "orchard")
	require.NoError(t, err, out)
	require.Contains(t, out, "3 shards captured by night")
	out, err = c.run(alone, "verify", "orchard@latest", "--live", "orchard")
	require.NoError(t, err, out)
}

// TestWorkersDivideClusters holds that daemons divide what policies ask for, and that another goes on where one is
// killed.
func TestWorkersDivideClusters(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, 1, 2000)
	c.edit = func(name, text string) string {
		return text + "policies:\n  all: { clusters: [\"*\"], snapshot: \"0 2 * * *\", capture: continuous, " +
			"flush: 1s, keep: { thin: [daily for 30d] } }\n"
	}
	start := func(name string) {
		cmd := exec.Command(c.bin, "--config", c.config(name, "  divide: true\n"), "daemon")
		c.log[name] = &bytes.Buffer{}
		cmd.Stderr = c.log[name]
		require.NoError(t, cmd.Start())
		c.running[name] = cmd
	}
	home := func() (name string) {
		for _, w := range c.list().Workers {
			if w.Clusters > 0 && c.running[w.Name] != nil {
				if name != "" {
					return "" // two at a time
				}
				name = w.Name
			}
		}
		return name
	}
	alone := c.config("alone", "")
	newest := func() time.Time {
		out, err := c.run(alone, "coverage", "orchard")
		require.NoError(t, err, out)
		var list []struct{ Latest time.Time }
		require.NoError(t, json.Unmarshal([]byte(out), &list), out)
		if len(list) == 0 {
			return time.Time{}
		}
		return list[0].Latest
	}
	for _, name := range []string{"one", "two", "three"} {
		start(name)
	}
	cl := connect(t, c.uri)
	for range 3 {
		var of string
		require.Eventually(t, func() bool { of = home(); return of != "" }, 60*time.Second, 100*time.Millisecond)
		t.Logf("%s sees to it at %s", of, time.Now())
		at := time.Now()
		require.NoError(t, (demo.Telemetry{Seed: 1, Documents: 2000}).Work(ctx, cl, uint64(at.UnixNano()), 20))
		require.Eventually(t, func() bool { return newest().After(at) }, 60*time.Second, 300*time.Millisecond,
			"%s sees to it: %s", of, c.log[of])
		t.Logf("it is captured at %s", time.Now())
		c.end(of, syscall.SIGKILL)
		if len(c.running) == 1 {
			break
		}
	}
}
