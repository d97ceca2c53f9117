package integration_test

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dexamen/internal/explain"
	"dexamen/internal/sim/docsim"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/demo"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// fastNoops keeps idle logs moving, so that tests need not wait.
const fastNoops = 200 * time.Millisecond

// TestMemberKilledWhileItIsRead goes on at another member, also where that one
// has first to catch up, longer than a member is looked for.
func TestMemberKilledWhileItIsRead(t *testing.T) {
	t.Parallel()
	for name, lag := range map[string]time.Duration{"the others are close": 0, "the others lag": 45 * time.Second} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			memberKilled(t, lag)
		})
	}
}

func memberKilled(t *testing.T, lag time.Duration) {
	// In this version members tell of what is committed before they have it.
	rs := startSim(t, docsim.Options{Version: "8.0", NoopEvery: fastNoops, Latency: 5 * time.Millisecond})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 3, Documents: 60_000}
	require.NoError(t, data.Fill(ctx, cl))
	_, drv, err := engine.ForAddress(rs.URI())
	require.NoError(t, err)
	var log logBuffer
	src, err := drv.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI(),
		Log: slog.New(slog.NewTextHandler(&log, nil))})
	require.NoError(t, err)
	t.Cleanup(func() { _ = src.Close() })
	e := newRunner(t)
	reading := ""
	var killed atomic.Bool
	e.OnEvent = func(ev run.Event) {
		for _, a := range rs.Addresses() {
			if ev.Kind == run.Step && strings.HasPrefix(ev.Text, "reading ") && strings.Contains(ev.Text, a) {
				reading = a
			}
		}
		if ev.Kind != run.Progress || ev.Records < 10_000 || killed.Swap(true) {
			return
		}
		for i, a := range rs.Addresses() {
			if a == reading {
				rs.Kill(i)
			} else if lag > 0 && i != rs.Primary() {
				rs.Delay(i, lag)
				time.AfterFunc(lag, func() { rs.Delay(i, 0) })
			}
		}
	}
	busy := make(chan error, 1)
	stop, cancel := context.WithCancel(ctx)
	go func() {
		for seed := uint64(1); stop.Err() == nil; seed++ {
			if err := data.Work(ctx, cl, seed, 10); err != nil {
				busy <- err
				return
			}
		}
		busy <- nil
	}()
	p, err := snapshot.Take(ctx, e, "meadow", src)
	cancel()
	require.NoError(t, err)
	require.NoError(t, <-busy)
	require.True(t, killed.Load())
	require.True(t, p.Exact)
	lost := strings.Count(log.String(),
		"msg=\"member failed, going on at another\" cluster=meadow member="+reading)
	require.Equal(t, 1, lost, "a lost member is one line, however many were reading:\n%s", log.String())
	// The log from there on leads to what is there now, so the point is exact.
	want := readWorld(t, cl)
	note(t, cl)
	e.OnEvent = nil
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
	require.Len(t, want, len(diffs))
}

// TestAMemberThatIsBehindTheStart is not read when the one is lost that was read, though it knows of all that is
// committed: what it shows is older than the start of the scan, and nothing would tell of what came in between.
func TestAMemberThatIsBehindTheStart(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{Version: "8.0", NoopEvery: fastNoops, Latency: 5 * time.Millisecond})
	cl := connect(t, rs.URI())
	hives := cl.Database("farm").Collection("hives")
	var docs []any
	for i := range 30_000 {
		docs = append(docs, bson.D{{Key: "_id", Value: i}, {Key: "weighed", Value: 0}})
	}
	_, err := hives.InsertMany(ctx, docs)
	require.NoError(t, err)
	note(t, cl)
	var secondaries []int
	for i := range rs.Addresses() {
		if i != rs.Primary() {
			secondaries = append(secondaries, i)
		}
	}
	// Less than a second is nothing that a configuration says of a member.
	read, late := rs.Addresses()[secondaries[0]], secondaries[1]
	_, drv, err := engine.ForAddress(rs.URI())
	require.NoError(t, err)
	src, err := drv.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI(),
		Prefer: []string{read, rs.Addresses()[late], "primary"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = src.Close() })
	e := newRunner(t)
	var lost atomic.Bool
	e.OnEvent = func(ev run.Event) {
		if ev.Kind == run.Progress && ev.Records > 0 && !lost.Swap(true) {
			rs.Kill(secondaries[0])
		}
	}
	rs.Delay(late, 900*time.Millisecond)
	// Each document is written once, so that nothing later hides what is missing.
	stop, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		for i := range docs {
			select {
			case <-stop:
				ended <- nil
				return
			default:
			}
			if _, err := hives.UpdateByID(ctx, len(docs)-1-i,
				bson.D{{Key: "$set", Value: bson.D{{Key: "weighed", Value: i + 1}}}}); err != nil {
				ended <- err
				return
			}
		}
		ended <- nil
	}()
	time.Sleep(time.Second)
	_, err = snapshot.Take(ctx, e, "meadow", src)
	close(stop)
	require.NoError(t, err)
	require.NoError(t, <-ended)
	require.True(t, lost.Load())
	note(t, cl)
	e.OnEvent = nil
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", moment.Latest, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs), "%+v", diffs)
}

