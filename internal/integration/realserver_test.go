package integration_test

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/demo"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// digest is a server's content as a plain driver reads it, without holding it:
// for each collection a sum over its documents and its indexes.
func digest(t testing.TB, cl *mongo.Client, db string) map[string]string {
	out := map[string]string{}
	names, err := cl.Database(db).ListCollectionNames(ctx, bson.D{})
	require.NoError(t, err)
	for _, n := range names {
		var sum [32]byte // order does not matter: XOR of the documents' hashes
		count := 0
		cur, err := cl.Database(db).Collection(n).Find(ctx, bson.D{}, options.Find().SetBatchSize(5000))
		require.NoError(t, err)
		for cur.Next(ctx) {
			h := blake3.Sum256(cur.Current)
			for i := range sum {
				sum[i] ^= h[i]
			}
			count++
		}
		require.NoError(t, cur.Err())
		var ix []string
		list, err := cl.Database(db).Collection(n).Indexes().ListSpecifications(ctx)
		require.NoError(t, err)
		for _, s := range list {
			ix = append(ix, fmt.Sprint(s.Name, s.KeysDocument, s.Unique != nil && *s.Unique))
		}
		out[n] = fmt.Sprintf("%d %x %s", count, sum, strings.Join(ix, ";"))
	}
	return out
}

// TestRealServer, on a real server with 3,000 documents (8,000 in a long run) or as many as
// DEXAMEN_REAL_DOCUMENTS reports (make real: 200,000): snapshot while a writer
// runs; moments noted between captured writes, each restored into a second
// server and equal to what was noted.
func TestRealServer(t *testing.T) {
	t.Parallel()
	uri, target := documenttest.Start(t, "meadow"), documenttest.Start(t, "")
	cl, tc := documenttest.Connect(t, uri), documenttest.Connect(t, target)
	documents := long(8_000, 3_000)
	if s := os.Getenv("DEXAMEN_REAL_DOCUMENTS"); s != "" {
		documents, _ = strconv.Atoi(s)
	}
	data := demo.Apiary{Seed: 5, Documents: documents, Plain: true}
	begun := time.Now()
	require.NoError(t, data.Fill(ctx, cl))
	documenttest.KeepLog(t, cl)
	t.Logf("filled in %s", time.Since(begun))

	src := open(t, "meadow", uri)
	topo, err := src.Topology(ctx)
	require.NoError(t, err)
	require.True(t, topo.HidesDrops)
	require.NotEmpty(t, topo.Limitations, "what it lacks is found out and said")

	e := newRunner(t)
	var stop atomic.Bool
	writer := make(chan error, 1)
	go func() {
		var err error
		for seed := uint64(100); err == nil && !stop.Load(); seed++ {
			err = data.Work(ctx, cl, seed, 20)
		}
		writer <- err
	}()
	begun = time.Now()
	p, err := snapshot.Take(ctx, e, "meadow", src)
	stop.Store(true)
	require.NoError(t, err)
	require.NoError(t, <-writer)
	t.Logf("snapshot of %d documents in %s, %d changes folded in, %d bytes of %d", p.Stats.Records, time.Since(begun),
		p.Stats.Changes, p.Stats.Stored, p.Stats.Bytes)
	require.Positive(t, p.Stats.Changes, "writes went on meanwhile")
	require.True(t, p.Exact)

	type noted struct {
		at   time.Time
		want map[string]string
	}
	var moments []noted
	for i := range uint64(long(5, 3)) {
		begun = time.Now()
		require.NoError(t, data.Work(ctx, cl, 10+i, 60))
		worked := time.Since(begun)
		time.Sleep(20 * time.Millisecond)
		begun = time.Now()
		moments = append(moments, noted{begun, digest(t, cl, demo.Database)})
		t.Logf("moment %d noted: 60 writes in %s, a bare scan in %s", i, worked, time.Since(begun))
		time.Sleep(20 * time.Millisecond)
	}
	require.NoError(t, data.Work(ctx, cl, 20, 20))
	got, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	t.Logf("captured %d changes", got.Changes)

	p2, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	t.Logf("second point: %d bytes, %.2f %% of the first", p2.Stats.Stored,
		100*float64(p2.Stats.Stored)/float64(p.Stats.Stored))
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	proof, err := verify.Point(ctx, e, p2)
	require.NoError(t, err)
	require.True(t, proof.Equal, proof.NotFolded)

	tgt := open(t, "paddock", target)
	for i, m := range moments {
		dropAll(t, tc)
		state, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: m.at},
			restore.OnScratch{})
		require.NoError(t, err)
		plan, err := restore.NewPlan(ctx, e, state, tgt, restore.Options{})
		require.NoError(t, err)
		begun = time.Now()
		_, err = plan.Run(ctx)
		plan.Close()
		require.NoError(t, err)
		t.Logf("moment %d restored, read back and compared in %s", i, time.Since(begun))
		require.Equal(t, m.want, digest(t, tc, demo.Database), "moment %d", i)
	}
	t.Run("replacing in place", func(t *testing.T) {
		state, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: moments[0].at},
			restore.OnScratch{})
		require.NoError(t, err)
		plan, err := restore.NewPlan(ctx, e, state, tgt,
			restore.Options{Pattern: "apiary.colonies", Conflict: restore.Replace})
		require.NoError(t, err)
		defer plan.Close()
		_, err = plan.Run(ctx)
		require.NoError(t, err)
		require.Equal(t, moments[0].want["colonies"], digest(t, tc, demo.Database)["colonies"])
	})
	t.Run("a drop that the log hides is noticed", func(t *testing.T) {
		require.NoError(t, cl.Database(demo.Database).Collection("keepers").Drop(ctx))
		require.NoError(t, data.Work(ctx, cl, 30, 5))
		got, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		require.Equal(t, []string{"apiary.keepers went away without a log entry"}, got.Doubts)
	})
}

// TestLoneRealServer: without a log there are snapshots, and it is said what
// they do not guarantee; capture is refused with the reason.
func TestLoneRealServer(t *testing.T) {
	uri := documenttest.Start(t, "")
	cl := documenttest.Connect(t, uri)
	require.NoError(t, demo.Apiary{Seed: 1, Documents: 500, Plain: true}.Fill(ctx, cl))
	src := open(t, "comb", uri)
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "comb", src)
	require.NoError(t, err)
	require.False(t, p.Exact)
	require.NotEmpty(t, p.Caveats)
	_, err = capture.Run(ctx, e, "comb", src, capture.Options{})
	require.ErrorIs(t, err, engine.ErrNoLog)
	require.ErrorContains(t, err, "no replica set")
	_, err = moment.Resolve(ctx, e, "comb", address.When{Kind: address.Time, Time: time.Now()}, restore.OnScratch{})
	require.ErrorContains(t, err, "the server keeps no log")
	diffs, err := verify.Live(ctx, e, mustResolve(t, e, p), src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
}

func mustResolve(t *testing.T, e *run.Runner, p *store.Point) *moment.Moment {
	m, err := moment.Resolve(ctx, e, p.Cluster, address.When{Kind: address.Point, Text: p.ID}, restore.OnScratch{})
	require.NoError(t, err)
	return m
}
