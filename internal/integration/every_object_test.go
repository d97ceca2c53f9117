package integration_test

import (
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
	"dexamen/internal/engine"
	"dexamen/internal/engine/document"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// everyValue is a document with each type that BSON has.
func everyValue() bson.D {
	dec, _ := bson.ParseDecimal128("1234.5678")
	return bson.D{{Key: "double", Value: 1.5}, {Key: "string", Value: "Bienenstock 🐝"},
		{Key: "document", Value: bson.D{{Key: "a", Value: 1}}}, {Key: "array", Value: bson.A{1, "two", 3.0}},
		{Key: "binary", Value: bson.Binary{Subtype: 0x80, Data: []byte{1, 2, 3}}},
		{Key: "undefined", Value: bson.Undefined{}}, {Key: "objectid", Value: bson.NewObjectID()},
		{Key: "bool", Value: true}, {Key: "date", Value: bson.DateTime(1763979244123)}, {Key: "null", Value: nil},
		{Key: "regex", Value: bson.Regex{Pattern: "^b.*e$", Options: "i"}},
		{Key: "dbpointer", Value: bson.DBPointer{DB: "apiary.colonies", Pointer: bson.NewObjectID()}},
		{Key: "code", Value: bson.JavaScript("return 1")}, {Key: "symbol", Value: bson.Symbol("sym")},
		{Key: "scope", Value: bson.CodeWithScope{Code: "return x", Scope: bson.D{{Key: "x", Value: 1}}}},
		{Key: "int", Value: int32(7)}, {Key: "timestamp", Value: bson.Timestamp{T: 5, I: 6}},
		{Key: "long", Value: int64(1) << 40}, {Key: "decimal", Value: dec}, {Key: "min", Value: bson.MinKey{}},
		{Key: "max", Value: bson.MaxKey{}},
		{Key: "a.dotted.name", Value: 1}, {Key: "$dollar", Value: 2}, {Key: "", Value: "empty name"}}
}

// TestEveryObject: all kinds of collections, indexes and values, users and
// roles, come back as they were; also those that were made or changed in the
// log.
func TestEveryObject(t *testing.T) {
	rs := startSim(t, docsim.Options{Name: "meadow", NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	db := cl.Database("apiary")
	run := func(cmd bson.D) { t.Helper(); require.NoError(t, db.RunCommand(ctx, cmd).Err()) }
	create := func(name string, opts ...bson.E) {
		t.Helper()
		run(append(bson.D{{Key: "create", Value: name}}, opts...))
	}
	insert := func(coll string, docs ...any) {
		t.Helper()
		_, err := db.Collection(coll).InsertMany(ctx, docs)
		require.NoError(t, err)
	}
	build := func(suffix string) {
		create("capped"+suffix, bson.E{Key: "capped", Value: true}, bson.E{Key: "size", Value: int64(1 << 20)},
			bson.E{Key: "max", Value: int64(5)})
		create("clustered"+suffix, bson.E{
			Key: "clusteredIndex", Value: bson.D{
				{Key: "key", Value: bson.D{{Key: "_id", Value: 1}}}, {Key: "unique", Value: true}, {
					Key: "name", Value: "by time"}}}, bson.E{Key: "expireAfterSeconds", Value: int64(1 << 30)})
		create("collated"+suffix, bson.E{
			Key: "collation", Value: bson.D{{Key: "locale", Value: "de"}, {Key: "strength", Value: int32(2)}}})
		create("validated"+suffix, bson.E{
			Key: "validator", Value: bson.D{{Key: "kg", Value: bson.D{{Key: "$gte", Value: 0}}}}},
			bson.E{Key: "validationAction", Value: "warn"})
		create("weather"+suffix, bson.E{
			Key: "timeseries", Value: bson.D{
				{Key: "timeField", Value: "at"}, {Key: "metaField", Value: "yard"}, {
					Key: "granularity", Value: "minutes"}}}, bson.E{Key: "expireAfterSeconds", Value: int64(1 << 30)})
		create("heavy"+suffix, bson.E{Key: "viewOn", Value: "indexed" + suffix},
			bson.E{Key: "pipeline", Value: bson.A{
				bson.D{{Key: "$match", Value: bson.D{{Key: "kg", Value: bson.D{{Key: "$gt", Value: 30}}}}}}}})
		for i := range 12 {
			insert("capped"+suffix, bson.D{{Key: "_id", Value: int32(i)}, {Key: "n", Value: i}})
			insert("weather"+suffix, bson.D{
				{Key: "at", Value: bson.NewDateTimeFromTime(time.Now())}, {
					Key: "yard", Value: []string{"north", "mill"}[i%2]}, {Key: "rain", Value: i}})
			insert("clustered"+suffix, bson.D{
				{Key: "_id", Value: bson.NewDateTimeFromTime(time.Now().Add(time.Duration(i) * time.Second))}})
			insert("collated"+suffix, bson.D{
				{Key: "_id", Value: []string{
					"Ähre", "apfel", "Zaun", "aal", "Öl", "Bär", "bach", "Übel", "ulme", "Esche", "eiche",
					"ahorn"}[i]}})
		}
		insert("validated"+suffix, bson.D{{Key: "_id", Value: 1}, {Key: "kg", Value: -5}}) // allowed in with a warning
		key := func(fs ...any) bson.D {
			d := bson.D{}
			for i := 0; i < len(fs); i += 2 {
				d = append(d, bson.E{Key: fs[i].(string), Value: fs[i+1]})
			}
			return d
		}
		var specs bson.A
		for _, ix := range []bson.D{
			{{Key: "key", Value: key("u", int32(1))}, {Key: "name", Value: "unique"}, {Key: "unique", Value: true},
				{Key: "sparse", Value: true}},
			{{Key: "key", Value: key("p", int32(-1))}, {Key: "name", Value: "partial"},
				{Key: "partialFilterExpression", Value: key("kg", key("$gt", int32(5)))}},
			{{Key: "key", Value: key("at", int32(1))}, {Key: "name", Value: "ttl"},
				{Key: "expireAfterSeconds", Value: int32(1 << 30)}},
			{{Key: "key", Value: key("h", "hashed")}, {Key: "name", Value: "hashed"}},
			{{Key: "key", Value: key("_fts", "text", "_ftsx", int32(1))}, {Key: "name", Value: "text"},
				{Key: "weights", Value: key("note", int32(3))}, {Key: "default_language", Value: "german"},
				{Key: "language_override", Value: "language"}, {Key: "textIndexVersion", Value: int32(3)}},
			{{Key: "key", Value: key("where", "2dsphere")}, {Key: "name", Value: "geo"},
				{Key: "2dsphereIndexVersion", Value: int32(3)}},
			{{Key: "key", Value: key("$**", int32(1))}, {Key: "name", Value: "wildcard"},
				{Key: "wildcardProjection", Value: key("kg", int32(0))}},
			{{Key: "key", Value: key("a", int32(1), "b", int32(-1))}, {Key: "name", Value: "hidden"},
				{Key: "hidden", Value: true}, {Key: "collation", Value: key("locale", "fr")}},
		} {
			specs = append(specs, ix)
		}
		run(bson.D{{Key: "createIndexes", Value: "indexed" + suffix}, {Key: "indexes", Value: specs}})
		for i, id := range []any{bson.MinKey{}, nil, 1.5, int32(3), "text", bson.D{{Key: "k", Value: 1}},
			bson.Binary{Subtype: 4, Data: make([]byte, 16)}, bson.NewObjectID(), true,
			bson.DateTime(99), bson.Timestamp{T: 1, I: 2}, bson.MaxKey{}} {
			insert("indexed"+suffix, append(bson.D{{Key: "_id", Value: id}, {Key: "u", Value: fmt.Sprint(i, suffix)}},
				everyValue()...))
		}
		insert("indexed"+suffix, bson.D{
			{Key: "_id", Value: "large"}, {Key: "u", Value: "large" + suffix}, {
				Key: "photo", Value: make([]byte, 16<<20-200)}})
	}
	user := func(name, salt string) bson.D {
		return bson.D{{Key: "_id", Value: "apiary." + name}, {Key: "user", Value: name}, {Key: "db", Value: "apiary"},
			{Key: "credentials", Value: bson.D{{Key: "SCRAM-SHA-256", Value: bson.D{{Key: "salt", Value: salt}}}}},
			{Key: "roles", Value: bson.A{bson.D{{Key: "role", Value: "readWrite"}, {Key: "db", Value: "apiary"}}}}}
	}
	users := cl.Database("admin").Collection("system.users")
	_, err := users.InsertMany(ctx, []any{user("annelie", "a"), user("jürgen", "b")})
	require.NoError(t, err)
	_, err = cl.Database("admin").Collection("system.roles").InsertOne(ctx,
		bson.D{{Key: "_id", Value: "apiary.weigher"}, {Key: "role", Value: "weigher"}, {Key: "db", Value: "apiary"},
			{Key: "privileges", Value: bson.A{}}, {Key: "roles", Value: bson.A{}}})
	require.NoError(t, err)

	build("")
	n, err := db.Collection("capped").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 5, n, "the oldest are gone, as from a capped collection")
	note(t, cl)
	src, err := document.Driver{}.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI(), Settings: true})
	require.NoError(t, err)
	defer src.Close()
	e := newRunner(t)
	_, err = snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	build("_later")
	run(bson.D{{Key: "collMod", Value: "indexed"},
		{Key: "index", Value: bson.D{{Key: "name", Value: "ttl"}, {Key: "expireAfterSeconds", Value: int32(1 << 29)}}}})
	_, err = users.UpdateOne(ctx, bson.D{{Key: "user", Value: "jürgen"}},
		bson.D{{Key: "$set", Value: bson.D{{Key: "roles", Value: bson.A{}}}}})
	require.NoError(t, err)
	_, err = users.InsertOne(ctx, user("дарья", "c"))
	require.NoError(t, err)
	note(t, cl)
	_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
	require.NoError(t, err)

	target := startSim(t, docsim.Options{Name: "paddock", NoopEvery: fastNoops})
	tc := connect(t, target.URI())
	_, err = tc.Database("admin").Collection("system.users").InsertOne(ctx, user("annelie", "another password"))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	putBack := func(opt restore.Options) error {
		plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", target.URI()), opt)
		if err != nil {
			return err
		}
		defer plan.Close()
		_, err = plan.Run(ctx)
		return err
	}
	require.NoError(t, putBack(restore.Options{Settings: true}))
	want, got := definitions(t, cl), definitions(t, tc)
	require.Equal(t, want, got)
	require.Len(t, want, 17, "system.views among them")
	require.Equal(t, raws(t, cl), raws(t, tc))

	roles := func(c *mongo.Client) (out []string) {
		cur, err := c.Database("admin").Collection("system.users").Find(ctx, bson.D{})
		require.NoError(t, err)
		for cur.Next(ctx) {
			out = append(out, cur.Current.String())
		}
		return out
	}
	require.Len(t, roles(tc), 3)
	require.NotEqual(t, roles(cl), roles(tc), "who is there already stays as he is")
	err = putBack(restore.Options{Settings: true, Conflict: restore.Replace})
	require.ErrorContains(t, err, "time-series", "what cannot be replaced in one step is refused")
	require.NoError(t, putBack(restore.Options{Settings: true, Conflict: restore.Replace, Pattern: "apiary.validated"}))
	require.Equal(t, roles(cl), roles(tc))
}

