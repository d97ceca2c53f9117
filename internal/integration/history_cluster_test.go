package integration_test

import (
	"encoding/binary"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// clusterFixture is a cluster under everything that happens to clusters: several writers
// with transactions, drops and renames, ranges that move between shards,
// members and routers that are killed, elections. It remembers what it held at
// any cluster time, independently of any log.
type clusterFixture struct {
	rng     *rand.Rand
	sharded *docsim.Sharded    // or
	lone    *docsim.ReplicaSet // this one
	uri     string
	version string
	sets    []*docsim.ReplicaSet
	log     []string
	mu      sync.Mutex
}

func newClusterFixture(t testing.TB, seed uint64) *clusterFixture {
	y := &clusterFixture{rng: rand.New(rand.NewPCG(seed, 99)),
		version: docsim.ServerVersions[seed%uint64(len(docsim.ServerVersions))]}
	set := docsim.Options{Remember: true, OpsPerEntry: 1 + y.rng.IntN(3), LogForm: 1 + y.rng.IntN(2),
		NoopEvery: time.Duration(50+y.rng.IntN(400)) * time.Millisecond,
		Version:   docsim.ServerVersions[seed%uint64(len(docsim.ServerVersions))]}
	if seed%4 == 0 || seed%8 == 7 {
		set.Name = "meadow"
		y.lone = startSim(t, set)
		y.uri, y.sets = y.lone.URI(), []*docsim.ReplicaSet{y.lone}
		return y
	}
	if seed%5 == 0 {
		set.Deny = []string{"appendoplognote"} // idle shards must be waited for
	}
	if seed%7 == 0 {
		set.Latency = time.Duration(y.rng.IntN(3)) * time.Millisecond
	}
	o := docsim.ShardedOptions{Shards: 2 + y.rng.IntN(2), Routers: 1 + y.rng.IntN(2), Set: set}
	for range o.Shards {
		o.ClockOffsets = append(o.ClockOffsets, time.Duration(y.rng.IntN(300)-150)*time.Millisecond)
	}
	c, err := docsim.StartSharded(o)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	y.sharded, y.uri, y.sets = c, c.URI(), []*docsim.ReplicaSet{c.Config()}
	for i := range o.Shards {
		y.sets = append(y.sets, c.Shard(i))
	}
	return y
}

func (y *clusterFixture) at(ts bson.Timestamp) map[string]docsim.Content {
	if y.lone != nil {
		return y.lone.At(ts)
	}
	return y.sharded.At(ts)
}

// dropping names the sharded collections that are gone by their cluster's word,
// at a time and already at the point before it, while shards still hold them:
// nothing that a point keeps tells that they were sharded.
func (y *clusterFixture) dropping(ts bson.Timestamp, p *store.Point) map[string]bool {
	out := map[string]bool{}
	if y.lone != nil {
		return out
	}
	pos := []byte(p.Shards[0].Mark.Position)
	before := y.sharded.Dropping(bson.Timestamp{T: binary.BigEndian.Uint32(pos), I: binary.BigEndian.Uint32(pos[4:])})
	for ns := range y.sharded.Dropping(ts) {
		out[ns] = before[ns]
	}
	return out
}

func (y *clusterFixture) say(format string, args ...any) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.log = append(y.log, time.Now().Format("05.000 ")+fmt.Sprintf(format, args...))
}

// hand is one writer.
type hand struct {
	y   *clusterFixture
	w   *workload
	cl  *mongo.Client
	rng *rand.Rand
}

func (y *clusterFixture) hand(t testing.TB, seed uint64) *hand {
	rng := rand.New(rand.NewPCG(seed, y.rng.Uint64()))
	cl, err := mongo.Connect(options.Client().ApplyURI(y.uri).SetServerSelectionTimeout(3 * time.Second).SetTimeout(
		4 * time.Second).SetRetryWrites(false))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(ctx) })
	return &hand{y, &workload{rng: rng, cl: cl, defines: true, lenient: true, bigIDs: seed%2 == 0}, cl, rng}
}

func (h *hand) coll() *mongo.Collection { return h.w.coll() }

// step does one thing; what fails fails, as for any application.
func (h *hand) step() {
	switch n := h.rng.IntN(100); {
	case n < 12:
		h.transact()
	case n < 17 && h.y.sharded != nil:
		h.spread()
	default:
		h.w.step()
	}
}

