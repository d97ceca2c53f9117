package docsim_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readconcern"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/sim/docsim"
)

var ctx = context.Background()

func start(t *testing.T, opt docsim.Options) (*docsim.ReplicaSet, *mongo.Client) {
	rs, err := docsim.Start(opt)
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	cl, err := mongo.Connect(options.Client().ApplyURI(rs.URI()).SetServerSelectionTimeout(15 * time.Second))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
	return rs, cl
}

// TestAnswersLikeARealServer sends the same random writes and queries to the
// stand-in and to a real server and compares what comes back.
func TestAnswersLikeARealServer(t *testing.T) {
	_, a := start(t, docsim.Options{})
	b := documenttest.Connect(t, documenttest.Start(t, ""))
	rng := rand.New(rand.NewPCG(11, 11))
	both := func(do func(c *mongo.Collection) string, what any) {
		t.Helper()
		x, y := do(a.Database("apiary").Collection("colonies")), do(b.Database("apiary").Collection("colonies"))
		require.Equal(t, y, x, "%v", what)
	}
	show := func(err error) string {
		var we mongo.WriteException
		var ce mongo.CommandError
		switch {
		case err == nil:
			return ""
		case errors.As(err, &we) && len(we.WriteErrors) > 0:
			return fmt.Sprint("write error ", we.WriteErrors[0].Code)
		case errors.As(err, &ce):
			return fmt.Sprint("error ", ce.Code)
		}
		return err.Error()
	}
	for i := range 60 {
		d := bson.D{{Key: "_id", Value: int32(i)}, {Key: "n", Value: int32(rng.IntN(20))},
			{Key: "yard", Value: []string{"north", "heath", "mill"}[rng.IntN(3)]},
			{Key: "kg", Value: float64(rng.IntN(100)) / 4},
			{Key: "q", Value: bson.D{{Key: "year", Value: int32(2020 + rng.IntN(5))},
				{Key: "marked", Value: rng.IntN(2) == 0}}},
			{Key: "tags", Value: bson.A{"a", "b", "c"}[:rng.IntN(4)]},
			{Key: "boxes", Value: bson.A{
				bson.D{{Key: "no", Value: int32(rng.IntN(4))}}, bson.D{{Key: "no", Value: int32(9)}}}}}
		if i%7 == 0 {
			d = append(d, bson.E{Key: "gone", Value: nil})
		}
		both(func(c *mongo.Collection) string { _, err := c.InsertOne(ctx, d); return show(err) }, d)
	}
	both(func(c *mongo.Collection) string {
		_, err := c.InsertOne(ctx, bson.D{{Key: "_id", Value: int32(3)}})
		return show(err)
	}, "the same _id again")
	filters := []bson.D{
		{}, {{Key: "n", Value: 5}}, {{Key: "n", Value: bson.D{{Key: "$gt", Value: 10}}}}, {
			{Key: "n", Value: bson.D{{Key: "$gte", Value: 3}, {Key: "$lt", Value: 9}}}},
		{{Key: "yard", Value: bson.D{{Key: "$in", Value: bson.A{"north", "mill"}}}}},
		{{Key: "yard", Value: bson.D{{Key: "$nin", Value: bson.A{"north"}}}}},
		{{Key: "yard", Value: bson.D{{Key: "$ne", Value: "north"}}}},
		{{Key: "q.year", Value: 2022}}, {{Key: "tags", Value: "b"}},
		{{Key: "tags", Value: bson.D{{Key: "$size", Value: 2}}}},
		{{Key: "tags", Value: bson.D{{Key: "$all", Value: bson.A{"a", "b"}}}}},
		{{Key: "gone", Value: bson.D{{Key: "$exists", Value: true}}}}, {{Key: "gone", Value: nil}},
		{{Key: "$or", Value: bson.A{bson.D{{Key: "n", Value: 1}}, bson.D{{Key: "yard", Value: "mill"}}}}},
		{
			{Key: "$and", Value: bson.A{
				bson.D{{Key: "n", Value: bson.D{{Key: "$lte", Value: 12}}}}, bson.D{{Key: "yard", Value: "heath"}}}}},
		{{Key: "$nor", Value: bson.A{bson.D{{Key: "yard", Value: "mill"}}}}},
		{{Key: "yard", Value: bson.D{{Key: "$regex", Value: "^n"}}}},
		{{Key: "n", Value: bson.D{{Key: "$mod", Value: bson.A{4, 1}}}}},
		{{Key: "n", Value: bson.D{{Key: "$not", Value: bson.D{{Key: "$gt", Value: 4}}}}}},
		{{Key: "boxes.no", Value: 3}}, {{Key: "kg", Value: bson.D{{Key: "$type", Value: "double"}}}},
		{{Key: "_id", Value: bson.D{{Key: "$gte", Value: 50}}}},
	}
	query := func(f bson.D) {
		t.Helper()
		both(func(c *mongo.Collection) string {
			cur, err := c.Find(ctx, f)
			if err != nil {
				return show(err)
			}
			var out []string
			for cur.Next(ctx) {
				out = append(out, cur.Current.String())
			}
			slices.Sort(out)
			n, err := c.CountDocuments(ctx, f)
			return strings.Join(out, "\n") + fmt.Sprint(n) + show(err) + show(cur.Err())
		}, f)
	}
	for _, f := range filters {
		query(f)
	}
	updates := []bson.D{
		{
			{Key: "$set", Value: bson.D{
				{Key: "n", Value: int32(7)}, {Key: "q.year", Value: int32(2026)}, {Key: "new.deep", Value: "x"}}}},
		{{Key: "$unset", Value: bson.D{{Key: "gone", Value: ""}}}},
		{{Key: "$inc", Value: bson.D{{Key: "n", Value: int32(3)}}}},
		{{Key: "$inc", Value: bson.D{{Key: "kg", Value: 1.5}}}},
		{{Key: "$mul", Value: bson.D{{Key: "n", Value: int32(2)}}}},
		{{Key: "$min", Value: bson.D{{Key: "n", Value: int32(4)}}}},
		{{Key: "$max", Value: bson.D{{Key: "n", Value: int32(15)}}}},
		{{Key: "$push", Value: bson.D{{Key: "tags", Value: "z"}}}},
		{{Key: "$addToSet", Value: bson.D{{Key: "tags", Value: "a"}}}},
		{{Key: "$pop", Value: bson.D{{Key: "tags", Value: 1}}}},
		{{Key: "$pop", Value: bson.D{{Key: "tags", Value: -1}}}},
		{{Key: "$rename", Value: bson.D{{Key: "kg", Value: "weight"}}}},
		{{Key: "$set", Value: bson.D{{Key: "_id", Value: int32(999)}}}},
		{{Key: "$inc", Value: bson.D{{Key: "yard", Value: 1}}}},
		{{Key: "$push", Value: bson.D{{Key: "tags", Value: bson.D{{Key: "$each", Value: bson.A{"p", "q"}}}}}}},
		{{Key: "$set", Value: bson.D{{Key: "tags.1", Value: "second"}}}},
	}
	for i := range 120 {
		f, u := filters[rng.IntN(len(filters))], updates[rng.IntN(len(updates))]
		f = append(slices.Clone(f), bson.E{Key: "_id", Value: bson.D{{Key: "$lt", Value: 20 + rng.IntN(40)}}})
		if len(f) > 1 && f[0].Key == "_id" {
			f = f[:1]
		}
		both(func(c *mongo.Collection) string {
			r, err := c.UpdateMany(ctx, f, u)
			if err != nil {
				return show(err)
			}
			return fmt.Sprint(r.MatchedCount, r.ModifiedCount)
		}, fmt.Sprint(f, u))
		if i%20 == 19 {
			query(bson.D{})
		}
	}
	both(func(c *mongo.Collection) string {
		r, err := c.UpdateOne(ctx, bson.D{{Key: "_id", Value: int32(700)}, {Key: "yard", Value: "mill"}},
			bson.D{{Key: "$setOnInsert", Value: bson.D{{Key: "n", Value: 1}}},
				{Key: "$set", Value: bson.D{{Key: "m", Value: 2}}}}, options.UpdateOne().SetUpsert(true))
		return fmt.Sprint(r.UpsertedCount, r.UpsertedID, show(err))
	}, "upsert")
	both(func(c *mongo.Collection) string {
		var d bson.D
		err := c.FindOneAndUpdate(ctx, bson.D{{Key: "_id", Value: int32(700)}},
			bson.D{{Key: "$set", Value: bson.D{{Key: "m", Value: 3}}}},
			options.FindOneAndUpdate().SetReturnDocument(options.After)).Decode(&d)
		return fmt.Sprint(d, show(err))
	}, "find and update")
	both(func(c *mongo.Collection) string {
		r, err := c.DeleteMany(ctx, bson.D{{Key: "yard", Value: "heath"}})
		return fmt.Sprint(r.DeletedCount, show(err))
	}, "delete")
	both(func(c *mongo.Collection) string {
		var vals []string
		err := c.Distinct(ctx, "yard", bson.D{}).Decode(&vals)
		slices.Sort(vals)
		return fmt.Sprint(vals, show(err))
	}, "distinct")
	query(bson.D{})
	both(func(c *mongo.Collection) string {
		_, err := c.Indexes().CreateOne(ctx,
			mongo.IndexModel{Keys: bson.D{{Key: "n", Value: 1}}, Options: options.Index().SetName("n_1")})
		return show(err)
	}, "index")
	both(func(c *mongo.Collection) string {
		return show(c.Indexes().DropOne(ctx, "nothing"))
	}, "dropping an index that is not there")
	both(func(c *mongo.Collection) string { return show(c.Drop(ctx)) + show(c.Drop(ctx)) }, "drop, and again")
}

