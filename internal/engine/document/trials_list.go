package document

import (
	"context"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/engine"
)

func e(name string, v any) bson.E { return bson.E{Key: name, Value: v} }

func d(fields ...bson.E) bson.D { return fields }

// cappedTrial is the one that decides whether capped collections are protected.
const cappedTrial = "create.capped"

// list returns the trials in the order in which they are made: later ones rest on what earlier ones made. Titles are of
// the servers' public manual.
func (t *trials) list() []engine.Trial {
	var out []engine.Trial
	add := func(id, says, source string, do step) {
		out = append(out, engine.Trial{ID: id, Says: says, Source: "Manual: " + source, Do: do})
	}
	t.records(add)
	t.updates(add)
	t.indexes(add)
	t.options(add)
	t.modifications(add)
	t.namespaces(add)
	return out
}

type adder func(id, says, source string, do step)

func (t *trials) records(add adder) {
	add("insert", "an insert is one entry with the whole document", "Replica Set Oplog", t.put("plain",
		d(e("_id", 1), e("n", 1), e("a", bson.A{1, 2, d(e("k", 1))}), e("d", d(e("x", 1), e("y", "z")))),
		d(e("_id", "two"), e("n", 2)), d(e("_id", bson.NewObjectID()), e("n", 3)),
		d(e("_id", d(e("b", 1), e("a", 2))))))
	add("insert.types", "values of every type come back as they are, to the byte", "BSON Types", t.put("plain",
		d(e("_id", "types"), e("double", 1.5), e("long", int64(1)<<40), e("bool", true), e("null", nil),
			e("date", time.UnixMilli(1)), e("bin", bson.Binary{Subtype: 4, Data: make([]byte, 16)}),
			e("re", bson.Regex{Pattern: "a", Options: "i"}), e("ts", bson.Timestamp{T: 1, I: 2}),
			e("min", bson.MinKey{}), e("max", bson.MaxKey{}), e("empty", bson.D{}), e("none", bson.A{}))))
	add("replace", "a replacement is an entry with the whole new document", "db.collection.replaceOne()",
		func(ctx context.Context) error {
			_, err := t.coll("plain").ReplaceOne(ctx, d(e("_id", "two")), d(e("m", 7), e("n", 2)))
			return err
		})
	add("upsert", "an upsert that finds nothing is logged as an insert", "db.collection.updateOne()",
		t.update("plain", "up", d(e("$set", d(e("n", 4)))), options.UpdateOne().SetUpsert(true)))
	add("delete", "a delete is an entry with the _id", "Replica Set Oplog", func(ctx context.Context) error {
		_, err := t.coll("plain").DeleteOne(ctx, d(e("_id", "up")))
		return err
	})
	add("find-and-modify", "findAndModify is logged as what it did", "findAndModify",
		t.command("findAndModify", "plain",
			e("query", d(e("_id", 1))), e("update", d(e("$inc", d(e("n", 10)))))))
	add("delete.many", "a delete of many is an entry for each", "db.collection.deleteMany()", seq(
		t.put("plain", d(e("_id", "g1"), e("g", 1)), d(e("_id", "g2"), e("g", 1))), func(ctx context.Context) error {
			_, err := t.coll("plain").DeleteMany(ctx, d(e("g", 1)))
			return err
		}))
	add("transaction", "a transaction of several documents is one entry, or a chain of them", "Transactions",
		t.together(func(ctx context.Context) error {
			if err := t.insert(ctx, "plain", d(e("_id", "t1")), d(e("_id", "t2"))); err != nil {
				return err
			}
			return t.update("plain", "t1", d(e("$set", d(e("n", 9)))))(ctx)
		}))
	add("transaction.large", "one of more than 16 MiB is several entries, of which the last counts",
		"Production Considerations: Oplog Size Limit", t.together(func(ctx context.Context) error {
			for i := range 20 {
				doc := d(e("_id", "large"+strconv.Itoa(i)), e("v", strings.Repeat("x", 1<<20)))
				if err := t.insert(ctx, "large", doc); err != nil {
					return err
				}
			}
			return nil
		}))
	add("drop", "a drop is one entry with the identity", "drop", t.command("drop", "large"))
	add("transaction.aborted", "one that is given up leaves nothing", "Transactions", func(ctx context.Context) error {
		s, err := t.w.cl.StartSession()
		if err != nil {
			return err
		}
		defer s.EndSession(context.WithoutCancel(ctx))
		if err := s.StartTransaction(); err != nil {
			return err
		}
		sctx := mongo.NewSessionContext(ctx, s)
		if err := t.insert(sctx, "plain", d(e("_id", "never"))); err != nil {
			return err
		}
		return s.AbortTransaction(ctx)
	})
}