// definitions returns what a server lists of all collections, identities left
// out.
func definitions(t *testing.T, cl *mongo.Client) map[string]string {
	out := map[string]string{}
	cur, err := cl.Database("apiary").ListCollections(ctx, bson.D{})
	require.NoError(t, err)
	for cur.Next(ctx) {
		name := cur.Current.Lookup("name").StringValue()
		text := cur.Current.Lookup("type").StringValue()
		var opts bson.D
		require.NoError(t, cur.Current.Lookup("options").Unmarshal(&opts))
		slices.SortFunc(opts, func(a, b bson.E) int { return strings.Compare(a.Key, b.Key) })
		text += fmt.Sprint(opts)
		if cur.Current.Lookup("type").StringValue() == "collection" {
			ix, err := cl.Database("apiary").Collection(name).Indexes().List(ctx)
			require.NoError(t, err)
			var list []string
			for ix.Next(ctx) {
				var d bson.D
				require.NoError(t, bson.Unmarshal(ix.Current, &d))
				slices.SortFunc(d, func(a, b bson.E) int { return strings.Compare(a.Key, b.Key) })
				list = append(list, fmt.Sprint(d))
			}
			slices.Sort(list)
			text += strings.Join(list, "\n")
		}
		out[name] = text
	}
	return out
}

