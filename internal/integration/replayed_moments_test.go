package integration_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"

	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/explain"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// benchAt opens a server for moments that are to be had on a server only.
func benchAt(t testing.TB, uri string) func(context.Context, string) (engine.Cluster, error) {
	_, drv, err := engine.ForAddress(uri)
	require.NoError(t, err)
	return func(ctx context.Context, _ string) (engine.Cluster, error) {
		return drv.Open(ctx, engine.Target{Name: "hedge", Address: uri})
	}
}

// TestMomentsOfALogOfCommands: between points they are made on a scratch server:
// as they were then, expiries included, whatever has expired since; the server
// is empty afterwards. The log is proven in the same way, and one that keeps
// something back is found out.
func TestMomentsOfALogOfCommands(t *testing.T) {
	t.Parallel()
	from, bench := redistest.Start(t), redistest.Start(t)
	a, b := redistest.Client(t, from), redistest.Client(t, bench)
	e := newRunner(t)
	src := open(t, "bramble", redistest.Address(from))
	do := func(args ...any) { t.Helper(); require.NoError(t, a.Do(ctx, args...).Err()) }
	do("SET", "counter", 1)
	do("SET", "soon", "x", "PX", 3600_000)
	for i := range 300 {
		do("HSET", fmt.Sprint("hive:", i), "bees", i)
	}
	first, err := snapshot.Take(ctx, e, "bramble", src)
	require.NoError(t, err)
	captureNow := func() *moment.Moment {
		t.Helper()
		time.Sleep(10 * time.Millisecond)
		_, err = capture.Run(ctx, e, "bramble", src, capture.Options{})
		require.NoError(t, err)
		m, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Latest}, restore.OnScratch{})
		require.NoError(t, err)
		return m
	}
	m := captureNow()
	trees := func(ctx context.Context) (map[string]string, error) {
		x, err := e.Store.NewScratch(t.TempDir())
		require.NoError(t, err)
		defer x.Close()
		spaces, _, err := m.Trees(ctx, x, x, nil)
		out := map[string]string{}
		for _, s := range spaces {
			require.NoError(t, tree.Walk(ctx, x, s.Root, func(r record.Record) error {
				out[s.Name+" "+m.Model.Label(r.Value)] = m.Model.Render(r.Value)
				return nil
			}))
		}
		return out, err
	}
	got, err := trees(ctx)
	require.NoError(t, err, "nothing was done since the point")
	require.Len(t, got, 302)

	do("INCR", "counter")
	do("PEXPIRE", "soon", 8000) // long enough for a slow machine to capture it first
	do("DEL", "hive:7")
	do("SELECT", 3)
	do("RPUSH", "list", "a", "b")
	do("SELECT", 0)
	due := a.PExpireTime(ctx, "soon").Val()
	m = captureNow()
	require.False(t, m.Exact())
	_, err = trees(ctx)
	require.ErrorIs(t, err, run.ErrRefused)
	require.Contains(t, explain.Error(err), "--scratch")

	e.ScratchServer = benchAt(t, redistest.Address(bench))
	for _, after := range []bool{false, true} {
		if after {
			require.Eventually(t, func() bool { return a.Exists(ctx, "soon").Val() == 0 }, 30*time.Second,
				50*time.Millisecond)
		}
		got, err := trees(ctx)
		require.NoError(t, err)
		require.Len(t, got, 2+299+1)
		require.Equal(t, "SET counter 2", got["db0 counter"])
		require.Equal(t, fmt.Sprintf("SET soon x; PEXPIREAT %d", due.Milliseconds()), got["db0 soon"],
			"it had not expired then")
		require.Equal(t, "RPUSH list a b", got["db3 list"])
		require.NotContains(t, got, "db0 hive:7")
		require.Zero(t, b.DBSize(ctx).Val(), "given back empty")
		require.NotContains(t, b.Info(ctx, "keyspace").Val(), "db")
	}

	// Someone else's content stays, and whoever has the server keeps it.
	require.NoError(t, b.Set(ctx, "somebody's", "own", 0).Err())
	_, err = trees(ctx)
	require.ErrorIs(t, err, run.ErrRefused)
	require.ErrorContains(t, err, "is not empty: db0 holds content (1)")
	require.Equal(t, []string{"somebody's"}, redisKeys(t, b, "*"))
	require.NoError(t, b.FlushAll(ctx).Err())
	require.NoError(t, b.ConfigSet(ctx, "maxmemory", "1gb").Err())
	require.NoError(t, b.ConfigSet(ctx, "maxmemory-policy", "allkeys-lru").Err())
	_, err = trees(ctx)
	require.ErrorContains(t, err, "set it to noeviction")
	require.NoError(t, b.ConfigSet(ctx, "maxmemory", "0").Err())
	claim := func() (func(context.Context) error, error) {
		c, err := e.ScratchServer(ctx, "bramble")
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		w, err := c.Writer(ctx)
		require.NoError(t, err)
		return w.(engine.ScratchServer).ClaimServer(ctx)
	}
	release, err := claim()
	require.NoError(t, err)
	short, cancel := context.WithTimeout(ctx, 6*time.Second)
	_, err = trees(short)
	cancel()
	require.ErrorContains(t, err, "is in use by")
	// He is gone, and has left something behind.
	require.NoError(t, b.Set(ctx, "counter", "half", 0).Err())
	require.NoError(t, b.Del(ctx, "dexamen.scratch.holder").Err())
	got, err = trees(ctx)
	require.NoError(t, err)
	require.Equal(t, "SET counter 2", got["db0 counter"])
	require.ErrorContains(t, release(ctx), "somebody else has taken the scratch server")

	second, err := snapshot.Take(ctx, e, "bramble", src)
	require.NoError(t, err)
	_, err = capture.Run(ctx, e, "bramble", src, capture.Options{})
	require.NoError(t, err)
	proof, err := verify.ProveLog(ctx, e, second)
	require.NoError(t, err)
	require.True(t, proof.Equal, proof.NotProven)
	require.Equal(t, first.ID, proof.From)
	require.Positive(t, proof.Changes)

	// A change that the log does not tell of.
	do("INCR", "counter")
	do("EVAL", "redis.set_repl(redis.REPL_NONE); return redis.call('HSET', KEYS[1], 'bees', 'none')", 1, "hive:9")
	third, err := snapshot.Take(ctx, e, "bramble", src)
	require.NoError(t, err)
	_, err = capture.Run(ctx, e, "bramble", src, capture.Options{})
	require.NoError(t, err)
	proof, err = verify.ProveLog(ctx, e, third)
	require.ErrorIs(t, err, run.ErrDiffers)
	require.Len(t, proof.Doubts, 1)
	require.Contains(t, proof.Doubts[0].What, "1 changed; changed hive:9")

	// What cannot be carried out ends coverage, up to the next point.
	do("SET", "before", 1)
	do("SWAPDB", 0, 5)
	do("SWAPDB", 0, 5)
	do("SET", "after", 1)
	_, err = capture.Run(ctx, e, "bramble", src, capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "SWAPDB")
	m, err = moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Latest}, restore.OnScratch{})
	require.NoError(t, err)
	got, err = trees(ctx)
	require.NoError(t, err)
	require.Contains(t, got, "db0 before")
	require.NotContains(t, got, "db0 after")
	_, err = snapshot.Take(ctx, e, "bramble", src)
	require.NoError(t, err)
	done, err := capture.Run(ctx, e, "bramble", src, capture.Options{})
	require.ErrorContains(t, err, "it goes on at a point taken since")
	require.True(t, done.ResumedAtPoint)
	m = captureNow()
	got, err = trees(ctx)
	require.NoError(t, err)
	require.Contains(t, got, "db0 after")

	// Without a server that can do it nothing is claimed.
	bench.Kill()
	proof, err = verify.ProveLog(ctx, e, second)
	require.NoError(t, err)
	require.False(t, proof.Equal)
	require.Contains(t, proof.NotProven, "no server answers")
}