// logBuffer keeps what is logged by several at once.
type logBuffer struct {
	mu   sync.Mutex
	text strings.Builder
}

func (b *logBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

func (b *logBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

func TestALogThatRolledOverIsAGap(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops, LogBytes: 60_000})
	cl := connect(t, rs.URI())
	c := cl.Database("apiary").Collection("colonies")
	write := func(n int) {
		for i := range n {
			_, err := c.InsertOne(ctx, bson.D{
				{Key: "at", Value: time.Now()}, {Key: "i", Value: i}, {Key: "note", Value: "weighed and found well"}})
			require.NoError(t, err)
		}
	}
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	write(20)
	_, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	write(20)
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	time.Sleep(20 * time.Millisecond)
	within := time.Now()
	write(2000) // more than the log holds
	got, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.NotEmpty(t, got.Gaps, "a slow machine may see it roll over again")
	require.Contains(t, explain.Error(err), "dexamen snapshot meadow")
	_, err = moment.Resolve(ctx, e, "meadow",
		address.When{Kind: address.Time, Time: within.Add(50 * time.Millisecond)}, restore.OnScratch{})
	require.ErrorContains(t, err, "the nearest moment before it is")
	require.ErrorContains(t, err, "rolled over")

	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	time.Sleep(5 * time.Millisecond)
	write(5)
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	_, err = moment.Resolve(ctx, e, "meadow",
		address.When{Kind: address.Time, Time: within.Add(50 * time.Millisecond)}, restore.OnScratch{})
	require.ErrorContains(t, err, "the nearest after it is")
	cov, err := moment.Cover(ctx, e, "meadow")
	require.NoError(t, err)
	require.NotEmpty(t, cov[0].Gaps)
	require.Len(t, cov[0].Stretches, 2)
	require.True(t, cov[0].Latest.After(p.Time))
}

// TestOnePercentChanged: a second point after 1 % scattered changes takes at
// most 5 % of the first one's bytes, by scan and by fold.
func TestOnePercentChanged(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 8, Documents: long(100_000, 30_000)}
	require.NoError(t, data.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	run := func(fold bool) (*store.Point, *store.Point) {
		e := newRunner(t)
		first, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		rng := rand.New(rand.NewPCG(1, map[bool]uint64{true: 2}[fold]))
		db := cl.Database(demo.Database)
		colonies := data.Documents / 10
		for i := range data.Documents / 100 {
			if i%8 < 1 {
				_, err = db.Collection("colonies").UpdateOne(ctx,
					bson.D{{Key: "_id", Value: demo.ColonyID(rng.IntN(colonies))}},
					bson.D{{Key: "$set", Value: bson.D{{Key: "weight", Value: rng.Float64()}}}})
			} else {
				id := int64(2026)<<32 | int64(rng.IntN(data.Documents/8))
				_, err = db.Collection("harvests").UpdateOne(ctx, bson.D{{Key: "_id", Value: id}},
					bson.D{{Key: "$set", Value: bson.D{{Key: "jars", Value: rng.Int32()}}}})
			}
			require.NoError(t, err)
		}
		note(t, cl)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		var second *store.Point
		if fold {
			m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
			require.NoError(t, err)
			second, err = snapshot.Fold(ctx, e, m)
			require.NoError(t, err)
		} else if second, err = snapshot.Take(ctx, e, "meadow", src); err != nil {
			t.Fatal(err)
		}
		return first, second
	}
	for name, fold := range map[string]bool{"by scan": false, "by fold": true} {
		first, second := run(fold)
		share := 100 * float64(second.Stats.Stored) / float64(first.Stats.Stored)
		t.Logf("%s: %d bytes, then %d: %.2f %%", name, first.Stats.Stored, second.Stats.Stored, share)
		require.Less(t, share, 5.0, name)
	}
}