func TestWhatAMajorityHoldsStays(t *testing.T) {
	rs, cl := start(t, docsim.Options{NoopEvery: 50 * time.Millisecond})
	safe := cl.Database("apiary").Collection("c", options.Collection().SetWriteConcern(writeconcern.Majority()))
	_, err := safe.InsertOne(ctx, bson.D{{Key: "_id", Value: "kept"}})
	require.NoError(t, err)
	// Cut the others off: what the primary writes now reaches nobody.
	old := rs.Primary()
	for i := range 3 {
		if i != old {
			rs.Delay(i, time.Hour)
		}
	}
	_, err = cl.Database("apiary").Collection("c",
		options.Collection().SetWriteConcern(writeconcern.W1())).InsertOne(ctx, bson.D{{Key: "_id", Value: "lost"}})
	require.NoError(t, err)
	seen := func(level *readconcern.ReadConcern) (ids []string) {
		cur, err := cl.Database("apiary").Collection("c", options.Collection().SetReadConcern(level)).Find(ctx,
			bson.D{})
		require.NoError(t, err)
		for cur.Next(ctx) {
			ids = append(ids, cur.Current.Lookup("_id").StringValue())
		}
		return ids
	}
	require.Equal(t, []string{"kept", "lost"}, seen(readconcern.Local()))
	require.Equal(t, []string{"kept"}, seen(readconcern.Majority()))
	rs.Kill(old)
	for i := range 3 {
		rs.Delay(i, 0)
	}
	require.Eventually(t, func() bool { return rs.Primary() >= 0 && rs.Primary() != old }, 30*time.Second,
		10*time.Millisecond)
	require.Eventually(t, func() bool {
		_, err := safe.InsertOne(ctx, bson.D{{Key: "_id", Value: "new"}})
		return err == nil || mongo.IsDuplicateKeyError(err)
	}, 20*time.Second, 50*time.Millisecond)
	require.NoError(t, rs.Restart(old))
	direct, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + rs.Addresses()[old]).SetDirect(true))
	require.NoError(t, err)
	t.Cleanup(func() { _ = direct.Disconnect(context.Background()) })
	require.Eventually(t, func() bool {
		n, err := direct.Database("apiary").Collection("c").CountDocuments(ctx, bson.D{{Key: "_id", Value: "new"}})
		return err == nil && n == 1
	}, 30*time.Second, 20*time.Millisecond)
	n, err := direct.Database("apiary").Collection("c").CountDocuments(ctx, bson.D{{Key: "_id", Value: "lost"}})
	require.NoError(t, err)
	require.Zero(t, n, "what was never on a majority is rolled back")
}

