package integration_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/sim/docsim"
)

// definer makes, changes and drops what is more than a plain collection: views, time series, capped
// and collated collections, indexes whose builds are begun and finished or given up, a whole database.
type definer struct {
	y      *clusterFixture
	rng    *rand.Rand
	cl     *mongo.Client
	builds []*docsim.Build
}

func (d *definer) db() *mongo.Database { return d.cl.Database("hives") }

func (d *definer) pick(names ...string) string { return names[d.rng.IntN(len(names))] }

func (d *definer) run(cmd bson.D) error { return d.db().RunCommand(ctx, cmd).Err() }

// step does one thing; what fails fails, as for any application.
func (d *definer) step() {
	var err error
	plain, view, series := d.pick("h1", "h2"), d.pick("v1", "v2"), d.pick("s1", "s2")
	capped := "c1"
	what := ""
	modify := func(coll string, e ...bson.E) error {
		return d.run(append(bson.D{{Key: "collMod", Value: coll}}, e...))
	}
	pipeline := bson.A{bson.D{{Key: "$match", Value: bson.D{{Key: "n", Value: d.rng.IntN(9)}}}}}
	n := d.rng.IntN(40)
	if (n >= 12 && n < 15 || n >= 27 && n < 30) && d.y.version == "4.4" {
		return // a capped collection there is refused
	}
	switch {
	case n < 8:
		_, err = d.db().Collection(plain).UpdateOne(ctx, bson.D{{Key: "_id", Value: d.rng.IntN(20)}},
			bson.D{{Key: "$set", Value: bson.D{{Key: "n", Value: d.rng.IntN(50)}}}},
			options.UpdateOne().SetUpsert(true))
	case n < 12:
		_, err = d.db().Collection(series).InsertOne(ctx, bson.D{{Key: "at", Value: time.Now()},
			{Key: "hive", Value: d.rng.IntN(3)}, {Key: "kg", Value: d.rng.Float64()}})
	case n < 15:
		_, err = d.db().Collection(capped).InsertOne(ctx, bson.D{{Key: "n", Value: d.rng.IntN(50)}})
	case n < 17:
		what = "create view " + view
		err = d.run(bson.D{{Key: "create", Value: view}, {Key: "viewOn", Value: plain},
			{Key: "pipeline", Value: pipeline}})
	case n < 19:
		what = "collMod of view " + view
		err = modify(view, bson.E{Key: "viewOn", Value: plain}, bson.E{Key: "pipeline", Value: pipeline})
	case n < 20:
		what = "drop " + view
		err = d.db().Collection(view).Drop(ctx)
	case n < 22:
		what = "create series " + series
		err = d.run(bson.D{{Key: "create", Value: series}, {Key: "timeseries", Value: bson.D{
			{Key: "timeField", Value: "at"}, {Key: "metaField", Value: "hive"}}},
			{Key: "expireAfterSeconds", Value: int64(86400)}})
	case n < 24:
		what = "drop and make anew " + series
		_ = d.db().Collection(series).Drop(ctx)
		err = d.run(bson.D{{Key: "create", Value: series}, {Key: "timeseries", Value: bson.D{
			{Key: "timeField", Value: "at"}}}})
	case n < 25:
		what = "collMod of series " + series
		err = modify(series, bson.E{Key: "timeseries",
			Value: bson.D{{Key: "granularity", Value: d.pick("minutes", "hours")}}})
	case n < 26:
		what = "no expiry of " + series
		err = modify(series, bson.E{Key: "expireAfterSeconds", Value: "off"})
	case n < 27:
		what = "drop " + series
		err = d.db().Collection(series).Drop(ctx)
	case n < 29:
		what = "create capped"
		err = d.run(bson.D{{Key: "create", Value: capped}, {Key: "capped", Value: true}, {Key: "size", Value: 4096},
			{Key: "max", Value: 5}})
	case n < 30:
		what = "collMod of capped"
		err = modify(capped, bson.E{Key: "cappedMax", Value: 5 + d.rng.IntN(5)})
	case n < 31:
		what = "validator"
		err = modify(plain, bson.E{Key: "validator", Value: bson.D{{Key: "n",
			Value: bson.D{{Key: "$exists", Value: true}}}}})
	case n < 32:
		what = "no validator"
		err = modify(plain, bson.E{Key: "validator", Value: bson.D{}}, bson.E{Key: "validationLevel", Value: "strict"})
	case n < 33:
		what = "images"
		err = modify(plain, bson.E{Key: "changeStreamPreAndPostImages",
			Value: bson.D{{Key: "enabled", Value: d.rng.IntN(2) == 0}}})
	case n < 34:
		what = "prepare unique"
		err = modify(plain, bson.E{Key: "index", Value: bson.D{{Key: "name", Value: "n_1"},
			{Key: "prepareUnique", Value: d.rng.IntN(2) == 0}}})
	case n < 35:
		what = "hide"
		err = modify(plain, bson.E{Key: "index", Value: bson.D{{Key: "name", Value: "n_1"},
			{Key: "hidden", Value: d.rng.IntN(2) == 0}}})
	case n < 36:
		what = "index"
		_, err = d.db().Collection(plain).Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "n", Value: 1}},
			Options: options.Index().SetUnique(d.rng.IntN(2) == 0)})
	case n < 38 && d.y.lone != nil:
		if len(d.builds) > 0 {
			what = "end a build"
			d.builds[0].End(d.rng.IntN(2) == 0)
			d.builds = d.builds[1:]
			break
		}
		what = "begin a build"
		if b := d.y.lone.BeginIndex("hives."+plain, bson.D{{Key: "key", Value: bson.D{{Key: "m", Value: int32(1)}}},
			{Key: "name", Value: "m_1"}}); b != nil {
			d.builds = append(d.builds, b)
		}
	case n < 39:
		what = "create collated"
		err = d.run(bson.D{{Key: "create", Value: plain}, {Key: "collation",
			Value: bson.D{{Key: "locale", Value: "de"}}}})
	case d.rng.IntN(3) == 0:
		what = "drop the database"
		err = d.db().Drop(ctx)
	}
	if what != "" {
		d.y.say("hives: %s: %v", what, err)
	}
}