func TestRestoreRefusesAndReplaces(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	require.NoError(t, demo.Apiary{Seed: 1, Documents: 2000}.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	m := mustResolve(t, e, p)
	plan := func(opt restore.Options) (*restore.Plan, error) {
		r, err := restore.NewPlan(ctx, e, m, src, opt)
		if err == nil {
			t.Cleanup(r.Close)
		}
		return r, err
	}
	_, err = plan(restore.Options{Pattern: "apiary.harvest"})
	require.ErrorContains(t, err, "near it: apiary.harvests, apiary.harvests_2025")
	r, err := plan(restore.Options{Pattern: "apiary.harvests"})
	require.NoError(t, err)
	_, err = r.Run(ctx)
	require.ErrorIs(t, err, run.ErrRefused)
	_, err = plan(restore.Options{Pattern: "apiary.*", Rename: map[string]string{"apiary.harvests": "apiary.keepers"}})
	require.ErrorContains(t, err, "both apiary.harvests and apiary.keepers would be restored as apiary.keepers")
	_, err = plan(restore.Options{Pattern: "apiary.harvests", Rename: map[string]string{"apiary.harvest": "apiary.x"}})
	require.ErrorContains(t, err, "near it: apiary.harvests")

	// A restore that was cut short left a stage behind; the next one clears up. A
	// collection that only looks like a stage is the user's.
	require.NoError(t, cl.Database("apiary").CreateCollection(ctx, "dexamen_stage_0123456789ab"))
	require.NoError(t, cl.Database("apiary").CreateCollection(ctx, "dexamen_stage_of_my_own"))
	_, err = cl.Database("dexamen_work").Collection("restores").InsertOne(ctx,
		bson.D{{Key: "_id", Value: "stage: apiary.dexamen_stage_0123456789ab"},
			{
				Key: "claim",
				Value: `{"id":"x","host":"brook","process":7,` +
					`"since":"2026-11-23T10:00:00Z","until":"2026-11-23T10:01:00Z"}`}})
	require.NoError(t, err)
	r, err = plan(restore.Options{Pattern: "apiary.harvests*", Rename: map[string]string{"apiary.": "rehearsal."}})
	require.NoError(t, err)
	done, err := r.Run(ctx)
	require.NoError(t, err)
	require.Len(t, done, 2)
	w := readWorld(t, cl)
	require.False(t, w["apiary.dexamen_stage_0123456789ab"].indexes != nil)
	require.NotNil(t, w["apiary.dexamen_stage_of_my_own"].indexes)
	require.NoError(t, cl.Database("apiary").Collection("dexamen_stage_of_my_own").Drop(ctx))
	require.Equal(t, w["apiary.harvests"], w["rehearsal.harvests"])

	// Somebody interferes while the restore runs: nothing is published.
	r, err = plan(restore.Options{Pattern: "apiary.harvests", Conflict: restore.Replace})
	require.NoError(t, err)
	e.OnEvent = func(ev run.Event) {
		if ev.Text == "reading apiary.harvests back" {
			names, _ := cl.Database("apiary").ListCollectionNames(ctx,
				bson.D{{Key: "name", Value: bson.D{{Key: "$regex", Value: "^dexamen_stage_"}}}})
			_, _ = cl.Database("apiary").Collection(names[0]).DeleteOne(ctx, bson.D{})
		}
	}
	_, err = r.Run(ctx)
	require.ErrorIs(t, err, run.ErrDiffers)
	// The member that is read back may hear of it after the primary, which counts.
	require.Regexp(t, "1 records missing|249 records of 250", err.Error())
	require.Equal(t, w["apiary.harvests"], readWorld(t, cl)["apiary.harvests"])
}

func TestAnotherClusterUnderTheSameNameIsRefused(t *testing.T) {
	a := startSim(t, docsim.Options{Name: "meadow", NoopEvery: fastNoops})
	b := startSim(t, docsim.Options{Name: "orchard", NoopEvery: fastNoops})
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", a.URI()))
	require.NoError(t, err)
	other := open(t, "meadow", b.URI())
	_, err = snapshot.Take(ctx, e, "meadow", other)
	require.ErrorIs(t, err, run.ErrRefused)
	_, err = capture.Run(ctx, e, "meadow", other, capture.Options{})
	require.ErrorIs(t, err, run.ErrRefused)
}

func TestTwoCapturesAtOnce(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
	require.NoError(t, err)
	require.NoError(t, demo.Apiary{Seed: 1, Documents: 3000}.Fill(ctx, cl))
	errs := make(chan error, 4)
	for range 4 {
		c := open(t, "meadow", rs.URI())
		go func() {
			_, err := capture.Run(ctx, e, "meadow", c, capture.Options{})
			errs <- err
		}()
	}
	won := 0
	for range 4 {
		switch err := <-errs; {
		case err == nil:
			won++
		case !errors.Is(err, run.ErrRefused):
			t.Error(err)
		}
	}
	require.Positive(t, won)
	chains, bad, err := e.Store.Chains(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Empty(t, chains["meadow"].Gaps())
}

func TestChoosingAMember(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: 50 * time.Millisecond})
	_, drv, err := engine.ForAddress(rs.URI())
	require.NoError(t, err)
	addrs := rs.Addresses()
	choose := func(prefer ...string) (engine.Choice, error) {
		c, err := drv.Open(ctx, engine.Target{
			Name: "meadow", Address: rs.URI(), Prefer: prefer, MaxLag: 500 * time.Millisecond})
		require.NoError(t, err)
		defer c.Close()
		return c.Choose(ctx, "meadow")
	}
	var got engine.Choice
	require.Eventually(t, func() bool {
		got, err = choose(addrs[2], "primary")
		return err == nil && got.Member.Address == addrs[2]
	}, 30*time.Second, 100*time.Millisecond)
	// Late by less than a second is nothing a configuration says.
	rs.Delay(2, 900*time.Millisecond)
	cl := connect(t, rs.URI())
	require.Eventually(t, func() bool {
		require.NoError(t, cl.Database("apiary").RunCommand(ctx, bson.D{{Key: "ping", Value: 1}}).Err())
		got, err = choose(addrs[2], "primary")
		return err == nil && got.Member.Role == "primary" && strings.Contains(got.Reason, "behind")
	}, 30*time.Second, 100*time.Millisecond)
	rs.Delay(2, time.Hour)
	require.NoError(t, connect(t, rs.URI()).Database("apiary").CreateCollection(ctx, "x"))
	// One that is told to be late never has what a majority has, also where it is named.
	_, err = choose(addrs[2])
	require.ErrorIs(t, err, engine.ErrNoMember)
	require.ErrorContains(t, err, "delayed by 1h0m0s, and never has")
	rs.Hide(1)
	got, err = choose("secondary", "primary")
	require.NoError(t, err)
	require.Equal(t, "primary", got.Member.Role)
	require.Contains(t, got.Reason, addrs[1]+": hidden")
	got, err = choose(addrs[1])
	require.NoError(t, err)
	require.Equal(t, "hidden", got.Member.Note)
	rs.Kill(1)
	_, err = choose(addrs[1])
	require.ErrorIs(t, err, engine.ErrNoMember)
}

