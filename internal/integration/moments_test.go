package integration_test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/demo"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// TestRestoringAWholeCluster: everything onto another cluster, views and
// options included; then a glob of it under other names; then one entry before
// a drop, by its place in the log.
func TestRestoringAWholeCluster(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	other := startSim(t, docsim.Options{Name: "paddock", NoopEvery: fastNoops})
	cl, oc := connect(t, rs.URI()), connect(t, other.URI())
	data := demo.Apiary{Seed: 4, Documents: 3000}
	require.NoError(t, data.Fill(ctx, cl))
	require.NoError(t, cl.Database("apiary").CreateView(ctx, "collapsed", "colonies",
		mongo.Pipeline{{{Key: "$match", Value: bson.D{{Key: "status", Value: "collapsed"}}}}}))
	src, tgt := open(t, "meadow", rs.URI()), open(t, "paddock", other.URI())
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	putBack := func(m *moment.Moment, opt restore.Options) []restore.Restored {
		plan, err := restore.NewPlan(ctx, e, m, tgt, opt)
		require.NoError(t, err)
		defer plan.Close()
		done, err := plan.Run(ctx)
		require.NoError(t, err)
		return done
	}
	done := putBack(mustResolve(t, e, p), restore.Options{})
	require.Len(t, done, 6)
	diffs, err := verify.Live(ctx, e, mustResolve(t, e, p), tgt, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
	views, err := oc.Database("apiary").ListCollectionNames(ctx, bson.D{{Key: "type", Value: "view"}})
	require.NoError(t, err)
	require.Equal(t, []string{"collapsed"}, views)

	done = putBack(mustResolve(t, e, p),
		restore.Options{Pattern: "apiary.harvests*", Rename: map[string]string{"apiary.harvests*": "rehearsal.h*"}})
	require.Equal(t, []string{"rehearsal.h", "rehearsal.h_2025"}, []string{done[0].To, done[1].To})

	// Many operations share a second: the place in the log is exact.
	_, err = cl.Database("apiary").Collection("harvests").DeleteMany(ctx,
		bson.D{{Key: "jars", Value: bson.D{{Key: "$lt", Value: 10}}}})
	require.NoError(t, err)
	require.NoError(t, cl.Database("apiary").Collection("harvests").Drop(ctx))
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	chains, _, err := e.Store.Chains(ctx, "meadow")
	require.NoError(t, err)
	var before record.Position
	deletes := 0
	for _, h := range chains["meadow"].Segments {
		require.NoError(t, e.Store.ReadSegment(ctx, h, func(c *record.Change) error {
			if c.Op == record.Delete {
				deletes++
				before = c.At
			}
			return nil
		}))
	}
	m, err := moment.Resolve(ctx, e, "meadow",
		address.When{Kind: address.Place, Text: mustResolve(t, e, p).Model.FormatPosition(before)}, restore.OnScratch{})
	require.NoError(t, err)
	spaces, n, err := m.Trees(ctx, e.Store, tree.Nowhere(e.Store.Cuts()),
		func(n string) bool { return n == "apiary.harvests" })
	require.NoError(t, err)
	require.EqualValues(t, deletes, n)
	require.EqualValues(t, 250+125-deletes, spaces[0].Root.Records, "all deletes and not the drop")
	_, err = moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Place, Text: "1.1"}, restore.OnScratch{})
	require.ErrorContains(t, err, "before the first point")
	_, err = moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Place, Text: "4000000000.1"},
		restore.OnScratch{})
	require.ErrorContains(t, err, "is not captured")
}

// TestAProofFindsWhatDoesNotFit: a point that is whole in itself, but is not
// what the log leads to, is found and named.
func TestAProofFindsWhatDoesNotFit(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 4, Documents: 3000}
	require.NoError(t, data.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	require.NoError(t, data.Work(ctx, cl, 2, 200))
	good, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	proof, err := verify.Point(ctx, e, good)
	require.NoError(t, err)
	require.True(t, proof.Equal)

	// forge a point at the same moment with one record changed and one gone.
	forge := func() *store.Point {
		forged := *good
		forged.ID, forged.Time = store.NewPointID(good.Time), good.Time.Add(time.Nanosecond)
		forged.Namespaces = append([]store.PointNamespace{}, good.Namespaces...)
		w := e.Store.NewWriter(ctx)
		b := tree.NewBuilder(w)
		i := 0
		require.NoError(t, tree.Walk(ctx, e.Store, good.Namespaces[0].Root, func(r record.Record) error {
			i++
			v := r.Value
			if i == 7 {
				v = bytes.Replace(v, []byte("thriving"), []byte("thrivinG"), 1)
			}
			if i == 9 {
				return nil
			}
			return b.Add(ctx, record.Record{Key: r.Key, Value: v})
		}))
		root, err := b.Finish(ctx)
		require.NoError(t, err)
		_, err = w.Flush(ctx)
		require.NoError(t, err)
		forged.Namespaces[0].Root = root
		return &forged
	}
	forged := forge()
	require.NoError(t, e.Store.PutPoint(ctx, forged))
	require.NoError(t, e.Store.CheckPoint(ctx, forged, func(string, int64, int64) {}), "whole in itself")
	proof, err = verify.Point(ctx, e, forged)
	require.ErrorIs(t, err, run.ErrDiffers)
	require.False(t, proof.Equal)
	require.Contains(t, proof.Disagreement, good.Namespaces[0].Name)
	require.Contains(t, proof.Disagreement, "1 records missing from the point, 0 extra, 1 changed")
}

