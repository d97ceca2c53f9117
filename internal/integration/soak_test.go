package integration_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
)

// soaked is a cluster that somebody writes to all the time.
type soaked struct {
	name, address, scratch string
	write                  func(key, value string) error // an empty value removes
	state, restored        func() (map[string]string, error)
	idle                   func() error  // has the log go on where nothing else does
	pause                  time.Duration // at most so long between writes
	noted                  []soakedMoment
	writes                 int
}

type soakedMoment struct {
	at    time.Time
	state map[string]string
}

// work writes until told to stop, and now and then holds still until all that was
// written is in the store: that is a moment whose state is known.
func (s *soaked) work(t *testing.T, stop chan struct{}, seed uint64, reached func(cluster string) time.Time) {
	r := rand.New(rand.NewPCG(seed, 5))
	next := time.Now().Add(3 * time.Second)
	for {
		select {
		case <-stop:
			return
		case <-time.After(time.Duration(r.Int64N(int64(s.pause)))):
		}
		key, value := fmt.Sprintf("hive-%03d", r.IntN(500)), ""
		if r.IntN(5) > 0 {
			value = fmt.Sprintf("%d bees, counted %d times", r.IntN(60000), s.writes)
		}
		require.NoError(t, s.write(key, value), s.name)
		s.writes++
		if time.Now().Before(next) {
			continue
		}
		next = time.Now().Add(time.Duration(3+r.IntN(6)) * time.Second)
		state, err := s.state()
		require.NoError(t, err)
		still := time.Now()
		// Key-value clusters' moments are those at which the log was read: what is
		// read late, after a kill, belongs to a late moment.
		at := reached(s.name)
		for ; at.Before(still.Add(50 * time.Millisecond)); at = reached(s.name) {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
			if s.idle != nil {
				require.NoError(t, s.idle())
			}
			require.Less(t, time.Since(still), 2*time.Minute, "what was written to %s does not get into the store",
				s.name)
		}
		s.noted = append(s.noted, soakedMoment{at, state})
	}
}

// hivesOf writes to and reads a collection.
func hivesOf(c *mongo.Collection) (write func(k, v string) error, state func() (map[string]string, error)) {
	return func(k, v string) error {
			if v == "" {
				_, err := c.DeleteOne(ctx, bson.M{"_id": k})
				return err
			}
			_, err := c.UpdateOne(ctx, bson.M{"_id": k}, bson.M{"$set": bson.M{"v": v}},
				options.UpdateOne().SetUpsert(true))
			return err
		}, func() (map[string]string, error) {
			cur, err := c.Find(ctx, bson.M{})
			if err != nil {
				return nil, err
			}
			var all []struct {
				ID string `bson:"_id"`
				V  string `bson:"v"`
			}
			err = cur.All(ctx, &all)
			out := map[string]string{}
			for _, d := range all {
				out[d.ID] = d.V
			}
			return out, err
		}
}

// soakedDocuments returns a stand-in replica set.
func soakedDocuments(t *testing.T) *soaked {
	s := &soaked{name: "meadow", pause: 10 * time.Millisecond}
	start := func() (string, func(k, v string) error, func() (map[string]string, error)) {
		rs, err := docsim.Start(docsim.Options{NoopEvery: 300 * time.Millisecond})
		require.NoError(t, err)
		t.Cleanup(rs.Close)
		write, state := hivesOf(connect(t, rs.URI()).Database("apiary").Collection("hives"))
		return rs.URI(), write, state
	}
	s.address, s.write, s.state = start()
	s.scratch, _, s.restored = start()
	return s
}

// soakedServer returns the real document server.
func soakedServer(t *testing.T) *soaked {
	// It reads its whole log whenever it is asked for some of it: a long one is
	// more than a daemon that lives for seconds can wait for.
	s := &soaked{name: "comb", pause: 300 * time.Millisecond, address: documenttest.Start(t, "comb"),
		scratch: documenttest.Start(t, "")}
	cl := documenttest.Connect(t, s.address)
	documenttest.KeepLog(t, cl)
	db, n := cl.Database("apiary"), 0
	s.write, s.state = hivesOf(db.Collection("hives"))
	_, s.restored = hivesOf(documenttest.Connect(t, s.scratch).Database("apiary").Collection("hives"))
	s.idle = func() error {
		n++
		_, err := db.Collection("weather").InsertOne(ctx, bson.M{"_id": n})
		return err
	}
	return s
}