// A primary that is cut off while it is read takes writes that no majority will
// have. The work goes on at another member, and nothing of them is kept.
func TestThePrimaryReadIsCutOff(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops, Latency: 5 * time.Millisecond})
	data := demo.Apiary{Seed: 3, Documents: 60_000}
	require.NoError(t, data.Fill(ctx, connect(t, rs.URI())))
	_, drv, err := engine.ForAddress(rs.URI())
	require.NoError(t, err)
	src, err := drv.Open(ctx, engine.Target{
		Name: "meadow", Address: rs.URI(), Prefer: []string{"primary", "secondary"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = src.Close() })
	old := rs.Primary()
	cut := func() {
		rs.CutOff(old)
		alone := connect(t, "mongodb://"+rs.Addresses()[old]+"/?directConnection=true").Database("apiary")
		for i := range 50 {
			_, err := alone.Collection("colonies").InsertOne(ctx,
				bson.D{{Key: "_id", Value: i}, {Key: "lost", Value: true}})
			require.NoError(t, err)
		}
		_, err := alone.Collection("lost").InsertOne(ctx, bson.D{{Key: "lost", Value: true}})
		require.NoError(t, err)
	}
	e := newRunner(t)
	var done atomic.Bool
	e.OnEvent = func(ev run.Event) {
		if ev.Kind == run.Progress && ev.Records >= 10_000 && !done.Swap(true) {
			cut()
		}
	}
	p, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	require.True(t, done.Load())
	require.NotEqual(t, old, rs.Primary())
	next := connect(t, "mongodb://"+rs.Addresses()[rs.Primary()]+"/?directConnection=true")
	want := readWorld(t, next)
	require.Len(t, p.Namespaces, len(want))
	_, err = next.Database("apiary").Collection("colonies").InsertOne(ctx, bson.D{{Key: "_id", Value: "kept"}})
	require.NoError(t, err)
	note(t, next)
	e.OnEvent = nil
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)
	rs.Rejoin(old)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
}
