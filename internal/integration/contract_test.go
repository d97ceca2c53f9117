package integration_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// engineFixture is a cluster of some kind, as the contract is tried on it, and a way to it
// that is not Dexamen's.
type engineFixture struct {
	target engine.Target
	// one and other are namespaces to fill; pattern fits both. The rest are
	// names that are free.
	one, other, pattern, renamedOne, renamedOther string
	put                                           func(t testing.TB, ns string, n int, text string)
	remove                                        func(t testing.TB, ns string, n int)
	state                                         func(t testing.TB, ns string) map[string]string
	// lose kills a member, and back brings it up again.
	lose, back func(t testing.TB)
	// forget makes the log lose what it holds now.
	forget func(t testing.TB)
	// dated: the servers date changes themselves.
	dated bool
}

func documentFixture(t testing.TB) *engineFixture {
	rs := startSim(t, docsim.Options{LogBytes: 1 << 20, NoopEvery: 100 * time.Millisecond})
	cl, err := mongo.Connect(options.Client().ApplyURI(rs.URI()).SetWriteConcern(writeconcern.Majority()))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
	coll := func(ns string) *mongo.Collection {
		db, name, _ := strings.Cut(ns, ".")
		return cl.Database(db).Collection(name)
	}
	var killed int
	b := &engineFixture{target: engine.Target{Name: "meadow", Address: rs.URI()}, one: "apiary.colonies",
		other: "apiary.harvests", pattern: "apiary.*",
		renamedOne: "apiary.colonies_restored", renamedOther: "apiary.harvests_restored", dated: true,
		put: func(t testing.TB, ns string, n int, text string) {
			_, err := coll(ns).ReplaceOne(ctx, bson.D{{Key: "_id", Value: n}}, bson.D{{Key: "text", Value: text}},
				options.Replace().SetUpsert(true))
			require.NoError(t, err)
		},
		remove: func(t testing.TB, ns string, n int) {
			_, err := coll(ns).DeleteOne(ctx, bson.D{{Key: "_id", Value: n}})
			require.NoError(t, err)
		},
		state: func(t testing.TB, ns string) map[string]string {
			out := map[string]string{}
			cur, err := coll(ns).Find(ctx, bson.D{})
			require.NoError(t, err)
			for cur.Next(ctx) {
				out[cur.Current.Lookup("_id").String()] = cur.Current.Lookup("text").StringValue()
			}
			require.NoError(t, cur.Err())
			return out
		},
		lose: func(t testing.TB) { killed = rs.Primary(); rs.Kill(killed) },
		back: func(t testing.TB) { require.NoError(t, rs.Restart(killed)) },
	}
	b.forget = func(t testing.TB) {
		for i := range 3000 {
			b.put(t, "apiary.inspections", i%10, fmt.Sprint(i, strings.Repeat("calm ", 100)))
		}
		require.NoError(t, coll("apiary.inspections").Drop(ctx))
	}
	return b
}

func etcdFixture(t testing.TB) *engineFixture {
	s := etcdtest.Start(t, etcdtest.Options{Members: 3})
	cl := etcdtest.Client(t, s...)
	key := func(ns string, n int) string { return fmt.Sprintf("%s%05d", ns, n) }
	return &engineFixture{target: engine.Target{Name: "willow", Address: etcdtest.Address(s...)},
		one: "/gateways/", other: "/routes/", pattern: "/?o*",
		renamedOne: "/gateways_restored/", renamedOther: "/routes_restored/",
		put: func(t testing.TB, ns string, n int, text string) {
			require.NoError(t, again(func() error { _, err := cl.Put(ctx, key(ns, n), text); return err }))
		},
		remove: func(t testing.TB, ns string, n int) {
			require.NoError(t, again(func() error { _, err := cl.Delete(ctx, key(ns, n)); return err }))
		},
		state: func(t testing.TB, ns string) map[string]string {
			out := map[string]string{}
			got, err := cl.Get(ctx, ns, clientv3.WithPrefix())
			require.NoError(t, err)
			for _, kv := range got.Kvs {
				out[strings.TrimPrefix(string(kv.Key), ns)] = string(kv.Value)
			}
			return out
		},
		lose: func(t testing.TB) { s[1].Kill() },
		back: func(t testing.TB) { s[1].Begin() },
		forget: func(t testing.TB) {
			_, err := cl.Put(ctx, "/elsewhere/key", "1")
			require.NoError(t, err)
			p, err := cl.Put(ctx, "/elsewhere/key", "2")
			require.NoError(t, err)
			_, err = cl.Compact(ctx, p.Header.Revision)
			require.NoError(t, err)
		},
	}
}

