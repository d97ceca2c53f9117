package integration_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/explain"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// everyType fills a server with keys of every type, small and large, with odd
// bytes, expiries, groups with pending entries, and libraries of functions.
func everyType(t testing.TB, cl *goredis.Client, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 1))
	word := func() string {
		switch r.IntN(6) {
		case 0:
			return fmt.Sprint(r.Int64() >> r.IntN(63))
		case 1:
			return strings.Repeat(string(rune('a'+r.IntN(26))), r.IntN(300))
		case 2:
			b := make([]byte, r.IntN(80))
			for i := range b {
				b[i] = byte(r.IntN(256))
			}
			return string(b)
		case 3:
			return "Wabe_ä_蜂_" + fmt.Sprint(r.IntN(1000))
		case 4:
			return fmt.Sprint(-r.IntN(100_000))
		}
		return fmt.Sprint("stall-", r.IntN(500))
	}
	size := func() int { return []int{1, 3, 40, 200, 700}[r.IntN(5)] }
	pipe := cl.Pipeline()
	for i := range 300 {
		key := fmt.Sprintf("%s:%d\x00%s", []string{"stalls", "prices", "sessions"}[i%3], i, word()[:0])
		n := size()
		switch i % 6 {
		case 0:
			pipe.Set(ctx, key, word(), 0)
		case 1:
			for range n {
				pipe.RPush(ctx, key, word())
			}
		case 2:
			numbers := r.IntN(2) == 0
			for range n {
				if numbers {
					pipe.SAdd(ctx, key, r.IntN(1<<r.IntN(40)))
				} else {
					pipe.SAdd(ctx, key, word())
				}
			}
		case 3:
			for range n {
				pipe.HSet(ctx, key, word(), word())
			}
		case 4:
			for range n {
				pipe.ZAdd(ctx, key, goredis.Z{
					Score: []float64{r.Float64() * 1e9, float64(r.IntN(10)), math.Inf(1), math.Inf(-1),
						-0.1}[r.IntN(5)], Member: word()})
			}
		case 5:
			for j := range n {
				pipe.XAdd(ctx, &goredis.XAddArgs{
					Stream: key, ID: fmt.Sprintf("%d-%d", 1000+j*r.IntN(3)/2+j, j), Values: []string{
						"field", word(), "n", fmt.Sprint(j)}[:2+2*r.IntN(2)]})
			}
			pipe.XGroupCreate(ctx, key, "pickers", "0")
			pipe.XGroupCreate(ctx, key, "idle", "$")
			pipe.XReadGroup(ctx, &goredis.XReadGroupArgs{
				Group: "pickers", Consumer: "ada", Streams: []string{key, ">"}, Count: int64(1 + n/2)})
			pipe.XDel(ctx, key, "1000-0")
			if n > 10 {
				pipe.XTrimMaxLen(ctx, key, int64(n/2))
			}
		}
		if i%7 == 0 {
			pipe.PExpire(ctx, key, time.Hour+time.Duration(r.IntN(1e6))*time.Millisecond)
		}
	}
	_, _ = pipe.Exec(ctx) // an id that is taken is no matter
	// Large ones, of each type; and streams without entries.
	pipe = cl.Pipeline()
	pipe.Set(ctx, "large:string", strings.Repeat("0123456789abcdef", 100_000), 0)
	random := make([]byte, 1_500_000)
	for i := range random {
		random[i] = byte(r.IntN(256))
	}
	pipe.Set(ctx, "large:random", random, time.Hour)
	for i := range 9000 {
		pipe.RPush(ctx, "large:list", word())
		pipe.SAdd(ctx, "large:set", fmt.Sprint(word(), i))
		pipe.HSet(ctx, "large:hash", fmt.Sprint(word(), i), word())
		pipe.ZAdd(ctx, "large:zset", goredis.Z{Score: r.NormFloat64(), Member: fmt.Sprint(word(), i)})
		pipe.XAdd(ctx, &goredis.XAddArgs{
			Stream: "large:stream", ID: fmt.Sprintf("%d-1", i+1), Values: []string{"v", word()}})
	}
	pipe.SAdd(ctx, "large:set", strings.Repeat("long member ", 200), strings.Repeat("long member ", 201))
	pipe.XGroupCreate(ctx, "large:stream", "pickers", "0")
	pipe.XReadGroup(ctx, &goredis.XReadGroupArgs{
		Group: "pickers", Consumer: "ben", Streams: []string{"large:stream", ">"}, Count: 500})
	pipe.Expire(ctx, "large:hash", 2*time.Hour)
	pipe.XGroupCreateMkStream(ctx, "empty:stream", "pickers", "0")
	pipe.PFAdd(ctx, "visitors", "a", "b", "c")
	pipe.GeoAdd(ctx, "places", &goredis.GeoLocation{Name: "Lindenholt", Longitude: 5.8, Latitude: 51.8})
	pipe.FunctionLoad(ctx, "#!lua name=yard\nredis.register_function('count', function(keys, args) return #keys end)")
	for _, c := range []*goredis.Cmd{pipe.Do(ctx, "SELECT", 3), pipe.Do(ctx, "SET", "elsewhere", "db3"),
		pipe.Do(ctx, "SELECT", 0)} {
		_ = c
	}
	_, err := pipe.Exec(ctx)
	require.NoError(t, err)
}

