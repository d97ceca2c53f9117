package integration_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/explain"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// TestTooOldIsSaidOnce: a server that is older than what is needed is refused when it is
// connected to, in one line that says what is needed.
func TestTooOldIsSaidOnce(t *testing.T) {
	for _, wire := range []int{8, 6} {
		rs := startSim(t, docsim.Options{Odd: docsim.Odd{Wire: wire}})
		_, drv, err := engine.ForAddress(rs.URI())
		require.NoError(t, err)
		_, err = drv.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI()})
		require.ErrorIs(t, err, engine.ErrTooOld)
		require.Contains(t, err.Error(), "4.4")
		require.NotContains(t, err.Error(), "\n")
		require.Less(t, len(err.Error()), 400, err.Error())
	}
}

// TestTheDocumentIsNamed: where the connection breaks off over one document each time, the error
// says which it was after, or between which.
func TestTheDocumentIsNamed(t *testing.T) {
	cl, cluster := oddly(t, docsim.Odd{BreaksReading: "comb 7"})
	for _, id := range []string{"comb 1", "comb 2", "comb 5", "comb 7", "comb 9"} {
		insert(t, cl, "apiary.combs", bson.D{{Key: "_id", Value: id}})
	}
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", cluster)
	require.ErrorIs(t, err, engine.ErrUnreachable)
	require.Contains(t, err.Error(), "apiary.combs")

	cl, cluster = oddly(t, docsim.Odd{})
	insert(t, cl, "apiary.combs", bson.D{{Key: "_id", Value: "comb 5"}}, bson.D{{Key: "_id", Value: "comb 7"}},
		bson.D{{Key: "_id", Value: "comb 9"}})
	_, err = snapshot.Take(ctx, e, "meadow", cluster)
	require.NoError(t, err)
	_, target := oddly(t, docsim.Odd{BreaksWriting: "comb 7"})
	_, err = restoreNew(t, e, target, nil)
	require.ErrorIs(t, err, engine.ErrUnreachable)
	require.Contains(t, err.Error(), `3 documents from "comb 5" to "comb 9"`)
}

// twice is a cluster to whose server two records have one key.
type twice struct{ engine.Cluster }

func (c twice) Writer(ctx context.Context) (engine.Writer, error) {
	w, err := c.Cluster.Writer(ctx)
	if err != nil {
		return nil, err
	}
	return twiceWriter{w.(engine.StagingWriter)}, nil
}

type twiceWriter struct{ engine.StagingWriter }

func (twiceWriter) Write(context.Context, string, []record.Record) error { return engine.ErrSameKey }

// TestOneKeyTwice: a sharded cluster is advised only where the source was one.
func TestOneKeyTwice(t *testing.T) {
	cl, cluster := oddly(t, docsim.Odd{})
	insert(t, cl, "apiary.combs", bson.D{{Key: "_id", Value: "comb 5"}})
	c, err := docsim.StartSharded(docsim.ShardedOptions{Set: docsim.Options{NoopEvery: fastNoops}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	routed := connect(t, c.URI())
	insert(t, routed, "apiary.combs", bson.D{{Key: "_id", Value: "comb 5"}})
	for _, src := range []engine.Cluster{cluster, open(t, "orchard", c.URI())} {
		e := newRunner(t)
		_, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
		require.NoError(t, err)
		plan, err := restore.NewPlan(ctx, e, m, twice{cluster}, restore.Options{
			Rename: map[string]string{"apiary.combs": "apiary.was"}})
		require.NoError(t, err)
		_, err = plan.Run(ctx)
		plan.Close()
		require.ErrorIs(t, err, engine.ErrSameKey)
		if m.Sharded() {
			require.Contains(t, explain.Error(err), "restore onto a sharded cluster")
		} else {
			require.NotContains(t, explain.Error(err), "sharded")
		}
	}
}
