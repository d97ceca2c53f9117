package integration_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.uber.org/zap"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/demo"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/serve"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// servedClient serves a moment and logs in to it.
func servedClient(t testing.TB, e *run.Runner, m *moment.Moment, pattern string) (cl *mongo.Client, at string) {
	content, err := serve.Open(ctx, e, m, pattern)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	sctx, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() {
		ended <- serve.Serve(sctx, content, l, serve.Options{User: "reader", Password: "made up", Version: "test"})
	}()
	cl, err = mongo.Connect(options.Client().ApplyURI("mongodb://" + l.Addr().String()).SetDirect(true).
		SetAuth(options.Credential{Username: "reader", Password: "made up"}))
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = cl.Disconnect(context.Background())
		stop()
		require.NoError(t, <-ended)
		content.Close()
	})
	return cl, l.Addr().String()
}

// asker makes up queries.
type asker struct{ *workload }

func (a *asker) path() string {
	return []string{"_id", "n", "a", "b", "c", "a.b", "b.c", "c.0", "b.1.a", "a.a", "zz"}[a.rng.IntN(11)]
}

func (a *asker) cond(depth int) bson.D {
	r := a.rng
	if depth > 0 && r.IntN(4) == 0 {
		list := bson.A{}
		for range 1 + r.IntN(3) {
			list = append(list, a.cond(depth-1))
		}
		return bson.D{{Key: []string{"$and", "$or", "$nor"}[r.IntN(3)], Value: list}}
	}
	p := a.path()
	v := a.value(1)
	if p == "_id" {
		v = a.id()
	}
	switch r.IntN(12) {
	case 0, 1:
		if _, isDoc := v.(bson.D); !isDoc {
			return bson.D{{Key: p, Value: v}}
		}
		return bson.D{{Key: p, Value: bson.D{{Key: "$eq", Value: v}}}}
	case 2:
		return bson.D{{Key: p, Value: bson.D{{Key: "$exists", Value: r.IntN(2) == 0}}}}
	case 3:
		return bson.D{{Key: p, Value: bson.D{{Key: "$in", Value: bson.A{a.id(), r.IntN(500), nil}}}}}
	case 4:
		return bson.D{
			{
				Key: p, Value: bson.D{{Key: "$type",
					Value: []string{"number", "string", "array", "object", "null"}[r.IntN(5)]}}}}
	case 5:
		return bson.D{{Key: p, Value: bson.D{{Key: "$not", Value: bson.D{{Key: "$gt", Value: r.IntN(1000)}}}}}}
	case 6:
		return bson.D{{Key: p, Value: bson.D{{Key: "$elemMatch", Value: bson.D{{Key: "$gt", Value: r.IntN(500)}}}}}}
	case 7:
		return bson.D{{Key: p, Value: bson.D{{Key: "$size", Value: r.IntN(4)}}}}
	case 8:
		return bson.D{{Key: p, Value: bson.D{{Key: "$regex", Value: "volk " + strconv.Itoa(r.IntN(10))}}}}
	case 9:
		return bson.D{{Key: p, Value: bson.D{{Key: "$mod", Value: bson.A{1 + r.IntN(5), 1}}}}}
	}
	op := []string{"$gt", "$gte", "$lt", "$lte", "$ne"}[r.IntN(5)]
	return bson.D{{Key: p, Value: bson.D{{Key: op, Value: v}}}}
}

