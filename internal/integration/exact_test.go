package integration_test

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// versioned runs a test on a set that stands in for each server version.
func versioned(t *testing.T, versions []string, fn func(t *testing.T, rs *docsim.ReplicaSet)) {
	for _, v := range versions {
		t.Run(v, func(t *testing.T) {
			t.Parallel()
			fn(t, startSim(t, docsim.Options{Version: v, NoopEvery: fastNoops, Remember: true}))
		})
	}
}

func timeOf(p []byte) bson.Timestamp {
	return bson.Timestamp{T: binary.BigEndian.Uint32(p), I: binary.BigEndian.Uint32(p[4:])}
}

func at(ts bson.Timestamp) address.When {
	return address.When{Kind: address.Place, Text: fmt.Sprintf("%d.%d", ts.T, ts.I)}
}

// TestDefinitionsOverTime does each kind of change of a definition, one after the other, and compares every moment in
// between with what the set remembers of it.
func TestDefinitionsOverTime(t *testing.T) {
	t.Parallel()
	versioned(t, []string{"5.0", "6.0", "7.0", "8.0"}, func(t *testing.T, rs *docsim.ReplicaSet) {
		cl := connect(t, rs.URI())
		db := cl.Database("farm")
		do := func(cmd ...bson.E) func() error {
			return func() error { return db.RunCommand(ctx, bson.D(cmd)).Err() }
		}
		put := func(coll string, doc bson.D) func() error {
			return func() error { _, err := db.Collection(coll).InsertOne(ctx, doc); return err }
		}
		series := bson.E{Key: "timeseries", Value: bson.D{{Key: "timeField", Value: "at"},
			{Key: "metaField", Value: "yard"}}}
		view := func(on string) []bson.E {
			return []bson.E{{Key: "viewOn", Value: on}, {Key: "pipeline", Value: bson.A{}}}
		}
		create, drop, mod := "create", "drop", "collMod"
		measured := bson.D{{Key: "at", Value: time.Now()}, {Key: "yard", Value: "north"}, {Key: "kg", Value: 3}}
		steps := []struct {
			what string
			do   func() error
		}{
			{"a collection", put("hives", bson.D{{Key: "_id", Value: 1}, {Key: "n", Value: 1}})},
			{"a view", do(append([]bson.E{{Key: create, Value: "v"}}, view("hives")...)...)},
			{"the view on another", do(append([]bson.E{{Key: mod, Value: "v"}}, view("others")...)...)},
			{"the view gone", do(bson.E{Key: drop, Value: "v"})},
			{"the view again", do(append([]bson.E{{Key: create, Value: "v"}}, view("hives")...)...)},
			{"a series", do(bson.E{Key: create, Value: "s"}, series, bson.E{Key: "expireAfterSeconds", Value: 86400})},
			{"a measurement", put("s", measured)},
			{"hours", do(bson.E{Key: mod, Value: "s"}, bson.E{Key: "timeseries",
				Value: bson.D{{Key: "granularity", Value: "hours"}}})},
			{"kept for ever", do(bson.E{Key: mod, Value: "s"}, bson.E{Key: "expireAfterSeconds", Value: "off"})},
			{"the series gone", do(bson.E{Key: drop, Value: "s"})},
			{"more after it", put("hives", bson.D{{Key: "_id", Value: 2}, {Key: "n", Value: 2}})},
			{"the series anew", do(bson.E{Key: create, Value: "s"}, series)},
			{"a measurement in it", put("s", measured)},
			{"capped", do(bson.E{Key: create, Value: "c"}, bson.E{Key: "capped", Value: true},
				bson.E{Key: "size", Value: 4096}, bson.E{Key: "max", Value: 2})},
			{"into it", put("c", bson.D{{Key: "_id", Value: 9}})},
			{"into it", put("c", bson.D{{Key: "_id", Value: 5}})},
			{"one is forgotten", put("c", bson.D{{Key: "_id", Value: 7}})},
			{"larger", do(bson.E{Key: mod, Value: "c"}, bson.E{Key: "cappedSize", Value: 8192},
				bson.E{Key: "cappedMax", Value: 10})},
			{"images", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "changeStreamPreAndPostImages",
				Value: bson.D{{Key: "enabled", Value: true}}})},
			{"no images", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "changeStreamPreAndPostImages",
				Value: bson.D{{Key: "enabled", Value: false}}})},
			{"a validator", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "validator",
				Value: bson.D{{Key: "n", Value: bson.D{{Key: "$exists", Value: true}}}}})},
			{"which warns", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "validationAction", Value: "warn"})},
			{"an index", do(bson.E{Key: "createIndexes", Value: "hives"}, bson.E{Key: "indexes", Value: bson.A{
				bson.D{{Key: "key", Value: bson.D{{Key: "n", Value: 1}}}, {Key: "name", Value: "n_1"}}}})},
			{"hidden", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "index",
				Value: bson.D{{Key: "name", Value: "n_1"}, {Key: "hidden", Value: true}}})},
			{"not hidden", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "index",
				Value: bson.D{{Key: "keyPattern", Value: bson.D{{Key: "n", Value: 1}}},
					{Key: "hidden", Value: false}}})},
			{"to be unique", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "index",
				Value: bson.D{{Key: "name", Value: "n_1"}, {Key: "prepareUnique", Value: true}}})},
			{"unique", do(bson.E{Key: mod, Value: "hives"}, bson.E{Key: "index",
				Value: bson.D{{Key: "name", Value: "n_1"}, {Key: "unique", Value: true}}})},
			{"the database gone", func() error { return db.Drop(ctx) }},
			{"the view again", do(append([]bson.E{{Key: create, Value: "v"}}, view("hives")...)...)},
			{"the series again", do(bson.E{Key: create, Value: "s"}, series)},
		}
		require.NoError(t, put("seed", bson.D{{Key: "_id", Value: 0}})())
		note(t, cl)
		src := open(t, "meadow", rs.URI())
		e := newRunner(t)
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		var times []bson.Timestamp
		for _, s := range steps {
			require.NoError(t, s.do(), s.what)
			note(t, cl)
			times = append(times, rs.Committed())
		}
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		for i, ts := range append([]bson.Timestamp{timeOf([]byte(p.Shards[0].Mark.Position))}, times...) {
			what := "at the beginning"
			if i > 0 {
				what = "after: " + steps[i-1].what
			}
			m, err := moment.Resolve(ctx, e, "meadow", at(ts), restore.OnScratch{})
			require.NoError(t, err, what)
			compareMoment(t, e, m, rs.At(ts), nil, what)
		}
	})
}