// raws returns all documents of all collections, as they are kept.
func raws(t *testing.T, cl *mongo.Client) map[string][]string {
	out := map[string][]string{}
	names, err := cl.Database("apiary").ListCollectionNames(ctx, bson.D{{Key: "type", Value: "collection"}})
	require.NoError(t, err)
	for _, n := range names {
		cur, err := cl.Database("apiary").Collection(n).Find(ctx, bson.D{})
		require.NoError(t, err)
		for cur.Next(ctx) {
			out[n] = append(out[n], string(cur.Current))
		}
		require.NoError(t, cur.Err())
	}
	return out
}

// TestExpiredDocumentsComeBack: documents that a TTL index says are over are
// restored and found equal before it takes them.
func TestExpiredDocumentsComeBack(t *testing.T) {
	rs := startSim(t, docsim.Options{Name: "meadow", NoopEvery: fastNoops})
	target := startSim(t, docsim.Options{Name: "paddock", NoopEvery: fastNoops, ExpireEvery: time.Millisecond})
	cl, tc := connect(t, rs.URI()), connect(t, target.URI())
	c := cl.Database("apiary").Collection("sessions")
	for i := range 3000 {
		_, err := c.InsertOne(ctx, bson.D{
			{Key: "_id", Value: i}, {Key: "at", Value: bson.NewDateTimeFromTime(time.Now().Add(-time.Hour))}})
		require.NoError(t, err)
	}
	require.NoError(t, cl.Database("apiary").RunCommand(ctx,
		bson.D{{Key: "createIndexes", Value: "sessions"}, {Key: "indexes", Value: bson.A{
			bson.D{{Key: "key", Value: bson.D{{Key: "at", Value: 1}}}, {Key: "name", Value: "over"},
				{Key: "expireAfterSeconds", Value: 60}}}}}).Err())
	note(t, cl)
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	var told []string
	e.OnEvent = func(ev run.Event) {
		if ev.Kind == run.Note {
			told = append(told, ev.Text)
		}
	}
	plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", target.URI()), restore.Options{
		Rename: map[string]string{"apiary.sessions": "apiary.kept"}, Chosen: map[string]string{"ttl": "off"}})
	require.NoError(t, err)
	require.Contains(t, strings.Join(told, "\n"), `collMod: "kept", index: { name: "over", expireAfterSeconds: 60 }`)
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	plan.Close()
	told = nil
	plan, err = restore.NewPlan(ctx, e, m, open(t, "paddock", target.URI()), restore.Options{})
	require.NoError(t, err)
	defer plan.Close()
	require.Contains(t, strings.Join(told, "\n"), "3,000 records over by index over")
	done, err := plan.Run(ctx)
	require.NoError(t, err)
	require.True(t, done[0].Verified)
	require.EqualValues(t, 3000, done[0].Records)
	require.Eventually(t, func() bool {
		n, err := tc.Database("apiary").Collection("sessions").CountDocuments(ctx, bson.D{})
		return err == nil && n == 0
	}, 30*time.Second, 10*time.Millisecond, "and then the index does its work")
	n, err := tc.Database("apiary").Collection("kept").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 3000, n, "with ttl off nothing goes")
}