// ask asks one question of a collection, and returns the answer as text.
func (a *asker) ask(seed uint64) func(c *mongo.Collection) string {
	a.rng = rand.New(rand.NewPCG(17, seed))
	r := a.rng
	answer := func(cur *mongo.Cursor, err error) string {
		if err != nil {
			return "refused: " + err.Error()
		}
		out := ""
		for cur.Next(ctx) {
			out += cur.Current.String() + "\n"
		}
		if cur.Err() != nil {
			return "refused: " + cur.Err().Error()
		}
		return out
	}
	filter := a.cond(2)
	switch r.IntN(6) {
	case 0:
		return func(c *mongo.Collection) string {
			n, err := c.CountDocuments(ctx, filter)
			return fmt.Sprint(n, err)
		}
	case 1:
		p := a.path()
		return func(c *mongo.Collection) string {
			raw, err := c.Distinct(ctx, p, filter).Raw()
			return fmt.Sprint(raw, err)
		}
	case 2:
		stages := bson.A{bson.D{{Key: "$match", Value: filter}}}
		for range 1 + r.IntN(3) {
			p := a.path()
			stages = append(stages, []bson.D{
				{
					{Key: "$group", Value: bson.D{
						{Key: "_id", Value: "$" + p}, {Key: "n", Value: bson.D{{Key: "$sum", Value: 1}}},
						{Key: "s", Value: bson.D{{Key: "$sum", Value: "$n"}}},
						{Key: "m", Value: bson.D{{Key: "$max", Value: "$a"}}}}}},
				{{Key: "$unwind", Value: "$" + p}}, {{Key: "$sort", Value: bson.D{{Key: p, Value: 1 - 2*r.IntN(2)}}}},
				{{Key: "$project", Value: bson.D{{Key: p, Value: 1}}}}, {{Key: "$limit", Value: 1 + r.IntN(20)}},
				{
					{Key: "$addFields", Value: bson.D{
						{Key: "x", Value: bson.D{{Key: "$ifNull", Value: bson.A{"$" + p, 0}}}}}}},
				{{Key: "$count", Value: "all"}}}[r.IntN(7)])
		}
		return func(c *mongo.Collection) string { return answer(c.Aggregate(ctx, stages)) }
	}
	o := options.Find().SetBatchSize(int32(1 + r.IntN(20)))
	if r.IntN(2) == 0 {
		o.SetSort(bson.D{{Key: a.path(), Value: 1 - 2*r.IntN(2)}, {Key: "_id", Value: 1}})
	}
	if r.IntN(3) == 0 {
		o.SetSkip(int64(r.IntN(10)))
	}
	if r.IntN(3) == 0 {
		o.SetLimit(int64(1 + r.IntN(30)))
	}
	if r.IntN(3) == 0 {
		o.SetProjection(bson.D{{Key: a.path(), Value: r.IntN(2)}})
	}
	return func(c *mongo.Collection) string { return answer(c.Find(ctx, filter, o)) }
}

// TestServing: what a driver asks of a cluster and of its moment, served, has the same answers:
// thousands of questions, from several clients at once; nothing can be written, and nothing
// else is to be seen.
func TestServing(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	w := &workload{rng: rand.New(rand.NewPCG(17, 8)), cl: cl, bigIDs: true}
	c, e := open(t, "meadow", rs.URI()), newRunner(t)
	for range 600 {
		w.step()
	}
	_, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	for range 600 {
		w.step()
	}
	_, err = cl.Database("private").Collection("notes").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", c, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, nil)
	require.NoError(t, err)
	require.False(t, m.Exact(), "the log is folded in")
	reader, at := servedClient(t, e, m, "apiary.*")

	dbs, err := reader.ListDatabaseNames(ctx, bson.D{})
	require.NoError(t, err)
	require.Equal(t, []string{"apiary"}, dbs)
	n, err := reader.Database("private").Collection("notes").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.Zero(t, n, "only what was asked for is served")
	live, served := readWorld(t, cl), readWorld(t, reader)
	delete(live, "private.notes")
	live.equal(t, served, "served")

	var wg sync.WaitGroup
	var refused, empty, answered atomic.Int64
	for worker := range 4 {
		wg.Go(func() {
			for i := range long(1000, 300) {
				seed := uint64(worker*1_000_000 + i)
				a := &asker{&workload{bigIDs: true}}
				question := a.ask(seed)
				name := spaces[seed%uint64(len(spaces))]
				want := question(cl.Database("apiary").Collection(name))
				got := question(reader.Database("apiary").Collection(name))
				switch {
				case strings.HasPrefix(want, "refused"):
					refused.Add(1)
				case want == "":
					empty.Add(1)
				default:
					answered.Add(1)
				}
				if !assertEqual(t, want, got, "question %d of %s", seed, name) {
					return
				}
			}
		})
	}
	wg.Wait()
	t.Logf("%d questions had an answer, %d an empty one, %d were refused", answered.Load(), empty.Load(),
		refused.Load())
	require.Greater(t, answered.Load(), 5*refused.Load())
	require.Greater(t, answered.Load(), empty.Load())

	coll := reader.Database("apiary").Collection("colonies")
	_, err = coll.InsertOne(ctx, bson.D{{Key: "_id", Value: "no"}})
	require.ErrorContains(t, err, "read only")
	_, err = coll.DeleteMany(ctx, bson.D{})
	require.ErrorContains(t, err, "read only")
	require.ErrorContains(t, coll.Drop(ctx), "read only")
	_, err = coll.Find(ctx, bson.D{{Key: "$where", Value: "1"}})
	require.ErrorContains(t, err, "$where")
	_, err = coll.Find(ctx, bson.D{}, options.Find().SetCollation(&options.Collation{Locale: "de"}))
	require.ErrorContains(t, err, "compared by their bytes")
	require.ErrorContains(t, reader.Database("apiary").RunCommand(ctx, bson.D{{Key: "find", Value: "colonies"},
		{Key: "frob", Value: 1}}).Err(), "unknown field")
	stranger, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + at).SetDirect(true))
	require.NoError(t, err)
	defer func() { _ = stranger.Disconnect(ctx) }()
	_, err = stranger.ListDatabaseNames(ctx, bson.D{})
	require.ErrorContains(t, err, "authentication")
	live.equal(t, func() world { w := readWorld(t, cl); delete(w, "private.notes"); return w }(), "nothing was written")
}