// TestANameMadeAnewWhileItIsRead drops a time series, and a view, and makes them anew, while a snapshot is taken.
func TestANameMadeAnewWhileItIsRead(t *testing.T) {
	t.Parallel()
	versioned(t, []string{"5.0", "8.0"}, func(t *testing.T, rs *docsim.ReplicaSet) {
		cl := connect(t, rs.URI())
		db := cl.Database("farm")
		anew := func() {
			require.NoError(t, db.Collection("weather").Drop(ctx))
			require.NoError(t, db.Collection("cold").Drop(ctx))
			require.NoError(t, db.RunCommand(ctx, bson.D{{Key: "create", Value: "weather"},
				{Key: "timeseries", Value: bson.D{{Key: "timeField", Value: "at"}}}}).Err())
			require.NoError(t, db.RunCommand(ctx, bson.D{{Key: "create", Value: "cold"},
				{Key: "viewOn", Value: "weather"},
				{Key: "pipeline", Value: bson.A{}}}).Err())
			_, err := db.Collection("weather").InsertOne(ctx, bson.D{{Key: "at", Value: time.Now()},
				{Key: "t", Value: 4}})
			require.NoError(t, err)
		}
		anew()
		note(t, cl)
		src := open(t, "meadow", rs.URI())
		e := newRunner(t)
		done := false
		e.OnEvent = func(ev run.Event) {
			if ev.Kind == run.Step && !done {
				done = true
				anew()
			}
		}
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		require.True(t, done)
		m, err := moment.At(e, p, nil, nil)
		require.NoError(t, err)
		compareMoment(t, e, m, rs.At(timeOf([]byte(p.Shards[0].Mark.Position))), nil, "the point")
	})
}

