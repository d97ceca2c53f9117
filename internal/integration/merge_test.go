package integration_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/condition"
	"dexamen/internal/engine"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// TestMerging: records are put back onto what is there, those that are missing, or that
// differ too, all or chosen ones, on clusters of each kind: what is there then is what a model
// says, and the plan said how many.
func TestMerging(t *testing.T) {
	for name, fixture := range map[string]func(testing.TB) *engineFixture{"document": documentFixture,
		"etcd": etcdFixture, "redis": lonePrimaryFixture, "redis cluster": slotsFixture} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			merging(t, fixture(t))
		})
	}
}

func merging(t *testing.T, b *engineFixture) {
	r := rand.New(rand.NewPCG(17, 3))
	e := newRunner(t)
	_, drv, err := engine.ForAddress(b.target.Address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, b.target)
	require.NoError(t, err)
	defer c.Close()
	for n := range 150 {
		b.put(t, b.one, n, fmt.Sprint("calm ", n%3))
		b.put(t, b.other, n, "untouched")
	}
	p, err := snapshot.Take(ctx, e, b.target.Name, c)
	require.NoError(t, err)
	then, other := b.state(t, b.one), b.state(t, b.other)
	name := map[int]string{} // how the fixture's state calls a record
	for n := range 150 {
		before := b.state(t, b.one)
		b.remove(t, b.one, n)
		for k := range before {
			if _, still := b.state(t, b.one)[k]; !still {
				name[n] = k
			}
		}
		b.put(t, b.one, n, fmt.Sprint("calm ", n%3))
		if n >= long(40, 12) {
			break // asking costs time; the others are not chosen by key
		}
	}
	for round := range long(12, 4) {
		for n := range 170 {
			switch r.IntN(5) {
			case 0:
				b.remove(t, b.one, n)
			case 1:
				b.put(t, b.one, n, fmt.Sprint("spoiled ", round))
			}
		}
		now := b.state(t, b.one)
		want := maps.Clone(now)
		var recs restore.Records
		chosen := func(k, v string) bool { return true }
		switch round % 4 {
		case 1:
			recs.Where, err = condition.Compile(map[string]string{"meadow": `text == "calm 1"`,
				"willow":  `value.contains("calm 1")`,
				"bramble": `type == "string" && value.contains("calm 1")`}[b.target.Name])
			require.NoError(t, err)
			chosen = func(_, v string) bool {
				return strings.Contains(v, "calm 1") && (b.target.Name != "bramble" || strings.HasPrefix(v, "string"))
			}
		case 2:
			keys := map[string]bool{}
			for n, k := range name {
				if n%2 == 0 {
					keys[k] = true
					recs.Keys = append(recs.Keys, keyText(b, n))
				}
			}
			chosen = func(k, _ string) bool { return keys[k] }
		}
		how := []restore.Conflict{restore.Merge, restore.Fill}[r.IntN(2)]
		var effect restore.Effect
		for k, v := range then {
			was, there := now[k]
			switch {
			case !chosen(k, v):
			case !there:
				effect.Added++
				want[k] = v
			case was != v && how == restore.Merge:
				effect.Changed++
				want[k] = v
			}
		}
		plan, err := restore.NewPlan(ctx, e, mustResolve(t, e, p), c,
			restore.Options{Pattern: b.one, Conflict: how, Records: recs})
		require.NoError(t, err)
		require.Len(t, plan.Items, 1)
		said := plan.Items[0].Effect
		require.NotNil(t, said)
		done, err := plan.Run(ctx)
		plan.Close()
		require.NoError(t, err)
		require.Equal(t, want, b.state(t, b.one), "round %d, %s", round, how)
		require.Equal(t, [2]int64{effect.Added, effect.Changed}, [2]int64{said.Added, said.Changed})
		require.Equal(t, *said, *done[0].Effect)
		require.Equal(t, other, b.state(t, b.other))
	}
}

// keyText is how an administrator names the fixture's nth record.
func keyText(b *engineFixture, n int) string {
	if b.target.Name == "meadow" {
		return fmt.Sprint(n)
	}
	if b.target.Name == "bramble" {
		return fmt.Sprint(strings.TrimPrefix(b.one, "db0/"), n)
	}
	return fmt.Sprintf("%s%05d", b.one, n)
}

