package document

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// mostSplits is how many chunks a restored collection begins with at most; the
// balancer does the rest.
const mostSplits = 256

// shard shards a stage as its original was, in as many chunks, laid out in
// turn on the shards there are.
func (w *writer) shard(ctx context.Context, stage string, d definition) error {
	sh := bsoncore.Document(d.sharding)
	if i := indexOf(d.options, "timeseries"); i >= 0 {
		return w.shardSeries(ctx, stage, sh, d.options[i].val)
	}
	key := value(sh.Lookup("key"))
	db, coll, _ := strings.Cut(stage, ".")
	// The original's index for the key comes first: servers make one of their own where there is none.
	keyFields := mustElements(sh.Lookup("key"))
	err := w.buildIndexes(ctx, stage, db, coll, d, func(spec []field) bool {
		i := indexOf(spec, "key")
		return i >= 0 && indexOf(spec, "collation") < 0 && beginsWith(mustElements(spec[i].val), keyFields)
	})
	if err != nil {
		return err
	}
	if err := w.enableSharding(ctx, stage, db); err != nil {
		return err
	}
	cmd := bson.D{{Key: "shardCollection", Value: stage}, {Key: "key", Value: key}}
	if indexOf(d.options, "collation") >= 0 {
		cmd = append(cmd, bson.E{Key: "collation", Value: value(simpleCollation)})
	}
	if unique, ok := sh.Lookup("unique").BooleanOK(); ok && unique {
		cmd = append(cmd, bson.E{Key: "unique", Value: true})
	}
	if err := w.run(ctx, "admin", cmd); err != nil {
		return w.fail(stage+": sharding it", err)
	}
	list, err := w.c.ask(ctx, w.addr, "admin", bson.D{{Key: "listShards", Value: 1}})
	if err != nil {
		return w.fail(stage, err)
	}
	arr, _ := list.Lookup("shards").ArrayOK()
	shards, err := arr.Values()
	if err != nil || len(shards) == 0 {
		return w.fail(stage, errors.Join(errors.New("listShards names none"), err))
	}
	if err := w.zones(ctx, stage, sh, shards); err != nil {
		return err
	}
	for _, e := range mustElements(sh.Lookup("key")) {
		if s, ok := e.Value().StringValueOK(); ok && s == "hashed" {
			return nil // split by the server, evenly, when it was made
		}
	}
	return w.spread(ctx, stage, sh, shards)
}

// enableSharding enables a database for it, as is needed until 6.0; later servers take it for said
// ("sh.enableSharding").
func (w *writer) enableSharding(ctx context.Context, stage, db string) error {
	if err := w.run(ctx, "admin", bson.D{{Key: "enableSharding", Value: db}}); err != nil && !isCommandError(err) {
		return w.fail(stage+": enabling sharding", err)
	}
	return nil
}

// shardSeries shards a time series, which servers do by the fields of its measurements, while they say of its buckets
// how they are spread ("Shard a Time Series Collection"). How its ranges lie is left to the balancer.
func (w *writer) shardSeries(ctx context.Context, stage string, sh bsoncore.Document, series bsoncore.Value) error {
	key, err := measuredKey(sh, series)
	if err != nil {
		return fmt.Errorf("%s: %w", stage, err)
	}
	db, _, _ := strings.Cut(stage, ".")
	if err := w.enableSharding(ctx, stage, db); err != nil {
		return err
	}
	cmd := bson.D{{Key: "shardCollection", Value: stage}, {Key: "key", Value: key}}
	if err := w.run(ctx, "admin", cmd); err != nil {
		return w.fail(stage+": sharding it", err)
	}
	if zones, err := valuesOf(sh.Lookup("zones")); err != nil || len(zones) > 0 {
		w.c.log.Warn("the zones of a time series are left out", "namespace", stage)
	}
	return nil
}

// measuredKey returns the shard key of buckets by the fields of the measurements that they hold: meta is the field of
// metadata, and the least time that of the time.
func measuredKey(sh bsoncore.Document, series bsoncore.Value) (out bson.D, err error) {
	ts, _ := series.DocumentOK()
	at, _ := ts.Lookup("timeField").StringValueOK()
	meta, _ := ts.Lookup("metaField").StringValueOK()
	for _, e := range mustElements(sh.Lookup("key")) {
		name := e.Key()
		rest, ofMeta := strings.CutPrefix(name, "meta")
		switch {
		case name == "control.min."+at:
			name = at
		case ofMeta && meta != "" && (rest == "" || rest[0] == '.'):
			name = meta + rest
		default:
			return nil, fmt.Errorf("the buckets of a time series are sharded by %q, which is neither its time nor its "+
				"metadata", name)
		}
		out = append(out, bson.E{Key: name, Value: value(e.Value())})
	}
	return out, nil
}

// beginsWith reports whether an index's key begins with the fields of another, ordered as there.
func beginsWith(key, with []bsoncore.Element) bool {
	if len(key) < len(with) {
		return false
	}
	for i, e := range with {
		text, hashed := e.Value().StringValueOK()
		has, also := key[i].Value().StringValueOK()
		if key[i].Key() != e.Key() || hashed != also || text != has {
			return false
		}
	}
	return true
}