// TestRedisLogsAreProven: random work in several databases, keys that expire
// while it goes on, points and captures at random moments, some after nothing was
// done; the log between any two points leads from the one to the other, and every
// command is carried out once.
func TestRedisLogsAreProven(t *testing.T) {
	t.Parallel()
	from, bench := redistest.Start(t), redistest.Start(t)
	dbs := []*goredis.Client{redistest.Client(t, from)}
	for db := 1; db < 3; db++ {
		cl := goredis.NewClient(&goredis.Options{Addr: from.Address, DB: db})
		t.Cleanup(func() { _ = cl.Close() })
		dbs = append(dbs, cl)
	}
	e := newRunner(t)
	e.ScratchServer = benchAt(t, redistest.Address(bench))
	src := open(t, "bramble", redistest.Address(from))
	n := long(12, 5)
	if s := os.Getenv("DEXAMEN_KEY_HISTORIES"); s != "" {
		n, _ = strconv.Atoi(s)
		n *= 100
	}
	r := rand.New(rand.NewPCG(3, 9))
	work := func(n int) {
		for range n {
			cl := dbs[r.IntN(3)]
			key := func() string { return fmt.Sprint("s:", r.IntN(30)) }
			switch r.IntN(30) {
			case 0:
				_ = cl.PExpire(ctx, key(), time.Duration(1+r.IntN(400))*time.Millisecond).Err()
			case 1:
				_ = cl.Rename(ctx, key(), key()).Err() // it may not be there
			case 2:
				_ = cl.Move(ctx, key(), r.IntN(3)).Err() // or be where it is to go
			case 3:
				_ = cl.Copy(ctx, key(), key(), r.IntN(3), true).Err()
			case 4:
				if r.IntN(20) == 0 {
					require.NoError(t, cl.FlushDB(ctx).Err())
				}
			default:
				require.NoError(t, redisStep(cl, r))
			}
		}
	}
	var points []*store.Point
	for len(points) < n {
		work(max(0, r.IntN(80)-30))
		switch r.IntN(3) {
		case 0:
			p, err := snapshot.Take(ctx, e, "bramble", src)
			require.NoError(t, err)
			points = append(points, p)
		default:
			if len(points) > 0 {
				_, err := capture.Run(ctx, e, "bramble", src, capture.Options{})
				require.NoError(t, err)
			}
		}
	}
	_, err := capture.Run(ctx, e, "bramble", src, capture.Options{})
	require.NoError(t, err)
	for i, p := range points[1:] {
		proof, err := verify.ProveLog(ctx, e, p)
		require.NoError(t, err, "point %d", i+1)
		require.True(t, proof.Equal, "point %d: %s", i+1, proof.NotProven)
	}
}
