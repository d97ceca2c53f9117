package integration_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// TestRealHistories runs random workloads on the real server, of the operations
// that it logs, snapshots it while they go on, and restores moments that were
// noted in between.
func TestRealHistories(t *testing.T) {
	t.Parallel()
	for seed := range uint64(2) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { realHistory(t, seed) })
	}
}

func realHistory(t *testing.T, seed uint64) {
	uri, target := documenttest.Start(t, "meadow"), documenttest.Start(t, "")
	cl, tc := documenttest.Connect(t, uri), documenttest.Connect(t, target)
	documenttest.KeepLog(t, cl)
	w := &workload{rng: rand.New(rand.NewPCG(seed, 5)), cl: cl, bigIDs: seed%2 == 1}
	for range 60 {
		w.step()
	}
	src := open(t, "meadow", uri)
	e := newRunner(t)
	var noted []notedMoment
	for round := range 2 {
		// The server reads its whole log at every poll.
		w.busy(100*time.Millisecond, func() {
			_, err := snapshot.Take(ctx, e, "meadow", src)
			require.NoError(t, err)
		})
		for range long(2, 1) {
			for range 25 {
				w.step()
			}
			time.Sleep(5 * time.Millisecond)
			noted = append(noted, notedMoment{time.Now(), readWorld(t, cl)})
			time.Sleep(5 * time.Millisecond)
		}
		// Without a later entry the log does not reach the last moment.
		_, err := cl.Database("apiary").Collection("colonies").InsertOne(ctx,
			bson.D{{Key: "_id", Value: fmt.Sprint("later ", round)}})
		require.NoError(t, err)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
	}
	points, _, err := e.Store.Points(ctx, "meadow")
	require.NoError(t, err)
	proof, err := verify.Point(ctx, e, points[1])
	require.NoError(t, err)
	require.True(t, proof.Equal, proof.NotFolded)
	tgt := open(t, "paddock", target)
	for i, m := range noted {
		got, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: m.at}, restore.OnScratch{})
		require.NoError(t, err)
		dropAll(t, tc)
		plan, err := restore.NewPlan(ctx, e, got, tgt, restore.Options{})
		require.NoError(t, err)
		_, err = plan.Run(ctx)
		plan.Close()
		require.NoError(t, err)
		m.want.equal(t, readWorld(t, tc), fmt.Sprintf("seed %d, moment %d", seed, i))
	}
}