// spread cuts a stage where its original was cut, and lays the pieces out. What
// was on different shards goes to different ones, as far as there are as many:
// documents of one _id may be apart for that reason.
func (w *writer) spread(ctx context.Context, stage string, sh bsoncore.Document, shards []bson.RawValue) error {
	bounds, err := valuesOf(sh.Lookup("splits"))
	if err != nil {
		return err
	}
	owners, err := valuesOf(sh.Lookup("owners"))
	if err != nil || len(bounds) == 0 || len(owners) != len(bounds)+1 {
		return err
	}
	db, _, _ := strings.Cut(stage, ".")
	ans, err := w.c.ask(ctx, w.addr, "config",
		bson.D{{Key: "find", Value: "databases"}, {Key: "filter", Value: bson.D{{Key: "_id", Value: db}}}})
	if err != nil {
		return w.fail(stage, err)
	}
	// The first piece is, and stays, on the database's primary shard.
	var names []string
	for _, d := range firstBatch(ans) {
		first, _ := d.Lookup("primary").StringValueOK()
		names = append(names, first)
	}
	for _, s := range shards {
		if id, _ := s.Document().Lookup("_id").StringValueOK(); !slices.Contains(names, id) {
			names = append(names, id)
		}
	}
	place := map[string]string{}
	step := len(bounds)/mostSplits + 1
	for i := 0; i < len(owners); i += step {
		owner, _ := owners[i].StringValueOK()
		if place[owner] == "" {
			place[owner] = names[len(place)%len(names)]
		}
		if i == 0 {
			continue
		}
		at := value(bounds[i-1])
		if err := w.run(ctx, "admin", bson.D{{Key: "split", Value: stage}, {Key: "middle", Value: at}}); err != nil {
			return w.fail(stage+": splitting", err)
		}
		err := w.run(ctx, "admin", bson.D{
			{Key: "moveChunk", Value: stage}, {Key: "find", Value: at}, {Key: "to", Value: place[owner]}})
		if err != nil && !isCommandError(err) {
			return w.fail(stage+": laying it out", err)
		} else if err != nil {
			// Where it lies is the balancer's to mend; that it is there is not.
			w.c.log.Warn("a chunk stays where it is", "namespace", stage, "cause", short(err))
		}
	}
	return nil
}

// valuesOf returns an array's values; what is not there has none.
func valuesOf(v bsoncore.Value) ([]bsoncore.Value, error) {
	arr, ok := v.ArrayOK()
	if !ok || len(arr) == 0 {
		return nil, nil
	}
	return arr.Values()
}

func mustElements(v bsoncore.Value) []bsoncore.Element {
	d, _ := v.DocumentOK()
	es, _ := d.Elements()
	return es
}

// zones returns a stage the zones of its original, as far as the cluster has
// shards in them.
func (w *writer) zones(ctx context.Context, stage string, sh bsoncore.Document, shards []bson.RawValue) error {
	has := map[string]bool{}
	for _, s := range shards {
		vals, err := valuesOf(rawToCore(s.Document().Lookup("tags")))
		if err != nil {
			return err
		}
		for _, t := range vals {
			name, _ := t.StringValueOK()
			has[name] = true
		}
	}
	zones, err := valuesOf(sh.Lookup("zones"))
	if err != nil {
		return err
	}
	for _, z := range zones {
		d := z.Document()
		name, _ := d.Lookup("zone").StringValueOK()
		if !has[name] {
			w.c.log.Warn("a zone is left out: no shard of this cluster is in it", "namespace", stage, "zone", name)
			continue
		}
		err := w.run(ctx, "admin", bson.D{
			{Key: "updateZoneKeyRange", Value: stage}, {Key: "min", Value: value(d.Lookup("min"))},
			{Key: "max", Value: value(d.Lookup("max"))}, {Key: "zone", Value: name}})
		if err != nil {
			return w.fail(stage+": zone "+name, err)
		}
	}
	return nil
}

// PutSetting implements [engine.SettingsWriter]. Users and roles are documents of
// admin.system.users and admin.system.roles; the role restore may write them.
func (w *writer) PutSetting(ctx context.Context, ns record.Namespace, rec record.Record,
	replace bool) (engine.Outcome, error) {
	db, coll := physical(ns.Name, ns.Kind)
	c := w.cl.Database(db).Collection(coll)
	doc := bson.Raw(rec.Value)
	id := bson.D{{Key: "_id", Value: doc.Lookup("_id")}}
	was, err := c.FindOne(ctx, id).Raw()
	switch {
	case errors.Is(err, mongo.ErrNoDocuments):
		if _, err := c.InsertOne(ctx, doc); err != nil {
			return "", w.fail(ns.Name, err)
		}
		return engine.Created, nil
	case err != nil:
		return "", w.fail(ns.Name, err)
	case bytes.Equal(was, doc):
		return engine.Unchanged, nil
	case !replace:
		return engine.KeptExisting, nil
	}
	if _, err := c.ReplaceOne(ctx, id, doc); err != nil {
		return "", fmt.Errorf("%s: %w", model{}.Label(doc), w.fail(ns.Name, err))
	}
	return engine.Replaced, nil
}