// unpacked are settings under which a server keeps the same content in other
// ways.
var unpacked = []string{"--list-max-listpack-size", "3", "--hash-max-listpack-entries", "0",
	"--zset-max-listpack-entries", "0", "--set-max-intset-entries", "0",
	"--stream-node-max-entries", "3", "--rdbcompression", "no", "--repl-diskless-sync", "no"}

// streams reads what a digest does not: groups, consumers, pending entries.
func streams(t testing.TB, cl *goredis.Client) map[string]string {
	out := map[string]string{}
	for _, k := range redisKeys(t, cl, "*") {
		if cl.Type(ctx, k).Val() != "stream" {
			continue
		}
		full, err := cl.XInfoStreamFull(ctx, k, 100_000).Result()
		require.NoError(t, err)
		there := map[string]bool{}
		for _, e := range full.Entries {
			there[e.ID] = true
		}
		s := fmt.Sprint(full.Length, full.LastGeneratedID, full.EntriesAdded, full.MaxDeletedEntryID)
		for _, g := range full.Groups {
			s += fmt.Sprint(" ", g.Name, g.LastDeliveredID)
			if g.EntriesRead > 0 { // where a server does not know it, it is worked out
				s += fmt.Sprint(" read ", g.EntriesRead)
			}
			for _, p := range g.Pending {
				if there[p.ID] { // no client can be given one that is deleted
					s += fmt.Sprint(" ", p.ID, p.Consumer, p.DeliveryTime.UnixMilli(), p.DeliveryCount)
				}
			}
			for _, c := range g.Consumers {
				s += " " + c.Name
			}
		}
		out[k] = s
	}
	return out
}

func digestOf(t testing.TB, cl *goredis.Client) string {
	s, err := cl.Do(ctx, "DEBUG", "DIGEST").Text()
	require.NoError(t, err)
	return s
}

// TestRedisHoldsEveryType: what is restored is the same to the server's own
// digest, whichever way it was and is packed, and the same content has the same
// root.
func TestRedisHoldsEveryType(t *testing.T) {
	t.Parallel()
	debug := []string{"--enable-debug-command", "yes"}
	from, to := redistest.Start(t, debug...), redistest.Start(t, append(unpacked, debug...)...)
	a, b := redistest.Client(t, from), redistest.Client(t, to)
	everyType(t, a, 7)
	want := digestOf(t, a)
	e := newRunner(t)
	open := func(p *servertest.Process) engine.Cluster {
		_, drv, err := engine.ForAddress(redistest.Address(p))
		require.NoError(t, err)
		c, err := drv.Open(ctx, engine.Target{Name: "bramble", Address: redistest.Address(p), Settings: true})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	first, err := snapshot.Take(ctx, e, "bramble", open(from))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Point, Text: first.ID}, restore.OnScratch{})
	require.NoError(t, err)
	target := open(to)
	putBack := func() {
		p, err := restore.NewPlan(ctx, e, m, target, restore.Options{Conflict: restore.Replace, Settings: true})
		require.NoError(t, err)
		defer p.Close()
		_, err = p.Run(ctx)
		require.NoError(t, err)
	}
	putBack()
	b.Del(ctx, "dexamen.restoring")
	require.Equal(t, want, digestOf(t, b))
	there, got := streams(t, a), streams(t, b)
	read := regexp.MustCompile(` read \d+`)
	for k, v := range there {
		now := got[k]
		if known := read.FindAllString(v, -1); len(known) < len(read.FindAllString(now, -1)) {
			v, now = read.ReplaceAllString(v, ""), read.ReplaceAllString(now, "")
		}
		require.Equal(t, v, now, k)
	}
	require.Len(t, b.FunctionList(ctx, goredis.FunctionListQuery{}).Val(), 1)

	second, err := snapshot.Take(ctx, e, "hedge", open(to))
	require.NoError(t, err)
	for _, ns := range first.Namespaces {
		for _, other := range second.Namespaces {
			if ns.Name == other.Name && ns.Kind == "keys" {
				require.Equal(t, ns.Root.Hash, other.Root.Hash, ns.Name)
			}
		}
	}
	require.Len(t, second.Namespaces, len(first.Namespaces))

	// Reading by commands and reading the stream agree, and what is spoilt is put
	// right by changing what differs.
	b.HSet(ctx, "large:hash", "new field", "x")
	b.LTrim(ctx, "large:list", 1, -1)
	b.Del(ctx, "large:zset", "places")
	b.SetRange(ctx, "large:string", 700_000, "spoilt")
	b.Set(ctx, "too many", "x", 0)
	diffs, err := verify.Live(ctx, e, m, target, "db0", nil, 100)
	require.NoError(t, err)
	require.Len(t, diffs, 1)
	require.NotZero(t, diffs[0].Missing*diffs[0].Extra*diffs[0].Changed)
	putBack()
	require.Equal(t, want, digestOf(t, b))
}

