package integration_test

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/sim/docsim"
)

// TestEachProgressIsWhole: a segment may end at any progress that is told, so
// nothing handed on later may count as of a position up to it; not the changes
// of a transaction of several shards either, of which a commit may count as of
// the very entry that prepared it.
func TestEachProgressIsWhole(t *testing.T) {
	c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: docsim.Options{NoopEvery: fastNoops}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl := connect(t, c.URI())
	admin := cl.Database("admin")
	for _, cmd := range []bson.D{
		{{Key: "shardCollection", Value: "apiary.harvests"}, {Key: "key", Value: bson.D{{Key: "_id", Value: 1}}}},
		{{Key: "split", Value: "apiary.harvests"}, {Key: "middle", Value: bson.D{{Key: "_id", Value: 0}}}},
		{{Key: "moveChunk", Value: "apiary.harvests"}, {Key: "find", Value: bson.D{{Key: "_id", Value: 1}}},
			{Key: "to", Value: c.Shards()[0]}},
		{{Key: "moveChunk", Value: "apiary.harvests"}, {Key: "find", Value: bson.D{{Key: "_id", Value: -1}}},
			{Key: "to", Value: c.Shards()[1]}},
	} {
		require.NoError(t, admin.RunCommand(ctx, cmd).Err())
	}
	src, ok := open(t, "orchard", c.URI()).(engine.Logged)
	require.True(t, ok)

	var wg sync.WaitGroup
	var mu sync.Mutex
	told := map[string]int{} // inserts of a shard
	ends := map[string]record.Position{}
	for _, shard := range c.Shards() {
		end, err := src.LogEnd(ctx, shard)
		require.NoError(t, err)
		wg.Go(func() {
			reached := end.Position
			err := src.Follow(ctx, shard, end.Position, func(chs []record.Change, p engine.Progress) error {
				mu.Lock()
				defer mu.Unlock()
				for _, ch := range chs {
					if ch.At <= reached {
						t.Errorf("shard %s: a change of %x is handed on after progress %x", shard, ch.At, reached)
					}
					if ch.Namespace == "apiary.harvests" {
						told[shard]++
					}
				}
				reached = p.Mark.Position
				if end, ok := ends[shard]; ok && reached >= end {
					return engine.ErrStopFollowing
				}
				return nil
			})
			if err != nil {
				t.Errorf("shard %s: %v", shard, err)
			}
		})
	}
	const rounds = 40
	coll := cl.Database("apiary").Collection("harvests")
	for i := range rounds {
		require.NoError(t, cl.UseSession(ctx, func(sctx context.Context) error {
			s := mongo.SessionFromContext(sctx)
			if err := s.StartTransaction(); err != nil {
				return err
			}
			for _, id := range []int{i + 1, -i - 1} {
				if _, err := coll.InsertOne(sctx, bson.D{{Key: "_id", Value: id}}); err != nil {
					return err
				}
			}
			return s.CommitTransaction(sctx)
		}))
	}
	for _, shard := range c.Shards() {
		end, err := src.LogEnd(ctx, shard)
		require.NoError(t, err)
		mu.Lock()
		ends[shard] = end.Position
		mu.Unlock()
	}
	wg.Wait()
	for _, shard := range c.Shards()[:2] {
		require.Equal(t, rounds, told[shard], shard)
	}
}