// A primary that is cut off takes writes that a majority never has, under
// cluster times that the others use too, until it stands down; they are rolled
// back when it is one of the others again.
func TestAPrimaryThatIsCutOff(t *testing.T) {
	rs, cl := start(t, docsim.Options{})
	safe := cl.Database("apiary").Collection("c", options.Collection().SetWriteConcern(writeconcern.Majority()))
	_, err := safe.InsertOne(ctx, bson.D{{Key: "_id", Value: "kept"}})
	require.NoError(t, err)
	old := rs.Primary()
	client := func(i int) *mongo.Client {
		cl, err := mongo.Connect(options.Client().ApplyURI("mongodb://" +
			rs.Addresses()[i]).SetDirect(true).SetRetryWrites(false))
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
		return cl
	}
	direct := client(old)
	alone := direct.Database("apiary").Collection("c")
	ids := func(c *mongo.Collection, rc *readconcern.ReadConcern) (out []string) {
		cur, err := c.Database().Collection("c", options.Collection().SetReadConcern(rc)).Find(ctx, bson.D{})
		require.NoError(t, err)
		var docs []bson.M
		require.NoError(t, cur.All(ctx, &docs))
		for _, d := range docs {
			out = append(out, d["_id"].(string))
		}
		return out
	}
	rs.CutOff(old)
	_, err = alone.InsertOne(ctx, bson.D{{Key: "_id", Value: "lost"}})
	require.NoError(t, err, "it takes writes")
	require.Equal(t, []string{"kept", "lost"}, ids(alone, readconcern.Local()))
	require.Equal(t, []string{"kept"}, ids(alone, readconcern.Majority()))
	var st struct {
		Members []struct {
			Health float64
			Self   bool
		}
	}
	require.NoError(t, direct.Database("admin").RunCommand(ctx,
		bson.D{{Key: "replSetGetStatus", Value: 1}}).Decode(&st))
	for _, m := range st.Members {
		require.Equal(t, m.Self, m.Health == 1, "it reaches nobody")
	}
	require.Eventually(t, func() bool { return rs.Primary() >= 0 && rs.Primary() != old },
		30*time.Second, 10*time.Millisecond)
	next := client(rs.Primary()).Database("apiary").Collection("c",
		options.Collection().SetWriteConcern(writeconcern.Majority()))
	_, err = next.InsertOne(ctx, bson.D{{Key: "_id", Value: "new"}})
	require.NoError(t, err)
	require.NotContains(t, ids(alone, readconcern.Local()), "new", "it hears nothing of the others")
	require.Eventually(t, func() bool {
		_, err := alone.InsertOne(ctx, bson.D{{Key: "_id", Value: time.Now().String()}})
		return err != nil
	}, 30*time.Second, 100*time.Millisecond, "it stands down")
	rs.Rejoin(old)
	require.Eventually(t,
		func() bool { return slices.Equal(ids(alone, readconcern.Local()), []string{"kept", "new"}) }, 30*time.Second,
		20*time.Millisecond)
	require.Equal(t, []string{"kept", "new"}, ids(next, readconcern.Majority()))
}