// TestRedisExpiredKeysStayAway: keys whose time has come do not come back, by a
// point or by the log, and what was done to them meanwhile is done to them.
func TestRedisExpiredKeysStayAway(t *testing.T) {
	t.Parallel()
	from, to := redistest.Start(t), redistest.Start(t)
	a, b := redistest.Client(t, from), redistest.Client(t, to)
	// A machine may be too slow for what is to happen within the keys' time.
	for life := 1500 * time.Millisecond; ; life *= 3 {
		require.NoError(t, a.FlushAll(ctx).Err())
		began := time.Now()
		require.NoError(t, a.Set(ctx, "soon", "point", life).Err())
		require.NoError(t, a.Set(ctx, "later", "point", time.Hour).Err())
		e := newRunner(t)
		p, err := snapshot.Take(ctx, e, "bramble", open(t, "bramble", redistest.Address(from)))
		require.NoError(t, err)
		require.NoError(t, a.Append(ctx, "soon", " and log").Err())
		require.NoError(t, a.Append(ctx, "later", " and log").Err())
		require.NoError(t, a.Set(ctx, "short", "log", life).Err())
		require.NoError(t, a.Append(ctx, "short", "!").Err())
		require.NoError(t, a.Set(ctx, "kept", "log", life).Err())
		require.NoError(t, a.Persist(ctx, "kept").Err())
		if time.Since(began) > life {
			continue
		}
		require.EqualValues(t, 2, p.Stats.Records)
		want := a.PExpireTime(ctx, "later").Val()
		_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", redistest.Address(from)), capture.Options{})
		require.NoError(t, err)
		time.Sleep(life + 100*time.Millisecond)
		m, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Latest}, restore.OnScratch{})
		require.NoError(t, err)
		plan, err := restore.NewPlan(ctx, e, m, open(t, "hedge", redistest.Address(to)), restore.Options{})
		require.NoError(t, err)
		defer plan.Close()
		_, err = plan.Run(ctx)
		require.NoError(t, err)
		require.ElementsMatch(t, []string{"later", "kept"}, redisKeys(t, b, "*"))
		require.Equal(t, "point and log", b.Get(ctx, "later").Val())
		require.Equal(t, want, b.PExpireTime(ctx, "later").Val())
		require.Equal(t, time.Duration(-1), b.PExpireTime(ctx, "kept").Val())
		return
	}
}