// TestUnfinishedIndexes takes points while indexes are built: they count from the commit of their build, and never
// where that is given up.
func TestUnfinishedIndexes(t *testing.T) {
	t.Parallel()
	versioned(t, docsim.ServerVersions, func(t *testing.T, rs *docsim.ReplicaSet) {
		cl := connect(t, rs.URI())
		_, err := cl.Database("farm").Collection("hives").InsertOne(ctx, bson.D{{Key: "n", Value: 1}})
		require.NoError(t, err)
		note(t, cl)
		spec := func(name string) bson.D {
			return bson.D{{Key: "key", Value: bson.D{{Key: name, Value: int32(1)}}}, {Key: "name", Value: name}}
		}
		kept, aborted := rs.BeginIndex("farm.hives", spec("kept")), rs.BeginIndex("farm.hives", spec("aborted"))
		note(t, cl)
		src := open(t, "meadow", rs.URI())
		e := newRunner(t)
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		require.NotContains(t, fmt.Sprint(engineModel(t, rs).Describe(p.Namespaces[0].Definition)), "index kept")
		kept.End(true)
		aborted.End(false)
		note(t, cl)
		ended := rs.Committed()
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		m, err := moment.Resolve(ctx, e, "meadow", at(ended), restore.OnScratch{})
		require.NoError(t, err)
		compareMoment(t, e, m, rs.At(ended), nil, "after both have ended")
	})
}

func engineModel(t *testing.T, rs *docsim.ReplicaSet) engine.Model {
	_, drv, err := engine.ForAddress(rs.URI())
	require.NoError(t, err)
	return drv.Model()
}

// TestAnotherHistory has all members put back from older copies of their disks: what comes then is no continuation.
func TestAnotherHistory(t *testing.T) {
	t.Parallel()
	versioned(t, []string{"4.4", "8.0"}, func(t *testing.T, rs *docsim.ReplicaSet) {
		cl := connect(t, rs.URI())
		c := cl.Database("farm").Collection("hives")
		add := func(from, n int) {
			for i := from; i < from+n; i++ {
				_, err := c.InsertOne(ctx, bson.D{{Key: "_id", Value: i}})
				require.NoError(t, err)
			}
			note(t, cl)
		}
		add(0, 5)
		src := open(t, "meadow", rs.URI())
		e := newRunner(t)
		_, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		add(5, 5)
		putBack := rs.Copy()
		add(10, 20)
		last := rs.Committed() // before the capture: no-op entries go on being written after it
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		putBack()
		time.Sleep(1100 * time.Millisecond) // the new history's times come after those of the old one
		add(100, 5)
		_, err = capture.Run(ctx, e, "meadow", open(t, "meadow", rs.URI()), capture.Options{})
		require.ErrorIs(t, err, run.ErrIncomplete)
		require.ErrorContains(t, err, "another history")
		require.ErrorContains(t, err, "older copies")
		_, err = snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
		require.NoError(t, err)
		add(200, 5)
		_, err = capture.Run(ctx, e, "meadow", open(t, "meadow", rs.URI()), capture.Options{})
		require.ErrorIs(t, err, run.ErrIncomplete, "of the gap it is told once")
		add(300, 5)
		now := rs.Committed()
		_, err = capture.Run(ctx, e, "meadow", open(t, "meadow", rs.URI()), capture.Options{})
		require.NoError(t, err)
		m, err := moment.Resolve(ctx, e, "meadow", at(now), restore.OnScratch{})
		require.NoError(t, err)
		compareMoment(t, e, m, rs.At(now), nil, "of the new history")
		m, err = moment.Resolve(ctx, e, "meadow", at(last), restore.OnScratch{})
		require.NoError(t, err, "the old history's last moment can still be had")
		require.Equal(t, int64(30), recordsOf(t, e, m))
	})
}