// assertEqual is require.Equal of another goroutine than the test's.
func assertEqual(t testing.TB, want, got, format string, args ...any) bool {
	if want != got {
		t.Errorf(format+":\nasked of the cluster: %s\nserved: %s", append(args, want, got)...)
	}
	return want == got
}

// TestServingAtOnce: the first answer of a large moment comes at once, and a document is found
// by its _id without reading others (DEXAMEN_SERVED, five million by hand).
func TestServingAtOnce(t *testing.T) {
	size, err := strconv.Atoi(os.Getenv("DEXAMEN_SERVED"))
	if err != nil {
		size = long(200_000, 50_000)
	}
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	require.NoError(t, (demo.Apiary{Seed: 17, Documents: size}).Fill(ctx, cl))
	c, e := open(t, "meadow", rs.URI()), newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	begin := time.Now()
	reader, _ := servedClient(t, e, mustResolve(t, e, p), "")
	coll := reader.Database("apiary").Collection("colonies")
	require.NoError(t, coll.FindOne(ctx, bson.D{}).Err())
	first := time.Since(begin)
	begin = time.Now()
	const asked = 1000
	for n := range asked {
		require.NoError(t, coll.FindOne(ctx, bson.D{{Key: "_id", Value: demo.ColonyID(n * 7919 % (size / 10))}}).Err())
	}
	took := time.Since(begin)
	t.Logf("%d documents: first answer after %s, %d looked up by _id in %s", size, first.Round(time.Millisecond), asked,
		took.Round(time.Millisecond))
}

// TestServingKeys: ranges asked of a real etcd cluster and of its moment, served, have the same
// keys and values; nothing can be written.
func TestServingKeys(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(17, 9))
	s := etcdtest.Start(t, etcdtest.Options{})
	cl := etcdtest.Client(t, s...)
	key := func() string {
		under := []string{"/gateways/", "/gateways/north/", "/routes/", "/", "plain", "/gateways/north/deep/"}
		return under[r.IntN(len(under))] + strconv.Itoa(r.IntN(60))
	}
	change := func(n int) {
		for range n {
			var err error
			if r.IntN(4) == 0 {
				_, err = cl.Delete(ctx, key())
			} else {
				_, err = cl.Put(ctx, key(), fmt.Sprint("value ", r.IntN(1000), "\xff"))
			}
			require.NoError(t, err)
		}
	}
	change(300)
	target := engine.Target{Name: "willow", Address: etcdtest.Address(s...), Options: map[string]any{"prefix_depth": 2}}
	_, drv, err := engine.ForAddress(target.Address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, target)
	require.NoError(t, err)
	defer c.Close()
	e := newRunner(t)
	_, err = snapshot.Take(ctx, e, "willow", c)
	require.NoError(t, err)
	change(200)
	_, err = capture.Run(ctx, e, "willow", c, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "willow", address.When{}, nil)
	require.NoError(t, err)
	require.False(t, m.Exact())

	content, err := serve.Open(ctx, e, m, "")
	require.NoError(t, err)
	defer content.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	sctx, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- serve.Serve(sctx, content, l, serve.Options{User: "reader", Password: "made up"}) }()
	defer func() { stop(); require.NoError(t, <-ended) }()
	login := func(password string) (*clientv3.Client, error) {
		return clientv3.New(clientv3.Config{
			Endpoints: []string{l.Addr().String()}, Username: "reader", Password: password,
			DialTimeout: 5 * time.Second, Logger: zap.NewNop(),
		})
	}
	_, err = login("guessed")
	require.Error(t, err)
	reader, err := login("made up")
	require.NoError(t, err)
	defer reader.Close()
	text := func(g *clientv3.GetResponse, err error) string {
		if err != nil {
			return err.Error()
		}
		out := fmt.Sprint(g.Count, g.More)
		for _, kv := range g.Kvs {
			out += fmt.Sprintf("\n%q %q %d", kv.Key, kv.Value, kv.Lease)
		}
		return out
	}
	some := 0
	for range long(2000, 500) {
		k := key()
		var o []clientv3.OpOption
		switch r.IntN(5) {
		case 0:
			k = k[:r.IntN(len(k))+1]
			o = append(o, clientv3.WithPrefix())
		case 1:
			o = append(o, clientv3.WithFromKey())
		case 2:
			o = append(o, clientv3.WithRange(key()))
		}
		if r.IntN(3) == 0 {
			o = append(o, clientv3.WithLimit(int64(1+r.IntN(10))))
		}
		switch r.IntN(6) {
		case 0:
			o = append(o, clientv3.WithCountOnly())
		case 1:
			o = append(o, clientv3.WithKeysOnly())
		case 2:
			o = append(o, clientv3.WithSort(clientv3.SortByKey, clientv3.SortDescend))
		case 3:
			o = append(o, clientv3.WithSort(clientv3.SortByKey, clientv3.SortAscend))
		}
		want := text(cl.Get(ctx, k, o...))
		require.Equal(t, want, text(reader.Get(ctx, k, o...)), "%q", k)
		if strings.Contains(want, "\n") {
			some++
		}
	}
	require.Greater(t, some, 100)
	_, err = reader.Put(ctx, "x", "y")
	require.ErrorContains(t, err, "read only")
	_, err = reader.Delete(ctx, "/", clientv3.WithPrefix())
	require.ErrorContains(t, err, "read only")
	_, err = reader.Status(ctx, l.Addr().String())
	require.NoError(t, err)
}