func (t *trials) updates(add adder) {
	set := func(id, says string, u any) {
		add("update."+id, says, "Update Operators", seq(
			t.put("updates", d(e("_id", id), e("a", bson.A{1, 2, 3, d(e("k", 1), e("l", bson.A{5}))}), e("n", 1),
				e("d", d(e("x", 1), e("y", d(e("z", 1))))), e("s", "text"))),
			t.update("updates", id, u)))
	}
	set("set", "$set of a field is logged as a change of that field", d(e("$set", d(e("n", 5), e("new", 1)))))
	set("set-nested", "$set of a field within documents is logged as a change within them",
		d(e("$set", d(e("d.y.z", 5), e("d.q", 2)))))
	set("set-element", "$set of an element of an array is logged as a change of that element",
		d(e("$set", d(e("a.1", "b"), e("a.3.k", 2), e("a.3.l.0", 6)))))
	set("set-beyond", "$set of an element beyond an array's end fills it up with nulls", d(e("$set", d(e("a.6", 1)))))
	set("unset", "$unset takes a field away", d(e("$unset", d(e("s", ""), e("d.x", "")))))
	set("unset-element", "$unset leaves null for an element of an array", d(e("$unset", d(e("a.0", "")))))
	set("inc", "$inc, $mul, $min, $max are logged with their results", d(e("$inc", d(e("n", 2))),
		e("$min", d(e("d.x", 0))), e("$max", d(e("d.y.z", 9)))))
	set("rename", "$rename is logged as what it did", d(e("$rename", d(e("s", "t")))))
	set("push", "$push appends", d(e("$push", d(e("a", 4)))))
	set("push-each", "$push with $each, $position and $slice is logged as what became of the array",
		d(e("$push", d(e("a", d(e("$each", bson.A{8, 9}),
			e("$position", 0), e("$slice", 4)))))))
	set("pull", "$pull takes elements away", d(e("$pull", d(e("a", 2)))))
	set("pop", "$pop takes the last element away", d(e("$pop", d(e("a", 1)))))
	set("add-to-set", "$addToSet adds an element", d(e("$addToSet", d(e("a", 77)))))
	set("pipeline", "an update by a pipeline is logged by its results", bson.A{d(e("$set", d(e("n",
		d(e("$add", bson.A{"$n", 100}))), e("d", d(e("x", "new"))))))})
	add("update.many", "an update of many is an entry for each", "db.collection.updateMany()",
		func(ctx context.Context) error {
			_, err := t.coll("updates").UpdateMany(ctx, bson.D{}, d(e("$set", d(e("all", true)))))
			return err
		})
	add("update.empty-timestamp",
		"an empty timestamp that an update sets stays, and one that is inserted becomes the time",
		"BSON Types: Timestamps", seq(t.put("updates", d(e("_id", "stamps"), e("inserted", bson.Timestamp{}))),
			t.update("updates", "stamps", d(e("$set", d(e("set", bson.Timestamp{})))))))
	add("update.fields-like-operators", "names of fields that look like those of the log's own forms are names",
		"Update Operators", seq(t.put("updates", d(e("_id", "odd"), e("u", d(e("i", 1))), e("diff", d(e("d", 1))),
			e("a", true),
			e("s0", bson.A{1}))), t.update("updates", "odd", d(e("$set", d(e("u.i", 2), e("diff.d", 2), e("a", false),
			e("s0.0", 2)))))))
}