func TestTheLogHasTheDocumentedForm(t *testing.T) {
	for _, form := range []int{1, 2} {
		_, cl := start(t, docsim.Options{LogForm: form})
		c := cl.Database("apiary").Collection("colonies")
		_, err := c.InsertOne(ctx, bson.D{
			{Key: "_id", Value: 1}, {Key: "a", Value: 1}, {Key: "q", Value: bson.D{{Key: "y", Value: 1}}}})
		require.NoError(t, err)
		_, err = c.UpdateOne(ctx, bson.D{{Key: "_id", Value: 1}},
			bson.D{{Key: "$set", Value: bson.D{{Key: "q.y", Value: 2}, {Key: "z", Value: 1}}},
				{Key: "$unset", Value: bson.D{{Key: "a", Value: ""}}}})
		require.NoError(t, err)
		_, err = c.DeleteOne(ctx, bson.D{{Key: "_id", Value: 1}})
		require.NoError(t, err)
		require.NoError(t, cl.Database("admin").RunCommand(ctx,
			bson.D{{Key: "renameCollection", Value: "apiary.colonies"}, {Key: "to", Value: "apiary.c"}}).Err())
		require.NoError(t, cl.Database("apiary").Drop(ctx))
		cur, err := cl.Database("local").Collection("oplog.rs").Find(ctx,
			bson.D{{Key: "op", Value: bson.D{{Key: "$ne", Value: "n"}}}})
		require.NoError(t, err)
		var ops []string
		var last bson.Timestamp
		for cur.Next(ctx) {
			var e struct {
				TS bson.Timestamp
				Op string
				NS string
				V  int64
				UI bson.Binary
				O  bson.D
			}
			require.NoError(t, bson.Unmarshal(cur.Current, &e))
			require.True(t, e.TS.After(last), "in order")
			require.EqualValues(t, 2, e.V)
			last = e.TS
			o, _ := bson.MarshalExtJSON(e.O, false, false)
			ops = append(ops, e.Op+" "+e.NS+" "+string(o))
		}
		update := `u apiary.colonies {"$v":2,"diff":{"d":{"a":false},"i":{"z":1},"sq":{"u":{"y":2}}}}`
		if form == 1 {
			update = `u apiary.colonies {"$v":1,"$unset":{"a":true},"$set":{"q.y":2,"z":1}}`
		}
		require.Equal(t, []string{
			`c apiary.$cmd {"create":"colonies","idIndex":{"v":2,"key":{"_id":1},"name":"_id_"}}`,
			`i apiary.colonies {"_id":1,"a":1,"q":{"y":1}}`, update, `d apiary.colonies {"_id":1}`,
			`c apiary.$cmd {"renameCollection":"apiary.colonies","to":"apiary.c","stayTemp":false}`,
			`c apiary.$cmd {"drop":"c"}`, `c apiary.$cmd {"dropDatabase":1}`}, ops)
	}
}