// TestRedisCommandsBeyond: a part can be restored as long as nothing that was
// done reaches out of it; what does is refused, and named.
func TestRedisCommandsBeyond(t *testing.T) {
	t.Parallel()
	from, to := redistest.Start(t), redistest.Start(t)
	a, b := redistest.Client(t, from), redistest.Client(t, to)
	depth := 1
	dial := func(p *servertest.Process) engine.Cluster {
		_, drv, _ := engine.ForAddress("redis://h")
		c, err := drv.Open(ctx, engine.Target{
			Name: "bramble", Address: redistest.Address(p), Options: map[string]any{"prefix_depth": depth}})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	a.SAdd(ctx, "stalls:a", "1", "2")
	a.SAdd(ctx, "prices:a", "2", "3")
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "bramble", dial(from))
	require.NoError(t, err)
	do := func(fn func()) *moment.Moment {
		fn()
		_, err := capture.Run(ctx, e, "bramble", dial(from), capture.Options{})
		require.NoError(t, err)
		m, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Latest}, restore.OnScratch{})
		require.NoError(t, err)
		return m
	}
	putBack := func(m *moment.Moment) error {
		p, err := restore.NewPlan(ctx, e, m, dial(to),
			restore.Options{Pattern: "db0/stalls:", Rename: map[string]string{"db0/stalls:": "db0/tents:"},
				Conflict: restore.Replace})
		if err != nil {
			return err
		}
		defer p.Close()
		_, err = p.Run(ctx)
		return err
	}
	m := do(func() {
		a.SUnionStore(ctx, "prices:b", "prices:a", "stalls:a") // written elsewhere
		a.Del(ctx, "prices:a", "stalls:none")
		a.SUnionStore(ctx, "stalls:b", "stalls:a", "stalls:a")
		_, err := a.TxPipelined(ctx, func(p goredis.Pipeliner) error {
			p.MSet(ctx, "stalls:c", "1", "prices:c", "2")
			p.Rename(ctx, "stalls:c", "stalls:d")
			return nil
		})
		require.NoError(t, err)
	})
	require.NoError(t, putBack(m))
	require.ElementsMatch(t, []string{"tents:a", "tents:b", "tents:d"}, redisKeys(t, b, "*"))
	m = do(func() { a.Rename(ctx, "prices:c", "stalls:e") })
	err = putBack(m)
	require.ErrorIs(t, err, engine.ErrOutsideNamespaces)
	require.ErrorContains(t, err, "RENAME with prices:c")
	_, err = b.HKeys(ctx, "dexamen.restoring").Result()
	require.NoError(t, err)

	// Emptied, and what came after.
	m = do(func() {
		a.FlushDB(ctx)
		a.Set(ctx, "stalls:z", "new", 0)
	})
	p, err := restore.NewPlan(ctx, e, m, dial(to), restore.Options{Conflict: restore.Replace})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Run(ctx)
	require.NoError(t, err)
	require.Contains(t, redisKeys(t, b, "*"), "stalls:z")
	require.NotContains(t, redisKeys(t, b, "*"), "stalls:a")
}

// TestRedisSentinel registers a primary by its sentinel, kills it, and goes on
// with the replica that steps in: the history is a continuation, and there is no
// gap.
func TestRedisSentinel(t *testing.T) {
	first := redistest.Start(t)
	second := redistest.StartReplica(t, first)
	s := redistest.StartSentinel(t, first, "market")
	address := "redis+sentinel://" + s.Address + "/market"
	cl := redistest.Client(t, first)
	require.NoError(t, cl.Set(ctx, "stall", "1", 0).Err())
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "bramble", open(t, "bramble", address))
	require.NoError(t, err)
	require.NoError(t, cl.Incr(ctx, "stall").Err())
	require.NoError(t, cl.Wait(ctx, 1, 10*time.Second).Err())
	_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", address), capture.Options{})
	require.NoError(t, err)
	require.NoError(t, cl.Wait(ctx, 1, 10*time.Second).Err())
	first.Kill()
	next := redistest.Client(t, second)
	require.Eventually(t, func() bool { return next.Incr(ctx, "stall").Err() == nil }, 60*time.Second,
		200*time.Millisecond,
		"the sentinel promotes the replica")
	_, drv, err := engine.ForAddress(address)
	require.NoError(t, err)
	_, err = drv.Open(ctx, engine.Target{Name: "bramble", Address: "redis+sentinel://" + s.Address + "/bazaar"})
	require.ErrorContains(t, err, `knows no primary named "bazaar"`)
	// The identity is the sentinels' name for it: another address is another cluster.
	_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", redistest.Address(second)), capture.Options{})
	require.ErrorIs(t, err, run.ErrRefused)
	// It takes writes before the sentinel names it.
	var c engine.Cluster
	require.Eventually(t, func() bool {
		if c, err = drv.Open(ctx, engine.Target{Name: "bramble", Address: address}); err != nil {
			require.ErrorIs(t, err, engine.ErrUnreachable)
			require.ErrorContains(t, err, "the sentinels name "+first.Address)
		}
		return err == nil
	}, 60*time.Second, 200*time.Millisecond)
	defer c.Close()
	got, err := capture.Run(ctx, e, "bramble", c, capture.Options{})
	require.NoError(t, err)
	require.Empty(t, got.Gaps)
	require.EqualValues(t, 1, got.Changes)
	to := redistest.Start(t)
	m, err := moment.Resolve(ctx, e, "bramble", latestMoment, restore.OnScratch{})
	require.NoError(t, err)
	p, err := restore.NewPlan(ctx, e, m, open(t, "hedge", redistest.Address(to)), restore.Options{})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Run(ctx)
	require.NoError(t, err)
	require.Equal(t, "3", redistest.Client(t, to).Get(ctx, "stall").Val())

	// A server that is begun anew with nothing has another history.
	second.Kill()
	second.Begin()
	require.Eventually(t, func() bool {
		return next.ReplicaOf(ctx, "no", "one").Err() == nil && next.Set(ctx, "stall", "new", 0).Err() == nil
	}, 60*time.Second, 200*time.Millisecond)
	_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", address), capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.Contains(t, explain.Error(err), "take a new point now")
}

