package integration_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/moment"
	"dexamen/internal/pinpoint"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// TestAnEntryThatIsNotKnown costs what it may have touched, from there to the next point, and is told at once
// with its cause; of all else the log goes on to tell.
func TestAnEntryThatIsNotKnown(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops, Remember: true})
	cl := connect(t, rs.URI())
	add := func(ns string, id int) {
		db, coll, _ := strings.Cut(ns, ".")
		_, err := cl.Database(db).Collection(coll).InsertOne(ctx, bson.D{{Key: "_id", Value: id}})
		require.NoError(t, err)
		note(t, cl)
	}
	for _, ns := range []string{"farm.hives", "farm.yards", "barn.stalls", "barn.lofts"} {
		add(ns, 1)
	}
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	var warned []string
	e.OnEvent = func(ev run.Event) {
		if ev.Kind == run.Warning {
			warned = append(warned, ev.Text)
		}
	}
	first, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	add("farm.hives", 2)
	before := rs.Committed()
	time.Sleep(5 * time.Millisecond)
	rs.Write(bson.D{{Key: "op", Value: "c"}, {Key: "ns", Value: "farm.$cmd"},
		{Key: "o", Value: bson.D{{Key: "shuffle", Value: "hives"}}}})
	add("farm.hives", 3)
	add("barn.stalls", 2)
	capturing := func() (*capture.Result, error) { return capture.Run(ctx, e, "meadow", src, capture.Options{}) }
	res, err := capturing()
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, `command "shuffle"`)
	require.Equal(t, []string{"farm.hives", "farm.yards"}, res.Untracked)
	require.NoError(t, e.Store.RemoveMark(ctx, "meadow", moment.UntrackedMark+first.ID))
	_, err = capturing()
	require.ErrorContains(t, err, `command "shuffle"`, "also where it ended before that was noted")
	add("farm.made", 1) // after it, so that all of it is in the log
	add("barn.stalls", 3)
	specs, err := cl.Database("barn").ListCollectionSpecifications(ctx, bson.D{{Key: "name", Value: "lofts"}})
	require.NoError(t, err)
	rs.Write(bson.D{{Key: "op", Value: "u"}, {Key: "ns", Value: "barn.lofts"}, {Key: "ui", Value: specs[0].UUID},
		{Key: "o", Value: bson.D{{Key: "$v", Value: 2}, {Key: "diff", Value: bson.D{{Key: "q", Value: bson.D{}}}}}},
		{Key: "o2", Value: bson.D{{Key: "_id", Value: 1}}}})
	_, err = capturing()
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "barn.lofts: an entry", "what is new is told")
	require.NotContains(t, err.Error(), "shuffle")
	res, err = capturing()
	require.ErrorIs(t, err, run.ErrIncomplete, "as long as there is no new point")
	require.ErrorContains(t, err, "shuffle")
	require.Empty(t, res.Gaps, "and capture goes on")
	later := rs.Committed()

	m, err := moment.Resolve(ctx, e, "meadow", at(before), restore.OnScratch{})
	require.NoError(t, err)
	compareMoment(t, e, m, rs.At(before), nil, "what came before can be had")
	m, err = moment.Resolve(ctx, e, "meadow", at(later), restore.OnScratch{})
	require.NoError(t, err)
	want := rs.At(later)
	for _, lost := range []string{"farm.hives", "farm.yards", "barn.lofts"} {
		delete(want, lost)
	}
	compareMoment(t, e, m, want, nil, "afterwards all else can be had")
	_, err = restore.NewPlan(ctx, e, m, src, restore.Options{Pattern: "farm.hives",
		Rename: map[string]string{"farm.hives": "farm.hives_then"}})
	require.ErrorContains(t, err, "shuffle")
	require.ErrorContains(t, err, "until then it can be had: meadow@")
	_, again, _ := strings.Cut(err.Error(), "until then it can be had: ")
	advised, err := address.Parse(again, time.Now())
	require.NoError(t, err)
	then, err := moment.Resolve(ctx, e, "meadow", advised.When, restore.OnScratch{})
	require.NoError(t, err)
	compareMoment(t, e, then, rs.At(before), nil, "what is advised can be had")
	warned = nil
	plan, err := restore.NewPlan(ctx, e, m, src, restore.Options{Pattern: "farm.*",
		Rename: map[string]string{"farm.": "then."}})
	require.NoError(t, err)
	plan.Close()
	require.Contains(t, strings.Join(warned, "\n"), "farm.hives, farm.yards: an entry at")
	_, err = snapshot.Fold(ctx, e, m)
	require.ErrorIs(t, err, run.ErrRefused)
	_, err = verify.Moment(ctx, e, m)
	require.ErrorIs(t, err, run.ErrIncomplete, "what it has is whole, and it has not all")

	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	_, err = capturing()
	require.NoError(t, err)
	cov, err := moment.Cover(ctx, e, "meadow")
	require.NoError(t, err)
	require.Empty(t, cov[0].Gaps)
	require.Len(t, cov[0].Doubts, 2, "until the point, moments lack it: %+v", cov[0].Doubts)
	require.Equal(t, p.Time, cov[0].Doubts[0].To)
	proof, err := verify.Point(ctx, e, p)
	require.NoError(t, err)
	require.Contains(t, proof.NotFolded, "does not tell")
	found, err := pinpoint.Find(ctx, e, "meadow", pinpoint.Options{})
	require.NoError(t, err)
	n := 0
	for _, f := range found.Findings {
		if f.Kind == pinpoint.Unknown {
			n++
		}
	}
	require.Equal(t, 2, n)
	now := rs.Committed()
	_, err = capturing()
	require.NoError(t, err)
	m, err = moment.Resolve(ctx, e, "meadow", at(now), restore.OnScratch{})
	require.NoError(t, err)
	compareMoment(t, e, m, rs.At(now), nil, "after the point")
}