// TestCappedCollectionsKeepAnOrder: that of insertion is in no log, so that they come back in the order of their _id,
// and that is said before.
func TestCappedCollectionsKeepAnOrder(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	db := cl.Database("apiary")
	const n = 20_000 // several batches
	require.NoError(t, db.RunCommand(ctx, bson.D{{Key: "create", Value: "recent"}, {Key: "capped", Value: true},
		{Key: "size", Value: 1 << 24}, {Key: "max", Value: n}}).Err())
	list := make([]any, n)
	for i := range list {
		list[i] = bson.D{{Key: "_id", Value: n - i}, {Key: "text", Value: strings.Repeat("x", 100)}}
	}
	_, err := db.Collection("recent").InsertMany(ctx, list)
	require.NoError(t, err)
	note(t, cl)
	e := newRunner(t)
	var told []string
	e.OnEvent = func(ev run.Event) { told = append(told, ev.Text) }
	src := open(t, "meadow", rs.URI())
	_, err = snapshot.Take(ctx, e, "meadow", src)
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	plan, err := restore.NewPlan(ctx, e, m, src,
		restore.Options{Rename: map[string]string{"apiary.recent": "apiary.again"}})
	require.NoError(t, err)
	defer plan.Close()
	require.Contains(t, strings.Join(told, "\n"),
		"apiary.again is capped: its documents come back in the order of their _id")
	_, err = plan.Run(ctx)
	require.NoError(t, err)
	order := func(coll string) (ids []int32) {
		cur, err := db.Collection(coll).Find(ctx, bson.D{})
		require.NoError(t, err)
		for cur.Next(ctx) {
			ids = append(ids, cur.Current.Lookup("_id").Int32())
		}
		require.NoError(t, cur.Err())
		return ids
	}
	was, now := order("recent"), order("again")
	require.Len(t, now, n)
	require.True(t, slices.IsSorted(now), "in order, whatever was written at the same time")
	require.EqualValues(t, n, was[0], "the servers keep the order of insertion")
}

