package integration_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/address"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// TestAServerOfAnotherMake: on a server that was never seen, and does much its
// own way, each restored collection is right, or the restore says why it is not;
// what was there stays where it is not replaced.
func TestAServerOfAnotherMake(t *testing.T) {
	uri := documenttest.StartOther(t)
	cl := connect(t, uri)
	db := cl.Database("apiary")
	for i := range 300 {
		_, err := db.Collection("harvests").InsertOne(ctx,
			bson.D{{Key: "_id", Value: i}, {Key: "kg", Value: float64(i) / 3}, {Key: "note", Value: "Frühtracht"},
				{Key: "boxes", Value: bson.A{1, bson.D{{Key: "no", Value: i}}}}})
		require.NoError(t, err)
		_, err = db.Collection("north-yard.2026").InsertOne(ctx,
			bson.D{{Key: "_id", Value: bson.NewObjectID()}, {Key: "n", Value: int64(i)}})
		require.NoError(t, err)
	}
	require.NoError(t, db.RunCommand(ctx,
		bson.D{{Key: "createIndexes", Value: "harvests"},
			{Key: "indexes", Value: bson.A{
				bson.D{{Key: "key", Value: bson.D{{Key: "kg", Value: 1}}}, {Key: "name", Value: "kg_1"},
					{Key: "unique", Value: true}}}}}).Err())
	_ = db.RunCommand(ctx, bson.D{{Key: "create", Value: "capped"}, {Key: "capped", Value: true},
		{Key: "size", Value: 1 << 16}, {Key: "max", Value: 10}}).Err()
	_, err := db.Collection("capped").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	src := open(t, "meadow", uri)
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	require.Len(t, p.Parts(), 3)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
	before := readWorld(t, cl)

	right := func(done []restore.Restored, err error) {
		t.Helper()
		now := readWorld(t, cl)
		for _, d := range done {
			t.Logf("%s as %s: verified %v %s", d.From, d.To, d.Verified, d.Failed)
			if d.Failed != "" {
				require.Error(t, err)
				continue
			}
			require.Equal(t, before[d.From], now[d.To], d.To)
		}
		for name := range before {
			if !strings.HasPrefix(name, "apiary.dexamen") {
				require.Equal(t, before[name].docs, now[name].docs, "%s stays as it was", name)
			}
		}
	}
	for _, opt := range []restore.Options{
		{Rename: map[string]string{"apiary.": "rehearsal."}}, {
			Rename: map[string]string{"apiary.": "apiary.again-"}}, {Conflict: restore.Replace}} {
		plan, err := restore.NewPlan(ctx, e, m, src, opt)
		require.NoError(t, err)
		right(plan.Run(ctx))
		plan.Close()
	}
}