// TestMergingThroughRouters: documents of a sharded collection are found by their shard key,
// also those that have another one now; a validator that is younger keeps nothing out.
func TestMergingThroughRouters(t *testing.T) {
	t.Parallel()
	s, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: docsim.Options{NoopEvery: fastNoops}})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	cl := connect(t, s.URI())
	admin, db := cl.Database("admin"), cl.Database("telemetry")
	for _, cmd := range []bson.D{
		{{Key: "shardCollection", Value: "telemetry.readings"}, {Key: "key", Value: bson.D{{Key: "yard", Value: 1}}}},
		{{Key: "split", Value: "telemetry.readings"}, {Key: "middle", Value: bson.D{{Key: "yard", Value: 5}}}},
		{{Key: "moveChunk", Value: "telemetry.readings"}, {Key: "find", Value: bson.D{{Key: "yard", Value: 7}}},
			{Key: "to", Value: s.Shards()[1]}},
	} {
		require.NoError(t, admin.RunCommand(ctx, cmd).Err())
	}
	coll := db.Collection("readings")
	doc := func(n, yard int) bson.D {
		return bson.D{{Key: "_id", Value: n}, {Key: "yard", Value: yard}, {Key: "kg", Value: float64(n)}}
	}
	for n := range 100 {
		_, err := coll.InsertOne(ctx, doc(n, n%10))
		require.NoError(t, err)
	}
	c := open(t, "orchard", s.URI())
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "orchard", c)
	require.NoError(t, err)
	want := readWorld(t, cl)
	_, err = coll.DeleteMany(ctx, bson.D{{Key: "yard", Value: 3}})
	require.NoError(t, err)
	for n := range 30 {
		_, err = coll.ReplaceOne(ctx, bson.D{{Key: "_id", Value: n}, {Key: "yard", Value: n % 10}},
			bson.D{{Key: "yard", Value: n % 10}}, options.Replace())
		require.NoError(t, err)
	}
	for _, n := range []int{41, 42} { // now of another shard
		_, err = coll.DeleteOne(ctx, bson.D{{Key: "_id", Value: n}, {Key: "yard", Value: n % 10}})
		require.NoError(t, err)
		_, err = coll.InsertOne(ctx, doc(n, 9))
		require.NoError(t, err)
	}
	plan, err := restore.NewPlan(ctx, e, mustResolve(t, e, p), c, restore.Options{Conflict: restore.Merge})
	require.NoError(t, err)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	want.equal(t, readWorld(t, cl), "merged")
}

// TestRecordsThatAreNotThere: what was asked for and is not there is said, and changes nothing.
func TestRecordsThatAreNotThere(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	coll := cl.Database("apiary").Collection("colonies")
	for n := range 5 {
		_, err := coll.InsertOne(ctx, bson.D{{Key: "_id", Value: n}, {Key: "state", Value: "thriving"}})
		require.NoError(t, err)
	}
	c, e := open(t, "meadow", rs.URI()), newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	plan := func(o restore.Options) (*restore.Plan, error) {
		pl, err := restore.NewPlan(ctx, e, mustResolve(t, e, p), c, o)
		if err == nil {
			t.Cleanup(pl.Close)
		}
		return pl, err
	}
	where := func(text string) restore.Records {
		cond, err := condition.Compile(text)
		require.NoError(t, err)
		return restore.Records{Where: cond}
	}
	_, err = plan(restore.Options{Conflict: restore.Merge, Records: where(`stat == "thriving"`)})
	require.ErrorIs(t, err, condition.ErrNeverEvaluated)
	_, err = plan(restore.Options{Conflict: restore.Merge, Records: where(`state == "collapsed"`)})
	require.ErrorContains(t, err, "no record fits")
	_, err = plan(restore.Options{Conflict: restore.Replace, Records: where(`state == "thriving"`)})
	require.ErrorIs(t, err, run.ErrRefused)
	_, err = plan(restore.Options{Conflict: restore.Merge, Records: restore.Records{Keys: []string{"77"}}})
	require.ErrorContains(t, err, "none of the keys")
	_, err = coll.DeleteOne(ctx, bson.D{{Key: "_id", Value: 3}})
	require.NoError(t, err)
	pl, err := plan(restore.Options{Conflict: restore.Merge, Records: restore.Records{Keys: []string{"3", "77"}}})
	require.NoError(t, err)
	_, err = pl.Run(ctx)
	require.ErrorIs(t, err, run.ErrIncomplete, "one of the keys was not there")
	n, err := coll.CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 5, n)
	// Beside, with the chosen records alone.
	pl, err = plan(restore.Options{Rename: map[string]string{"apiary.colonies": "apiary.some"},
		Records: where(`int(record._id) < 2`)})
	require.NoError(t, err)
	_, err = pl.Run(ctx)
	require.NoError(t, err)
	n, err = cl.Database("apiary").Collection("some").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
}
