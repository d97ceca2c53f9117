package integration_test

import (
	"encoding/binary"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine/document/bsonkey"
	"dexamen/internal/pinpoint"
)

// TestPinpointReadsLittle: in a long log (DEXAMEN_CHANGES, in make test-long a million, ten
// million by hand) the one drop is found by reading hardly any of it.
func TestPinpointReadsLittle(t *testing.T) {
	changes, err := strconv.Atoi(os.Getenv("DEXAMEN_CHANGES"))
	if err != nil {
		changes = long(1_000_000, 200_000)
	}
	e := newRunner(t)
	begin := time.Now().Add(-30 * 24 * time.Hour).UTC().Truncate(time.Second)
	at := func(i int) record.Position {
		return record.Position(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil,
			uint32(begin.Unix())+uint32(i/10)), uint32(i%10)+1))
	}
	wall := func(i int) time.Time { return begin.Add(time.Duration(i) * 100 * time.Millisecond) }
	mark := func(i int) record.Mark { return record.Mark{Position: at(i), Wall: wall(i)} }
	var p store.Point
	p.ID, p.Cluster, p.Engine, p.Identity = store.NewPointID(begin), "meadow", "document", "meadow"
	p.Time, p.Started, p.Finished = begin, begin, begin
	p.Shards = []store.PointShard{{Name: "meadow", Mark: mark(0)}}
	for _, name := range []string{"apiary.colonies", "apiary.harvests", "apiary.inspections"} {
		p.Namespaces = append(p.Namespaces,
			store.PointNamespace{Namespace: record.Namespace{Name: name, Kind: "collection"},
				Root: tree.Root{}})
	}
	require.NoError(t, e.Store.PutPoint(ctx, &p))
	keys, err := e.Store.SegmentKeys(ctx)
	require.NoError(t, err)
	per := changes / 500
	b, prev := journal.NewBuilder(keys, "meadow", "meadow", mark(0)), tree.Hash{}
	var whole int64
	seal := func(i int) {
		b.CoverTo(mark(i))
		h, data, err := b.Seal(prev, "meadow-1")
		require.NoError(t, err)
		require.NoError(t, e.Store.PutSegment(ctx, h, data))
		prev, whole = h.ID, whole+h.Size
		b = journal.NewBuilder(keys, "meadow", "meadow", mark(i))
	}
	drop := changes * 7 / 10
	for i := 1; i <= changes; i++ {
		c := record.Change{Op: record.Put, Namespace: "apiary.inspections", At: at(i), Wall: wall(i).UnixMilli()}
		if i%3 == 0 {
			c.Namespace = "apiary.colonies"
		}
		if i == drop {
			c.Op, c.Namespace = record.Drop, "apiary.harvests"
		} else {
			doc, err := bson.Marshal(bson.D{
				{Key: "_id", Value: i % 5000}, {Key: "note", Value: "nothing to report of hive " +
					strconv.Itoa(i*7919%100_003)}})
			require.NoError(t, err)
			c.Value = doc
			c.Key, err = bsonkey.Of(doc)
			require.NoError(t, err)
		}
		require.NoError(t, b.Add(&c))
		if i%per == 0 {
			seal(i)
		}
	}
	start := time.Now()
	n := 0
	chains, _, err := e.Store.Chains(ctx, "meadow")
	require.NoError(t, err)
	for _, h := range chains["meadow"].Segments {
		require.NoError(t, e.Store.ReadSegment(ctx, h, func(*record.Change) error { n++; return nil }))
	}
	floor := time.Since(start)
	require.Equal(t, changes, n)
	start = time.Now()
	r, err := pinpoint.Find(ctx, e, "meadow", pinpoint.Options{})
	require.NoError(t, err)
	took := time.Since(start)
	require.Len(t, r.Findings, 1)
	require.Equal(t, pinpoint.Dropped, r.Findings[0].Kind)
	require.Equal(t, "apiary.harvests", r.Findings[0].Namespace)
	t.Logf("%d changes, %d MiB: bare read %s; pinpoint %s, read %.2f %%", changes, whole>>20,
		floor.Round(time.Millisecond),
		took.Round(time.Millisecond), 100*float64(r.Read)/float64(r.Size))
	require.Less(t, r.Read*50, r.Size, "under two per cent")
}
