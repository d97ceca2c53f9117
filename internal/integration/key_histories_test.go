package integration_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
	"dexamen/internal/snapshot"
)

// keyWorld is a real key-value cluster on which many histories are played, one after the
// other: random work, captures, points, and what happens to clusters in between.
type keyWorld struct {
	address, scratch string
	options          map[string]any
	step             func(r *rand.Rand) error
	// state returns what is there: of each key its value and, last, when it expires.
	state, restored func(t testing.TB) map[string]string
	// clear empties the cluster, empty the server that is restored onto.
	clear, empty func(t testing.TB)
	// trouble does something that is not work, and returns what.
	trouble func(t testing.TB, r *rand.Rand) string
	// between captures what there is, in the midst of trouble.
	between func()
}

// tallied counts what was asked for of all histories of a kind, and what was refused why.
type tallied struct {
	mu       sync.Mutex
	asked    int
	restored int
	refused  map[string]int
}

func (x *tallied) refuse(err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.asked++
	if err == nil {
		return
	}
	why := "other: " + err.Error()
	for _, part := range []string{"another history", "its backlog begins", "slots have moved", "slots are under way",
		"SWAPDB",
		"compacted", "the log is captured up to there", "is before the first point"} {
		if strings.Contains(err.Error(), part) {
			why = part
			break
		}
	}
	x.refused[why]++
}

type rememberedState struct {
	when  time.Time
	state map[string]string
}

// unexpiredState returns a state without the keys whose time has come.
func unexpiredState(state map[string]string, by time.Time) map[string]string {
	out := maps.Clone(state)
	maps.DeleteFunc(out, func(_, v string) bool {
		_, at, ok := strings.Cut(v, " expires ")
		ms, err := strconv.ParseInt(at[strings.LastIndex(at, " ")+1:], 10, 64)
		return ok && err == nil && ms > 0 && ms <= by.UnixMilli()
	})
	return out
}

// differing returns how two states differ, shortened.
func differing(want, got map[string]string) string {
	var out []string
	for k, v := range want {
		if got[k] != v {
			out = append(out, fmt.Sprintf("%s should be %.150q and is %.150q", k, v, got[k]))
		}
	}
	for k := range got {
		if _, ok := want[k]; !ok {
			out = append(out, k+" is too many")
		}
	}
	slices.Sort(out)
	return strings.Join(out[:min(8, len(out))], "\n")
}

