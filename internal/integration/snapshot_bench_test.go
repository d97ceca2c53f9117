package integration_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/demo"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// BenchmarkSnapshot takes a snapshot of the stand-in into a folder beside a
// bare driver scan of the same data, in turn, and gives the ratio.
func BenchmarkSnapshot(b *testing.B) {
	rs := startSim(b, docsim.Options{NoopEvery: fastNoops})
	cl := connect(b, rs.URI())
	require.NoError(b, demo.Apiary{Seed: 1, Documents: 300_000}.Fill(ctx, cl))
	src := open(b, "meadow", rs.URI())
	var bare, full time.Duration
	for range b.N {
		for range 3 {
			start := time.Now()
			names, err := cl.Database(demo.Database).ListCollectionNames(ctx, bson.D{})
			require.NoError(b, err)
			n := 0
			for _, name := range names {
				cur, err := cl.Database(demo.Database).Collection(name).Find(ctx, bson.D{},
					options.Find().SetBatchSize(4096))
				require.NoError(b, err)
				for cur.Next(ctx) {
					n += len(cur.Current)
				}
				require.NoError(b, cur.Err())
			}
			bare += time.Since(start)

			backend := blob.NewDir(b.TempDir())
			_, err = store.Create(ctx, backend, store.CreateOptions{Tool: "bench", Plain: true})
			require.NoError(b, err)
			s, err := store.Open(ctx, backend, store.Options{})
			require.NoError(b, err)
			start = time.Now()
			e := &run.Runner{Store: s, Temp: b.TempDir()}
			p, err := snapshot.Take(ctx, e, "meadow", src)
			require.NoError(b, err)
			full += time.Since(start)
			b.ReportMetric(float64(p.Stats.Records)/p.Finished.Sub(p.Started).Seconds(), "records/s")
		}
	}
	b.ReportMetric(full.Seconds()/bare.Seconds(), "x-bare-scan")
	b.ReportMetric(bare.Seconds()/float64(3*b.N), "s-bare-scan")
	b.ReportMetric(full.Seconds()/float64(3*b.N), "s-snapshot")
	b.ReportMetric(0, "ns/op")
}
