package integration_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/demo"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/servertest"
	"dexamen/internal/workers"
	"dexamen/internal/workers/workerstest"
)

// crowd are processes of the built program that share work.
type crowd struct {
	t       *testing.T
	bin     string
	dir     string
	uri     string
	servers *workerstest.Servers
	engine  *workers.Engine // by which the test looks
	running map[string]*exec.Cmd
	edit    func(name, text string) string // of a configuration, where not nil
	log     map[string]*bytes.Buffer
}

func newCrowd(t *testing.T, servers int, documents int) *crowd {
	uri, _ := standIn(t, builtBinary(t), "--name", "orchard", "--shards", "2", "--members", "1", "--log-mib", "64")
	require.NoError(t, demo.Telemetry{Seed: 1, Documents: documents}.Fill(ctx, connect(t, uri)))
	return newCrowdOn(t, servers, uri)
}

// newCrowdOn is newCrowd for a cluster that is there.
func newCrowdOn(t *testing.T, servers int, uri string) *crowd {
	c := &crowd{t: t, bin: builtBinary(t), dir: t.TempDir(), running: map[string]*exec.Cmd{},
		log: map[string]*bytes.Buffer{}, uri: uri}
	c.servers = workerstest.Start(t, servers, nil)
	out, err := c.run(c.config("alone", ""), "store", "create", "larder")
	require.NoError(t, err, out)
	t.Cleanup(func() {
		for name := range c.running {
			c.end(name, syscall.SIGKILL)
		}
	})
	return c
}

