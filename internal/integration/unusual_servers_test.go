package integration_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/moment"
	"dexamen/internal/prepare"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// oddly runs a stand-in that behaves otherwise than documented.
func oddly(t *testing.T, o docsim.Odd) (*mongo.Client, engine.Cluster) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops, Odd: o})
	return connect(t, rs.URI()), open(t, "meadow", rs.URI())
}

func insert(t *testing.T, cl *mongo.Client, name string, docs ...any) {
	t.Helper()
	db, coll, _ := strings.Cut(name, ".")
	_, err := cl.Database(db).Collection(coll).InsertMany(ctx, docs)
	require.NoError(t, err)
}

// restoreNew restores all of the latest moment under other names.
func restoreNew(t *testing.T, e *run.Runner, to engine.Cluster, rename map[string]string,
	except ...string) ([]restore.Restored, error) {
	t.Helper()
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	plan, err := restore.NewPlan(ctx, e, m, to, restore.Options{Rename: rename, Except: except})
	require.NoError(t, err)
	defer plan.Close()
	return plan.Run(ctx)
}

// TestWhatBearsTheNameIsLookedAt: a server that renames otherwise than it should
// is found out: what bears the name afterwards is compared, not the stage.
func TestWhatBearsTheNameIsLookedAt(t *testing.T) {
	for name, o := range map[string]struct {
		odd  docsim.Odd
		want string
	}{
		"loses options":  {docsim.Odd{RenameLoses: true}, "indexes or options differs"},
		"goes elsewhere": {docsim.Odd{RenameElsewhere: true}, "is not there under its name"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cl, c := oddly(t, o.odd)
			require.NoError(t, cl.Database("apiary").RunCommand(ctx,
				bson.D{{Key: "create", Value: "harvests"},
					{Key: "validator", Value: bson.D{{Key: "kg", Value: bson.D{{Key: "$gte", Value: 0}}}}}}).Err())
			insert(t, cl, "apiary.harvests", bson.D{{Key: "_id", Value: 1}, {Key: "kg", Value: 3}})
			note(t, cl)
			e := newRunner(t)
			_, err := snapshot.Take(ctx, e, "meadow", c)
			require.NoError(t, err)
			_, err = restoreNew(t, e, c, map[string]string{"apiary.harvests": "apiary.harvests_restored"})
			require.ErrorIs(t, err, run.ErrDiffers)
			require.ErrorContains(t, err, o.want)
		})
	}
}

// TestANameThatIsNotGivenByRenaming is written under its own name instead, and a
// namespace that cannot be restored does not keep the others from it.
func TestANameThatIsNotGivenByRenaming(t *testing.T) {
	cl, c := oddly(t, docsim.Odd{RenameRefuses: "-", ListsAll: true})
	for i := range 30 {
		insert(t, cl, "apiary.north-yard", bson.D{{Key: "_id", Value: i}})
		insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: i}})
	}
	require.NoError(t, cl.Database("apiary").RunCommand(ctx,
		bson.D{{Key: "create", Value: "weather"},
			{Key: "timeseries", Value: bson.D{
				{Key: "timeField", Value: "at"}, {Key: "granularity", Value: "minutes"}}}}).Err())
	insert(t, cl, "apiary.weather", bson.D{{Key: "at", Value: bson.NewDateTimeFromTime(time.Now())}})
	note(t, cl)
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	done, err := restoreNew(t, e, c, map[string]string{"apiary.": "rehearsal."})
	require.NoError(t, err, "also a time series, of which servers take one form of granularity only")
	require.Len(t, done, 3)
	n, err := cl.Database("rehearsal").Collection("north-yard").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 30, n)
	names, err := cl.Database("rehearsal").ListCollectionNames(ctx, bson.D{})
	require.NoError(t, err)
	for _, n := range names {
		require.NotContains(t, n, "dexamen_stage", "the stage is gone")
	}

	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	plan, err := restore.NewPlan(ctx, e, m, c,
		restore.Options{Conflict: restore.Replace, Except: []string{"apiary.north*"}})
	require.NoError(t, err)
	defer plan.Close()
	done, err = plan.Run(ctx)
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "apiary.weather")
	require.Len(t, done, 2, "what is left out is not tried")
	require.True(t, done[0].Verified)
	require.Equal(t, "apiary.keepers", done[0].To)
	require.NotEmpty(t, done[1].Failed)
}