func soakedEtcd(t *testing.T) *soaked {
	s := &soaked{name: "willow", pause: 10 * time.Millisecond}
	start := func() (string, func(k, v string) error, func() (map[string]string, error)) {
		p := etcdtest.Start(t, etcdtest.Options{Members: 1})
		cl := etcdtest.Client(t, p...)
		return etcdtest.Address(p...), func(k, v string) (err error) {
				if v == "" {
					_, err = cl.Delete(ctx, "/hives/"+k)
				} else {
					_, err = cl.Put(ctx, "/hives/"+k, v)
				}
				return err
			}, func() (map[string]string, error) {
				resp, err := cl.Get(ctx, "/hives/", clientv3.WithPrefix())
				if err != nil {
					return nil, err
				}
				out := map[string]string{}
				for _, kv := range resp.Kvs {
					out[strings.TrimPrefix(string(kv.Key), "/hives/")] = string(kv.Value)
				}
				return out, nil
			}
	}
	s.address, s.write, s.state = start()
	s.scratch, _, s.restored = start()
	return s
}

func soakedRedis(t *testing.T) *soaked {
	s := &soaked{name: "bramble", pause: 10 * time.Millisecond}
	start := func() (string, func(k, v string) error, func() (map[string]string, error)) {
		p := redistest.Start(t)
		cl := redistest.Client(t, p)
		return redistest.Address(p), func(k, v string) error {
				if v == "" {
					return cl.HDel(ctx, "hives", k).Err()
				}
				return cl.HSet(ctx, "hives", k, v).Err()
			}, func() (map[string]string, error) {
				return cl.HGetAll(ctx, "hives").Result()
			}
	}
	s.address, s.write, s.state = start()
	s.scratch, _, s.restored = start()
	return s
}

// residentOf returns how much memory a process has now, in MiB.
func residentOf(pid int) int {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0 // it has ended
	}
	var size, resident int
	_, _ = fmt.Sscan(string(b), &size, &resident)
	return resident * os.Getpagesize() >> 20
}