func (h *hand) transact() {
	s, err := h.cl.StartSession()
	if err != nil {
		return
	}
	defer s.EndSession(ctx)
	wc := writeconcern.Majority()
	if h.rng.IntN(2) == 0 {
		wc = writeconcern.W1()
	}
	if err := s.StartTransaction(options.Transaction().SetWriteConcern(wc)); err != nil {
		return
	}
	sctx := mongo.NewSessionContext(ctx, s)
	for range 1 + h.rng.IntN(5) {
		c := h.coll()
		key := bson.D{{Key: "_id", Value: h.w.id()}}
		switch h.rng.IntN(4) {
		case 0:
			_, err = c.InsertOne(sctx, append(key, bson.E{Key: "n", Value: h.rng.IntN(20)}))
		case 1:
			_, err = c.DeleteOne(sctx, key)
		case 2:
			_, err = c.UpdateOne(sctx, key, bson.D{{Key: "$set", Value: bson.D{{Key: "b", Value: h.w.value(2)}}}})
		default:
			_, err = c.UpdateMany(sctx, bson.D{}, bson.D{{Key: "$inc", Value: bson.D{{Key: "c", Value: 1}}}})
		}
		if err != nil {
			break
		}
	}
	if err != nil || h.rng.IntN(4) == 0 {
		_ = s.AbortTransaction(ctx)
		return
	}
	_ = s.CommitTransaction(ctx)
}

// spread shards a collection, or cuts or moves a range of one.
func (h *hand) spread() {
	c := h.coll()
	ns := "apiary." + c.Name()
	admin := h.cl.Database("admin")
	shards := h.y.sharded.Shards()
	var err error
	what := ""
	switch h.rng.IntN(8) {
	case 6:
		what = "spread " + ns + " anew"
		err = h.y.sharded.Relocate(ns, docsim.Relocation{Key: bson.D{{Key: "_id", Value: 1}},
			Splits: []bson.D{{{Key: "_id", Value: h.w.id()}}},
			To:     []string{shards[h.rng.IntN(len(shards))], shards[h.rng.IntN(len(shards))]}})
	case 7:
		what = "move " + ns + " as a whole"
		err = h.y.sharded.Relocate(ns, docsim.Relocation{To: []string{shards[h.rng.IntN(len(shards))]}})
	case 0:
		key := bson.D{{Key: "_id", Value: 1}}
		if h.rng.IntN(2) == 0 {
			key = bson.D{{Key: "_id", Value: "hashed"}}
		}
		what = "shard " + ns
		err = admin.RunCommand(ctx, bson.D{{Key: "shardCollection", Value: ns}, {Key: "key", Value: key}}).Err()
	case 1:
		var mid any = h.w.id()
		if h.rng.IntN(2) == 0 {
			mid = h.rng.Int64()
		}
		err = admin.RunCommand(ctx, bson.D{
			{Key: "split", Value: ns}, {Key: "middle", Value: bson.D{{Key: "_id", Value: mid}}}}).Err()
	default:
		raw, _ := bson.Marshal(bson.D{{Key: "_id", Value: h.w.id()}})
		to := shards[h.rng.IntN(len(shards))]
		what = "move " + ns + " to " + to
		err = h.y.sharded.Move(ns, raw, to,
			docsim.MoveOptions{Pause: time.Duration(h.rng.IntN(5)) * time.Millisecond, Fail: h.rng.IntN(5) == 0,
				Keep: h.rng.IntN(4) == 0})
	}
	if what != "" && err == nil {
		h.y.say("%s", what)
	}
}

// trouble kills something for a while.
func (y *clusterFixture) trouble(rng *rand.Rand) {
	rs := y.sets[rng.IntN(len(y.sets))]
	switch {
	case y.sharded != nil && rng.IntN(4) == 0 && strings.Count(y.uri, ",") > 0:
		y.say("kill router 0")
		y.sharded.KillRouter(0)
		time.Sleep(50 * time.Millisecond)
		_ = y.sharded.RestartRouter(0)
	case rng.IntN(3) == 0:
		y.partition(rng, rs)
	default:
		i := rng.IntN(3)
		if p := rs.Primary(); p >= 0 && rng.IntN(2) == 0 {
			i = p
		}
		y.say("kill %s", rs.Addresses()[i])
		rs.Kill(i)
		time.Sleep(time.Duration(100+rng.IntN(400)) * time.Millisecond)
		for rs.Restart(i) != nil {
			time.Sleep(10 * time.Millisecond)
		}
		y.say("restarted %s", rs.Addresses()[i])
	}
}

// partition cuts a member off, and has it written to if it leads.
func (y *clusterFixture) partition(rng *rand.Rand, rs *docsim.ReplicaSet) {
	i := rng.IntN(3)
	if p := rs.Primary(); p >= 0 && rng.IntN(4) > 0 {
		i = p
	}
	addr := rs.Addresses()[i]
	cl, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + addr +
		"/?directConnection=true").SetTimeout(300 * time.Millisecond).SetRetryWrites(false))
	if err != nil {
		return
	}
	defer func() { _ = cl.Disconnect(ctx) }()
	y.say("cut off %s", addr)
	rs.CutOff(i)
	w := &workload{rng: rng, cl: cl, defines: true, lenient: true}
	until, n := time.Now().Add(time.Duration(200+rng.IntN(1200))*time.Millisecond), 0
	for ; time.Now().Before(until); n++ {
		w.step()
	}
	rs.Rejoin(i)
	y.say("%s has rejoined, after %d steps of its own", addr, n)
}