// listed returns what a cluster remembers in the form in which points hold it: a time series is its buckets,
// under its own name; the options that servers add, and that count without being said, are left out.
func listed(world map[string]docsim.Content) map[string]docsim.Content {
	out := map[string]docsim.Content{}
	for ns, c := range world {
		db, coll, _ := strings.Cut(ns, ".")
		of, buckets := strings.CutPrefix(coll, "system.buckets.")
		if !buckets {
			if lookupIn(c.Options, "timeseries") == nil {
				out[ns] = withoutDefaults(c, buckets)
			}
			continue
		}
		c.Indexes = slices.DeleteFunc(slices.Clone(c.Indexes), func(ix bson.D) bool {
			return lookupIn(ix, "name") == "_id_" || lookupIn(ix, "clustered") != nil
		})
		out[db+"."+of] = withoutDefaults(c, buckets)
	}
	return out
}

func lookupIn(d bson.D, name string) any {
	for _, e := range d {
		if e.Key == name {
			return e.Value
		}
	}
	return nil
}

// overfull reports whether a capped collection holds more than it may, as between an insert and what is forgotten for
// it: no server takes that back as it was, which a restore tells.
func overfull(c docsim.Content) bool {
	raw, err := bson.Marshal(bson.D{{Key: "max", Value: lookupIn(c.Options, "max")}})
	most, ok := bson.Raw(raw).Lookup("max").AsInt64OK()
	return err == nil && ok && int64(len(c.Documents)) > most
}

func withoutDefaults(c docsim.Content, series bool) docsim.Content {
	var keep bson.D
	for _, o := range c.Options {
		text := strings.Trim(fmt.Sprint(o.Value), `"`)
		if series && (o.Key == "validator" || o.Key == "clusteredIndex") || o.Key == "validationLevel" &&
			text == "strict" ||
			o.Key == "validationAction" && text == "error" {
			continue
		}
		if o.Key == "timeseries" {
			o.Value = sortedFields(o.Value)
		}
		keep = append(keep, o)
	}
	c.Options = keep
	if c.View {
		c.Indexes = nil
	}
	return c
}

func sortedFields(v any) bson.D {
	raw, _ := bson.Marshal(bson.D{{Key: "v", Value: v}})
	var d struct{ V bson.D }
	_ = bson.Unmarshal(raw, &d)
	sort.SliceStable(d.V, func(i, j int) bool { return d.V[i].Key < d.V[j].Key })
	return slices.Clip(d.V)
}