// TestAMemberThatCatchesUp while it is asked for an entry is of the same history.
func TestAMemberThatCatchesUp(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops, Latency: 3 * time.Millisecond})
	cl := connect(t, rs.URI())
	late := (rs.Primary() + 1) % len(rs.Addresses())
	rs.Delay(late, 100*time.Millisecond)
	_, drv, err := engine.ForAddress(rs.URI())
	require.NoError(t, err)
	of := func(member int) engine.Continuer {
		c, err := drv.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI(),
			Prefer: []string{rs.Addresses()[member]}})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		l, ok := c.(engine.Continuer)
		require.True(t, ok)
		return l
	}
	first, behind, shard := of(rs.Primary()), of(late), "meadow"
	for i := range 40 {
		insert(t, cl, "farm.hives", bson.D{{Key: "_id", Value: i}})
		end, err := first.LogEnd(ctx, shard)
		require.NoError(t, err)
		for began := time.Now(); time.Since(began) < 120*time.Millisecond; {
			require.NotErrorIs(t, behind.Continues(ctx, shard, end), engine.ErrLogEnds)
		}
	}
}

func recordsOf(t *testing.T, e *run.Runner, m *moment.Moment) (n int64) {
	x, err := e.Store.NewScratch(t.TempDir())
	require.NoError(t, err)
	defer x.Close()
	states, _, err := m.Trees(ctx, x, x, nil)
	require.NoError(t, err)
	for _, s := range states {
		n += s.Root.Records
	}
	return n
}

// TestAMemberBuiltAnew is followed where the log of another member still holds what its own does not.
func TestAMemberBuiltAnew(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	_, err := cl.Database("farm").Collection("hives").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
	require.NoError(t, err)
	note(t, cl)
	_, err = snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	for i := range 20 {
		_, err := cl.Database("farm").Collection("hives").InsertOne(ctx, bson.D{{Key: "_id", Value: 100 + i}})
		require.NoError(t, err)
	}
	note(t, cl)
	for i := range 3 {
		if i != rs.Primary() {
			rs.Rebuild(i)
		}
	}
	for range 2 { // the one that is read first is one of those
		res, err := capture.Run(ctx, e, "meadow", open(t, "meadow", rs.URI()), capture.Options{})
		require.NoError(t, err)
		require.Empty(t, res.Gaps)
	}
	now := rs.Committed()
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", at(now), restore.OnScratch{})
	require.NoError(t, err)
	require.Equal(t, int64(21), recordsOf(t, e, m))
}

// TestWhatIsLeftOutIsNamed: collections that somebody put into the servers' own databases, and capped ones of
// servers that do not log what they forget.
func TestWhatIsLeftOutIsNamed(t *testing.T) {
	t.Parallel()
	versioned(t, []string{"4.4", "7.0"}, func(t *testing.T, rs *docsim.ReplicaSet) {
		cl := connect(t, rs.URI())
		for _, ns := range []string{"admin.notes", "config.notes", "farm.hives"} {
			db, coll := ns[:len(ns)-6], ns[len(ns)-5:]
			_, err := cl.Database(db).Collection(coll).InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
			require.NoError(t, err)
		}
		require.NoError(t, cl.Database("farm").RunCommand(ctx, bson.D{{Key: "create", Value: "recent"},
			{Key: "capped", Value: true}, {Key: "size", Value: 4096}}).Err())
		note(t, cl)
		e := newRunner(t)
		src := open(t, "meadow", rs.URI())
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		var names []string
		for _, s := range p.Skipped {
			names = append(names, s.Name)
		}
		want := []string{"admin.notes", "config.notes"}
		if strings.HasSuffix(t.Name(), "/4.4") {
			want = append(want, "farm.recent")
		}
		require.ElementsMatch(t, want, names)
		// What goes on in what was left out makes no moment.
		_, err = cl.Database("farm").Collection("recent").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
		require.NoError(t, err)
		note(t, cl)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		m, err := moment.Resolve(ctx, e, "meadow", at(rs.Committed()), restore.OnScratch{})
		if err != nil {
			m, err = moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
		}
		require.NoError(t, err)
		all, err := m.Names(ctx)
		require.NoError(t, err)
		require.Equal(t, !slices.Contains(want, "farm.recent"), strings.Contains(fmt.Sprint(all), "farm.recent"))
		// One that is made meanwhile costs nothing but itself.
		require.NoError(t, cl.Database("farm").RunCommand(ctx, bson.D{{Key: "create", Value: "latest"},
			{Key: "capped", Value: true}, {Key: "size", Value: 4096}}).Err())
		insert(t, cl, "farm.hives", bson.D{{Key: "_id", Value: 2}})
		note(t, cl)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		if strings.HasSuffix(t.Name(), "/4.4") {
			require.ErrorContains(t, err, "farm.latest is made as a capped collection")
		}
		_, _ = capture.Run(ctx, e, "meadow", src, capture.Options{})
		m, err = moment.Resolve(ctx, e, "meadow", moment.Latest, restore.OnScratch{})
		require.NoError(t, err)
		all, err = m.Names(ctx)
		require.NoError(t, err)
		require.Equal(t, !strings.HasSuffix(t.Name(), "/4.4"), slices.Contains(all, "farm.latest"))
		require.Equal(t, 2+(len(all)-1)/2, int(recordsOf(t, e, m)), "%v", all)
	})
}

