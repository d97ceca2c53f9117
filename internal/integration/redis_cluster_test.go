package integration_test

import (
	"context"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
	"dexamen/internal/snapshot"
)

// redisSlots moves slots of a cluster.
type redisSlots struct {
	t  testing.TB
	cl *goredis.ClusterClient
}

// owner returns the primary of a key's slot, and another one.
func (s *redisSlots) owner(key string) (from, to *goredis.Client) {
	require.NoError(s.t, again(func() (err error) {
		s.cl.ReloadState(ctx)
		from, err = s.cl.MasterForKey(ctx, key)
		return err
	}))
	others := make(chan *goredis.Client, 9)
	require.NoError(s.t, s.cl.ForEachMaster(ctx, func(_ context.Context, m *goredis.Client) error {
		if m.Options().Addr != from.Options().Addr {
			others <- m
		}
		return nil
	}))
	return from, <-others
}

// move has another primary serve the slot of a key, with all that is in it.
func (s *redisSlots) move(key string) {
	from, to := s.owner(key)
	slot := s.cl.ClusterKeySlot(ctx, key).Val()
	do := func(m *goredis.Client, args ...any) { s.t.Helper(); require.NoError(s.t, m.Do(ctx, args...).Err()) }
	id := func(m *goredis.Client) string { return m.ClusterMyID(ctx).Val() }
	do(to, "CLUSTER", "SETSLOT", slot, "IMPORTING", id(from))
	do(from, "CLUSTER", "SETSLOT", slot, "MIGRATING", id(to))
	host, port, _ := net.SplitHostPort(to.Options().Addr)
	for {
		keys := from.ClusterGetKeysInSlot(ctx, int(slot), 100).Val()
		for _, k := range keys {
			do(from, "MIGRATE", host, port, k, 0, 5000)
		}
		if len(keys) == 0 {
			break
		}
	}
	for _, m := range []*goredis.Client{to, from} {
		do(m, "CLUSTER", "SETSLOT", slot, "NODE", id(to))
	}
	// All nodes have to hear of it.
	require.Eventually(s.t, func() bool {
		ok := true
		_ = s.cl.ForEachShard(ctx, func(ctx context.Context, m *goredis.Client) error {
			for _, r := range m.ClusterSlots(ctx).Val() { //nolint:staticcheck // SA1019: as older servers know it
				if int64(r.Start) <= slot && slot <= int64(r.End) && r.Nodes[0].ID != id(to) {
					ok = false
				}
			}
			return nil
		})
		return ok
	}, 30*time.Second, 100*time.Millisecond)
	s.cl.ReloadState(ctx)
}

// TestSlotsMoveBetweenCaptures: a slot that goes to another shard, with keys or empty, and
// perhaps back, ends the logs of both; no moment lacks a key, and the next point has all.
func TestSlotsMoveBetweenCaptures(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		name         string
		empty, back  bool
		follow, died bool
	}{{name: "with keys"}, {name: "empty", empty: true}, {name: "and back", empty: true, back: true},
		{name: "followed", follow: true}, {name: "empty, followed", empty: true, follow: true},
	} {
		t.Run(x.name, func(t *testing.T) {
			if long(1, 0) == 0 && x.name != "empty" && x.name != "followed" {
				return // make test-long
			}
			list := redistest.StartCluster(t, 3)
			cl := redistest.ClusterClient(t, list)
			slots := &redisSlots{t, cl}
			e, addr := newRunner(t), redistest.Address(list...)
			set := func(k, v string) {
				t.Helper()
				require.NoError(t, again(func() error { return cl.Set(ctx, k, v, 0).Err() }))
			}
			for i := range 100 {
				set(fmt.Sprint("stall:", i), "1")
			}
			const key = "{moving}:stall"
			set(key, "1")
			_, err := snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr))
			require.NoError(t, err)
			fctx, stop := context.WithCancel(ctx)
			defer stop()
			ended := make(chan error, 1)
			if x.follow {
				go func() {
					_, err := capture.Run(fctx, e, "bramble", open(t, "bramble", addr),
						capture.Options{Follow: true, FlushEvery: 100 * time.Millisecond})
					ended <- err
				}()
				time.Sleep(time.Second)
			}
			if x.empty {
				require.NoError(t, cl.Del(ctx, key).Err())
			}
			slots.move(key)
			if x.back {
				slots.move(key)
			}
			set(key, "new")
			set("stall:1", "2")
			if x.follow {
				require.ErrorIs(t, <-ended, run.ErrIncomplete)
			} else {
				_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
				require.ErrorIs(t, err, run.ErrIncomplete)
				require.ErrorContains(t, err, "slots have moved")
			}
			_, err = snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr))
			require.NoError(t, err)
			set(key, "newer")
			_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
			require.ErrorContains(t, err, "it goes on at a point taken since")
			_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
			require.NoError(t, err)
			scratch := redistest.Start(t)
			require.Equal(t, clusterWorld(t, cl), momentOnto(t, e, moment.Latest, scratch))
		})
	}
}