// config writes a configuration of one process; more is what stands below workers, nothing where it is
// to work alone.
func (c *crowd) config(name, more string) string {
	path := filepath.Join(c.dir, name+".yaml")
	text := fmt.Sprintf("stores:\n  larder: { location: %q, key: { file: %q } }\nclusters:\n  orchard: { address: %q, "+
		"labels: { site: north } }\nlimits: { memory: 128MiB, temp: %q }\n", "file://"+c.dir+"/larder",
		c.dir+"/larder.key", c.uri, c.dir)
	if name != "alone" {
		text += "workers:\n  name: " + name + "\n  lost_after: 3s\n  servers:\n"
		for _, s := range c.servers.Addresses() {
			text += "    - " + s + "\n"
		}
		text += more
	}
	if c.edit != nil {
		text = c.edit(name, text)
	}
	require.NoError(c.t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func (c *crowd) run(config string, args ...string) (string, error) {
	out, err := exec.Command(c.bin, append([]string{"--config", config, "--json"}, args...)...).CombinedOutput()
	return string(out), err
}

// join starts a worker.
func (c *crowd) join(name, more string) {
	cmd := exec.Command(c.bin, "--config", c.config(name, more), "workers", "join")
	c.log[name] = &bytes.Buffer{}
	cmd.Stderr = c.log[name]
	require.NoError(c.t, cmd.Start())
	c.running[name] = cmd
	require.Eventually(c.t, func() bool {
		for _, w := range c.list().Workers {
			if w.Name == name && w.Process == cmd.Process.Pid {
				return true
			}
		}
		return false
	}, 30*time.Second, 100*time.Millisecond, "%s: %s", name, c.log[name])
}

func (c *crowd) end(name string, s syscall.Signal) {
	cmd := c.running[name]
	delete(c.running, name)
	_ = cmd.Process.Signal(s)
	_ = cmd.Wait()
	if c.t.Failed() {
		c.t.Logf("%s:\n%s", name, c.log[name])
	}
}

type crowdList struct {
	Workers []workers.Info    `json:"workers"`
	Jobs    []workers.JobInfo `json:"jobs"`
}

// list returns who is there and which jobs are open; nothing where the servers do not say so now.
func (c *crowd) list() (l crowdList) {
	now, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if c.engine == nil {
		e, err := workers.Open(now, workers.Options{Servers: c.servers.Addresses(), LostAfter: 3 * time.Second})
		if err != nil {
			return l
		}
		c.engine = e
		c.t.Cleanup(e.Close)
	}
	l.Workers, _ = c.engine.Workers(now)
	l.Jobs, _ = c.engine.Jobs(now)
	return l
}

// settled returns who is there, once all have said so since.
func (c *crowd) settled() (l crowdList) {
	since := time.Now()
	require.Eventually(c.t, func() bool {
		l = c.list()
		return len(l.Workers) > 0 &&
			!slices.ContainsFunc(l.Workers, func(w workers.Info) bool { return w.Seen.Before(since) })
	}, 20*time.Second, 100*time.Millisecond)
	return l
}

// point is what a snapshot made.
type pointMade struct {
	ID         string
	Namespaces []struct {
		Name, Root, Shard string
		Records           int64
	}
}

func (c *crowd) snapshot(config string) (p pointMade, err error) {
	cmd := exec.Command(c.bin, "--config", config, "--json", "snapshot", "orchard")
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		return p, fmt.Errorf("%w: %s%s", err, &out, &said)
	}
	return p, json.Unmarshal(out.Bytes(), &p)
}

// TestWorkersShareASnapshot holds that a snapshot of which workers have read the partitions is the same
// as one that one process has read, that all took part, and that a worker that has the labels is
// needed where a rule says so.
func TestWorkersShareASnapshot(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, 1, 300_000)
	c.edit = func(_, text string) string {
		text = strings.Replace(text, "orchard: { address", "orchard: { store: larder, address", 1)
		return strings.Replace(text, "stores:\n", "stores:\n  loft: { location: \"file://"+c.dir+
			"/loft\", key: { file: \""+c.dir+"/larder.key\" } }\n", 1)
	}
	alone, err := c.snapshot(c.config("alone", ""))
	require.NoError(t, err)
	c.join("north-1", "  labels: { site: north }\n")
	c.join("north-2", "  labels: { site: north }\n")
	c.join("south-1", "  labels: { site: south }\n")
	shared, err := c.snapshot(c.config("desk", ""))
	require.NoError(t, err)
	require.Equal(t, alone.Namespaces, shared.Namespaces, "the same roots")
	require.NotEqual(t, alone.ID, shared.ID)
	done := map[string]int64{}
	for _, w := range c.settled().Workers {
		done[w.Name] = w.Done
		require.Zero(t, w.Failed)
	}
	require.Len(t, done, 3)
	t.Logf("tasks done: %v", done)
	// Only those in the north: who begins it reads nothing then.
	rule := "  rules: [ { clusters: { label: site=north }, only: { site: north } } ]\n"
	again, err := c.snapshot(c.config("desk", rule))
	require.NoError(t, err)
	require.Equal(t, alone.Namespaces, again.Namespaces)
	north := int64(0)
	for _, w := range c.settled().Workers {
		if w.Name == "south-1" {
			require.Equal(t, done["south-1"], w.Done)
		} else {
			north += w.Done - done[w.Name]
		}
	}
	require.GreaterOrEqual(t, north, int64(4), "all pieces")
	require.Empty(t, c.list().Jobs)
	said, err := c.run(c.config("desk", ""), "workers", "list")
	require.NoError(t, err, said)
	var listed crowdList
	require.NoError(t, json.Unmarshal([]byte(said), &listed), said)
	require.Len(t, listed.Workers, 3)
	scrubbed, err := c.run(c.config("desk", ""), "store", "scrub", "larder")
	require.NoError(t, err, scrubbed)
	require.Contains(t, scrubbed, "content files read by")
	require.Contains(t, scrubbed, `"sound": true`)
	mirrored, err := c.run(c.config("desk", ""), "store", "mirror", "larder", "loft")
	require.NoError(t, err, mirrored)
	require.Contains(t, mirrored, "content files copied by")
	checked, err := c.run(c.config("alone", ""), "--store", "loft", "verify", "orchard@latest")
	require.NoError(t, err, checked)
	out, err := c.run(c.config("alone", ""), "verify", "orchard@"+again.ID, "--live", "orchard")
	require.NoError(t, err, out)
	c.end("north-1", syscall.SIGTERM)
	require.Contains(t, c.log["north-1"].String(), "worker has ended")
	require.Eventually(t, func() bool { return len(c.list().Workers) == 2 }, 2*time.Second, 50*time.Millisecond,
		"who ends says so")
}