// TestWhatWasProvedDecides: whether capped collections are protected hangs on what was tried on the servers, where it
// was, and not on what they call their version.
func TestWhatWasProvedDecides(t *testing.T) {
	t.Parallel()
	for version, holds := range map[string]bool{"4.4": true, "7.0": false} {
		rs := startSim(t, docsim.Options{Version: version, NoopEvery: fastNoops})
		cl := connect(t, rs.URI())
		require.NoError(t, cl.Database("farm").RunCommand(ctx, bson.D{{Key: "create", Value: "recent"},
			{Key: "capped", Value: true}, {Key: "size", Value: 4096}}).Err())
		note(t, cl)
		take := func(proved func(identity, version string) map[string]bool) []store.Skipped {
			c, err := document.Driver{}.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI(), Proved: proved})
			require.NoError(t, err)
			defer c.Close()
			p, err := snapshot.Take(ctx, newRunner(t), "meadow", c)
			require.NoError(t, err)
			return p.Skipped
		}
		asked := ""
		left := take(func(identity, of string) map[string]bool {
			asked = identity + " " + of
			return map[string]bool{"create.capped": holds}
		})
		require.Equal(t, "meadow "+version+".0", asked)
		require.Equal(t, holds, len(left) == 0, "%v", left)
		left = take(func(string, string) map[string]bool { return nil })
		require.Equal(t, version != "4.4", len(left) == 0, "by the version, where nothing was tried")
	}
}