func (t *trials) indexes(add adder) {
	one := func(n int) bson.E { return e("_id", n) }
	add("index.empty", "an index on an empty collection is one entry", "createIndexes",
		seq(t.command("create", "indexed"),
			t.build("indexed", "n_1", d(e("n", 1)))))
	// What the index that expires documents is on lies far ahead: servers take what is over, while trials go on.
	add("index.populated", "one on a collection with documents is there from its build's commit",
		"Index Builds on Populated Collections", seq(t.put("indexed", d(one(1), e("n", 1),
			e("at", time.UnixMilli(4e12))),
			d(one(2), e("n", 2), e("at", time.UnixMilli(4e12)))), t.build("indexed", "compound",
			d(e("n", 1), e("m", -1)))))
	kinds := []struct {
		id   string
		key  bson.D
		more []bson.E
	}{
		{"unique", d(e("u", 1)), []bson.E{e("unique", true), e("sparse", true)}},
		{"partial", d(e("p", 1)), []bson.E{e("partialFilterExpression", d(e("n", d(e("$gt", 1)))))}},
		{"ttl", d(e("at", 1)), []bson.E{e("expireAfterSeconds", 1<<30)}},
		{"text", d(e("words", "text")), nil},
		{"2dsphere", d(e("where", "2dsphere")), nil},
		{"hashed", d(e("h", "hashed")), nil},
		{"wildcard", d(e("$**", 1)), nil},
		{"hidden", d(e("hh", 1)), []bson.E{e("hidden", true)}},
		{"collation", d(e("c", 1)), []bson.E{e("collation", d(e("locale", "de"), e("strength", 2)))}},
	}
	for _, k := range kinds {
		add("index."+k.id, "an index of this kind is listed as the log tells of it", "Indexes",
			t.build("indexed", k.id, k.key, k.more...))
	}
	add("index.aborted", "one whose build fails leaves nothing", "Index Builds on Populated Collections",
		seq(t.put("indexed", d(one(3), e("n", 3), e("dup", 1)), d(one(4), e("n", 4), e("dup", 1))),
			refused(t.build("indexed", "dup", d(e("dup", 1)), e("unique", true)))))
	add("index.dropped", "an index that is dropped is one entry with its name", "dropIndexes",
		t.command("dropIndexes", "indexed", e("index", "wildcard")))
}

func (t *trials) options(add adder) {
	create := func(id, says, source string, more ...bson.E) {
		add("create."+id, says, source, seq(t.command("create", id, more...), t.put(id, d(e("_id", 1), e("n", 1)))))
	}
	create("plain-options", "a collection without options is created by one entry", "create")
	create("validator", "a validator, its level and its action are in the entry that creates the collection",
		"Schema Validation",
		e("validator", d(e("n", d(e("$exists", true))))), e("validationLevel", "moderate"),
		e("validationAction", "warn"))
	create("collation", "a collation, which its indexes inherit", "Collation", e("collation", d(e("locale", "de"))))
	create("clustered", "a clustered collection is created with its clustered index", "Clustered Collections",
		e("clusteredIndex", d(e("key", d(e("_id", 1))), e("unique", true), e("name", "by id"))))
	create("images", "that images before and after changes are kept is in the entry that creates the collection",
		"Change Streams with Document Pre- and Post-Images",
		e("changeStreamPreAndPostImages", d(e("enabled", true))))
	add("create.collation-index", "an index by bytes in it is listed without a collation", "Collation",
		t.build("collation", "bytes", d(e("n", 1)), e("collation", d(e("locale", "simple")))))
	add(cappedTrial, "what a capped collection forgets is in the log", "Capped Collections", seq(
		t.command("create", "capped", e("capped", true), e("size", 8192), e("max", 2)),
		t.put("capped", d(e("_id", 3)), d(e("_id", 1)), d(e("_id", 2)))))
	add("create.series", "a time series is its buckets", "Time Series Collections", seq(
		t.command("create", "series", e("timeseries", d(e("timeField", "at"), e("metaField", "where")))),
		t.put("series", d(e("at", time.UnixMilli(1_700_000_000_000)), e("where", "a"), e("v", 1.5)),
			d(e("at", time.UnixMilli(1_700_000_001_000)), e("where", "a"), e("v", 2.5)))))
	add("series.more", "measurements that go into a bucket which is there are logged as updates of it",
		"Time Series Collections",
		t.put("series", d(e("at", time.UnixMilli(1_700_000_002_000)), e("where", "a"), e("v", 3.5))))
	add("create.view", "a view is a document of system.views", "Views", t.command("create", "view",
		e("viewOn", t.name("plain")), e("pipeline", bson.A{d(e("$match", d(e("n", 1))))})))
}

