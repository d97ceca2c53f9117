package integration_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"dexamen/internal/explain"
	"dexamen/internal/sim/docsim"

	_ "dexamen/internal/engine/all"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

var ctx = context.Background()

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "dexamen-state-*")
	if err == nil {
		err = os.Setenv("XDG_STATE_HOME", dir) // not what this machine's user has seen
	}
	if err != nil {
		panic(err)
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// world is a database server's whole content, as a plain driver reads it: for
// each namespace its documents by _id, and its indexes.
type world map[string]contents

type contents struct {
	docs    []string // raw bytes, in order of their text
	indexes []string
}

func readWorld(t testing.TB, cl *mongo.Client) world {
	w := world{}
	dbs, err := cl.ListDatabaseNames(ctx, bson.D{})
	require.NoError(t, err)
	for _, db := range dbs {
		if db == "admin" || db == "local" || db == "config" || db == "dexamen_work" {
			continue
		}
		colls, err := cl.Database(db).ListCollectionNames(ctx, bson.D{{Key: "type", Value: "collection"}})
		require.NoError(t, err)
		for _, name := range colls {
			if name == "system.views" {
				continue
			}
			var c contents
			cur, err := cl.Database(db).Collection(name).Find(ctx, bson.D{})
			require.NoError(t, err)
			for cur.Next(ctx) {
				c.docs = append(c.docs, string(cur.Current))
			}
			require.NoError(t, cur.Err())
			ix, err := cl.Database(db).Collection(name).Indexes().List(ctx)
			require.NoError(t, err)
			for ix.Next(ctx) {
				var d bson.D
				require.NoError(t, bson.Unmarshal(ix.Current, &d))
				slices.SortFunc(d, func(a, b bson.E) int { return strings.Compare(a.Key, b.Key) })
				text, _ := bson.MarshalExtJSON(d, true, false)
				c.indexes = append(c.indexes, string(text))
			}
			slices.Sort(c.docs)
			slices.Sort(c.indexes)
			w[db+"."+name] = c
		}
	}
	return w
}

func (w world) equal(t testing.TB, got world, what string) {
	t.Helper()
	for ns, c := range w {
		g, ok := got[ns]
		require.True(t, ok, "%s: %s is missing", what, ns)
		require.Equal(t, c.indexes, g.indexes, "%s: %s: indexes", what, ns)
		if slices.Equal(c.docs, g.docs) {
			continue
		}
		for _, d := range c.docs {
			if !slices.Contains(g.docs, d) {
				t.Errorf("%s: %s lacks %s", what, ns, bson.Raw(d))
				break
			}
		}
		for _, d := range g.docs {
			if !slices.Contains(c.docs, d) {
				t.Errorf("%s: %s has %s", what, ns, bson.Raw(d))
				break
			}
		}
		t.Fatalf("%s: %s: %d documents, want %d", what, ns, len(g.docs), len(c.docs))
	}
	for ns := range got {
		require.Contains(t, w, ns, "%s: %s should not be there", what, ns)
	}
}

// workload changes a database at random, as applications do.
type workload struct {
	rng     *rand.Rand
	cl      *mongo.Client
	defines bool // also drops, renames, indexes
	bigIDs  bool
	// lenient lets every error pass, where servers are killed.
	lenient bool
}

var spaces = []string{"colonies", "harvests", "harvests_2025", "inspections"}

func (w *workload) coll() *mongo.Collection {
	return w.cl.Database("apiary").Collection(spaces[w.rng.IntN(len(spaces))])
}

func (w *workload) id() any {
	n := w.rng.IntN(60)
	if !w.bigIDs {
		return int32(n)
	}
	switch n % 6 {
	case 0:
		return int32(n)
	case 1:
		return "Stock " + strconv.Itoa(n)
	case 2:
		return bson.ObjectID{11: byte(n)}
	case 3:
		return bson.D{{Key: "yard", Value: "north"}, {Key: "row", Value: int32(n)}}
	case 4:
		return float64(n) + 0.5
	}
	return int64(n) << 33
}

func (w *workload) value(depth int) any {
	switch w.rng.IntN(12) {
	case 0:
		return w.rng.Float64() * 1000
	case 1:
		return "Bienenvolk " + strconv.Itoa(w.rng.IntN(1000))
	case 2:
		return w.rng.IntN(2) == 0
	case 3:
		return nil
	case 4:
		return bson.NewDateTimeFromTime(time.UnixMilli(w.rng.Int64N(2e12)))
	case 5:
		return bson.Binary{Subtype: 0, Data: []byte{1, 2, byte(w.rng.IntN(256))}}
	case 6:
		return w.rng.Int64()
	case 7, 8:
		if depth > 0 {
			d := bson.D{}
			for _, k := range []string{"a", "b", "c", "d"}[:w.rng.IntN(5)] {
				d = append(d, bson.E{Key: k, Value: w.value(depth - 1)})
			}
			return d
		}
	case 9, 10:
		if depth > 0 {
			a := bson.A{}
			for range w.rng.IntN(5) {
				a = append(a, w.value(depth-1))
			}
			return a
		}
	}
	return int32(w.rng.IntN(1000))
}

var paths = []string{"a", "b", "c", "n", "a.b", "b.c.d", "c.0", "b.1.a", "a.a", "n.d"}

func (w *workload) step() {
	c := w.coll()
	filter := bson.D{{Key: "_id", Value: w.id()}}
	var err error
	kind := w.rng.IntN(100)
	if !w.defines && kind >= 94 {
		kind = 10
	}
	switch {
	case kind < 30:
		d := bson.D{{Key: "_id", Value: w.id()}}
		for _, k := range []string{"n", "a", "b", "c"}[:w.rng.IntN(5)] {
			d = append(d, bson.E{Key: k, Value: w.value(3)})
		}
		_, err = c.InsertOne(ctx, d)
	case kind < 45:
		_, err = c.ReplaceOne(ctx, filter, bson.D{{Key: "b", Value: w.value(3)}, {Key: "a", Value: w.value(2)}},
			options.Replace().SetUpsert(w.rng.IntN(2) == 0))
	case kind < 75:
		u := bson.D{}
		used := map[string]bool{}
		for range 1 + w.rng.IntN(2) {
			p := paths[w.rng.IntN(len(paths))]
			if head, _, _ := strings.Cut(p, "."); used[head] {
				continue
			} else {
				used[head] = true
			}
			op, v := "$set", w.value(2)
			switch w.rng.IntN(5) {
			case 0:
				op, v = "$unset", ""
			case 1:
				op = "$push"
			}
			u = append(u, bson.E{Key: op, Value: bson.D{{Key: p, Value: v}}})
		}
		seen := map[string]bool{}
		u = slices.DeleteFunc(u, func(e bson.E) bool { twice := seen[e.Key]; seen[e.Key] = true; return twice })
		_, err = c.UpdateOne(ctx, filter, u)
	case kind < 82:
		_, err = c.UpdateMany(ctx, bson.D{}, bson.D{{Key: "$set", Value: bson.D{{Key: "n", Value: w.rng.IntN(100)}}}})
	case kind < 94:
		_, err = c.DeleteOne(ctx, filter)
	case kind == 94:
		err = c.Drop(ctx)
	case kind == 95:
		to := spaces[w.rng.IntN(len(spaces))]
		if to != c.Name() {
			err = w.cl.Database("admin").RunCommand(ctx, bson.D{{Key: "renameCollection", Value: "apiary." + c.Name()},
				{Key: "to", Value: "apiary." + to}, {Key: "dropTarget", Value: w.rng.IntN(2) == 0}}).Err()
		}
	case kind == 96:
		_, err = c.Indexes().CreateOne(ctx,
			mongo.IndexModel{Keys: bson.D{{Key: "n", Value: 1}}, Options: options.Index().SetSparse(true)})
	case kind == 97:
		err = c.Indexes().DropOne(ctx, "n_1")
	case kind == 98:
		err = w.cl.Database("apiary").CreateCollection(ctx, c.Name(),
			options.CreateCollection().SetValidator(bson.D{
				{Key: "n", Value: bson.D{{Key: "$exists", Value: true}}}}).SetValidationLevel("off"))
	case kind == 99:
		err = w.cl.Database("apiary").RunCommand(ctx,
			bson.D{{Key: "collMod", Value: c.Name()}, {Key: "validationLevel", Value: "moderate"}}).Err()
	}
	var ce mongo.CommandError
	var we mongo.WriteException
	if err != nil && !w.lenient && !errors.As(err, &ce) && !errors.As(err, &we) {
		panic(fmt.Sprintf("%s: %v", c.Name(), err))
	}
}

// busy goes on working, with a pause after each step, while do runs.
func (w *workload) busy(pause time.Duration, do func()) {
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			default:
				w.step()
				time.Sleep(pause)
			}
		}
	}()
	defer func() {
		close(stop)
		<-ended
	}()
	do()
}