// TestShardedComesBackAsItWas restores sharded collections whose shard key rests on an index with another name, and
// ones with a collation, onto clusters of several versions.
func TestShardedComesBackAsItWas(t *testing.T) {
	t.Parallel()
	start := func(name, version string) *docsim.Sharded {
		c, err := docsim.StartSharded(docsim.ShardedOptions{Name: name, Members: 1,
			Set: docsim.Options{Version: version, NoopEvery: fastNoops}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		return c
	}
	from := start("orchard", "7.0")
	cl := connect(t, from.URI())
	run := func(db string, cmd ...bson.E) {
		require.NoError(t, cl.Database(db).RunCommand(ctx, bson.D(cmd)).Err())
	}
	german := bson.E{Key: "collation", Value: bson.D{{Key: "locale", Value: "de"}}}
	bytewise := bson.E{Key: "collation", Value: bson.D{{Key: "locale", Value: "simple"}}}
	index := func(coll, name string, key bson.D, more ...bson.E) {
		run("farm", bson.E{Key: "createIndexes", Value: coll}, bson.E{Key: "indexes", Value: bson.A{
			append(bson.D{{Key: "key", Value: key}, {Key: "name", Value: name}}, more...)}})
	}
	shard := func(coll string, key bson.D, more ...bson.E) {
		run("admin", append([]bson.E{{Key: "shardCollection", Value: "farm." + coll}, {Key: "key", Value: key}},
			more...)...)
	}
	yard := bson.D{{Key: "yard", Value: 1}}
	run("farm", bson.E{Key: "create", Value: "named"})
	index("named", "by yard and row", append(slices.Clone(yard), bson.E{Key: "row", Value: 1}))
	shard("named", yard)
	run("farm", bson.E{Key: "create", Value: "german"}, german)
	index("german", "bytes", yard, bytewise)
	index("german", "words", bson.D{{Key: "word", Value: 1}})
	shard("german", yard, bytewise)
	shard("plain", yard)
	for _, coll := range []string{"named", "german", "plain"} {
		for i := range 20 {
			_, err := cl.Database("farm").Collection(coll).InsertOne(ctx, bson.D{{Key: "_id", Value: i},
				{Key: "yard", Value: fmt.Sprint(i % 4)}, {Key: "word", Value: "Öl"}})
			require.NoError(t, err)
		}
	}
	want := readWorld(t, cl)
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "orchard", open(t, "orchard", from.URI()))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "orchard", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	for _, version := range []string{"4.4", "5.0", "8.0"} {
		to := start("paddock", version)
		plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", to.URI()), restore.Options{})
		require.NoError(t, err, version)
		_, err = plan.Run(ctx)
		plan.Close()
		require.NoError(t, err, version)
		want.equal(t, readWorld(t, connect(t, to.URI())), "onto "+version)
		plan, err = restore.NewPlan(ctx, e, m, open(t, "paddock", to.URI()),
			restore.Options{Conflict: restore.Replace, Pattern: "farm.named"})
		require.NoError(t, err, version)
		_, err = plan.Run(ctx)
		plan.Close()
		if version == "4.4" {
			require.ErrorContains(t, err, "do not rename", "found out before anything is written")
			continue
		}
		require.NoError(t, err, version)
	}
}

// TestShardedSeries: a time series that is sharded by its metadata and its time is so again where it is restored, and
// one of another identity when it was dropped and made anew.
func TestShardedSeries(t *testing.T) {
	t.Parallel()
	start := func(name, version string) (*docsim.Sharded, *mongo.Client) {
		c, err := docsim.StartSharded(docsim.ShardedOptions{Name: name, Members: 1,
			Set: docsim.Options{Version: version, NoopEvery: fastNoops, Remember: true}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		return c, connect(t, c.URI())
	}
	from, cl := start("orchard", "7.0")
	do := func(db string, cmd ...bson.E) {
		require.NoError(t, cl.Database(db).RunCommand(ctx, bson.D(cmd)).Err())
	}
	fill := func(n int) {
		do("farm", bson.E{Key: "create", Value: "weights"}, bson.E{Key: "timeseries", Value: bson.D{
			{Key: "timeField", Value: "at"}, {Key: "metaField", Value: "of"}}})
		do("admin", bson.E{Key: "shardCollection", Value: "farm.weights"}, bson.E{Key: "key", Value: bson.D{
			{Key: "of.yard", Value: 1}, {Key: "at", Value: 1}}})
		for i := range n {
			_, err := cl.Database("farm").Collection("weights").InsertOne(ctx, bson.D{{Key: "at", Value: time.Now()},
				{Key: "of", Value: bson.D{{Key: "yard", Value: i % 3}}}, {Key: "kg", Value: i}})
			require.NoError(t, err)
		}
		note(t, cl)
	}
	fill(10)
	e := newRunner(t)
	src := open(t, "orchard", from.URI())
	_, err := snapshot.Take(ctx, e, "orchard", src)
	require.NoError(t, err)
	require.NoError(t, cl.Database("farm").Collection("weights").Drop(ctx))
	fill(20)
	_, err = capture.Run(ctx, e, "orchard", src, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "orchard", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	to, there := start("paddock", "8.0")
	plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", to.URI()), restore.Options{})
	require.NoError(t, err)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	n, err := there.Database("farm").Collection("weights").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 20, n)
	entry, err := there.Database("config").Collection("collections").FindOne(ctx,
		bson.D{{Key: "_id", Value: "farm.system.buckets.weights"}}).Raw()
	require.NoError(t, err)
	require.Equal(t, `{"meta.yard": {"$numberInt":"1"},"control.min.at": {"$numberInt":"1"}}`,
		entry.Lookup("key").String())
}
