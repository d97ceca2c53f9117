package integration_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// A history of a key-value cluster: random work, states remembered at random
// moments, members killed while a point is made and while the log is followed;
// then every remembered state is restored elsewhere and compared.
type keyHistory struct {
	name, address, scratch string
	// bench is where moments are made that are to be had on a server only.
	bench           string
	step            func(r *rand.Rand) error
	state, restored func() map[string]string
	clear           func()
	// settle waits until a failover could lose nothing.
	settle func()
	// trouble kills a member of the cluster; the returned function brings it up
	// again.
	trouble func(r *rand.Rand) func()
}

func (h *keyHistory) run(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 9))
	work := func(n int) {
		for range n {
			require.NoError(t, again(func() error { return h.step(r) }))
		}
	}
	e := newRunner(t)
	if h.bench != "" {
		e.ScratchServer = benchAt(t, h.bench)
	}
	work(400)
	_, err := snapshot.Take(ctx, e, h.name, open(t, h.name, h.address))
	require.NoError(t, err)
	cctx, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 1)
	go func() {
		_, err := capture.Run(cctx, e, h.name, open(t, h.name, h.address),
			capture.Options{Follow: true, FlushEvery: 100 * time.Millisecond})
		ended <- err
	}()
	reached := func() {
		now := time.Now()
		require.Eventually(t, func() bool {
			list, err := moment.Cover(ctx, e, h.name)
			return err == nil && len(list[0].Stretches) > 0 && !list[0].Latest.Before(now)
		}, 60*time.Second, 50*time.Millisecond, "coverage does not go on")
	}
	type remembered struct {
		at    time.Time
		state map[string]string
	}
	var all []remembered
	remember := func() {
		reached()
		all = append(all, remembered{time.Now(), h.state()})
		time.Sleep(5 * time.Millisecond)
	}
	remember()
	rounds := long(3, 1)
	if os.Getenv("DEXAMEN_KEY_HISTORIES") != "" {
		rounds = 4
	}
	for round := range rounds {
		work(20 + r.IntN(150))
		remember()
		h.settle()
		back := h.trouble(r) // while the log is followed
		work(20 + r.IntN(100))
		remember()
		if round%2 == 0 {
			// And while a point is made, with work going on.
			made := make(chan error, 1)
			go func() {
				_, err := snapshot.Take(ctx, e, h.name, open(t, h.name, h.address))
				made <- err
			}()
			work(100)
			require.NoError(t, <-made)
			remember()
		}
		back()
	}
	work(50)
	reached()
	stop()
	require.ErrorIs(t, <-ended, context.Canceled)
	list, err := moment.Cover(ctx, e, h.name)
	require.NoError(t, err)
	require.Len(t, list[0].Stretches, 1, "coverage is unbroken")
	for i, m := range all {
		when, err := moment.Resolve(ctx, e, h.name, address.When{Kind: address.Time, Time: m.at}, restore.OnScratch{})
		require.NoError(t, err)
		h.clear()
		p, err := restore.NewPlan(ctx, e, when, open(t, "paddock", h.scratch),
			restore.Options{Chosen: map[string]string{"key-leases": "drop"}})
		require.NoError(t, err)
		_, err = p.Run(ctx)
		p.Close()
		require.NoError(t, err)
		if got := h.restored(); !maps.Equal(m.state, got) {
			for k, v := range m.state {
				if got[k] != v {
					t.Errorf("seed %d, state %d (%s): %s should be %.200q and is %.200q", seed, i, m.at, k, v, got[k])
				}
			}
			for k := range got {
				if _, ok := m.state[k]; !ok {
					t.Errorf("seed %d, state %d (%s): %s is too many", seed, i, m.at, k)
				}
			}
			t.FailNow()
		}
		if h.bench != "" && i%2 == 0 {
			diffs, err := verify.Live(ctx, e, when, open(t, "paddock", h.scratch), "", nil, 10)
			require.NoError(t, err)
			for _, d := range diffs {
				require.True(t, d.Same(), "seed %d, state %d: %+v", seed, i, d)
			}
		}
	}
	points, _, err := e.Store.Points(ctx, h.name)
	require.NoError(t, err)
	for _, p := range points[1:] {
		m, err := verify.ProveLog(ctx, e, p)
		require.NoError(t, err)
		require.True(t, m.Equal, "seed %d: the log before point %s, whatever was killed meanwhile: %s", seed, p.ID,
			m.NotProven)
	}
}