// TestExpiryOfCollections: clustered collections and time series whose expiry says that all in them is over are
// restored and found equal before it takes them, also from servers that give a time series no index onto such as do.
func TestExpiryOfCollections(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{Version: "6.0", NoopEvery: fastNoops, ExpireEvery: -1})
	target := startSim(t, docsim.Options{Name: "paddock", Version: "7.0", NoopEvery: fastNoops,
		ExpireEvery: time.Millisecond})
	cl, tc := connect(t, rs.URI()), connect(t, target.URI())
	db := cl.Database("apiary")
	expires := bson.E{Key: "expireAfterSeconds", Value: 60}
	require.NoError(t, db.RunCommand(ctx, bson.D{{Key: "create", Value: "visits"}, expires, {Key: "clusteredIndex",
		Value: bson.D{{Key: "key", Value: bson.D{{Key: "_id", Value: 1}}}, {Key: "unique", Value: true}}}}).Err())
	require.NoError(t, db.RunCommand(ctx, bson.D{{Key: "create", Value: "weights"}, expires, {Key: "timeseries",
		Value: bson.D{{Key: "timeField", Value: "at"}, {Key: "metaField", Value: "yard"}}}}).Err())
	for i := range 500 {
		at := bson.NewDateTimeFromTime(time.Now().Add(-time.Hour - time.Duration(i)*time.Minute))
		_, err := db.Collection("visits").InsertOne(ctx, bson.D{{Key: "_id", Value: at}, {Key: "n", Value: i}})
		require.NoError(t, err)
		_, err = db.Collection("weights").InsertOne(ctx, bson.D{{Key: "at", Value: at}, {Key: "yard", Value: "north"},
			{Key: "kg", Value: i}})
		require.NoError(t, err)
	}
	note(t, cl)
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "meadow", open(t, "meadow", rs.URI()))
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	plan, err := restore.NewPlan(ctx, e, m, open(t, "paddock", target.URI()), restore.Options{})
	require.NoError(t, err)
	defer plan.Close()
	done, err := plan.Run(ctx)
	require.NoError(t, err)
	require.Len(t, done, 2)
	for _, d := range done {
		require.True(t, d.Verified, d.To)
	}
	for _, coll := range []string{"visits", "system.buckets.weights"} {
		require.Eventually(t, func() bool {
			n, err := tc.Database("apiary").Collection(coll).CountDocuments(ctx, bson.D{})
			return err == nil && n == 0
		}, 30*time.Second, 10*time.Millisecond, "%s: and then the expiry does its work", coll)
	}
}