// TestALogThatCannotBeTrustedEnds: what could not be folded when it is needed is
// said when it is captured, as a gap that a new point ends, of all or of what it was done to.
func TestALogThatCannotBeTrustedEnds(t *testing.T) {
	for name, o := range map[string]struct {
		odd  docsim.Odd
		want string
	}{
		"one identity for all": {docsim.Odd{OneIdent: true}, "carries the identity of"},
		"shared positions":     {docsim.Odd{SharedPositions: true}, "have the position"},
		"raw operators":        {docsim.Odd{RawOperators: true}, `unknown operator "$inc"`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cl, c := oddly(t, o.odd)
			for i := range 10 {
				insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: i}, {Key: "n", Value: 0}})
				insert(t, cl, "apiary.harvests", bson.D{{Key: "_id", Value: i}, {Key: "n", Value: 0}})
			}
			note(t, cl)
			e := newRunner(t)
			_, err := snapshot.Take(ctx, e, "meadow", c)
			require.NoError(t, err)
			work := func() {
				for _, coll := range []string{"keepers", "harvests"} {
					_, err := cl.Database("apiary").Collection(coll).ReplaceOne(ctx, bson.D{{Key: "_id", Value: 5}},
						bson.D{{Key: "n", Value: 7}})
					require.NoError(t, err)
				}
				sess, err := cl.StartSession()
				require.NoError(t, err)
				defer sess.EndSession(ctx)
				_, err = sess.WithTransaction(ctx, func(ctx context.Context) (any, error) {
					for _, coll := range []string{"keepers", "harvests", "keepers"} {
						if _, err := cl.Database("apiary").Collection(coll).UpdateOne(ctx,
							bson.D{{Key: "_id", Value: 3}},
							bson.D{{Key: "$inc", Value: bson.D{{Key: "n", Value: 1}}}}); err != nil {
							return nil, err
						}
					}
					return nil, nil
				})
				require.NoError(t, err)
				note(t, cl)
			}
			work()
			for range 2 {
				got, err := capture.Run(ctx, e, "meadow", c, capture.Options{})
				require.ErrorIs(t, err, run.ErrIncomplete, "as long as there is no new point")
				require.ErrorContains(t, err, o.want)
				if o.odd.RawOperators {
					require.Empty(t, got.Gaps)
					require.ErrorContains(t, err, "apiary.harvests: an entry")
					require.ErrorContains(t, err, "apiary.keepers: an entry")
				} else {
					require.NotEmpty(t, got.Gaps)
				}
			}
			p, err := snapshot.Take(ctx, e, "meadow", c)
			require.NoError(t, err)
			require.True(t, p.Exact)
			_, err = capture.Run(ctx, e, "meadow", c, capture.Options{})
			require.Equal(t, o.odd.RawOperators, err == nil, "a gap of all is said once more: %v", err)
			note(t, cl)
			_, err = capture.Run(ctx, e, "meadow", c, capture.Options{})
			require.NoError(t, err)
		})
	}
}

// TestServersThatTellOtherTimes: optimes that no entry has, and a log that is
// not listed, keep nobody from reading.
func TestServersThatTellOtherTimes(t *testing.T) {
	cl, c := oddly(t, docsim.Odd{ClockRunsOn: true, HidesLog: true})
	insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: 1}})
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	require.True(t, p.Exact)
	insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: 2}})
	_, err = capture.Run(ctx, e, "meadow", c, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, c, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))

	_, c = oddly(t, docsim.Odd{DeniesLog: true})
	topo, err := c.Topology(ctx)
	require.NoError(t, err)
	require.Contains(t, topo.Limitations[0].What, "may not be read")
	_, err = capture.Run(ctx, newRunner(t), "meadow", c, capture.Options{})
	require.ErrorIs(t, err, engine.ErrNoLog)
}

// TestWhetherDropsAreLoggedIsFoundOut by trying it, whatever the server calls
// itself.
func TestWhetherDropsAreLoggedIsFoundOut(t *testing.T) {
	for _, silent := range []bool{false, true} {
		_, c := oddly(t, docsim.Odd{Silent: silent})
		topo, err := c.Topology(ctx)
		require.NoError(t, err)
		require.Equal(t, silent, topo.HidesDrops)
	}
}

// TestALogThatStandsStill is waited for a while, and then given up with what to
// do.
func TestALogThatStandsStill(t *testing.T) {
	was := prepare.StallLimit
	prepare.StallLimit = 200 * time.Millisecond
	t.Cleanup(func() { prepare.StallLimit = was })
	rs := startSim(t, docsim.Options{NoopEvery: time.Hour})
	cl := connect(t, rs.URI())
	insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: 1}})
	e := newRunner(t)
	c := &aheadOfItsLog{Logged: open(t, "meadow", rs.URI()).(engine.Logged)}
	_, err := snapshot.Take(ctx, e, "meadow", c)
	require.ErrorContains(t, err, "has stood still")
	require.False(t, errors.Is(err, context.Canceled))
}

// aheadOfItsLog reports an end of the log that never comes.
type aheadOfItsLog struct{ engine.Logged }

func (a *aheadOfItsLog) LogEnd(ctx context.Context, shard string) (m record.Mark, err error) {
	if m, err = a.Logged.LogEnd(ctx, shard); err == nil {
		m.Position = m.Position[:4] + "\xff\xff\xff\xff"
	}
	return m, err
}