// TestClusterHistories snapshots and captures clusters while everything
// happens to them, and compares the state at random cluster times with what
// the clusters remember of them.
func TestClusterHistories(t *testing.T) {
	t.Parallel()
	n, first := long(60, 16), 1 // make test-long has more
	if s := os.Getenv("DEXAMEN_HISTORIES"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	if s := os.Getenv("DEXAMEN_SEED"); s != "" {
		first, _ = strconv.Atoi(s)
		n = 1
	}
	for seed := first; seed < first+n; seed++ {
		t.Run(strconv.Itoa(seed), func(t *testing.T) {
			t.Parallel()
			clusterHistory(t, uint64(seed))
		})
	}
}

func clusterHistory(t *testing.T, seed uint64) {
	y := newClusterFixture(t, seed)
	e := newRunner(t)
	var told []string
	var tellMu sync.Mutex
	e.OnEvent = func(ev run.Event) {
		if ev.Kind == run.Warning || ev.Kind == run.Step {
			tellMu.Lock()
			told = append(told, ev.Time.Format("05.000 ")+ev.Text)
			tellMu.Unlock()
		}
	}
	defer func() {
		if t.Failed() {
			t.Logf("the cluster:\n%s\nthe work:\n%s", strings.Join(y.log, "\n"), strings.Join(told, "\n"))
		}
	}()
	rng := rand.New(rand.NewPCG(seed, 3))
	hands := []*hand{y.hand(t, seed*10), y.hand(t, seed*10+1)}
	def := &definer{y: y, rng: rand.New(rand.NewPCG(seed, 17)), cl: hands[0].cl}
	for range 30 {
		hands[0].step()
		def.step()
	}
	note(t, connect(t, y.uri))
	src := open(t, "meadow", y.uri)
	stop := make(chan struct{})
	var wg sync.WaitGroup
	for _, h := range hands {
		wg.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					h.step()
					time.Sleep(time.Duration(h.rng.IntN(3)) * time.Millisecond)
				}
			}
		})
	}
	wg.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				def.step()
				time.Sleep(time.Duration(def.rng.IntN(8)) * time.Millisecond)
			}
		}
	})
	if seed%6 == 0 {
		wg.Go(func() {
			rng := rand.New(rand.NewPCG(seed, 4))
			for {
				select {
				case <-stop:
					return
				case <-time.After(time.Duration(rng.IntN(500)) * time.Millisecond):
					y.trouble(rng)
				}
			}
		})
	}
	var times []bson.Timestamp
	for range 3 {
		_, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		for range 2 {
			time.Sleep(time.Duration(10+rng.IntN(80)) * time.Millisecond)
			for range 4 {
				times = append(times, y.sets[rng.IntN(len(y.sets))].Committed())
				time.Sleep(time.Duration(rng.IntN(15)) * time.Millisecond)
			}
			_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
			require.NoError(t, err)
		}
	}
	close(stop)
	wg.Wait()
	_, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	points, _, err := e.Store.Points(ctx, "meadow")
	require.NoError(t, err)
	require.Len(t, points, 3)
	_, drv, err := engine.ForAddress(y.uri)
	require.NoError(t, err)
	for _, p := range points[1:] {
		proof, err := verify.Point(ctx, e, p)
		if err != nil {
			for i, rs := range y.sets {
				cur, err := connect(t, rs.URI()).Database("local").Collection("oplog.rs").Find(ctx, bson.D{})
				require.NoError(t, err)
				for cur.Next(ctx) {
					t.Logf("set %d: %s", i, cur.Current)
				}
			}
			for _, q := range points {
				t.Logf("point %s: %s from %s", q.ID, drv.Model().FormatPosition(q.Shards[0].Mark.Position), q.From)
			}
		}
		require.NoError(t, err)
		require.True(t, proof.Equal, "the fold of the log is the next point: %s", proof.NotFolded)
	}
	//, err := engine.ForAddress(y.uri)
	require.NoError(t, err)
	for _, p := range points {
		pos := []byte(p.Shards[0].Mark.Position)
		times = append(times, bson.Timestamp{T: binary.BigEndian.Uint32(pos), I: binary.BigEndian.Uint32(pos[4:])})
	}
	checked := 0
	for _, ts := range times {
		text := fmt.Sprintf("%d.%d", ts.T, ts.I)
		if pos, err := drv.Model().ParsePosition(text); err != nil || pos < points[0].Shards[0].Mark.Position {
			continue
		}
		m, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Place, Text: text}, restore.OnScratch{})
		require.NoError(t, err)
		compareMoment(t, e, m, y.at(ts), y.dropping(ts, m.Point), fmt.Sprintf("seed %d, %s", seed, text))
		checked++
	}
	require.Greater(t, checked, 10)
	restoreElsewhere(t, e, y, times[len(times)-1], seed)
}