func (w *keyWorld) play(t testing.TB, seed uint64, x *tallied) {
	r := rand.New(rand.NewPCG(seed, 22))
	w.clear(t)
	e := newRunner(t)
	connect := func() engine.Cluster {
		var c engine.Cluster
		require.NoError(t, again(func() (err error) {
			_, drv, err := engine.ForAddress(w.address)
			require.NoError(t, err)
			c, err = drv.Open(ctx, engine.Target{Name: "bramble", Address: w.address, Options: w.options})
			return err
		}))
		return c
	}
	work := func(n int) {
		for range n {
			require.NoError(t, again(func() error { return w.step(r) }))
		}
	}
	var told []string
	point := func() {
		c := connect()
		defer c.Close()
		var err error
		for range 40 {
			if _, err = snapshot.Take(ctx, e, "bramble", c); err == nil {
				return
			}
			time.Sleep(250 * time.Millisecond)
		}
		require.NoError(t, err, "%v", told)
	}
	var all []rememberedState
	follow := func() error {
		before := w.state(t)
		c := connect()
		defer c.Close()
		_, err := capture.Run(ctx, e, "bramble", c, capture.Options{})
		if err != nil {
			return err
		}
		list, err := moment.Cover(ctx, e, "bramble")
		require.NoError(t, err)
		if maps.Equal(before, w.state(t)) {
			all = append(all, rememberedState{list[0].Latest, before})
		}
		return nil
	}
	w.between = func() { require.NoError(t, follow(), "seed %d, after %v", seed, told) }
	begun := time.Now()
	work(20 + r.IntN(40))
	point()
	rounds := 3 + r.IntN(4)
	for range rounds {
		work(1 + r.IntN(30))
		if r.IntN(3) == 0 {
			told = append(told, w.trouble(t, r))
		}
		work(r.IntN(10))
		if r.IntN(5) == 0 {
			point()
		}
		if err := follow(); err != nil {
			require.True(t, errors.Is(err, run.ErrIncomplete), "seed %d, after %v: %v", seed, told, err)
			told = append(told, "gap: "+err.Error())
			point()
			err = follow()
			require.True(t, err == nil || errors.Is(err, run.ErrIncomplete), "seed %d, after %v: %v", seed, told, err)
			if err != nil {
				require.NoError(t, follow(), "seed %d, after %v", seed, told)
			}
		}
	}
	span := time.Since(begun)
	for range 20 {
		_, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Time,
			Time: begun.Add(time.Duration(r.Int64N(int64(span))))}, nil)
		x.refuse(err)
	}
	for i, m := range all {
		if len(m.state) == 0 || i%5 != int(seed%5) && i != len(all)-1 {
			continue
		}
		when, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Time, Time: m.when}, nil)
		require.NoError(t, err, "seed %d, state %d of %d, after %v", seed, i, len(all), told)
		for _, inPlace := range []bool{false, true} {
			onto, read := w.scratch, w.restored
			if inPlace {
				onto, read = w.address, w.state
			} else {
				w.empty(t)
			}
			_, drv, err := engine.ForAddress(onto)
			require.NoError(t, err)
			c, err := drv.Open(ctx, engine.Target{Name: "bramble", Address: onto, Options: w.options})
			require.NoError(t, err)
			p, err := restore.NewPlan(ctx, e, when, c, restore.Options{Pattern: "*", Conflict: restore.Replace})
			require.NoError(t, err, "seed %d, state %d, after %v", seed, i, told)
			_, err = p.Run(ctx)
			require.NoError(t, err, "seed %d, state %d, in place %v, after %v", seed, i, inPlace, told)
			got := read(t)
			for _, ns := range p.Stays { // said, and left
				prefix := strings.Replace(strings.TrimPrefix(ns, "db")+" ", "/", " ", 1)
				if _, _, cut := strings.Cut(ns, "/"); cut {
					prefix = strings.TrimSuffix(prefix, " ")
				}
				maps.DeleteFunc(got, func(k, _ string) bool {
					return strings.HasPrefix(k, prefix) ||
						strings.HasPrefix(k, ns)
				})
			}
			p.Close()
			_ = c.Close()
			now := time.Now()
			want, got := unexpiredState(m.state, now), unexpiredState(got, now)
			require.True(t, maps.Equal(want, got), "seed %d, state %d, in place %v, after %v:\n%s", seed, i, inPlace,
				told,
				differing(want, got))
			x.mu.Lock()
			x.restored++
			x.mu.Unlock()
		}
	}
}

// playAll plays histories of a kind.
func (w *keyWorld) playAll(t *testing.T, from, n int) {
	x := &tallied{refused: map[string]int{}}
	for seed := from; seed < from+n && !t.Failed(); seed++ {
		w.play(t, uint64(seed), x)
	}
	t.Logf("%d histories, %d moments restored and equal; of %d moments asked for at random refused: %v", n, x.restored,
		x.asked, x.refused)
}

