package document

import (
	"context"
	"fmt"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/sim/docsim"
)

// writerOf opens a stand-in for writing, with a stage for apiary.harvests.
func writerOf(t testing.TB, o docsim.Options) (rs *docsim.ReplicaSet, w *writer, stage string) {
	ctx := context.Background()
	rs, err := docsim.Start(o)
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	c, err := Driver{}.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	wr, err := c.Writer(ctx)
	require.NoError(t, err)
	w = wr.(*writer)
	claims, err := w.Reserve(ctx, []string{"apiary.harvests"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = claims.Release(ctx, false) })
	made, err := w.Stage(ctx, record.Namespace{
		Name: "apiary.harvests", Kind: "collection", Definition: createdDefinition("collection", nil)})
	require.NoError(t, err)
	return rs, w, made.Name
}

func documents(t testing.TB, n, size int) (recs []record.Record) {
	for i := range n {
		raw, err := bson.Marshal(bson.D{{Key: "_id", Value: strconv.Itoa(i)}, {Key: "note", Value: make([]byte, size)}})
		require.NoError(t, err)
		recs = append(recs, record.Record{Value: raw})
	}
	return recs
}

// TestInserts: documents of all sizes that servers take are there afterwards, once, also where the answer to the
// command that brought them was lost; one that is there already is told.
func TestInserts(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for name, k := range map[string]struct {
		odd     docsim.Odd
		n, size int
	}{
		"many small":      {n: 25_000, size: 10},
		"few large":       {n: 9, size: 5 << 20},
		"as large as can": {n: 2, size: 16<<20 - 40},
		"a lost answer":   {odd: docsim.Odd{LosesAnswer: "123"}, n: 300, size: 10},
	} {
		t.Run(name, func(t *testing.T) {
			_, w, stage := writerOf(t, docsim.Options{Odd: k.odd})
			recs := documents(t, k.n, k.size)
			require.NoError(t, w.Write(ctx, stage, recs))
			n, err := w.Count(ctx, stage)
			require.NoError(t, err)
			require.EqualValues(t, k.n, n)
			err = w.Write(ctx, stage, recs[:1])
			require.ErrorIs(t, err, engine.ErrSameKey)
		})
	}
}

// TestWhatIsDoneOutlivesThePrimary: what a command has made is there when its primary fails right afterwards.
func TestWhatIsDoneOutlivesThePrimary(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	rs, w, _ := writerOf(t, docsim.Options{})
	for i := range 3 {
		if i != rs.Primary() {
			rs.Delay(i, 300*time.Millisecond)
		}
	}
	require.NoError(t, w.run(ctx, "apiary", bson.D{{Key: "create", Value: "swarms"}}))
	rs.Kill(rs.Primary())
	require.Eventually(t, func() bool { return rs.Primary() >= 0 }, 30*time.Second, 10*time.Millisecond)
	c, err := Driver{}.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	list, err := c.Namespaces(ctx)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(list), "apiary.swarms")
}

// TestInsertCommand: what is sent is a document, of the documents as they are, in as much memory as it needs.
func TestInsertCommand(t *testing.T) {
	recs := documents(t, 1200, 30)
	cmd := bson.Raw(insertCommand("harvests", recs, true))
	require.NoError(t, cmd.Validate())
	list, err := cmd.Lookup("documents").Array().Values()
	require.NoError(t, err)
	require.Len(t, list, len(recs))
	for i, v := range list {
		require.Equal(t, recs[i].Value, v.Value)
	}
	require.LessOrEqual(t, testing.AllocsPerRun(10, func() { insertCommand("harvests", recs, true) }), 6.0)
}