func clusterWorld(t testing.TB, cl goredis.UniversalClient) map[string]string {
	out := map[string]string{}
	for _, k := range redisKeys(t, cl, "*") {
		out[k] = redisValue(t, cl, k)
	}
	return out
}

// momentOnto restores a moment of bramble onto an empty server and returns what is there.
func momentOnto(t testing.TB, e *run.Runner, w address.When, onto *servertest.Process) map[string]string {
	m, err := moment.Resolve(ctx, e, "bramble", w, nil)
	require.NoError(t, err)
	p, err := restore.NewPlan(ctx, e, m, open(t, "hedge", redistest.Address(onto)), restore.Options{})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Run(ctx)
	require.NoError(t, err)
	return clusterWorld(t, redistest.Client(t, onto))
}

// TestLatestHasAllThatIsCaptured: what was written to any shard before a capture began is in
// the newest moment after it.
func TestLatestHasAllThatIsCaptured(t *testing.T) {
	t.Parallel()
	list := redistest.StartCluster(t, 3)
	cl := redistest.ClusterClient(t, list)
	e, addr := newRunner(t), redistest.Address(list...)
	_, err := snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr)) // of nothing
	require.NoError(t, err)
	scratch := redistest.Start(t)
	for range 5 {
		for i := range 12 {
			require.NoError(t, cl.Incr(ctx, fmt.Sprint("stall:", i)).Err())
		}
		_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
		require.NoError(t, err)
		require.NoError(t, redistest.Client(t, scratch).FlushAll(ctx).Err())
		want := clusterWorld(t, cl)
		require.Len(t, want, 12)
		require.Equal(t, want, momentOnto(t, e, moment.Latest, scratch))
	}
}

// TestFollowingIsNoReplica: whoever follows a server's log is not counted among those that
// have what was written, and no sentinel takes it for a replica to watch.
func TestFollowingIsNoReplica(t *testing.T) {
	t.Parallel()
	s := redistest.Start(t)
	sentinel := redistest.StartSentinel(t, s, "market")
	cl := redistest.Client(t, s)
	addr := "redis+sentinel://" + sentinel.Address + "/market"
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr))
	require.NoError(t, err)
	fctx, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 1)
	go func() {
		_, err := capture.Run(fctx, e, "bramble", open(t, "bramble", addr),
			capture.Options{Follow: true, FlushEvery: 100 * time.Millisecond})
		ended <- err
	}()
	require.Eventually(t, func() bool {
		return strings.Contains(cl.Info(ctx, "replication").Val(), "connected_slaves:1")
	}, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, cl.Set(ctx, "a", "1", 0).Err())
	require.Zero(t, cl.Wait(ctx, 1, 3*time.Second).Val())
	asked := goredis.NewSentinelClient(&goredis.Options{Addr: sentinel.Address})
	defer asked.Close()
	time.Sleep(11 * time.Second) // sentinels ask every ten seconds
	require.Empty(t, asked.Replicas(ctx, "market").Val())
	stop()
	require.ErrorIs(t, <-ended, context.Canceled)
}

// TestUsersOfThePrimary: users are those of the primary, which replicas do not share, and
// stay when a server that keeps them in a file begins again.
func TestUsersOfThePrimary(t *testing.T) {
	t.Parallel()
	s := redistest.Start(t)
	replica := redistest.StartReplica(t, s)
	require.NoError(t, redistest.Client(t, s).Do(ctx, "ACL", "SETUSER", "keeper", "on", ">made up", "~*",
		"+@read").Err())
	require.NoError(t, redistest.Client(t, replica).Do(ctx, "ACL", "SETUSER", "other", "on", "nopass").Err())
	_, drv, err := engine.ForAddress(redistest.Address(s))
	require.NoError(t, err)
	connect := func(addr string) engine.Cluster {
		c, err := drv.Open(ctx, engine.Target{Name: "bramble", Address: addr, Settings: true})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	e := newRunner(t)
	_, err = snapshot.Take(ctx, e, "bramble", connect(redistest.Address(s, replica)))
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "users.acl")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	to := redistest.Start(t, "--aclfile", file)
	require.NoError(t, redistest.Client(t, s).Set(ctx, "a", "1", 0).Err())
	_, err = snapshot.Take(ctx, e, "bramble", connect(redistest.Address(s, replica)))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "bramble", moment.Latest, nil)
	if err == nil {
		var p *restore.Plan
		if p, err = restore.NewPlan(ctx, e, m, connect(redistest.Address(to)),
			restore.Options{Settings: true}); err == nil {
			_, err = p.Run(ctx)
			p.Close()
		}
	}
	require.NoError(t, err)
	to.Kill()
	to.Begin()
	cl := redistest.Client(t, to)
	require.NoError(t, again(func() error { return cl.Ping(ctx).Err() }))
	users := map[string]bool{}
	for _, u := range cl.ACLList(ctx).Val() {
		users[strings.Fields(u)[1]] = true
	}
	require.Equal(t, map[string]bool{"default": true, "keeper": true}, maps.Clone(users))
}