// again does what may fail while a leader is elected.
func again(do func() error) (err error) {
	for range 50 {
		if err = do(); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

func redisBed(t testing.TB, address string, cl goredis.UniversalClient, lose, back func(t testing.TB),
	forget func(testing.TB)) *engineFixture {
	depth := 1
	key := func(ns string, n int) string { return fmt.Sprintf("%s%d", strings.TrimPrefix(ns, "db0/"), n) }
	return &engineFixture{target: engine.Target{
		Name: "bramble", Address: address, Options: map[string]any{"prefix_depth": depth}}, one: "db0/stalls:",
		other: "db0/prices:", pattern: "db0/?*s:",
		renamedOne: "db0/stalls_restored:", renamedOther: "db0/prices_restored:", lose: lose, back: back,
		forget: forget,
		put: func(t testing.TB, ns string, n int, text string) {
			require.NoError(t, again(func() error {
				k := key(ns, n)
				switch n % 4 {
				case 0:
					return cl.Set(ctx, k, text, 0).Err()
				case 1:
					return cl.HSet(ctx, k, "text", text).Err()
				case 2:
					return cl.RPush(ctx, k, text).Err()
				}
				return cl.ZIncrBy(ctx, k, 1.5, text).Err()
			}))
		},
		remove: func(t testing.TB, ns string, n int) {
			require.NoError(t, again(func() error { return cl.Del(ctx, key(ns, n)).Err() }))
		},
		state: func(t testing.TB, ns string) map[string]string {
			out := map[string]string{}
			prefix := strings.TrimPrefix(ns, "db0/")
			for _, k := range redisKeys(t, cl, prefix+"*") {
				out[strings.TrimPrefix(k, prefix)] = redisValue(t, cl, k)
			}
			return out
		},
	}
}

// redisKeys lists keys, of all primaries.
func redisKeys(t testing.TB, cl goredis.UniversalClient, pattern string) (out []string) {
	if cc, ok := cl.(*goredis.ClusterClient); ok {
		var mu sync.Mutex
		require.NoError(t, cc.ForEachMaster(ctx, func(ctx context.Context, m *goredis.Client) error {
			list, err := m.Keys(ctx, pattern).Result()
			mu.Lock()
			defer mu.Unlock()
			out = append(out, list...)
			return err
		}))
		return out
	}
	out, err := cl.Keys(ctx, pattern).Result()
	require.NoError(t, err)
	return out
}

// redisValue reads a key by the commands of its type.
func redisValue(t testing.TB, cl goredis.UniversalClient, key string) string {
	v, err := redisText(cl, key)
	require.NoError(t, err)
	return v
}

// redisText is redisValue of a key that may expire meanwhile.
func redisText(cl goredis.UniversalClient, key string) (string, error) {
	typ, err := cl.Type(ctx, key).Result()
	if err != nil {
		return "", err
	}
	var v any
	switch typ {
	case "string":
		v, err = cl.Get(ctx, key).Result()
	case "hash":
		v, err = cl.HGetAll(ctx, key).Result()
	case "list":
		v, err = cl.LRange(ctx, key, 0, -1).Result()
	case "set":
		var list map[string]struct{}
		list, err = cl.SMembersMap(ctx, key).Result()
		v = list
	case "zset":
		v, err = cl.ZRangeWithScores(ctx, key, 0, -1).Result()
	case "stream":
		var entries []goredis.XMessage
		entries, err = cl.XRange(ctx, key, "-", "+").Result()
		groups, gerr := cl.XInfoGroups(ctx, key).Result()
		if gerr != nil {
			return "", gerr
		}
		s := fmt.Sprint(entries)
		for _, g := range groups { // how many a group has read replicas know otherwise than their primary
			s += fmt.Sprint(" ", g.Name, g.Consumers, g.Pending, g.LastDeliveredID)
		}
		v = s
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprint(typ, v, cl.PExpireTime(ctx, key).Val().Milliseconds()), nil
}

func lonePrimaryFixture(t testing.TB) *engineFixture {
	s := redistest.Start(t, "--repl-backlog-size", "1mb")
	r := redistest.StartReplica(t, s, "--repl-backlog-size", "1mb")
	cl := redistest.Client(t, s)
	return redisBed(t, redistest.Address(s, r), cl, func(testing.TB) { r.Kill() },
		func(testing.TB) { r.Begin() }, func(t testing.TB) {
			for range 3000 {
				require.NoError(t, cl.Set(ctx, "elsewhere:key", strings.Repeat("calm ", 200), 0).Err())
			}
		})
}

func slotsFixture(t testing.TB) *engineFixture {
	list := redistest.StartCluster(t, 3, "--repl-backlog-size", "1mb")
	cl := redistest.ClusterClient(t, list)
	return redisBed(t, redistest.Address(list...), cl, func(testing.TB) { list[4].Kill() },
		func(testing.TB) { list[4].Begin() }, func(t testing.TB) {
			for i := range 9000 {
				require.NoError(t, cl.Set(ctx, fmt.Sprintf("elsewhere:{%d}", i%30), strings.Repeat("calm ", 200),
					0).Err())
			}
		})
}

// TestContract holds every kind of cluster to what the verbs promise.
func TestContract(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(testing.TB) *engineFixture{
		"document": documentFixture, "etcd": etcdFixture, "redis": lonePrimaryFixture, "redis slots": slotsFixture} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			contract(t, start(t))
		})
	}
}