// TestPairsOfRestores: of two restores onto one collection at once one is done,
// or both one after the other: what is live is one of the two moments, or as it
// was. DEXAMEN_PAIRS says how many.
func TestPairsOfRestores(t *testing.T) {
	pairs := 12
	if s := os.Getenv("DEXAMEN_PAIRS"); s != "" {
		pairs, _ = strconv.Atoi(s)
	}
	t.Run("stand-in", func(t *testing.T) {
		t.Parallel()
		rs := startSim(t, docsim.Options{NoopEvery: fastNoops, Latency: time.Millisecond})
		restorePairs(t, rs.URI(), pairs, 0)
	})
	t.Run("real server", func(t *testing.T) {
		t.Parallel()
		n := max(4, pairs/4)
		if os.Getenv("DEXAMEN_PAIRS") != "" {
			n = pairs
		}
		// That server reads its whole log for its newest entry: a new one now
		// and then keeps the log short.
		for batch := 0; n > 0; batch++ {
			t.Run(strconv.Itoa(batch), func(t *testing.T) {
				uri := documenttest.Start(t, "meadow")
				documenttest.KeepLog(t, documenttest.Connect(t, uri))
				restorePairs(t, uri, min(n, 5), uint64(batch))
			})
			n -= 5
		}
	})
}

func restorePairs(t *testing.T, uri string, pairs int, seed uint64) {
	cl := connect(t, uri)
	src := open(t, "meadow", uri)
	e := newRunner(t)
	coll := cl.Database("apiary").Collection("harvests")
	var moments []*moment.Moment
	roots := map[string]bool{}
	content := func() string {
		cur, err := coll.Find(ctx, bson.D{})
		require.NoError(t, err)
		var all [][]byte
		for cur.Next(ctx) {
			all = append(all, bytes.Clone(cur.Current))
		}
		require.NoError(t, cur.Err())
		return fmt.Sprintf("%d %x", len(all), bytes.Join(all, nil))
	}
	fill := func(n int) {
		_, err := coll.DeleteMany(ctx, bson.D{})
		require.NoError(t, err)
		var docs []any
		for i := range n {
			docs = append(docs, bson.D{{Key: "_id", Value: i}, {Key: "n", Value: n}})
		}
		_, err = coll.InsertMany(ctx, docs)
		require.NoError(t, err)
		roots[content()] = true
	}
	for _, n := range []int{600, 777} {
		fill(n)
		if _, err := coll.Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "n", Value: 1}}}); err != nil {
			require.NoError(t, err)
		}
		time.Sleep(50 * time.Millisecond)
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		moments = append(moments, mustResolve(t, e, p))
	}
	fill(100)
	rng := rand.New(rand.NewPCG(5, 6+seed))
	var done, refused atomic.Int32
	for pair := range pairs {
		var wg sync.WaitGroup
		for i := range 2 {
			wait := time.Duration(rng.IntN(120)) * time.Millisecond * time.Duration(i)
			wg.Go(func() {
				time.Sleep(wait)
				own := open(t, "meadow", uri)
				defer own.Close()
				plan, err := restore.NewPlan(ctx, e, moments[i], own,
					restore.Options{Pattern: "apiary.harvests", Conflict: restore.Replace})
				if err != nil {
					t.Errorf("pair %d: %v", pair, err)
					return
				}
				defer plan.Close()
				_, err = plan.Run(ctx)
				switch {
				case err == nil:
					done.Add(1)
				case errors.Is(err, run.ErrRefused):
					refused.Add(1)
				default:
					t.Errorf("pair %d: %v", pair, err)
				}
			})
		}
		wg.Wait()
		require.True(t, roots[content()], "pair %d: what is live is none of the moments", pair)
	}
	t.Logf("%d restores done, %d refused", done.Load(), refused.Load())
	require.GreaterOrEqual(t, int(done.Load()), pairs)
}

// dying returns what a cluster's log holds and then fails, as when the cluster is
// gone.
type dying struct{ engine.Logged }

var errGone = errors.New("the cluster is gone")

func (d dying) Follow(ctx context.Context, shard string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	end, err := d.LogEnd(ctx, shard)
	if err != nil {
		return err
	}
	return d.Logged.Follow(ctx, shard, after, func(changes []record.Change, p engine.Progress) error {
		if err := fn(changes, p); err != nil {
			return err
		}
		if p.Mark.Position >= end.Position {
			return errGone
		}
		return nil
	})
}

// TestWhatWasReadIsKept when reading fails, however seldom it is made durable.
func TestWhatWasReadIsKept(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: 1}})
	note(t, cl)
	src := open(t, "meadow", rs.URI())
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	insert(t, cl, "apiary.keepers", bson.D{{Key: "_id", Value: 2}})
	note(t, cl)
	got, err := capture.Run(ctx, e, "meadow", dying{src.(engine.Logged)},
		capture.Options{Follow: true, FlushEvery: time.Hour})
	require.ErrorIs(t, err, errGone)
	require.Positive(t, got.Changes)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
}