// seeds returns those of n histories, or of as many as are asked for.
func seeds(n int) (out []int) {
	if s := os.Getenv("DEXAMEN_KEY_HISTORIES"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	for i := range n {
		out = append(out, i+1)
	}
	return out
}

func TestEtcdHistory(t *testing.T) {
	t.Parallel()
	for _, seed := range seeds(1) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			s, scratch := etcdtest.Start(t, etcdtest.Options{Members: 3}), etcdtest.Start(t,
				etcdtest.Options{})
			cl, to := etcdtest.Client(t, s...), etcdtest.Client(t, scratch...)
			lease, err := cl.Grant(ctx, 3600)
			require.NoError(t, err)
			key := func(r *rand.Rand) string {
				return fmt.Sprintf("/%s/%d", []string{"gateways", "routes", "yards/north"}[r.IntN(3)], r.IntN(200))
			}
			read := func(cl *clientv3.Client) func() map[string]string {
				return func() map[string]string { return etcdState(t, cl) }
			}
			h := keyHistory{name: "willow", address: etcdtest.Address(s...),
				scratch: etcdtest.Address(scratch...),
				step: func(r *rand.Rand) error {
					tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
					defer cancel()
					switch r.IntN(6) {
					case 0:
						_, err := cl.Delete(tctx, key(r))
						return err
					case 1:
						a, b := key(r), key(r)
						ops := []clientv3.Op{clientv3.OpPut(a, fmt.Sprint("both ", r.Int()))}
						if a != b {
							ops = append(ops, clientv3.OpDelete(b))
						}
						_, err := cl.Txn(tctx).Then(ops...).Commit()
						return err
					case 2:
						_, err := cl.Put(tctx, key(r), "leased", clientv3.WithLease(lease.ID))
						return err
					case 3:
						if r.IntN(20) == 0 {
							_, err := cl.Delete(tctx, fmt.Sprintf("/routes/%d", r.IntN(10)), clientv3.WithPrefix())
							return err
						}
					}
					_, err := cl.Put(tctx, key(r), fmt.Sprint(r.Int(), strings.Repeat("x", r.IntN(2000))))
					return err
				},
				state: read(cl), restored: read(to),
				clear: func() {
					_, err := to.Delete(ctx, "", clientv3.WithPrefix())
					require.NoError(t, err)
				},
				settle: func() {},
				trouble: func(r *rand.Rand) func() {
					m := s[r.IntN(3)]
					m.Kill()
					return func() { m.Begin(); time.Sleep(time.Second) }
				},
			}
			h.run(t, uint64(seed))
		})
	}
}

func TestRedisHistory(t *testing.T) {
	t.Parallel()
	for _, seed := range seeds(1) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			list := redistest.StartCluster(t, 3, "--repl-backlog-size", "8mb")
			cl := redistest.ClusterClient(t, list)
			scratch, bench := redistest.Start(t), redistest.Start(t)
			to := redistest.Client(t, scratch)
			read := func(cl goredis.UniversalClient) func() map[string]string {
				return func() map[string]string {
					out := map[string]string{}
					for _, k := range redisKeys(t, cl, "*") {
						out[k] = redisValue(t, cl, k)
					}
					return out
				}
			}
			h := keyHistory{name: "bramble", address: redistest.Address(list...),
				scratch: redistest.Address(scratch), bench: redistest.Address(bench),
				step: func(r *rand.Rand) error {
					if r.IntN(120) == 0 { // one shard's keys go, and no other's
						one, err := cl.MasterForKey(ctx, fmt.Sprintf("{%d}", r.IntN(20)))
						if err != nil {
							return err
						}
						return one.FlushAll(ctx).Err()
					}
					return redisStep(cl, r)
				}, state: read(cl), restored: read(to),
				clear: func() { require.NoError(t, to.FlushAll(ctx).Err()) },
				settle: func() {
					require.NoError(t, cl.ForEachMaster(ctx,
						func(ctx context.Context, m *goredis.Client) error {
							return m.Wait(ctx, 1, 5*time.Second).Err()
						}))
				},
				trouble: func(r *rand.Rand) func() {
					p := list[r.IntN(len(list))] // a primary, for which its replica steps in, or a replica
					p.Kill()
					return func() {
						p.Begin()
						require.Eventually(t, func() bool {
							info := goredisInfo(p.Address)
							return strings.Contains(info, "role:master") ||
								strings.Contains(info, "master_link_status:up")
						}, 30*time.Second, 100*time.Millisecond)
					}
				},
			}
			h.run(t, uint64(seed))
		})
	}
}