// compareMoment compares the content of a moment with what a cluster
// remembers.
func compareMoment(t *testing.T, e *run.Runner, m *moment.Moment, want map[string]docsim.Content,
	dropping map[string]bool, what string) {
	t.Helper()
	x, err := e.Store.NewScratch(t.TempDir())
	require.NoError(t, err)
	defer x.Close()
	spaces, _, err := m.Trees(ctx, x, x, nil)
	require.NoError(t, err, what)
	want = listed(want)
	var names []string
	for _, s := range spaces {
		w, ok := want[s.Name]
		if !ok && dropping[s.Name] {
			continue
		}
		names = append(names, s.Name)
		require.True(t, ok, "%s: %s should not be there", what, s.Name)
		var got []string
		require.NoError(t, tree.Walk(ctx, x, s.Root,
			func(r record.Record) error { got = append(got, string(r.Value)); return nil }))
		var docs []string
		for _, d := range w.Documents {
			docs = append(docs, string(d))
		}
		slices.Sort(got)
		slices.Sort(docs)
		if !slices.Equal(got, docs) {
			for _, d := range docs {
				if !slices.Contains(got, d) {
					t.Errorf("%s: %s lacks %s", what, s.Name, bson.Raw(d))
				}
			}
			for _, d := range got {
				if !slices.Contains(docs, d) {
					t.Errorf("%s: %s has %s", what, s.Name, bson.Raw(d))
				}
			}
			t.Fatalf("%s: %s: %d documents, want %d (point %s, %s)", what, s.Name, len(got), len(docs), m.Point.ID,
				m.Point.Made)
		}
		var lines []string
		for _, o := range w.Options {
			text, _ := bson.MarshalExtJSON(bson.D{{Key: "v", Value: o.Value}}, false, false)
			lines = append(lines, "option "+o.Key+" "+
				strings.TrimSuffix(strings.TrimPrefix(string(text), `{"v":`), "}"))
		}
		for _, ix := range w.Indexes {
			line := ""
			for _, f := range ix {
				if f.Key == "name" {
					line = "index " + fmt.Sprint(f.Value)
				}
			}
			lines = append(lines, line)
		}
		var have []string
		for _, d := range m.Model.Describe(s.Definition) {
			if strings.HasPrefix(d, "index ") {
				d = strings.Join(strings.Fields(d)[:2], " ")
			}
			if !strings.HasPrefix(d, "sharded by") && !strings.HasPrefix(d, "zone") {
				have = append(have, d)
			}
		}
		require.ElementsMatch(t, lines, have, "%s: %s: definition", what, s.Name)
	}
	for ns := range want {
		require.Contains(t, names, ns, "%s: %s is missing", what, ns)
	}
}

// restoreElsewhere restores one moment onto a cluster of the other kind, or of
// the same, and reads it there as an application does.
func restoreElsewhere(t *testing.T, e *run.Runner, y *clusterFixture, ts bson.Timestamp, seed uint64) {
	want := y.at(ts)
	m, err := moment.Resolve(ctx, e, "meadow",
		address.When{Kind: address.Place, Text: fmt.Sprintf("%d.%d", ts.T, ts.I)}, restore.OnScratch{})
	require.NoError(t, err)
	if len(y.dropping(ts, m.Point)) > 0 {
		return
	}
	for _, c := range want {
		if overfull(c) {
			return
		}
	}
	var uri string
	if seed/2%2 == 0 {
		uri = startSim(t, docsim.Options{Name: "paddock", Members: 1, NoopEvery: fastNoops}).URI()
	} else {
		c, err := docsim.StartSharded(docsim.ShardedOptions{
			Name: "paddock", Members: 1, Set: docsim.Options{NoopEvery: fastNoops}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		uri = c.URI()
	}
	if len(want) == 0 {
		return
	}
	plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", uri), restore.Options{})
	require.NoError(t, err)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	got := readWorld(t, connect(t, uri))
	// Views, and the names over the buckets of time series, were compared by their definitions.
	maps.DeleteFunc(want, func(_ string, c docsim.Content) bool {
		return c.View || lookupIn(c.Options, "timeseries") != nil && lookupIn(c.Options, "clusteredIndex") == nil
	})
	for ns, w := range want {
		var docs []string
		for _, d := range w.Documents {
			docs = append(docs, string(d))
		}
		require.ElementsMatch(t, docs, got[ns].docs, ns)
	}
	require.Equal(t, len(want), len(got))
}