// TestWorkersAreKilled holds that snapshots taken while writes go on are exact though workers are
// killed one after the other, and one that began one is.
func TestWorkersAreKilled(t *testing.T) {
	t.Parallel()
	documents, snapshots := 60_000, 1
	if os.Getenv("DEXAMEN_LONG") != "" {
		documents, snapshots = 400_000, 10
	}
	c := newCrowd(t, 3, documents)
	stop, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	cl := connect(t, c.uri)
	wg.Go(func() {
		for seed := uint64(1); stop.Err() == nil; seed++ {
			_ = (demo.Telemetry{Seed: 1, Documents: documents}).Work(ctx, cl, seed, 50)
		}
	})
	const slow = "  parallel: 2\n"
	for i := range 3 {
		c.join(fmt.Sprint("w", i), slow)
	}
	killed := 0
	wg.Go(func() {
		for stop.Err() == nil {
			time.Sleep(700 * time.Millisecond)
			name := fmt.Sprint("w", killed%3)
			c.end(name, syscall.SIGKILL)
			killed++
			c.join(name, slow)
		}
	})
	began := time.Now()
	for range snapshots {
		_, err := c.snapshot(c.config("desk", ""))
		require.NoError(t, err)
	}
	// Who began it is killed, too: the next one is whole.
	cmd := exec.Command(c.bin, "--config", c.config("desk2", ""), "--quiet", "snapshot", "orchard")
	require.NoError(t, cmd.Start())
	ended := make(chan struct{})
	go func() { defer close(ended); _ = cmd.Wait() }()
	for open := false; !open; {
		select {
		case <-ended: // before it was seen
			open = true
		default:
			open = len(c.list().Jobs) > 0
		}
	}
	_ = cmd.Process.Kill()
	<-ended
	_, err := c.snapshot(c.config("desk", ""))
	require.NoError(t, err)
	cancel()
	wg.Wait()
	t.Logf("%d snapshots in %s while %d workers were killed", snapshots+1, time.Since(began).Round(time.Millisecond),
		killed)
	out, err := c.run(c.config("alone", ""), "capture", "orchard")
	require.NoError(t, err, out)
	for _, args := range [][]string{{"verify", "orchard@latest", "--live", "orchard"}, {"verify", "orchard@latest"}} {
		out, err := c.run(c.config("alone", ""), args...)
		require.NoError(t, err, out)
	}
	require.Eventually(t, func() bool { return len(c.list().Jobs) == 0 }, 30*time.Second, 200*time.Millisecond,
		"a job whose process was killed ends by itself")
}

// TestWorkersReadRedisShards holds that a snapshot of a Redis cluster of which workers read the shards, each in one
// pass, has what one process reads, that the log goes on from it, and that little is stored where little has changed.
func TestWorkersReadRedisShards(t *testing.T) {
	t.Parallel()
	nodes := redistest.StartCluster(t, 3)
	cl := goredis.NewClusterClient(&goredis.ClusterOptions{Addrs: servertest.Addresses(nodes)})
	t.Cleanup(func() { _ = cl.Close() })
	write := func(from, n, step int, text string) {
		pipe := cl.Pipeline()
		for i := from; i < n; i += step {
			value := fmt.Sprint(text, i, strings.Repeat(string(rune('a'+i%26)), 200))
			pipe.Set(ctx, fmt.Sprintf("colony:%05d", i), value, 0)
		}
		_, err := pipe.Exec(ctx)
		require.NoError(t, err)
	}
	write(0, 12_000, 1, "first ")
	c := newCrowdOn(t, 1, "redis://"+nodes[0].Address)
	const away = "  parallel: 1\n  labels: { site: away }\n"
	c.join("w0", away)
	c.join("w1", away)
	desk := c.config("desk", "  rules: [ { clusters: [\"*\"], only: { site: away } } ]\n")
	first, err := c.snapshot(desk)
	require.NoError(t, err)
	alone, err := c.snapshot(c.config("alone", ""))
	require.NoError(t, err)
	require.Equal(t, alone.Namespaces, first.Namespaces)
	require.Len(t, first.Namespaces, 3, "a part of the prefix on each shard")
	done := int64(0)
	for _, w := range c.settled().Workers {
		done += w.Done
		require.Zero(t, w.Failed)
	}
	require.EqualValues(t, 3, done)
	// The log goes on from a point that others have read for.
	write(0, 12_000, 400, "second ")
	out, err := c.run(desk, "capture", "orchard")
	require.NoError(t, err, out)
	require.Contains(t, out, "3 shards captured by w0, w1")
	second, err := c.snapshot(desk)
	require.NoError(t, err)
	out, err = c.run(c.config("alone", ""), "points", "orchard")
	require.NoError(t, err, out)
	var points []struct {
		ID    string
		Stats struct{ Stored, Bytes int64 }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &points), out)
	for _, p := range points {
		if p.ID == second.ID {
			require.Less(t, p.Stats.Stored, p.Stats.Bytes/10, "what is new is stored against what was there")
			require.Positive(t, p.Stats.Stored)
		}
	}
	out, err = c.run(c.config("alone", ""), "verify", "orchard@"+second.ID, "--live", "orchard")
	require.NoError(t, err, out)
	write(0, 12_000, 500, "third ")
	out, err = c.run(c.config("alone", ""), "capture", "orchard")
	require.NoError(t, err, "the log goes on from it: %s", out)
	out, err = c.run(c.config("alone", ""), "verify", "orchard@latest")
	require.NoError(t, err, out)
}