func contract(t *testing.T, b *engineFixture) {
	_, drv, err := engine.ForAddress(b.target.Address)
	require.NoError(t, err)
	connect := func() engine.Cluster {
		c, err := drv.Open(ctx, b.target)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	name := b.target.Name
	e := newRunner(t)
	for i := range 200 {
		b.put(t, b.one, i, fmt.Sprint("first ", i))
		b.put(t, b.other, i, fmt.Sprint("other ", i))
	}
	first := b.state(t, b.one)
	require.Len(t, first, 200)
	c := connect()
	point, err := snapshot.Take(ctx, e, name, c)
	require.NoError(t, err)
	require.True(t, point.Exact)
	require.EqualValues(t, 400, point.Stats.Records)

	// The log is captured all the while, as servers that date nothing need it.
	cctx, stop := context.WithCancel(ctx)
	captured := make(chan error, 1)
	go func() {
		_, err := capture.Run(cctx, e, name, connect(),
			capture.Options{Follow: true, FlushEvery: 200 * time.Millisecond})
		captured <- err
	}()
	type notedMoment struct {
		at         time.Time
		one, other map[string]string
	}
	reached := func(at time.Time) {
		require.Eventually(t, func() bool {
			list, err := moment.Cover(ctx, e, name)
			return err == nil && len(list) == 1 && len(list[0].Stretches) > 0 && !list[0].Latest.Before(at)
		}, 60*time.Second, 50*time.Millisecond, "coverage does not get to %s", at)
	}
	var moments []notedMoment
	for round := range 4 {
		reached(time.Now())
		for i := range 40 {
			b.put(t, b.one, i*5+round, fmt.Sprint("round ", round))
			b.remove(t, b.other, round*40+i)
		}
		reached(time.Now()) // whoever dates them, they are dated before what follows
		moments = append(moments, notedMoment{time.Now(), b.state(t, b.one), b.state(t, b.other)})
		time.Sleep(10 * time.Millisecond)
	}
	b.put(t, b.one, 9999, "after")
	reached(time.Now())
	resolve := func(at time.Time) *moment.Moment {
		m, err := moment.Resolve(ctx, e, name, address.When{Kind: address.Time, Time: at}, restore.OnScratch{})
		require.NoError(t, err)
		return m
	}
	putBack := func(m *moment.Moment, opt restore.Options) ([]restore.Restored, error) {
		p, err := restore.NewPlan(ctx, e, m, c, opt)
		if err != nil {
			return nil, err
		}
		defer p.Close()
		return p.Run(ctx)
	}
	beside := map[string]string{b.one: b.renamedOne}

	// Every moment, beside what is there.
	for i, m := range moments {
		got, err := putBack(resolve(m.at), restore.Options{Pattern: b.one, Rename: beside, Conflict: restore.Replace})
		require.NoError(t, err)
		require.Len(t, got, 1)
		require.Equal(t, i > 0, got[0].Replaced)
		require.True(t, got[0].Verified)
		require.Equal(t, m.one, b.state(t, b.renamedOne), "moment %d", i)
	}
	require.Equal(t, "after", lastWord(b.state(t, b.one)), "what is there is not touched")

	// A part, and two with new names at once.
	p, err := moment.Resolve(ctx, e, name, address.When{Kind: address.Point, Text: point.ID}, restore.OnScratch{})
	require.NoError(t, err)
	both := map[string]string{b.one: b.renamedOne, b.other: b.renamedOther}
	got, err := putBack(p, restore.Options{Pattern: b.pattern, Rename: both, Conflict: restore.Replace})
	if err != nil { // a pattern that fits one only
		require.ErrorContains(t, err, b.one)
		got, err = putBack(p, restore.Options{Rename: both, Conflict: restore.Replace})
		require.NoError(t, err)
	}
	require.NotEmpty(t, got)
	require.Equal(t, first, b.state(t, b.renamedOne))

	// What is there is not replaced unasked; asked, it is what it was.
	_, err = putBack(resolve(moments[1].at), restore.Options{Pattern: b.other})
	require.ErrorIs(t, err, run.ErrRefused)
	require.ErrorContains(t, err, "is there already")
	_, err = putBack(resolve(moments[1].at), restore.Options{Pattern: b.other, Conflict: restore.Replace})
	require.NoError(t, err)
	require.Equal(t, moments[1].other, b.state(t, b.other))
	_, err = putBack(p, restore.Options{Pattern: "no such name"})
	require.ErrorContains(t, err, "no such name")

	// A restore that is cut short says so, and the next one completes it.
	rctx, cut := context.WithCancel(ctx)
	plan, err := restore.NewPlan(rctx, e, p, c,
		restore.Options{Pattern: b.one, Rename: beside, Conflict: restore.Replace})
	require.NoError(t, err)
	e.OnEvent = func(ev run.Event) {
		if strings.HasPrefix(ev.Text, "restoring ") {
			cut()
		}
	}
	_, err = plan.Run(rctx)
	require.Error(t, err)
	plan.Close()
	e.OnEvent = nil
	w, err := connect().Writer(ctx)
	require.NoError(t, err)
	left, err := w.Stages(ctx)
	require.NoError(t, err)
	if _, gradual := w.(engine.InPlaceWriter); gradual {
		require.Equal(t, []string{b.renamedOne}, left)
	}
	c = connect()
	_, err = putBack(p, restore.Options{Pattern: b.one, Rename: beside, Conflict: restore.Replace})
	require.NoError(t, err)
	require.Equal(t, first, b.state(t, b.renamedOne))
	left, err = w.Stages(ctx)
	require.NoError(t, err)
	require.Empty(t, left)

	// A member is lost while the log is followed and while a point is made.
	b.lose(t)
	for i := range 30 {
		b.put(t, b.one, i, "one is lost")
	}
	second, err := snapshot.Take(ctx, e, name, connect())
	require.NoError(t, err)
	b.back(t)
	reached(time.Now())
	stop()
	require.ErrorIs(t, <-captured, context.Canceled)
	same(t, e, second, b)

	// The capture is taken up where it ended; what it missed altogether is a gap.
	b.put(t, b.one, 1, "while nobody looked")
	out, err := capture.Run(ctx, e, name, connect(), capture.Options{})
	require.NoError(t, err)
	require.Empty(t, out.Gaps)
	require.Positive(t, out.Changes)
	before := time.Now()
	b.put(t, b.one, 2, "lost")
	b.forget(t)
	out, err = capture.Run(ctx, e, name, connect(), capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.NotEmpty(t, out.Gaps)
	_, err = moment.Resolve(ctx, e, name, address.When{Kind: address.Time, Time: before.Add(time.Millisecond)},
		restore.OnScratch{})
	require.Error(t, err, "the moment is in the gap")
	third, err := snapshot.Take(ctx, e, name, connect())
	require.NoError(t, err)
	same(t, e, third, b)
	b.put(t, b.one, 3, "after the gap")
	_, err = capture.Run(ctx, e, name, connect(), capture.Options{})
	if !errors.Is(err, run.ErrIncomplete) {
		require.NoError(t, err)
	}
	// The latest moment is one that all shards have reached: where each has a clock
	// of its own, what one has read last is in it by the next capture.
	time.Sleep(10 * time.Millisecond)
	if _, err = capture.Run(ctx, e, name, connect(), capture.Options{}); !errors.Is(err, run.ErrIncomplete) {
		require.NoError(t, err)
	}
	latest, err := moment.Resolve(ctx, e, name, address.When{Kind: address.Latest}, restore.OnScratch{})
	require.NoError(t, err)
	_, err = putBack(latest, restore.Options{Pattern: b.one, Rename: beside, Conflict: restore.Replace})
	require.NoError(t, err)
	require.Equal(t, b.state(t, b.one), b.state(t, b.renamedOne))
}

func lastWord(m map[string]string) string {
	for _, v := range m {
		if strings.Contains(v, "after") {
			return "after"
		}
	}
	return ""
}

// same checks that a point holds what is there now.
func same(t *testing.T, e *run.Runner, p *store.Point, b *engineFixture) {
	t.Helper()
	_, drv, err := engine.ForAddress(b.target.Address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, b.target)
	require.NoError(t, err)
	defer c.Close()
	m, err := moment.Resolve(ctx, e, p.Cluster, address.When{Kind: address.Point, Text: p.ID}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, c, b.one, nil, 5)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs), "%+v", diffs)
}
