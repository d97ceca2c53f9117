package integration_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/engine"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// TestBalancer: it is stopped while the scan goes on and started again; what a
// run that was killed has left stopped is started by the next one, and what
// somebody else has stopped stays stopped.
func TestBalancer(t *testing.T) {
	c, err := docsim.StartSharded(docsim.ShardedOptions{Set: docsim.Options{NoopEvery: fastNoops}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl := connect(t, c.URI())
	_, err = cl.Database("telemetry").Collection("gateways").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	note(t, cl)
	e := newRunner(t)
	paused := false
	e.OnEvent = func(ev run.Event) { paused = paused || c.BalancerStopped() }
	src := openWith(t, "orchard", c.URI(), map[string]any{"pause_balancer": true})
	snapshot := func() {
		t.Helper()
		_, err := snapshot.Take(ctx, e, "orchard", src)
		require.NoError(t, err)
	}
	snapshot()
	require.True(t, paused, "it was stopped meanwhile")
	require.False(t, c.BalancerStopped(), "and is started again")

	b := src.(engine.Quiescer)
	leave := func() {
		require.NoError(t, e.Store.PutMark(ctx, "orchard", "quiesced",
			map[string]any{"what": "the balancer", "when": time.Now(), "host": "brook"}))
		require.NoError(t, b.Quiesce(ctx, engine.Hold{}))
	}
	leave() // nobody holds the claim: it was killed
	snapshot()
	require.False(t, c.BalancerStopped())

	leave()
	claim, err := e.Store.AcquireFor(ctx, "quiesced", "orchard") // one that is at work
	require.NoError(t, err)
	snapshot()
	require.True(t, c.BalancerStopped(), "what another run needs stopped stays so")
	claim.Release(ctx)
	require.NoError(t, e.Store.RemoveMark(ctx, "orchard", "quiesced"))
	snapshot()
	require.True(t, c.BalancerStopped(), "what somebody else has stopped stays so")
	ok, err := e.Store.Mark(ctx, "orchard", "quiesced", new(any))
	require.NoError(t, err)
	require.False(t, ok)
}