func TestNamesThatAreNotThere(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	require.NoError(t, demo.Apiary{Seed: 1, Documents: 100}.Fill(ctx, connect(t, rs.URI())))
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
	require.NoError(t, err)
	_, err = moment.Resolve(ctx, e, "meado", address.When{}, restore.OnScratch{})
	require.ErrorContains(t, err, "it holds points of meadow")
	_, err = moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Point, Text: p.ID[:len(p.ID)-1] + "_"},
		restore.OnScratch{})
	require.ErrorContains(t, err, "near it: "+p.ID)
	_, err = moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: p.Time.Add(-time.Hour)},
		restore.OnScratch{})
	require.ErrorContains(t, err, "before the first point")
	_, err = moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: p.Time.Add(time.Hour)},
		restore.OnScratch{})
	require.ErrorContains(t, err, "no log was captured after it")
	_, err = snapshot.Fold(ctx, e, mustResolve(t, e, p))
	require.ErrorContains(t, err, "nothing to fold")
	_, err = moment.Compare(ctx, e, moment.Side{
		Moment: mustResolve(t, e, p), Name: "a", Model: mustResolve(t, e, p).Model},
		moment.Side{Moment: mustResolve(t, e, p), Name: "b"},
		moment.CompareOptions{PatternA: "apiary.colonie", PatternB: "apiary.colonies"})
	require.ErrorContains(t, err, "near it: apiary.colonies")
}

// TestFollowing: segments are sealed while the log goes on; when it is told to
// end, what was read is kept; the next capture goes on without a seam.
func TestFollowing(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 4, Documents: 2000}
	require.NoError(t, data.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	stop, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() {
		_, err := capture.Run(stop, e, "meadow", src,
			capture.Options{Follow: true, FlushEvery: 100 * time.Millisecond, SegmentBytes: 8 << 10})
		ended <- err
	}()
	for seed := range uint64(5) {
		require.NoError(t, data.Work(ctx, cl, 10+seed, 60))
		time.Sleep(120 * time.Millisecond)
	}
	cancel()
	require.ErrorIs(t, <-ended, context.Canceled)
	chains, _, err := e.Store.Chains(ctx, "meadow")
	require.NoError(t, err)
	require.Greater(t, len(chains["meadow"].Segments), 3)
	rs.Kill((rs.Primary() + 1) % 3)
	require.NoError(t, data.Work(ctx, cl, 30, 60))
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
}

// TestADamagedStoreIsSaid: a missing segment is a gap, a damaged point is left
// out and named, a damaged pack stops the restore before anything is written.
func TestADamagedStoreIsSaid(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 4, Documents: 2000}
	require.NoError(t, data.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	e := reopen(t, b)
	_, err = snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	for seed := range uint64(3) {
		require.NoError(t, data.Work(ctx, cl, 20+seed, 50))
		note(t, cl)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
	}
	var names []string
	list := func(prefix string) []string {
		names = nil
		require.NoError(t, b.List(ctx, prefix, func(i blob.Info) error { names = append(names, i.Name); return nil }))
		return names
	}
	middle := list("journal/")[1]
	saved, err := b.Read(ctx, middle)
	require.NoError(t, err)
	require.NoError(t, b.Remove(ctx, middle))
	cov, err := moment.Cover(ctx, e, "meadow")
	require.NoError(t, err)
	require.Len(t, cov[0].Gaps, 1)
	require.Equal(t, "a segment is missing from the store", cov[0].Gaps[0].Reason)
	require.NoError(t, b.Create(ctx, middle, saved))
	cov, err = moment.Cover(ctx, e, "meadow")
	require.NoError(t, err)
	require.Empty(t, cov[0].Gaps)

	b.Flip(middle, int64(len(saved)-4)*8)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	_, err = restore.NewPlan(ctx, e, m, src, restore.Options{Pattern: "apiary.colonies"})
	require.ErrorContains(t, err, "damaged log segment")
	b.Flip(middle, int64(len(saved)-4)*8)

	for _, pack := range list("content/") {
		whole, err := b.Read(ctx, pack)
		require.NoError(t, err)
		// All through it: what is there at one place may be of what is not restored, and one bit may
		// mean nothing to what unpacks it.
		for at := int64(100); at < int64(len(whole))*4/5; at += 37 {
			b.Flip(pack, 8*at)
		}
	}
	broken := reopen(t, b)
	m, err = moment.Resolve(ctx, broken, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	before := readWorld(t, cl)
	for ns := range before {
		plan, err := restore.NewPlan(ctx, broken, m, src, restore.Options{Pattern: ns, Conflict: restore.Replace})
		if err == nil {
			_, err = plan.Run(ctx)
			plan.Close()
		}
		if err != nil {
			require.ErrorIs(t, err, store.ErrDamaged)
			before.equal(t, readWorld(t, cl), "after a restore that failed")
			return
		}
	}
	t.Fatal("no damage was found")
}
