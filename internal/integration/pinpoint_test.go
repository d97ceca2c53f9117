package integration_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/pinpoint"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// momentOf resolves a printed address.
func momentOf(t testing.TB, e *run.Runner, text string) (*moment.Moment, string) {
	ad, err := address.Parse(text, time.Now())
	require.NoError(t, err, text)
	m, err := moment.Resolve(ctx, e, ad.Cluster, ad.When, restore.OnScratch{})
	require.NoError(t, err, text)
	return m, ad.Pattern
}

// restoreOne restores what an address names under another name.
func restoreOne(t testing.TB, e *run.Runner, c engine.Cluster, text, from, to string) {
	m, pattern := momentOf(t, e, text)
	require.Equal(t, from, pattern)
	plan, err := restore.NewPlan(ctx, e, m, c, restore.Options{Pattern: pattern, Rename: map[string]string{from: to},
		Conflict: restore.Replace})
	require.NoError(t, err, text)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.NoError(t, err, text)
}

// TestPinpoint: on clusters of each kind, among random changes, bursts of deletions are
// found, and the address that is printed is exactly the state before each.
func TestPinpoint(t *testing.T) {
	for name, fixture := range map[string]func(testing.TB) *engineFixture{"document": documentFixture,
		"etcd": etcdFixture, "redis": lonePrimaryFixture, "redis cluster": slotsFixture} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := fixture(t)
			pinpointBursts(t, b)
		})
	}
}

func pinpointBursts(t *testing.T, b *engineFixture) {
	r := rand.New(rand.NewPCG(17, uint64(len(b.one))))
	e := newRunner(t)
	_, drv, err := engine.ForAddress(b.target.Address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, b.target)
	require.NoError(t, err)
	defer c.Close()
	take := func() {
		_, err := capture.Run(ctx, e, b.target.Name, c, capture.Options{})
		require.NoError(t, err)
	}
	for n := range 200 {
		b.put(t, b.one, n, "calm")
		b.put(t, b.other, n, "calm")
	}
	_, err = snapshot.Take(ctx, e, b.target.Name, c)
	require.NoError(t, err)
	ordinary := func() {
		for range 10 + r.IntN(10) {
			ns := []string{b.one, b.other}[r.IntN(2)]
			if n := r.IntN(200); r.IntN(4) == 0 {
				b.remove(t, ns, n)
			} else {
				b.put(t, ns, n, fmt.Sprint("day ", r.IntN(1000)))
			}
		}
	}
	type harm struct {
		ns    string
		n     int
		state map[string]string
	}
	var harms []harm
	for range long(4, 2) {
		for range 3 {
			ordinary()
			take()
		}
		time.Sleep(2200 * time.Millisecond) // the servers' pause before a script
		h := harm{ns: []string{b.one, b.other}[r.IntN(2)], n: 60 + r.IntN(60)}
		h.state = b.state(t, h.ns)
		for n := range h.n {
			b.remove(t, h.ns, n)
			if n%9 == 0 { // others go on meanwhile
				b.put(t, map[string]string{b.one: b.other, b.other: b.one}[h.ns], n, "meanwhile")
			}
		}
		harms = append(harms, h)
		for n := range h.n {
			b.put(t, h.ns, n, "put back by hand")
		}
		ordinary()
		take()
	}
	time.Sleep(time.Second) // after which each shard has something of a later time
	for n := range 50 {
		b.put(t, b.other, n, "the next morning")
	}
	take()
	report, err := pinpoint.Find(ctx, e, b.target.Name, pinpoint.Options{})
	require.NoError(t, err)
	var found []pinpoint.Finding
	for _, f := range report.Findings {
		if f.Kind == pinpoint.Deletes {
			found = append(found, f)
		}
	}
	var names []string
	for _, f := range found {
		names = append(names, fmt.Sprint(f.Namespace, " ", f.Changes))
	}
	if strings.Contains(t.Name(), "cluster") {
		// Each shard has the burst's share, from another moment on.
		require.GreaterOrEqual(t, len(found), len(harms), "%v", names)
		for _, f := range found {
			require.NotEmpty(t, f.Before, f.Cannot)
		}
		return
	}
	require.Len(t, found, len(harms), "%v", names)
	for i, h := range harms {
		f := found[i]
		require.Equal(t, h.ns, f.Namespace)
		require.LessOrEqual(t, f.Changes, int64(2*h.n)) // what is put may be removed first
		require.NotEmpty(t, f.Keys)
		to := map[string]string{b.one: b.renamedOne, b.other: b.renamedOther}[h.ns]
		restoreOne(t, e, c, f.Before, h.ns, to)
		require.Equal(t, h.state, b.state(t, to), "the address %s is just before the burst", f.Before)
	}
	require.Less(t, report.Read, report.Size, "ordinary segments were not read")
}