// TestSoak captures a stand-in and real clusters continuously while they are
// written to, and kills the daemon every few seconds; for DEXAMEN_SOAK, for some
// seconds when not given, the real document server being there from a minute on. Coverage must be unbroken, moments
// what they were, and
// memory flat.
func TestSoak(t *testing.T) {
	length := time.Duration(long(30, 12)) * time.Second
	if s := os.Getenv("DEXAMEN_SOAK"); s != "" {
		var err error
		length, err = time.ParseDuration(s)
		require.NoError(t, err)
	}
	bin, dir := builtBinary(t), t.TempDir()
	list := []*soaked{soakedDocuments(t), soakedEtcd(t), soakedRedis(t)}
	least, most := 2*time.Second, 6*time.Second // a daemon's life
	if length > time.Minute {
		// This server's log takes seconds to settle, the busier the machine the more.
		list = append(list, soakedServer(t))
		least, most = 5*time.Second, 15*time.Second
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "stores:\n  larder: { location: %q, key: { file: %q } }\nclusters:\n", "file://"+dir+"/larder",
		dir+"/larder.key")
	var names []string
	for _, s := range list {
		require.NoError(t, s.write("first", "one"))
		names = append(names, s.name)
		fmt.Fprintf(&b, "  %s: { address: %q }\n  %s-scratch: { address: %q }\n", s.name, s.address, s.name, s.scratch)
	}
	fmt.Fprintf(&b, `policies:
  always:
    clusters: %s
    snapshot: every 15s
    full_read: every 1m
    capture: continuous
    flush: 1s
    retention: every 20s
    retry: { first: 1s, longest: 5s }
    clusters_at_once: 4
    keep: { every_moment: 2h }
limits: { temp: %q }
`, "["+strings.Join(names, ", ")+"]", dir)
	config := filepath.Join(dir, "dexamen.yaml")
	require.NoError(t, os.WriteFile(config, b.Bytes(), 0o600))
	runTool := func(args ...string) ([]byte, error) {
		var out, errs bytes.Buffer
		cmd := exec.Command(bin, append([]string{"--config", config, "--json", "--quiet"}, args...)...)
		cmd.Stdout, cmd.Stderr = &out, &errs
		if err := cmd.Run(); err != nil {
			return out.Bytes(), fmt.Errorf("%s: %w: %s%s", strings.Join(args, " "), err, errs.String(), out.String())
		}
		return out.Bytes(), nil
	}
	_, err := runTool("store", "create", "larder")
	require.NoError(t, err)
	secret, err := os.ReadFile(dir + "/larder.key")
	require.NoError(t, err)
	keys, err := store.ParseSecret(string(secret))
	require.NoError(t, err)
	opened, err := store.Open(ctx, blob.NewDir(dir+"/larder"),
		store.Options{Unlock: keys, Memo: store.NewMemo(8 << 20)})
	require.NoError(t, err)
	env := &run.Runner{Store: opened}
	reached := func(cluster string) time.Time {
		cover, err := moment.Cover(context.Background(), env, cluster)
		if err != nil || len(cover) == 0 {
			return time.Time{}
		}
		return cover[0].Latest
	}

	for _, s := range list {
		_, err = runTool("snapshot", s.name)
		require.NoError(t, err)
	}
	stop := make(chan struct{})
	var wg sync.WaitGroup
	for i, s := range list {
		wg.Go(func() { s.work(t, stop, uint64(i), reached) })
	}
	r := rand.New(rand.NewPCG(2, 2))
	var peaks []int
	lives, terms := 0, 0
	var said bytes.Buffer
	for begun := time.Now(); time.Since(begun) < length; lives++ {
		said.Reset()
		cmd := exec.Command(bin, "--config", config, "daemon")
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		life := least + time.Duration(r.Int64N(int64(most-least)))
		if os.Getenv("DEXAMEN_SOAK_CALM") != "" {
			life = length // one daemon, not killed before the end
		}
		for born := time.Now(); time.Since(born) < life; {
			time.Sleep(min(time.Second, life-time.Since(born)))
			peaks = append(peaks, residentOf(cmd.Process.Pid))
		}
		if r.IntN(4) == 0 {
			terms++
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
			require.NoError(t, cmd.Wait(), said.String())
			continue
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	close(stop)
	wg.Wait()
	// What died last is ended, and what is due done.
	_, err = runTool("due", "--run")
	require.NoError(t, err)

	out, err := runTool("coverage")
	require.NoError(t, err)
	var covers []moment.Coverage
	require.NoError(t, json.Unmarshal(out, &covers))
	require.Len(t, covers, len(list))
	for _, c := range covers {
		require.Len(t, c.Stretches, 1, "%s", out)
		require.Empty(t, c.Gaps)
		require.Empty(t, c.Doubts)
	}
	runs, bad, err := opened.Runs(ctx, store.RunFilter{})
	require.NoError(t, err)
	require.Empty(t, bad)
	results := map[string]int{}
	for _, x := range runs {
		results[x.Kind+" "+x.Result]++
		require.NotContains(t, []string{store.RunDiffers}, x.Result, "%s", x.Error)
	}
	require.Positive(t, results[store.RunCapture+" "+store.RunKilled]+results[store.RunCapture+" "+
		store.RunInterrupted])
	restored := 0
	for _, s := range list {
		require.NotEmpty(t, s.noted, s.name)
		picks := r.Perm(len(s.noted))
		for _, i := range picks[:min(len(picks), 4)] {
			m := s.noted[i]
			_, err := runTool("restore", s.name+"@"+m.at.Format(time.RFC3339Nano), "--to", s.name+"-scratch",
				"--conflict", "replace", "--yes")
			require.NoError(t, err)
			got, err := s.restored()
			require.NoError(t, err)
			require.True(t, maps.Equal(m.state, got), "%s at %s: %d keys, expected %d", s.name, m.at, len(got),
				len(m.state))
			restored++
		}
		t.Logf("%s: %d writes, %d moments noted", s.name, s.writes, len(s.noted))
	}
	third := max(1, len(peaks)/3)
	early, late := 0, 0
	for i, p := range peaks {
		if i < third {
			early = max(early, p)
		}
		if i >= len(peaks)-third {
			late = max(late, p)
		}
	}
	t.Logf("%s: %d lives of the daemon, %d of them ended by SIGTERM, the others killed; %v", length, lives, terms,
		results)
	t.Logf("%d moments restored and equal; a daemon has at most %d MiB in the first third, %d MiB in the last",
		restored, early, late)
	require.Less(t, late, 140, "MiB")
}