func (t *trials) modifications(add adder) {
	mod := func(id, says string, s step) { add("modify."+id, says, "collMod", s) }
	mod("hidden", "hiding an index and showing it again is logged as such", seq(
		t.modify("indexed", e("index", d(e("name", "n_1"), e("hidden", true)))),
		t.modify("indexed", e("index", d(e("name", "hidden"), e("hidden", false))))))
	mod("ttl", "another time to live of an index is logged with the new one", t.modify("indexed",
		e("index", d(e("name", "ttl"), e("expireAfterSeconds", 1<<29)))))
	mod("unique", "an index that is prepared and then made unique is listed as unique alone", seq(
		t.modify("indexed", e("index", d(e("name", "compound"), e("prepareUnique", true)))),
		t.modify("indexed", e("index", d(e("name", "compound"), e("unique", true))))))
	mod("validator", "a validator that is set, changed and taken away is listed as the log tells", seq(
		t.modify("plain", e("validator", d(e("q", d(e("$exists", false)))))),
		t.modify("validator", e("validationAction", "error")), t.modify("validator", e("validator", bson.D{}))))
	mod("images", "images that are turned off are listed no more", t.modify("images",
		e("changeStreamPreAndPostImages", d(e("enabled", false)))))
	mod("capped", "another size of a capped collection is listed in place of the old one",
		t.modify("capped", e("cappedSize", 16384), e("cappedMax", 5)))
	mod("series", "another granularity of a time series changes the longest span of its buckets",
		t.modify("series", e("timeseries", d(e("granularity", "minutes")))))
	mod("series-expiry", "that a time series expires, and does so no longer, is logged as such",
		seq(t.modify("series", e("expireAfterSeconds",
			int64(1<<30))), t.modify("series", e("expireAfterSeconds", "off"))))
	mod("view", "another pipeline of a view is logged as a change of its document",
		t.modify("view", e("viewOn", t.name("plain")),
			e("pipeline", bson.A{d(e("$match", d(e("n", 2))))})))
}

func (t *trials) namespaces(add adder) {
	doc := d(e("_id", 1))
	add("rename", "a rename keeps the identity", "renameCollection", seq(t.put("from", doc),
		t.build("from", "x", d(e("x", 1))),
		t.rename("from", "to", false), t.put("to", d(e("_id", 2)))))
	add("rename.over", "a rename over another ends that", "renameCollection", seq(t.put("over", d(e("_id", "was"))),
		t.put("other", d(e("_id", "is"))), t.rename("other", "over", true)))
	add("drop.anew", "what is made anew under the name has another identity", "listCollections", seq(t.put("anew", doc),
		t.command("drop", "anew"), t.put("anew", d(e("_id", 2)))))
	add("drop.series", "a time series that is dropped and made anew is another", "Time Series Collections", seq(
		t.command("create", "series2", e("timeseries", d(e("timeField", "at")))), t.command("drop", "series2"),
		t.command("create", "series2", e("timeseries", d(e("timeField", "at"))))))
	add("drop.view", "a view that is dropped and made anew is another", "Views", seq(t.command("drop", "view"),
		t.command("create", "view", e("viewOn", t.name("updates")), e("pipeline", bson.A{}))))
	add("convert-to-capped", "a collection that is made capped is another one renamed over it", "convertToCapped",
		seq(t.put("converted", doc),
			t.command("convertToCapped", "converted", e("size", 8192))))
	for _, n := range [][2]string{{"dash", "a-b"}, {"dots", "a.b.c"}, {"quote", `a"b'c`}, {"space", "a b"},
		{"letters", "ÄÖ日本"}, {"long", strings.Repeat("l", 120)}} {
		add("name."+n[0], "a name with such characters, or so long, is logged as it is", "Naming Restrictions",
			t.put(n[1], doc))
	}
}
