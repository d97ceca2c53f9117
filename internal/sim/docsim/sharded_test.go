package docsim_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/sim/docsim"
)

func startSharded(t *testing.T, opt docsim.ShardedOptions) (*docsim.Sharded, *mongo.Client) {
	c, err := docsim.StartSharded(opt)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl, err := mongo.Connect(options.Client().ApplyURI(c.URI()).SetServerSelectionTimeout(15 * time.Second))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(ctx) })
	return c, cl
}

// TestAShardedClusterIsOneToItsClients: what is spread, moved, and written in
// transactions reads through the router as if it were in one place, and what
// the stand-in remembers of now is just that.
func TestAShardedClusterIsOneToItsClients(t *testing.T) {
	c, cl := startSharded(t, docsim.ShardedOptions{Set: docsim.Options{Remember: true, OpsPerEntry: 2}})
	admin := cl.Database("admin")
	run := func(cmd ...bson.E) { t.Helper(); require.NoError(t, admin.RunCommand(ctx, bson.D(cmd)).Err()) }
	db := cl.Database("telemetry")
	readings := db.Collection("readings", options.Collection().SetWriteConcern(writeconcern.Majority()))
	run(bson.E{Key: "shardCollection", Value: "telemetry.readings"},
		bson.E{Key: "key", Value: bson.D{{Key: "colony", Value: 1}}})
	for i := range 100 {
		_, err := readings.InsertOne(ctx,
			bson.D{{Key: "_id", Value: i}, {Key: "colony", Value: i % 10}, {Key: "n", Value: 0}})
		require.NoError(t, err)
	}
	_, err := db.Collection("gateways").InsertOne(ctx, bson.D{{Key: "_id", Value: "north"}})
	require.NoError(t, err)
	run(bson.E{Key: "split", Value: "telemetry.readings"},
		bson.E{Key: "middle", Value: bson.D{{Key: "colony", Value: 5}}})
	move := func(colony int, to string, o docsim.MoveOptions) {
		t.Helper()
		raw, _ := bson.Marshal(bson.D{{Key: "colony", Value: colony}})
		require.NoError(t, c.Move("telemetry.readings", raw, to, o))
	}
	for _, to := range c.Shards() {
		move(7, to, docsim.MoveOptions{Keep: true}) // leaves orphans wherever it was
	}
	count := func(filter bson.D) int {
		n, err := readings.CountDocuments(ctx, filter)
		require.NoError(t, err)
		return int(n)
	}
	require.Equal(t, 100, count(bson.D{}))
	got, err := readings.UpdateMany(ctx, bson.D{}, bson.D{{Key: "$inc", Value: bson.D{{Key: "n", Value: 1}}}})
	require.NoError(t, err)
	require.EqualValues(t, 100, got.ModifiedCount)
	sess, err := cl.StartSession()
	require.NoError(t, err)
	defer sess.EndSession(ctx)
	txn := func(end func() error) {
		require.NoError(t, sess.StartTransaction())
		sctx := mongo.NewSessionContext(ctx, sess)
		for i := range 10 {
			_, err := readings.UpdateMany(sctx, bson.D{{Key: "colony", Value: i}},
				bson.D{{Key: "$inc", Value: bson.D{{Key: "n", Value: 10}}}})
			require.NoError(t, err)
		}
		n, err := readings.CountDocuments(sctx, bson.D{{Key: "n", Value: bson.D{{Key: "$gte", Value: 10}}}})
		require.NoError(t, err)
		require.EqualValues(t, 100, n, "a transaction sees its own writes")
		require.Equal(t, 0, count(bson.D{{Key: "n", Value: bson.D{{Key: "$gte", Value: 10}}}}), "nobody else does")
		require.NoError(t, end())
	}
	txn(func() error { return sess.AbortTransaction(ctx) })
	require.Equal(t, 0, count(bson.D{{Key: "n", Value: bson.D{{Key: "$gte", Value: 10}}}}))
	txn(func() error { return sess.CommitTransaction(ctx) })
	require.Equal(t, 100, count(bson.D{{Key: "n", Value: 11}}))

	cur, err := readings.Find(ctx, bson.D{}, options.Find().SetSort(bson.D{{Key: "_id", Value: 1}}).SetBatchSize(7))
	require.NoError(t, err)
	var ids []int
	var docs []string
	for cur.Next(ctx) {
		ids = append(ids, int(cur.Current.Lookup("_id").AsInt64()))
		docs = append(docs, string(cur.Current))
	}
	require.Len(t, ids, 100)
	require.True(t, slices.IsSorted(ids))
	var held int
	for i := range c.Shards() {
		held += len(c.Shard(i).At(bson.Timestamp{T: 1 << 31})["telemetry.readings"].Documents)
	}
	require.Greater(t, held, 100, "orphans are still there")
	now := c.At(bson.Timestamp{T: 1 << 31})
	require.Len(t, now, 2, fmt.Sprint(now))
	var want []string
	for _, d := range now["telemetry.readings"].Documents {
		want = append(want, string(d))
	}
	require.ElementsMatch(t, want, docs)

	require.NoError(t, admin.RunCommand(ctx,
		bson.D{{Key: "renameCollection", Value: "telemetry.readings"},
			{Key: "to", Value: "telemetry.readings_2025"}}).Err())
	n, err := db.Collection("readings_2025").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 100, n)
	require.NoError(t, db.Collection("readings_2025").Drop(ctx))
	names, err := db.ListCollectionNames(ctx, bson.D{})
	require.NoError(t, err)
	require.Equal(t, []string{"gateways"}, names)
}

// TestWritesThatMeetATransaction: of two transactions that write to one
// document one is told to try again.
func TestWritesThatMeetATransaction(t *testing.T) {
	_, cl := start(t, docsim.Options{OpsPerEntry: 1})
	c := cl.Database("apiary").Collection("colonies")
	_, err := c.InsertMany(ctx, []any{bson.D{{Key: "_id", Value: 1}, {Key: "n", Value: 0}},
		bson.D{{Key: "_id", Value: 2}, {Key: "n", Value: 0}}})
	require.NoError(t, err)
	inc := bson.D{{Key: "$inc", Value: bson.D{{Key: "n", Value: 1}}}}
	a, err := cl.StartSession()
	require.NoError(t, err)
	b, err := cl.StartSession()
	require.NoError(t, err)
	actx, bctx := mongo.NewSessionContext(ctx, a), mongo.NewSessionContext(ctx, b)
	require.NoError(t, a.StartTransaction())
	require.NoError(t, b.StartTransaction())
	_, err = c.UpdateOne(actx, bson.D{{Key: "_id", Value: 1}}, inc)
	require.NoError(t, err)
	_, err = c.UpdateOne(bctx, bson.D{{Key: "_id", Value: 2}}, inc)
	require.NoError(t, err)
	_, err = c.UpdateOne(bctx, bson.D{{Key: "_id", Value: 1}}, inc)
	require.Error(t, err)
	require.NoError(t, b.AbortTransaction(bctx))
	require.NoError(t, a.CommitTransaction(actx))
	n, err := c.CountDocuments(ctx, bson.D{{Key: "n", Value: 1}})
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	// The log holds it as one entry an operation, which end in one that counts.
	var entries int
	cur, err := cl.Database("local").Collection("oplog.rs").Find(ctx,
		bson.D{{Key: "ns", Value: "admin.$cmd"}, {Key: "op", Value: "c"}})
	require.NoError(t, err)
	for cur.Next(ctx) {
		entries++
	}
	require.Equal(t, 1, entries)
}