// TestAnEntryThatOneShardDoesNotKnow costs the collection as a whole, and not the part on that shard: half of a
// collection is none.
func TestAnEntryThatOneShardDoesNotKnow(t *testing.T) {
	t.Parallel()
	c, err := docsim.StartSharded(docsim.ShardedOptions{Shards: 2, Members: 1,
		Set: docsim.Options{NoopEvery: fastNoops, Remember: true}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl := connect(t, c.URI())
	for _, ns := range []string{"farm.hives", "barn.hives"} {
		require.NoError(t, cl.Database("admin").RunCommand(ctx, bson.D{{Key: "shardCollection", Value: ns},
			{Key: "key", Value: bson.D{{Key: "_id", Value: "hashed"}}}}).Err())
	}
	add := func(from int) {
		for _, db := range []string{"farm", "barn"} {
			for i := range 20 {
				_, err := cl.Database(db).Collection("hives").InsertOne(ctx, bson.D{{Key: "_id", Value: from + i}})
				require.NoError(t, err)
			}
		}
		note(t, cl)
	}
	add(0)
	src := open(t, "orchard", c.URI())
	e := newRunner(t)
	_, err = snapshot.Take(ctx, e, "orchard", src)
	require.NoError(t, err)
	c.Shard(1).Write(bson.D{{Key: "op", Value: "c"}, {Key: "ns", Value: "farm.$cmd"},
		{Key: "o", Value: bson.D{{Key: "shuffle", Value: "hives"}}}})
	add(100)
	_, err = capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, `farm.hives: an entry`)
	_, err = capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	m, err := moment.Resolve(ctx, e, "orchard", moment.Latest, restore.OnScratch{})
	require.NoError(t, err)
	names, err := m.Names(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"barn.hives"}, names)
	require.Equal(t, int64(40), recordsOf(t, e, m))
	_, err = snapshot.Take(ctx, e, "orchard", src)
	require.NoError(t, err)
	_, err = capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.NoError(t, err)
	m, err = moment.Resolve(ctx, e, "orchard", moment.Latest, restore.OnScratch{})
	require.NoError(t, err)
	require.Equal(t, int64(80), recordsOf(t, e, m))
}