func goredisInfo(addr string) string {
	cl := goredis.NewClient(&goredis.Options{Addr: addr})
	defer cl.Close()
	return cl.Info(ctx, "replication").Val()
}

// redisStep does something to a random key.
func redisStep(cl goredis.UniversalClient, r *rand.Rand) error {
	tag := fmt.Sprintf("{%d}", r.IntN(20))
	key := func(typ string) string { return fmt.Sprintf("%s:%s:%d", typ, tag, r.IntN(8)) }
	word := func() string { return fmt.Sprint(r.IntN(300)) }
	tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	switch r.IntN(20) {
	case 0:
		return cl.Set(tctx, key("s"), strings.Repeat(word(), r.IntN(500)), 0).Err()
	case 1:
		return cl.Set(tctx, key("s"), word(), time.Hour).Err()
	case 2:
		return cl.Append(tctx, key("s"), word()).Err()
	case 3:
		return cl.Incr(tctx, key("count")).Err()
	case 4:
		return cl.IncrByFloat(tctx, key("float"), r.Float64()).Err()
	case 5:
		return cl.RPush(tctx, key("l"), word(), word()).Err()
	case 6:
		_, err := cl.LPop(tctx, key("l")).Result()
		return notNil(err)
	case 7:
		_, err := cl.LMove(tctx, key("l"), key("l"), "left", "right").Result()
		return notNil(err)
	case 8:
		return cl.SAdd(tctx, key("t"), word(), word()).Err()
	case 9:
		_, err := cl.SPop(tctx, key("t")).Result()
		return notNil(err)
	case 10:
		return cl.SUnionStore(tctx, key("t"), key("t"), key("t")).Err()
	case 11:
		return cl.HSet(tctx, key("h"), word(), word()).Err()
	case 12:
		return cl.HIncrByFloat(tctx, key("hf"), word(), 0.1).Err()
	case 13:
		return cl.ZAdd(tctx, key("z"), goredis.Z{Score: r.NormFloat64(), Member: word()}).Err()
	case 14:
		return cl.ZUnionStore(tctx, key("z"), &goredis.ZStore{Keys: []string{key("z"), key("z")}}).Err()
	case 15:
		return cl.Del(tctx, key("s"), key("t"), key("z")).Err()
	case 16:
		return cl.XAdd(tctx, &goredis.XAddArgs{
			Stream: "x:" + tag, MaxLen: 50, Approx: true, Values: []string{"v", word()}}).Err()
	case 17:
		_ = cl.XGroupCreateMkStream(tctx, "x:"+tag, "g", "0").Err()
		_, err := cl.XReadGroup(tctx, &goredis.XReadGroupArgs{
			Group: "g", Consumer: "c", Streams: []string{"x:" + tag, ">"}, Count: 2, Block: -1}).Result()
		return notNil(err)
	case 18:
		_, err := cl.TxPipelined(tctx, func(p goredis.Pipeliner) error {
			p.Incr(tctx, "count:"+tag+":tx")
			p.RPush(tctx, key("l"), word())
			p.Expire(tctx, key("s"), time.Duration(1+r.IntN(5))*time.Hour)
			return nil
		})
		return err
	}
	return cl.Eval(tctx, "redis.call('SET', KEYS[1], ARGV[1]); redis.call('LPUSH', KEYS[2], ARGV[1]); return 1",
		[]string{key("s"), key("l")}, word()).Err()
}

func notNil(err error) error {
	if errors.Is(err, goredis.Nil) {
		return nil
	}
	return err
}