// keyHistories returns how many histories of a kind are played, a few where not all are to be,
// and from which seed on.
func keyHistories(few int) (from, n int) {
	n = long(12, few)
	if s := os.Getenv("DEXAMEN_KEY_PLAYS"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	from = 1
	if s := os.Getenv("DEXAMEN_KEY_SEED"); s != "" {
		from, _ = strconv.Atoi(s)
	}
	return from, n
}

// redisMore does to a random key what redisStep does not.
func redisMore(cl goredis.UniversalClient, r *rand.Rand) error {
	tag := fmt.Sprintf("{%d}", r.IntN(20))
	key := func(typ string) string { return fmt.Sprintf("%s:%s:%d", typ, tag, r.IntN(8)) }
	tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	switch r.IntN(12) {
	case 0:
		return cl.Set(tctx, key("s"), "short", time.Duration(50+r.IntN(2000))*time.Millisecond).Err()
	case 1:
		return cl.Set(tctx, key("big"), strings.Repeat("large", 60_000+r.IntN(1000)),
			time.Duration(r.IntN(2))*time.Second).Err()
	case 2:
		return cl.PExpireAt(tctx, key("s"), time.Now().AddDate(100+r.IntN(100), 0, 0)).Err()
	case 3:
		return cl.PFAdd(tctx, key("pf"), r.IntN(100)).Err()
	case 4:
		return cl.PFCount(tctx, key("pf")).Err()
	case 5:
		return cl.Persist(tctx, key("s")).Err()
	case 6:
		err := cl.Rename(tctx, key("l"), key("l")).Err()
		if err != nil && strings.Contains(err.Error(), "no such key") {
			return nil
		}
		return err
	case 7:
		return notNil(cl.Do(tctx, "SORT", key("l"), "ALPHA", "STORE", key("l")).Err())
	case 8:
		return notNil(cl.GetDel(tctx, key("s")).Err())
	case 9:
		return cl.Copy(tctx, key("h"), key("h"), 0, true).Err()
	case 10:
		return cl.SetRange(tctx, key("s"), int64(r.IntN(20)), "*3\r\n$9\r\nPEXPIREAT\r\n").Err()
	}
	return cl.BitOpXor(tctx, key("s"), key("s"), key("s")).Err()
}

// redisStateOf returns the keys of databases of servers, read by fn's client of each.
func redisStateOf(t testing.TB, of func(db int) goredis.UniversalClient, dbs int) map[string]string {
	out := map[string]string{}
	require.NoError(t, again(func() error {
		clear(out)
		for db := range dbs {
			cl := of(db)
			if err := cl.Ping(ctx).Err(); err != nil {
				return err
			}
			for _, k := range redisKeys(t, cl, "*") {
				if strings.HasPrefix(k, "dexamen.") {
					continue
				}
				at, err := cl.Do(ctx, "PEXPIRETIME", k).Int64()
				if err != nil {
					return err
				}
				v, err := redisText(cl, k)
				if at == -2 || errors.Is(err, goredis.Nil) || strings.HasPrefix(v, "none") ||
					err != nil && strings.Contains(err.Error(), "no such key") {
					continue // it has expired meanwhile
				}
				if err != nil {
					return err
				}
				out[fmt.Sprintf("%d %s", db, k)] = fmt.Sprint(v, " expires ", at)
			}
		}
		return nil
	}))
	return out
}

func TestKeyHistoriesOfALoneRedis(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := redistest.Start(t, "--dir", dir, "--repl-backlog-size", "300kb", "--dbfilename", "dump.rdb")
	scratch := redistest.Start(t)
	clients := map[string]goredis.UniversalClient{}
	of := func(s *servertest.Process) func(db int) goredis.UniversalClient {
		return func(db int) goredis.UniversalClient {
			name := fmt.Sprint(s.Address, db)
			if clients[name] == nil {
				clients[name] = redisIn(t, s, db)
			}
			return clients[name]
		}
	}
	mine, dump := of(s), filepath.Join(dir, "dump.rdb")
	ready := func() {
		require.NoError(t, again(func() error { return mine(0).Ping(ctx).Err() }))
	}
	w := &keyWorld{address: redistest.Address(s), scratch: redistest.Address(scratch),
		step: func(r *rand.Rand) error {
			db := r.IntN(4)
			switch r.IntN(30) {
			case 0:
				return mine(db).Move(ctx, fmt.Sprintf("s:{%d}:%d", r.IntN(20), r.IntN(8)), (db+1)%4).Err()
			case 1:
				return mine(db).Copy(ctx, fmt.Sprintf("l:{%d}:%d", r.IntN(20), r.IntN(8)),
					fmt.Sprintf("l:{%d}:%d", r.IntN(20), r.IntN(8)), (db+1)%4, true).Err()
			case 2:
				if r.IntN(5) == 0 {
					return mine(db).FlushDB(ctx).Err()
				}
			}
			if r.IntN(3) == 0 {
				return redisMore(mine(db), r)
			}
			return redisStep(mine(db), r)
		},
		state:    func(t testing.TB) map[string]string { return redisStateOf(t, mine, 4) },
		restored: func(t testing.TB) map[string]string { return redisStateOf(t, of(scratch), 4) },
		clear:    func(t testing.TB) { require.NoError(t, mine(0).FlushAll(ctx).Err()) },
		empty:    func(t testing.TB) { require.NoError(t, of(scratch)(0).FlushAll(ctx).Err()) },
		trouble: func(t testing.TB, r *rand.Rand) string {
			switch r.IntN(5) {
			case 0:
				_ = mine(0).ShutdownSave(ctx).Err()
				s.Kill()
				s.Begin()
				ready()
				return "begun again with what was saved"
			case 1:
				require.NoError(t, again(func() error { return mine(0).Save(ctx).Err() }))
				saved, err := os.ReadFile(dump)
				require.NoError(t, err)
				for range 20 {
					require.NoError(t, redisStep(mine(r.IntN(4)), r))
				}
				s.Kill()
				require.NoError(t, os.WriteFile(dump, saved, 0o600))
				s.Begin()
				ready()
				return "killed, and an older dump put back"
			case 2:
				require.NoError(t, mine(0).Set(ctx, "s:{1}:1", strings.Repeat("x", 400_000), 0).Err())
				return "more than the backlog"
			case 3:
				require.NoError(t, mine(0).Do(ctx, "SWAPDB", 1, 2).Err())
				return "databases swapped"
			}
			s.Kill()
			_ = os.Remove(dump)
			s.Begin()
			ready()
			return "killed with nothing saved"
		},
	}
	from, n := keyHistories(3)
	w.playAll(t, from, n)
}

func TestKeyHistoriesOfARedisPair(t *testing.T) {
	t.Parallel()
	for _, sentinels := range []bool{false, true} {
		t.Run(fmt.Sprint("sentinels ", sentinels), func(t *testing.T) {
			a := redistest.Start(t, "--repl-backlog-size", "8mb")
			b := redistest.StartReplica(t, a, "--repl-backlog-size", "8mb")
			scratch := redistest.Start(t)
			ends := map[string]*goredis.Client{a.Address: redisIn(t, a, 0), b.Address: redisIn(t, b, 0)}
			address := redistest.Address(a, b)
			var asked *goredis.SentinelClient
			if sentinels {
				watch := redistest.StartSentinel(t, a, "market")
				address = "redis+sentinel://" + watch.Address + "/market"
				asked = goredis.NewSentinelClient(&goredis.Options{Addr: watch.Address})
				t.Cleanup(func() { _ = asked.Close() })
			}
			role := func(cl *goredis.Client, role string) bool {
				info := cl.Info(ctx, "replication").Val()
				return strings.Contains(info, "role:"+role) &&
					(role == "master" && strings.Contains(info, "connected_slaves:") &&
						strings.Contains(info, "state=online") ||
						strings.Contains(info, "master_link_status:up"))
			}
			primary := func(int) goredis.UniversalClient {
				for {
					for _, cl := range ends {
						if strings.Contains(cl.Info(ctx, "replication").Val(), "role:master") {
							return cl
						}
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
			to := redisIn(t, scratch, 0)
			w := &keyWorld{address: address, scratch: redistest.Address(scratch),
				options: map[string]any{"prefix_depth": 1},
				step: func(r *rand.Rand) error {
					if r.IntN(3) == 0 {
						return redisMore(primary(0), r)
					}
					return redisStep(primary(0), r)
				},
				state: func(t testing.TB) map[string]string { return redisStateOf(t, primary, 1) },
				restored: func(t testing.TB) map[string]string {
					return redisStateOf(t, func(int) goredis.UniversalClient { return to }, 1)
				},
				clear: func(t testing.TB) { require.NoError(t, primary(0).FlushAll(ctx).Err()) },
				empty: func(t testing.TB) { require.NoError(t, to.FlushAll(ctx).Err()) },
				trouble: func(t testing.TB, r *rand.Rand) string {
					was := primary(0).(*goredis.Client)
					fail := func() error {
						if sentinels {
							return asked.Failover(ctx, "market").Err()
						}
						return was.Do(ctx, "FAILOVER").Err()
					}
					require.NoError(t, again(fail))
					since := time.Now()
					require.Eventually(t, func() bool {
						other := ends[a.Address]
						if other == was {
							other = ends[b.Address]
						}
						ok := role(was, "slave") && role(other, "master")
						if !ok && time.Since(since) > 15*time.Second && role(was, "master") {
							_ = fail() // it was given up
							since = time.Now()
						}
						if sentinels && ok {
							at, err := asked.GetMasterAddrByName(ctx, "market").Result()
							ok = err == nil && net.JoinHostPort(at[0], at[1]) == other.Options().Addr
						}
						return ok
					}, 2*time.Minute, 50*time.Millisecond)
					return "failed over"
				},
			}
			from, n := keyHistories(3)
			w.playAll(t, from, n)
		})
	}
}

func TestKeyHistoriesOfARedisCluster(t *testing.T) {
	t.Parallel()
	list := redistest.StartCluster(t, 3, "--repl-backlog-size", "8mb")
	cl := redistest.ClusterClient(t, list)
	scratch := redistest.Start(t)
	to := redisIn(t, scratch, 0)
	slots := &redisSlots{t, cl}
	var ends []*goredis.Client
	for _, p := range list {
		ends = append(ends, redisIn(t, p, 0))
	}
	w := &keyWorld{address: redistest.Address(list...), scratch: redistest.Address(scratch),
		step: func(r *rand.Rand) error {
			if r.IntN(3) == 0 {
				return redisMore(cl, r)
			}
			return redisStep(cl, r)
		},
		state: func(t testing.TB) map[string]string {
			return redisStateOf(t, func(int) goredis.UniversalClient { return cl }, 1)
		},
		restored: func(t testing.TB) map[string]string {
			return redisStateOf(t, func(int) goredis.UniversalClient { return to }, 1)
		},
		clear: func(t testing.TB) {
			require.NoError(t, cl.ForEachMaster(ctx, func(ctx context.Context, m *goredis.Client) error {
				return m.FlushAll(ctx).Err()
			}))
		},
		empty: func(t testing.TB) { require.NoError(t, to.FlushAll(ctx).Err()) },
		trouble: func(t testing.TB, r *rand.Rand) string {
			if r.IntN(2) == 0 {
				key := fmt.Sprintf("{%d}", r.IntN(20))
				slots.move(key)
				return "the slot of " + key + " moved"
			}
			one := ends[r.IntN(len(ends))]
			if !strings.Contains(one.Info(ctx, "replication").Val(), "role:slave") {
				return "nothing"
			}
			asked := time.Time{}
			require.Eventually(t, func() bool {
				done := strings.Contains(one.Info(ctx, "replication").Val(), "role:master")
				if !done && time.Since(asked) > 6*time.Second { // servers give it up after five
					_ = one.ClusterFailover(ctx).Err()
					asked = time.Now()
				}
				for _, end := range ends {
					info := end.Info(ctx, "replication").Val()
					done = done && (strings.Contains(info, "role:master") ||
						strings.Contains(info, "master_link_status:up"))
				}
				return done
			}, 2*time.Minute, 50*time.Millisecond)
			cl.ReloadState(ctx)
			return "failed over"
		},
	}
	from, n := keyHistories(3)
	w.playAll(t, from, n)
}

func TestKeyHistoriesOfEtcd(t *testing.T) {
	t.Parallel()
	for _, members := range []int{1, 3} {
		t.Run(fmt.Sprint(members, " members"), func(t *testing.T) {
			s := etcdtest.Start(t, etcdtest.Options{Members: members})
			scratch := etcdtest.Start(t, etcdtest.Options{})
			cl, to := etcdtest.Client(t, s...), etcdtest.Client(t, scratch...)
			key := func(r *rand.Rand) string {
				return fmt.Sprintf("/%s/%d", []string{"gateways", "routes", "yards/north"}[r.IntN(3)], r.IntN(30))
			}
			read := func(cl *clientv3.Client) func(testing.TB) map[string]string {
				return func(t testing.TB) map[string]string {
					out := map[string]string{}
					require.NoError(t, again(func() error {
						tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
						defer cancel()
						got, err := cl.Get(tctx, "/", clientv3.WithPrefix())
						if err == nil {
							for _, kv := range got.Kvs {
								out[string(kv.Key)] = fmt.Sprintf("%s lease %x", kv.Value, kv.Lease)
							}
						}
						return err
					}))
					return out
				}
			}
			wipe := func(cl *clientv3.Client) func(testing.TB) {
				return func(t testing.TB) {
					require.NoError(t, again(func() error {
						tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
						defer cancel()
						_, err := cl.Delete(tctx, "/", clientv3.WithPrefix())
						return err
					}))
				}
			}
			var leases []clientv3.LeaseID
			w := &keyWorld{}
			*w = keyWorld{address: etcdtest.Address(s...), scratch: etcdtest.Address(scratch...),
				step: func(r *rand.Rand) error {
					tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
					defer cancel()
					switch r.IntN(8) {
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
						if len(leases) == 0 || r.IntN(4) == 0 {
							l, err := cl.Grant(tctx, 3600)
							if err != nil {
								return err
							}
							leases = append(leases, l.ID)
						}
						_, err := cl.Put(tctx, key(r), "leased", clientv3.WithLease(leases[r.IntN(len(leases))]))
						if err != nil && strings.Contains(err.Error(), "lease not found") {
							leases = nil // of a history that was put back
							return nil
						}
						return err
					case 3:
						if len(leases) > 0 && r.IntN(3) == 0 {
							l := leases[0]
							leases = leases[1:]
							_, err := cl.Revoke(tctx, l)
							if err != nil && strings.Contains(err.Error(), "lease not found") {
								err = nil
							}
							return err
						}
					}
					_, err := cl.Put(tctx, key(r), fmt.Sprint(r.Int(), strings.Repeat("x", r.IntN(2000))))
					return err
				},
				state: read(cl), restored: read(to), clear: wipe(cl), empty: wipe(to),
				trouble: func(t testing.TB, r *rand.Rand) string {
					what := r.IntN(3)
					if what == 0 {
						tctx, cancel := context.WithTimeout(ctx, 5*time.Second)
						defer cancel()
						got, err := cl.Get(tctx, "/", clientv3.WithCountOnly())
						require.NoError(t, err)
						rev := got.Header.Revision - int64(r.IntN(20))
						if _, err := cl.Compact(tctx, rev); err != nil {
							require.ErrorContains(t, err, "compacted")
						}
						return fmt.Sprint("compacted up to ", rev)
					}
					m := s[r.IntN(len(s))]
					if members > 1 || what == 1 {
						putBack(t, m, func(string) {})
						return "a member killed and begun again"
					}
					copied := t.(*testing.T).TempDir()
					putBack(t, m, func(dir string) { require.NoError(t, os.CopyFS(copied, os.DirFS(dir))) })
					for range r.IntN(30) {
						require.NoError(t, again(func() error {
							tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
							defer cancel()
							_, err := cl.Put(tctx, key(r), fmt.Sprint("lost ", r.Int()))
							return err
						}))
					}
					if r.IntN(3) > 0 {
						w.between() // what is lost is in the store
					}
					putBack(t, m, func(dir string) {
						require.NoError(t, os.RemoveAll(dir))
						require.NoError(t, os.CopyFS(dir, os.DirFS(copied)))
					})
					return "put back from an older copy"
				},
			}
			from, n := keyHistories(5)
			w.playAll(t, from, n)
		})
	}
}
