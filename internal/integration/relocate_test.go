package integration_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// TestCollectionsThatMove: a collection that is spread anew by another key, moved to a shard of its own, and put
// together again, each with another identity, is whole at every moment, between the steps of what moves it too; and
// one in one piece comes back in one.
func TestCollectionsThatMove(t *testing.T) {
	t.Parallel()
	const n = 60
	c, err := docsim.StartSharded(docsim.ShardedOptions{Shards: 3, Members: 1,
		Set: docsim.Options{Version: "8.0", NoopEvery: fastNoops}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl := connect(t, c.URI())
	admin := cl.Database("admin")
	require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "shardCollection", Value: "farm.hives"},
		{Key: "key", Value: bson.D{{Key: "_id", Value: 1}}}}).Err())
	for _, coll := range []string{"hives", "notes"} {
		for i := range n {
			of := []any{i, fmt.Sprint("text ", i), i%2 == 0, nil, bson.D{{Key: "i", Value: i}}}[i%5]
			_, err := cl.Database("farm").Collection(coll).InsertOne(ctx,
				bson.D{{Key: "_id", Value: i}, {Key: "n", Value: of}})
			require.NoError(t, err)
		}
	}
	note(t, cl)
	e := newRunner(t)
	src := open(t, "orchard", c.URI())
	_, err = snapshot.Take(ctx, e, "orchard", src)
	require.NoError(t, err)
	type place struct {
		what string
		at   bson.Timestamp
	}
	var places []place
	between := func(what string) {
		var newest bson.Timestamp
		for i := range append(c.Shards(), "config") {
			rs := c.Config()
			if i < len(c.Shards()) {
				rs = c.Shard(i)
			}
			note(t, connect(t, rs.URI()))
			if ts := rs.Committed(); ts.Compare(newest) > 0 {
				newest = ts
			}
		}
		places = append(places, place{what, newest})
	}
	shards := c.Shards()
	key := bson.D{{Key: "n", Value: 1}, {Key: "_id", Value: 1}}
	steps := []struct {
		ns string
		r  docsim.Relocation
	}{
		{"farm.hives", docsim.Relocation{Key: key, To: []string{shards[1], shards[2]},
			Splits: []bson.D{{{Key: "n", Value: 20}, {Key: "_id", Value: bson.MinKey{}}}}}},
		{"farm.notes", docsim.Relocation{To: []string{shards[2]}}},
		{"farm.notes", docsim.Relocation{To: []string{shards[1]}}},
		{"farm.hives", docsim.Relocation{To: []string{shards[0]}}},
	}
	for i, s := range steps {
		s.r.Between = func(what string) { between(fmt.Sprint(s.ns, ", step ", i, ", ", what)) }
		require.NoError(t, c.Relocate(s.ns, s.r))
		between(fmt.Sprint("after step ", i))
		if i == 1 {
			_, err := capture.Run(ctx, e, "orchard", src, capture.Options{})
			require.NoError(t, err)
			_, err = snapshot.Take(ctx, e, "orchard", src)
			require.NoError(t, err)
		}
	}
	note(t, cl)
	_, err = capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.NoError(t, err)
	require.Greater(t, len(places), 15)
	for _, p := range places {
		m, err := moment.Resolve(ctx, e, "orchard", address.When{Kind: address.Place,
			Text: fmt.Sprintf("%d.%d", p.at.T, p.at.I)}, restore.OnScratch{})
		require.NoError(t, err, p.what)
		x, err := e.Store.NewScratch(t.TempDir())
		require.NoError(t, err)
		spaces, _, err := m.Trees(ctx, x, x, nil)
		require.NoError(t, err, p.what)
		got := map[string]int{}
		for _, s := range spaces {
			if s.Kind.HasRecords() && (s.Name == "farm.hives" || s.Name == "farm.notes") {
				require.NoError(t, tree.Walk(ctx, x, s.Root, func(record.Record) error { got[s.Name]++; return nil }))
			}
		}
		x.Close()
		require.Equal(t, map[string]int{"farm.hives": n, "farm.notes": n}, got, p.what)
	}
	// What is in one piece comes back in one, and what is sharded as it was.
	at := func(p place) *moment.Moment {
		m, err := moment.Resolve(ctx, e, "orchard", address.When{Kind: address.Place,
			Text: fmt.Sprintf("%d.%d", p.at.T, p.at.I)}, restore.OnScratch{})
		require.NoError(t, err)
		return m
	}
	to, err := docsim.StartSharded(docsim.ShardedOptions{Shards: 3, Members: 1,
		Set: docsim.Options{Version: "8.0", NoopEvery: fastNoops}})
	require.NoError(t, err)
	t.Cleanup(to.Close)
	i := slices.IndexFunc(places, func(p place) bool { return p.what == "after step 1" })
	plan, err := restore.NewPlan(ctx, e, at(places[i]), open(t, "orchard", to.URI()), restore.Options{})
	require.NoError(t, err)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	cur, err := connect(t, to.URI()).Database("config").Collection("collections").Find(ctx, bson.D{})
	require.NoError(t, err)
	var sharded []bson.Raw
	require.NoError(t, cur.All(ctx, &sharded))
	require.Len(t, sharded, 1)
	require.Equal(t, "farm.hives", sharded[0].Lookup("_id").StringValue())
	require.Equal(t, `{"n": {"$numberInt":"1"},"_id": {"$numberInt":"1"}}`, sharded[0].Lookup("key").String())
}