func connect(t testing.TB, uri string) *mongo.Client {
	cl, err := mongo.Connect(options.Client().ApplyURI(uri).SetServerSelectionTimeout(20 * time.Second))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
	return cl
}

func startSim(t testing.TB, opt docsim.Options) *docsim.ReplicaSet {
	rs, err := docsim.Start(opt)
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	return rs
}

func open(t testing.TB, name, uri string) engine.Cluster { return openWith(t, name, uri, nil) }

func openWith(t testing.TB, name, uri string, options map[string]any) engine.Cluster {
	_, drv, err := engine.ForAddress(uri)
	require.NoError(t, err)
	var c engine.Cluster
	for began := time.Now(); ; { // a machine may stand still for longer than servers are waited for
		c, err = drv.Open(ctx, engine.Target{Name: name, Address: uri, Options: options})
		if !errors.Is(err, context.DeadlineExceeded) || time.Since(began) > 2*time.Minute {
			break
		}
	}
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func newRunner(t testing.TB) *run.Runner {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	return reopen(t, b)
}

func reopen(t testing.TB, b blob.Backend) *run.Runner {
	s, err := store.Open(ctx, b, store.Options{FileBytes: 1 << 20})
	require.NoError(t, err)
	return &run.Runner{Store: s, Explain: explain.Error, Tool: "test", Temp: t.TempDir(), Memory: 1 << 20}
}

// note writes an entry that says nothing and waits until a majority has it: the
// log then reaches past all that was written before.
func note(t testing.TB, cl *mongo.Client) {
	t.Helper()
	require.NoError(t, cl.Database("admin").RunCommand(ctx,
		bson.D{{Key: "appendOplogNote", Value: 1}, {Key: "data", Value: bson.D{}},
			{Key: "writeConcern", Value: bson.D{{Key: "w", Value: "majority"}}}}).Err())
}

func dropAll(t testing.TB, cl *mongo.Client) {
	dbs, err := cl.ListDatabaseNames(ctx, bson.D{})
	require.NoError(t, err)
	for _, db := range dbs {
		if db != "admin" && db != "local" && db != "config" {
			require.NoError(t, cl.Database(db).Drop(ctx))
		}
	}
}

// notedMoment is a state that was noted while nothing was written.
type notedMoment struct {
	at   time.Time
	want world
}

// TestHistories writes at random, snapshots while writes go on, captures, and
// restores noted moments elsewhere; every one must be what it was.
func TestHistories(t *testing.T) {
	n := 6
	if s := os.Getenv("DEXAMEN_HISTORIES"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	first := 1
	if s := os.Getenv("DEXAMEN_SEED"); s != "" {
		first, _ = strconv.Atoi(s)
		n = 1
	}
	for seed := first; seed < first+n; seed++ {
		t.Run(strconv.Itoa(seed), func(t *testing.T) { history(t, uint64(seed)) })
	}
}

func history(t *testing.T, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 77))
	rs := startSim(t, docsim.Options{Name: "meadow", LogForm: 1 + int(seed%2), NoopEvery: 300 * time.Millisecond})
	target := startSim(t, docsim.Options{Name: "paddock", NoopEvery: 300 * time.Millisecond})
	w := &workload{rng: rng, cl: connect(t, rs.URI()), defines: true, bigIDs: seed%3 != 0}
	e := newRunner(t)
	src := open(t, "meadow", rs.URI())
	for range 100 {
		w.step()
	}
	var noted []notedMoment
	remember := func() {
		time.Sleep(3 * time.Millisecond)
		noted = append(noted, notedMoment{time.Now(), readWorld(t, w.cl)})
		time.Sleep(3 * time.Millisecond)
		note(t, w.cl)
	}
	for round := range 3 {
		w.busy(0, func() {
			_, err := snapshot.Take(ctx, e, "meadow", src)
			require.NoError(t, err)
		})
		for range 3 {
			for range 30 {
				w.step()
			}
			remember()
		}
		if round == 1 && rng.IntN(2) == 0 {
			rs.Kill(rs.Primary())
		}
		_, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
	}
	points, _, err := e.Store.Points(ctx, "meadow")
	require.NoError(t, err)
	for _, p := range points[1:] {
		proof, err := verify.Point(ctx, e, p)
		require.NoError(t, err)
		require.True(t, proof.Equal, "the fold of the log is the next point: %s", proof.NotFolded)
	}
	tc := connect(t, target.URI())
	tgt := open(t, "paddock", target.URI())
	for i, m := range noted {
		got, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: m.at}, restore.OnScratch{})
		require.NoError(t, err)
		dropAll(t, tc)
		if len(m.want) > 0 {
			plan, err := restore.NewPlan(ctx, e, got, tgt, restore.Options{})
			require.NoError(t, err)
			_, err = plan.Run(ctx)
			require.NoError(t, err, "moment %d", i)
			plan.Close()
		}
		m.want.equal(t, readWorld(t, tc), fmt.Sprintf("seed %d, moment %d (%s)", seed, i, m.at))
	}
}