// TestServingRedis: commands that read, asked of a real server and of its moment, served, have
// the same answers, of keys of every type; nothing can be written.
func TestServingRedis(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(17, 10))
	s := redistest.Start(t, "--repl-diskless-sync-delay", "0", "--repl-backlog-size", "1mb")
	cl := redistest.Client(t, s)
	for range 1500 {
		require.NoError(t, again(func() error { return notNil(redisStep(cl, r)) }))
	}
	for n := range 30_000 {
		m := goredis.Z{Score: float64(n%500) + 0.5, Member: fmt.Sprint("member ", n)}
		require.NoError(t, cl.ZAdd(ctx, "large", m).Err())
	}
	require.NoError(t, cl.Set(ctx, "odd\x00\r\n\xff*", "\x00\r\n\xff", time.Hour).Err())
	target := engine.Target{Name: "bramble", Address: redistest.Address(s), Options: map[string]any{"prefix_depth": 1}}
	_, drv, err := engine.ForAddress(target.Address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, target)
	require.NoError(t, err)
	defer c.Close()
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "bramble", c)
	require.NoError(t, err)
	content, err := serve.Open(ctx, e, mustResolve(t, e, p), "")
	require.NoError(t, err)
	defer content.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	sctx, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- serve.Serve(sctx, content, l, serve.Options{User: "reader", Password: "made up"}) }()
	defer func() { stop(); require.NoError(t, <-ended) }()
	reader := goredis.NewClient(&goredis.Options{Addr: l.Addr().String(), Username: "reader", Password: "made up",
		Protocol: 2})
	defer reader.Close()
	stranger := goredis.NewClient(&goredis.Options{Addr: l.Addr().String(), Password: "guessed", Protocol: 2})
	defer stranger.Close()
	require.ErrorContains(t, stranger.Get(ctx, "x").Err(), "WRONGPASS")

	keys := redisKeys(t, cl, "*")
	require.Greater(t, len(keys), 20)
	types := map[string]string{}
	for _, k := range keys {
		types[k] = cl.Type(ctx, k).Val()
		require.Equal(t, types[k], reader.Type(ctx, k).Val(), "%q", k)
		require.Equal(t, cl.PExpireTime(ctx, k).Val(), reader.PExpireTime(ctx, k).Val(), "%q", k)
	}
	number := func() string { return strconv.Itoa(r.IntN(60) - 20) }
	score := func() string { return []string{"", "("}[r.IntN(2)] + strconv.Itoa(r.IntN(600)-50) }
	ask := func(cl *goredis.Client, sorted bool, pairs bool, args ...any) string {
		v, err := cl.Do(ctx, args...).Result()
		if err != nil {
			return "error: " + err.Error()
		}
		list, ok := v.([]any)
		if !ok {
			return fmt.Sprintf("%q", v)
		}
		var out []string
		for i := 0; i < len(list); i++ {
			text := fmt.Sprintf("%q", list[i])
			if pairs && i+1 < len(list) {
				text += fmt.Sprintf(" %q", list[i+1])
				i++
			}
			out = append(out, text)
		}
		if sorted {
			slices.Sort(out)
		}
		return strings.Join(out, "\n")
	}
	answers := 0
	plain := goredis.NewClient(&goredis.Options{Addr: cl.Options().Addr, Protocol: 2})
	defer plain.Close()
	for range long(6000, 1500) {
		k := keys[r.IntN(len(keys))]
		var args []any
		sorted, pairs := false, false
		tens := map[string]int{"string": 0, "hash": 10, "list": 20, "set": 30, "zset": 40, "stream": 50}
		switch typ := types[k]; r.IntN(3) + tens[typ] {
		case 0:
			args = []any{"GET", k}
		case 1:
			args = []any{"STRLEN", k}
		case 2:
			args = []any{"GETRANGE", k, number(), number()}
		case 10:
			args, sorted, pairs = []any{"HGETALL", k}, true, true
		case 11:
			args, sorted = []any{[]string{"HKEYS", "HVALS"}[r.IntN(2)], k}, true
		case 12:
			args = []any{"HLEN", k}
		case 20:
			args = []any{"LRANGE", k, number(), number()}
		case 21:
			args = []any{"LLEN", k}
		case 22:
			args = []any{"LINDEX", k, number()}
		case 30:
			args, sorted = []any{"SMEMBERS", k}, true
		case 31:
			args = []any{"SCARD", k}
		case 32:
			args = []any{"SISMEMBER", k, number()}
		case 40:
			args = []any{[]string{"ZRANGE", "ZREVRANGE"}[r.IntN(2)], k, number(), number(), "WITHSCORES"}
		case 41:
			args = []any{[]string{"ZRANGEBYSCORE", "ZREVRANGEBYSCORE"}[r.IntN(2)], k, score(), score(), "LIMIT", 0, 20}
		case 42:
			args = []any{"ZCOUNT", k, score(), "+inf"}
		case 50:
			args = []any{[]string{"XRANGE", "XREVRANGE"}[r.IntN(2)], k, "-", "+", "COUNT", r.IntN(20)}
		case 51:
			args = []any{"XLEN", k}
		default:
			args = []any{"GET", k} // of the wrong type
		}
		if args[0] == "XREVRANGE" {
			args[2], args[3] = args[3], args[2]
		}
		want := ask(plain, sorted, pairs, args...)
		require.Equal(t, want, ask(reader, sorted, pairs, args...), "%q", args)
		if want != "" && !strings.HasPrefix(want, "error") {
			answers++
		}
	}
	require.Greater(t, answers, 500)
	for _, pattern := range []string{"*", "*1*", "s[a-m]*", "[^s]*", "?????", "odd*\\*", "nothing"} {
		var got []string
		var cursor uint64
		for {
			list, next, err := reader.Scan(ctx, cursor, pattern, 7).Result()
			require.NoError(t, err)
			got = append(got, list...)
			if cursor = next; cursor == 0 {
				break
			}
		}
		want := redisKeys(t, cl, pattern)
		slices.Sort(want)
		slices.Sort(got)
		require.Equal(t, strings.Join(want, " "), strings.Join(got, " "), pattern)
		all, err := reader.Keys(ctx, pattern).Result()
		require.NoError(t, err)
		slices.Sort(all)
		require.Equal(t, strings.Join(want, " "), strings.Join(all, " "), pattern)
	}
	n, err := reader.DBSize(ctx).Result()
	require.NoError(t, err)
	require.EqualValues(t, len(keys), n)
	require.ErrorContains(t, reader.Set(ctx, "x", "y", 0).Err(), "read only")
	require.ErrorContains(t, reader.FlushAll(ctx).Err(), "read only")
	shell := exec.Command("redis-cli", "-u", "redis://reader:made%20up@"+l.Addr().String(), "--no-auth-warning")
	shell.Args = append(shell.Args, "type", "large")
	out, err := shell.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, "zset\n", string(out))
}