// TestPinpointDefinitions: whatever is done to namespaces as a whole, on a replica set and a
// sharded cluster, the address that is printed is exactly the state before; ranges that
// move are no deletions; what a condition says of records agrees with their states.
func TestPinpointDefinitions(t *testing.T) {
	t.Run("replica set", func(t *testing.T) {
		t.Parallel()
		rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
		pinpointDefinitions(t, connect(t, rs.URI()), rs.URI(), nil)
	})
	t.Run("sharded", func(t *testing.T) {
		t.Parallel()
		s, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: docsim.Options{NoopEvery: fastNoops}})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		cl := connect(t, s.URI())
		admin := cl.Database("admin")
		require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "shardCollection", Value: "apiary.colonies"},
			{Key: "key", Value: bson.D{{Key: "_id", Value: 1}}}}).Err())
		pinpointDefinitions(t, cl, s.URI(), func() {
			for i, at := range []int{100, 300} {
				require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "split", Value: "apiary.colonies"},
					{Key: "middle", Value: bson.D{{Key: "_id", Value: at}}}}).Err())
				shards := s.Shards()
				require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "moveChunk", Value: "apiary.colonies"},
					{Key: "find", Value: bson.D{{Key: "_id", Value: at}}},
					{Key: "to", Value: shards[i%len(shards)]}}).Err())
			}
		})
	})
}

func pinpointDefinitions(t *testing.T, cl *mongo.Client, uri string, move func()) {
	db := cl.Database("apiary")
	c := open(t, "meadow", uri)
	e := newRunner(t)
	for n := range 400 {
		_, err := db.Collection("colonies").InsertOne(ctx,
			bson.D{{Key: "_id", Value: n}, {Key: "state", Value: "thriving"},
				{Key: "hives", Value: n % 7}})
		require.NoError(t, err)
		if n < 30 {
			_, err = db.Collection("harvests").InsertOne(ctx, bson.D{{Key: "_id", Value: n}})
			require.NoError(t, err)
		}
	}
	_, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	if move != nil {
		move()
		time.Sleep(2500 * time.Millisecond)
	}
	type step struct {
		kind   pinpoint.Kind
		ns     string
		before world
	}
	var steps []step
	do := func(kind pinpoint.Kind, ns string, what func() error) {
		steps = append(steps, step{kind, ns, readWorld(t, cl)})
		require.NoError(t, what())
	}
	do(pinpoint.Updates, "apiary.colonies", func() error {
		_, err := db.Collection("colonies").UpdateMany(ctx,
			bson.D{{Key: "hives", Value: bson.D{{Key: "$gt", Value: 3}}}},
			bson.D{{Key: "$set", Value: bson.D{{Key: "state", Value: "collapsed"}}}})
		return err
	})
	time.Sleep(2500 * time.Millisecond)
	if move == nil {
		do(pinpoint.Altered, "apiary.colonies", func() error {
			_, err := db.Collection("colonies").Indexes().CreateOne(ctx,
				mongo.IndexModel{Keys: bson.D{{Key: "hives", Value: 1}}})
			return err
		})
		do(pinpoint.Renamed, "apiary.harvests", func() error {
			return cl.Database("admin").RunCommand(ctx, bson.D{{Key: "renameCollection", Value: "apiary.harvests"},
				{Key: "to", Value: "apiary.harvests_2025"}}).Err()
		})
		do(pinpoint.Dropped, "apiary.harvests_2025", func() error { return db.Collection("harvests_2025").Drop(ctx) })
	}
	do(pinpoint.Deletes, "apiary.colonies", func() error {
		_, err := db.Collection("colonies").DeleteMany(ctx, bson.D{{Key: "hives", Value: 2}})
		return err
	})
	do(pinpoint.Dropped, "apiary.colonies", func() error { return db.Collection("colonies").Drop(ctx) })
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", c, capture.Options{})
	require.NoError(t, err)

	report, err := pinpoint.Find(ctx, e, "meadow", pinpoint.Options{})
	require.NoError(t, err)
	var got []string
	for _, f := range report.Findings {
		got = append(got, fmt.Sprint(f.Kind, " ", f.Namespace, " ", f.Changes))
	}
	require.Len(t, report.Findings, len(steps), "%v", got)
	for i, s := range steps {
		f := report.Findings[i]
		require.Equal(t, s.kind, f.Kind, "%v", got)
		require.Equal(t, s.ns, f.Namespace)
		restoreOne(t, e, c, f.Before, s.ns, "tried.it")
		now := readWorld(t, cl)
		require.Equal(t, s.before[s.ns], now["tried.it"], "%s %s: %s", f.Kind, f.Namespace, f.Before)
	}

	cond, err := condition.Compile(`state == "collapsed"`)
	require.NoError(t, err)
	fit, err := pinpoint.Fitting(ctx, e, "meadow", cond, pinpoint.Options{Pattern: "apiary.colonies"})
	require.NoError(t, err)
	require.Len(t, fit.Findings, 1, "%+v", fit.Findings)
	require.Equal(t, pinpoint.Began, fit.Findings[0].Kind)
	require.EqualValues(t, 171, fit.Findings[0].Changes)
	require.Equal(t, report.Findings[0].Before, fit.Findings[0].Before)

	// One record's history tells the same.
	versions, err := pinpoint.History(ctx, e, "meadow", "apiary.colonies", "4", pinpoint.Options{})
	require.NoError(t, err)
	var ops []string
	for _, v := range versions {
		ops = append(ops, v.Op)
	}
	require.Equal(t, "point", ops[0])
	require.Contains(t, ops, "patch")
	require.Equal(t, "drop", ops[len(ops)-1])
	require.Equal(t, []string{`state: "thriving" > "collapsed"`}, versions[1].Changed)
	_, err = pinpoint.History(ctx, e, "meadow", "apiary.colonies", "4000", pinpoint.Options{})
	require.ErrorContains(t, err, "was ever in")
}