var latestMoment = address.When{Kind: address.Latest}

// TestRedisSlotsMove: while slots are on their way nothing is called a point; what
// was done after they moved counts from the next point on, and coverage says so.
func TestRedisSlotsMove(t *testing.T) {
	t.Parallel()
	list := redistest.StartCluster(t, 3)
	cl := redistest.ClusterClient(t, list)
	const key = "{moving}:stall"
	require.NoError(t, cl.Set(ctx, key, "1", 0).Err())
	for i := range 200 {
		require.NoError(t, cl.Set(ctx, fmt.Sprint("stall:", i), i, 0).Err())
	}
	e := newRunner(t)
	addr := redistest.Address(list...)
	_, err := snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr))
	require.NoError(t, err)

	from, err := cl.MasterForKey(ctx, key)
	require.NoError(t, err)
	others := make(chan *goredis.Client, 3)
	require.NoError(t, cl.ForEachMaster(ctx, func(_ context.Context, m *goredis.Client) error {
		if m.Options().Addr != from.Options().Addr {
			others <- m
		}
		return nil
	}))
	to := <-others
	slot := cl.ClusterKeySlot(ctx, key).Val()
	id := func(m *goredis.Client) string { return m.ClusterMyID(ctx).Val() }
	do := func(m *goredis.Client, args ...any) { t.Helper(); require.NoError(t, m.Do(ctx, args...).Err()) }
	do(to, "CLUSTER", "SETSLOT", slot, "IMPORTING", id(from))
	do(from, "CLUSTER", "SETSLOT", slot, "MIGRATING", id(to))
	_, err = snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr))
	require.ErrorIs(t, err, engine.ErrMoving)
	require.ErrorContains(t, err, fmt.Sprintf("slot %d first", slot))
	host, port, err := net.SplitHostPort(to.Options().Addr)
	require.NoError(t, err)
	do(from, "MIGRATE", host, port, key, 0, 5000)
	for _, m := range []*goredis.Client{to, from} {
		do(m, "CLUSTER", "SETSLOT", slot, "NODE", id(to))
	}
	moved := time.Now()
	require.Eventually(t, func() bool { return again(func() error { return cl.Incr(ctx, key).Err() }) == nil },
		30*time.Second, 100*time.Millisecond)

	_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "slots have moved")
	latest := func() time.Time {
		list, err := moment.Cover(ctx, e, "bramble")
		require.NoError(t, err)
		return list[0].Latest
	}
	require.True(t, latest().Before(moved.Add(5*time.Second)) && latest().Before(time.Now()), "not past what moved")
	short := latest()

	// All nodes have to have heard of it.
	require.Eventually(t, func() bool {
		_, err = snapshot.Take(ctx, e, "bramble", open(t, "bramble", addr))
		return err == nil
	}, 30*time.Second, 500*time.Millisecond)
	require.NoError(t, cl.Incr(ctx, key).Err())
	_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "it goes on at a point taken since")
	_, err = capture.Run(ctx, e, "bramble", open(t, "bramble", addr), capture.Options{})
	require.NoError(t, err)
	require.True(t, latest().After(short))
	m, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Latest}, restore.OnScratch{})
	require.NoError(t, err)
	scratch := redistest.Start(t)
	plan, err := restore.NewPlan(ctx, e, m, open(t, "hedge", redistest.Address(scratch)), restore.Options{})
	require.NoError(t, err)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	b := redistest.Client(t, scratch)
	require.Equal(t, cl.Get(ctx, key).Val(), b.Get(ctx, key).Val())
	require.Len(t, redisKeys(t, b, "*"), 201)
}
