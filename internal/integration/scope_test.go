package integration_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"golang.org/x/time/rate"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// TestOnlyWhatIsChosen: a point of chosen namespaces, the moments after it and
// points folded from it hold these and nothing else, whatever the log tells of
// others; what comes by a chosen name late is left out and said.
func TestOnlyWhatIsChosen(t *testing.T) {
	rs, err := docsim.Start(docsim.Options{})
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	cl := connect(t, rs.URI())
	fill := func(name string, n int) {
		db, coll, _ := strings.Cut(name, ".")
		for i := range n {
			_, err := cl.Database(db).Collection(coll).InsertOne(ctx, bson.M{"n": i, "of": name})
			require.NoError(t, err)
		}
	}
	rename := func(from, to string) {
		require.NoError(t, cl.Database("admin").RunCommand(ctx,
			bson.D{{Key: "renameCollection", Value: from}, {Key: "to", Value: to}}).Err())
	}
	for _, n := range []string{"apiary.colonies", "apiary.keepers", "apiary.scratch_1", "market.stalls"} {
		fill(n, 40)
	}
	note(t, cl)
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	var warned []string
	e.OnEvent = func(ev run.Event) {
		if ev.Kind == run.Warning {
			warned = append(warned, ev.Text)
		}
	}
	e.Scope = address.Scope{"apiary.*", "not apiary.scratch_*"}
	const burst = 1 << 20
	e.Rate = rate.NewLimiter(1e-9, burst)
	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	require.Len(t, p.Parts(), 2)
	require.InDelta(t, p.Stats.Bytes, burst-e.Rate.Tokens(), 200, "what is read counts against the rate")
	e.Rate = nil

	fill("apiary.colonies", 5)
	fill("apiary.scratch_2", 5)
	fill("market.stalls", 5)
	fill("apiary.yards", 3)
	rename("apiary.scratch_1", "apiary.found")
	rename("apiary.keepers", "apiary.scratch_keepers")
	fill("apiary.found", 1)
	fill("apiary.scratch_keepers", 1)
	note(t, cl)
	got, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.Equal(t, []string{"apiary.found"}, got.Untracked)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{}) // the rest of it
	require.ErrorIs(t, err, run.ErrIncomplete, "as long as there is no new point")
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	names, err := m.Names(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"apiary.colonies", "apiary.yards"}, names)
	strangers, err := m.Untracked(ctx)
	require.NoError(t, err)
	require.Len(t, strangers, 1)
	require.Equal(t, "apiary.found", strangers[0].Name)
	diffs, err := moment.Compare(ctx, e, moment.Side{Name: "then", Moment: m, Model: m.Model},
		moment.Side{Name: "now", Live: src, Model: m.Model}, moment.CompareOptions{})
	require.NoError(t, err)
	require.Len(t, diffs, 3, "what was not asked for is no difference")
	for _, d := range diffs {
		require.Equal(t, d.B != "apiary.found", d.Same(), "%+v", d)
	}
	require.True(t, slices.ContainsFunc(warned,
		func(w string) bool { return strings.Contains(w, "not in it: apiary.found") }))

	_, err = snapshot.Fold(ctx, e, m)
	require.ErrorIs(t, err, run.ErrRefused, "a point would have lost what is protected")
	require.ErrorContains(t, err, "apiary.found")
	again, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	require.Len(t, again.Parts(), 3, "the next point that is read has it")
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)

	r := redistest.Start(t)
	_, err = snapshot.Take(ctx, e, "bramble", open(t, "bramble", redistest.Address(r)))
	require.ErrorIs(t, err, run.ErrRefused)
	require.ErrorContains(t, err, "protected whole")
}

// TestWhatAPolicyNoLongerChooses is said where it is looked for, with until when
// it can be had.
func TestWhatAPolicyNoLongerChooses(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	for _, n := range []string{"colonies", "keepers"} {
		_, err := cl.Database("apiary").Collection(n).InsertOne(ctx, bson.M{"n": 1})
		require.NoError(t, err)
	}
	note(t, cl)
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	first, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	e.Scope = address.Scope{"apiary.colonies"}
	note(t, cl)
	second, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	_, err = restore.NewPlan(ctx, e, mustResolve(t, e, second), src, restore.Options{Pattern: "apiary.keepers"})
	require.ErrorContains(t, err, "left out from point "+second.ID)
	cov, err := moment.Cover(ctx, e, "meadow")
	require.NoError(t, err)
	require.Equal(t, []string{"apiary.keepers"}, cov[0].Narrowed[0].Names)
	require.Equal(t, first.ID, cov[0].Narrowed[0].Last)
}

// TestAClusterThatWasMadeAnew under the same name is not taken for the old one;
// one that has lost most of a namespace is, and the point before it is held.
func TestAClusterThatWasMadeAnew(t *testing.T) {
	fill := func(rs *docsim.ReplicaSet, n int) {
		cl := connect(t, rs.URI())
		var docs []any
		for i := range n {
			docs = append(docs, bson.M{"_id": i})
		}
		_, err := cl.Database("apiary").Collection("colonies").InsertMany(ctx, docs)
		require.NoError(t, err)
		note(t, cl)
	}
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	fill(rs, 500)
	e := newRunner(t)
	first, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
	require.NoError(t, err)
	anew := startSim(t, docsim.Options{NoopEvery: fastNoops})
	fill(anew, 20)
	_, err = snapshot.Take(ctx, e, "meadow", open(t, "meadow", anew.URI()))
	require.ErrorIs(t, err, run.ErrRefused)
	require.ErrorContains(t, err, "made anew")
	_, err = capture.Run(ctx, e, "meadow", open(t, "meadow", anew.URI()), capture.Options{})
	require.ErrorIs(t, err, run.ErrRefused)

	_, err = connect(t, rs.URI()).Database("apiary").Collection("colonies").DeleteMany(ctx,
		bson.M{"_id": bson.M{"$gt": 20}})
	require.NoError(t, err)
	note(t, connect(t, rs.URI()))
	p, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
	require.NoError(t, err)
	require.Len(t, p.Shrunk, 1)
	require.Equal(t, store.Shrunk{Name: "apiary.colonies", Was: 500, Is: 21, Since: first.ID}, p.Shrunk[0])
	holds, err := e.Store.Holds(ctx, "meadow")
	require.NoError(t, err)
	require.Len(t, holds, 1)
	require.Equal(t, first.ID, holds[0].Point)

	r := redistest.Start(t)
	_, err = restore.NewPlan(ctx, e, mustResolve(t, e, first), open(t, "bramble", redistest.Address(r)),
		restore.Options{})
	require.ErrorIs(t, err, run.ErrRefused)
	require.ErrorContains(t, err, "is a redis cluster")
}