func TestRefusals(t *testing.T) {
	rs, cl := start(t, docsim.Options{})
	code := func(err error) int32 {
		var ce mongo.CommandError
		require.ErrorAs(t, err, &ce)
		return ce.Code
	}
	db := cl.Database("apiary")
	require.NoError(t, db.CreateCollection(ctx, "a"))
	require.EqualValues(t, 48, code(db.CreateCollection(ctx, "a")))
	require.EqualValues(t, 59, code(db.RunCommand(ctx, bson.D{{Key: "noSuchCommand", Value: 1}}).Err()))
	require.EqualValues(t, 26,
		code(cl.Database("admin").RunCommand(ctx,
			bson.D{{Key: "renameCollection", Value: "apiary.none"}, {Key: "to", Value: "apiary.b"}}).Err()))
	require.NoError(t, db.CreateCollection(ctx, "b"))
	require.EqualValues(t, 48,
		code(cl.Database("admin").RunCommand(ctx,
			bson.D{{Key: "renameCollection", Value: "apiary.a"}, {Key: "to", Value: "apiary.b"}}).Err()))
	_, err := db.Collection("a").Find(ctx, bson.D{{Key: "x", Value: bson.D{{Key: "$near", Value: 1}}}})
	require.ErrorContains(t, err, "$near", "also where there is nothing that it would be tried on")
	_, err = db.Collection("a").InsertOne(ctx, bson.D{{Key: "_id", Value: bson.A{1}}})
	require.Error(t, err)
	_, err = db.Collection("a").Indexes().CreateOne(ctx,
		mongo.IndexModel{Keys: bson.D{{Key: "u", Value: 1}}, Options: options.Index().SetUnique(true)})
	require.NoError(t, err)
	_, err = db.Collection("a").InsertOne(ctx, bson.D{{Key: "u", Value: 1}})
	require.NoError(t, err)
	_, err = db.Collection("a").InsertOne(ctx, bson.D{{Key: "u", Value: 1.0}})
	require.True(t, mongo.IsDuplicateKeyError(err))
	secondary := (rs.Primary() + 1) % 3
	direct, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + rs.Addresses()[secondary]).SetDirect(true))
	require.NoError(t, err)
	t.Cleanup(func() { _ = direct.Disconnect(context.Background()) })
	require.EqualValues(t, 10107, code(direct.Database("apiary").CreateCollection(ctx, "c")))
}

// TestControl has a set rehearse what happens to real ones, by lines of text.
func TestControl(t *testing.T) {
	rs, err := docsim.Start(docsim.Options{})
	require.NoError(t, err)
	defer rs.Close()
	c := rs.Control()
	do := func(line, want string) {
		t.Helper()
		said, err := c.Do(line)
		require.NoError(t, err)
		require.Contains(t, said, want)
	}
	member := rs.Addresses()[1]
	do("members", member+" secondary")
	do("stop "+member, "stop "+member)
	do("members", member+" stopped")
	_, err = c.Do("stop " + member)
	require.ErrorContains(t, err, "stopped already")
	do("start "+member, "start")
	do("members", member+" secondary")
	do("cut "+member, "cut")
	do("members", member+" cut off")
	do("rejoin "+member, "rejoin")
	cl, err := mongo.Connect(options.Client().ApplyURI(rs.URI()))
	require.NoError(t, err)
	defer func() { _ = cl.Disconnect(context.Background()) }()
	coll := cl.Database("apiary").Collection("combs")
	for i := range 50 {
		_, err = coll.InsertOne(context.Background(), bson.D{{Key: "_id", Value: i}})
		require.NoError(t, err)
	}
	entries := func() int64 {
		n, err := cl.Database("local").Collection("oplog.rs").CountDocuments(context.Background(), bson.D{})
		require.NoError(t, err)
		return n
	}
	require.Greater(t, entries(), int64(50))
	require.Eventually(t, func() bool { do("lose-log", "forgotten"); return entries() <= 3 }, 5*time.Second, 100*time.Millisecond)
	for _, line := range []string{"frob", "stop", "stop nowhere", "rejoin " + member} {
		_, err := c.Do(line)
		require.Error(t, err, line)
	}
}
