package integration_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document"
	"dexamen/internal/explain"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// TestAShardsLogRollsOver: one shard's log is lost while the others are not:
// the cluster has a gap, moments within it are refused, and a new point heals.
func TestAShardsLogRollsOver(t *testing.T) {
	c, err := docsim.StartSharded(docsim.ShardedOptions{
		Members: 1, Set: docsim.Options{NoopEvery: fastNoops, LogBytes: 60_000}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl := connect(t, c.URI())
	admin := cl.Database("admin")
	require.NoError(t, admin.RunCommand(ctx,
		bson.D{{Key: "enableSharding", Value: "telemetry"}, {Key: "primaryShard", Value: c.Shards()[1]}}).Err())
	write := func(n int) {
		for i := range n {
			_, err := cl.Database("telemetry").Collection("gateways").InsertOne(ctx,
				bson.D{{Key: "i", Value: i}, {Key: "note", Value: "all is well in the north yard"}})
			require.NoError(t, err)
		}
	}
	write(20)
	note(t, cl)
	src := open(t, "orchard", c.URI())
	e := newRunner(t)
	_, err = snapshot.Take(ctx, e, "orchard", src)
	require.NoError(t, err)
	time.Sleep(20 * time.Millisecond)
	within := time.Now()
	write(2000)
	got, err := capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	// Where the log loses an entry more just then, the next gap follows on the first.
	require.NotEmpty(t, got.Gaps)
	for _, g := range got.Gaps {
		require.Equal(t, c.Shards()[1], g.Shard)
	}
	_, err = moment.Resolve(ctx, e, "orchard",
		address.When{Kind: address.Time, Time: within.Add(50 * time.Millisecond)}, restore.OnScratch{})
	require.ErrorContains(t, err, "rolled over")
	_, err = snapshot.Take(ctx, e, "orchard", src)
	require.NoError(t, err)
	write(10)
	note(t, cl)
	_, err = capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "orchard", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
	require.EqualValues(t, 2030, diffs[0].RecordsA)
	cov, err := moment.Cover(ctx, e, "orchard")
	require.NoError(t, err)
	require.Len(t, cov[0].Gaps, len(got.Gaps))
	require.Len(t, cov[0].Stretches, 2)
}

// TestShardedAgain: shard key, zones and ranges come back, laid out over the
// shards of the target; documents that share an _id on two shards do too, and
// onto a replica set it is said why they do not.
func TestShardedAgain(t *testing.T) {
	start := func() *docsim.Sharded {
		c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: docsim.Options{NoopEvery: fastNoops}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		return c
	}
	c, target := start(), start()
	cl, tc := connect(t, c.URI()), connect(t, target.URI())
	run := func(on *docsim.Sharded, cmd bson.D) {
		t.Helper()
		require.NoError(t, connect(t, on.URI()).Database("admin").RunCommand(ctx, cmd).Err())
	}
	ns := "telemetry.readings"
	for _, on := range []*docsim.Sharded{c, target} {
		run(on, bson.D{{Key: "addShardToZone", Value: on.Shards()[0]}, {Key: "zone", Value: "north"}})
	}
	run(c, bson.D{{Key: "shardCollection", Value: ns}, {Key: "key", Value: bson.D{{Key: "colony", Value: 1}}}})
	run(c, bson.D{{Key: "updateZoneKeyRange", Value: ns}, {Key: "min", Value: bson.D{{Key: "colony", Value: 0}}},
		{Key: "max", Value: bson.D{{Key: "colony", Value: 50}}}, {Key: "zone", Value: "north"}})
	for i, at := range []int{25, 50, 75} {
		run(c, bson.D{{Key: "split", Value: ns}, {Key: "middle", Value: bson.D{{Key: "colony", Value: at}}}})
		run(c, bson.D{{Key: "moveChunk", Value: ns}, {Key: "find", Value: bson.D{{Key: "colony", Value: at}}},
			{Key: "to", Value: c.Shards()[i%2]}})
	}
	coll := cl.Database("telemetry").Collection("readings")
	for i := range 200 {
		_, err := coll.InsertOne(ctx, bson.D{{Key: "_id", Value: i}, {Key: "colony", Value: i % 100}})
		require.NoError(t, err)
	}
	for _, colony := range []int{10, 30, 60, 90} { // one _id, on both shards
		_, err := coll.InsertOne(ctx, bson.D{
			{Key: "_id", Value: "twice " + []string{"a", "b"}[colony/50]}, {Key: "colony", Value: colony}})
		require.NoError(t, err)
	}
	note(t, cl)
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "orchard", open(t, "orchard", c.URI()))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "orchard", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	putBack := func(uri string) error {
		plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", uri), restore.Options{})
		require.NoError(t, err)
		defer plan.Close()
		require.EqualValues(t, 204, plan.Items[0].Records)
		_, err = plan.Run(ctx)
		return err
	}
	require.NoError(t, putBack(target.URI()))
	n, err := tc.Database("telemetry").Collection("readings").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 204, n)
	diffs, err := verify.Live(ctx, e, m, open(t, "paddock", target.URI()), "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
	config := tc.Database("config")
	count := func(coll string, filter bson.D) int64 {
		n, err := config.Collection(coll).CountDocuments(ctx, filter)
		require.NoError(t, err)
		return n
	}
	require.EqualValues(t, 1, count("collections", bson.D{{Key: "_id", Value: ns}}))
	require.EqualValues(t, 4, count("chunks", bson.D{}))
	require.EqualValues(t, 2, count("chunks", bson.D{{Key: "shard", Value: target.Shards()[1]}}),
		"in turn on the shards there are")
	require.EqualValues(t, 1, count("tags", bson.D{{Key: "tag", Value: "north"}}))

	err = putBack(startSim(t, docsim.Options{Name: "meadow", NoopEvery: fastNoops}).URI())
	require.Contains(t, explain.Error(err), "restore onto a sharded cluster")
}

// TestCaptureLeavesAMemberThatFallsBehind: it stays with its member while that
// is fit, and goes on at another one without a hole.
func TestCaptureLeavesAMemberThatFallsBehind(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: 50 * time.Millisecond})
	cl := connect(t, rs.URI())
	_, err := cl.Database("apiary").Collection("colonies").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	note(t, cl)
	src, err := document.Driver{}.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI(), MaxLag: time.Second})
	require.NoError(t, err)
	t.Cleanup(func() { _ = src.Close() })
	l := src.(engine.Logged)
	from, err := l.LogEnd(ctx, "meadow")
	require.NoError(t, err)
	first := ""
	seen, begun := 0, time.Now()
	require.NoError(t, l.Follow(ctx, "meadow", from.Position, func(chs []record.Change, _ engine.Progress) error {
		seen += len(chs)
		now := l.LogMember("meadow")
		if first == "" {
			first = now
			for i, a := range rs.Addresses() {
				if a == first {
					rs.Delay(i, time.Hour)
				}
			}
			for i := range 10 {
				_, err := cl.Database("apiary").Collection("colonies").InsertOne(ctx,
					bson.D{{Key: "_id", Value: 10 + i}})
				require.NoError(t, err)
			}
		}
		if seen == 10 {
			require.NotEqual(t, first, now)
			return engine.ErrStopFollowing
		}
		require.Less(t, time.Since(begun), time.Minute)
		return nil
	}))
	require.False(t, strings.Contains(first, l.LogMember("meadow")))
}
