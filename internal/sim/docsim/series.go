package docsim

import (
	"slices"
	"strconv"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Time-series collections ("Time Series Collections"): measurements are kept
// by columns in buckets, documents of a collection of the server's own, over
// which the name that applications use is a kind of view.

const bucketsOf = "system.buckets."

func (s *session) createSeries(db, name string, options bson.D) error {
	// Servers list them in an order of their own.
	asked := toD(value(lookup(options, "timeseries")).Document())
	var ts bson.D
	for _, name := range []string{"timeField", "metaField", "granularity", "bucketMaxSpanSeconds",
		"bucketRoundingSeconds"} {
		if v := lookup(asked, name); v != nil {
			ts = append(ts, bson.E{Key: name, Value: v})
		}
	}
	span, rounding := lookup(ts, "bucketMaxSpanSeconds"), lookup(ts, "bucketRoundingSeconds")
	if (span != nil || rounding != nil) && (lookup(ts, "granularity") != nil || span == nil || rounding == nil) {
		return refuse(72, "InvalidOptions",
			"give either granularity, or both bucketMaxSpanSeconds and bucketRoundingSeconds")
	}
	if span != nil {
		return s.makeSeries(db, name, options, ts)
	}
	if lookup(ts, "granularity") == nil {
		ts = append(ts, bson.E{Key: "granularity", Value: "seconds"})
	}
	g, _ := value(lookup(ts, "granularity")).StringValueOK()
	if spans[g][0] == 0 {
		return refuse(2, "BadValue", "granularity %q is not known", g)
	}
	ts = append(ts, bson.E{Key: "bucketMaxSpanSeconds", Value: spans[g][0]})
	return s.makeSeries(db, name, options, ts)
}

func (s *session) makeSeries(db, name string, options, ts bson.D) error {
	for i := range options {
		if options[i].Key == "timeseries" {
			options[i].Value = ts
		}
	}
	inner := bson.D{
		{Key: "validator", Value: bson.D{
			{Key: "$jsonSchema", Value: bson.D{
				{Key: "bsonType", Value: "object"}, {Key: "required", Value: bson.A{"_id", "control", "data"}}}}}},
		{Key: "clusteredIndex", Value: true}}
	s.makeCollection(db, bucketsOf+name, append(inner, options...))
	if meta, _ := value(lookup(ts, "metaField")).StringValueOK(); meta != "" && s.m.rs.opt.indexesSeries() {
		at, _ := value(lookup(ts, "timeField")).StringValueOK()
		b := s.now().colls[db+"."+bucketsOf+name]
		ix := bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: bson.D{{Key: "meta", Value: int32(1)},
			{Key: "control.min." + at, Value: int32(1)}, {Key: "control.max." + at, Value: int32(1)}}},
			{Key: "name", Value: meta + "_1_" + at + "_1"}}
		u := b.uuid
		s.command(db, &u, append(bson.D{{Key: "createIndexes", Value: bucketsOf + name}}, ix...),
			effectIndex(db+"."+bucketsOf+name, ix))
	}
	s.define(db, name, "timeseries", options, seriesDocument(db+"."+name, name, value(ts)))
	return nil
}

// seriesDocument is what system.views keeps of a time series.
func seriesDocument(ns, name string, ts bson.RawValue) bson.D {
	return bson.D{{Key: "_id", Value: ns}, {Key: "viewOn", Value: bucketsOf + name},
		{Key: "pipeline", Value: bson.A{bson.D{{Key: "$_internalUnpackBucket", Value: ts}}}}}
}

// fields returns the names of a series' time and of what it is grouped by.
func (c *collection) fields() (at, meta string) {
	ts := toD(value(lookup(c.options, "timeseries")).Document())
	at, _ = value(lookup(ts, "timeField")).StringValueOK()
	meta, _ = value(lookup(ts, "metaField")).StringValueOK()
	return at, meta
}

// measure inserts measurements: those that share their meta value go into one bucket, as long as that lasts; one that
// is there is updated.
func (s *session) measure(c *collection, list []bson.RawValue) (bson.D, error) {
	at, meta := c.fields()
	buckets := s.now().colls[c.db+"."+bucketsOf+c.name]
	groups := map[string][]bson.Raw{}
	var order []string
	for _, v := range list {
		d := v.Document()
		if d.Lookup(at).Type != bson.TypeDateTime {
			return nil, refuse(2, "BadValue", "'%s' must be present and contain a valid BSON UTC datetime value", at)
		}
		k := string(d.Lookup(meta).Value)
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], d)
	}
	for _, k := range order {
		if old, ok := c.open(buckets, at, groups[k]); ok {
			now := grown(old.raw, at, meta, groups[k], s.m.rs.opt.packsBuckets())
			if err := s.change(buckets, old, now, false, nil); err != nil {
				return nil, err
			}
			continue
		}
		columns := map[string]bson.D{}
		var names []string
		low, high := groups[k][0].Lookup(at), groups[k][0].Lookup(at)
		for i, d := range groups[k] {
			for _, e := range toD(d) {
				if e.Key == meta {
					continue
				}
				if columns[e.Key] == nil {
					names = append(names, e.Key)
				}
				columns[e.Key] = append(columns[e.Key], bson.E{Key: strconv.Itoa(i), Value: e.Value})
			}
			if t := d.Lookup(at); Compare(t, low) < 0 {
				low = t
			} else if Compare(t, high) > 0 {
				high = t
			}
		}
		slices.Sort(names)
		data := bson.D{}
		for _, n := range names {
			data = append(data, bson.E{Key: n, Value: packedIf(s.m.rs.opt.packsBuckets(), columns[n])})
		}
		version := int32(1)
		if s.m.rs.opt.packsBuckets() {
			version = 2
		}
		b := bson.D{{Key: "_id", Value: bson.NewObjectIDFromTimestamp(time.UnixMilli(low.DateTime()))},
			{Key: "control", Value: bson.D{
				{Key: "version", Value: version}, {Key: "min", Value: bson.D{{Key: at, Value: low}}}, {
					Key: "max", Value: bson.D{{Key: at, Value: high}}}}}}
		if v := groups[k][0].Lookup(meta); v.Type != 0 {
			b = append(b, bson.E{Key: "meta", Value: v})
		}
		if err := s.insertOne(buckets, toRaw(append(b, bson.E{Key: "data", Value: data}))); err != nil {
			return nil, err
		}
	}
	return bson.D{{Key: "n", Value: int32(len(list))}}, nil
}

// bucketMost is how many measurements a bucket takes; servers take 1000.
const bucketMost = 20

// open returns the bucket that measurements go into, where there is one.
func (c *collection) open(buckets *collection, at string, list []bson.Raw) (hit document, ok bool) {
	_, meta := c.fields()
	ts := toD(value(lookup(c.options, "timeseries")).Document())
	span, _ := value(lookup(ts, "bucketMaxSpanSeconds")).AsInt64OK()
	buckets.docs.Scan(func(b document) bool {
		low := b.raw.Lookup("control", "min", at)
		n := cellsOf(b.raw.Lookup("data", at))
		fits := len(n)+len(list) <= bucketMost && b.raw.Lookup("meta").Equal(list[0].Lookup(meta))
		for _, d := range list {
			t := d.Lookup(at).DateTime()
			fits = fits && t >= low.DateTime() && t < low.DateTime()+span*1000
		}
		if fits {
			hit, ok = b, true
		}
		return !ok
	})
	return hit, ok
}

// grown returns a bucket with more measurements in it.
func grown(bucket bson.Raw, at, meta string, list []bson.Raw, packed bool) bson.Raw {
	d := toD(bucket)
	data := toD(bucket.Lookup("data").Document())
	before := cellsOf(bucket.Lookup("data", at))
	high := bucket.Lookup("control", "max", at)
	for i, doc := range list {
		for _, e := range toD(doc) {
			if e.Key == meta {
				continue
			}
			cell := bson.E{Key: strconv.Itoa(len(before) + i), Value: e.Value}
			j := slices.IndexFunc(data, func(x bson.E) bool { return x.Key == e.Key })
			if j < 0 {
				data = append(data, bson.E{Key: e.Key, Value: packedIf(packed, bson.D{cell})})
				continue
			}
			data[j].Value = packedIf(packed, append(cellsOf(value(data[j].Value)), cell))
		}
		if t := doc.Lookup(at); Compare(t, high) > 0 {
			high = t
		}
	}
	for i, e := range d {
		switch e.Key {
		case "data":
			d[i].Value = data
		case "control":
			control := toD(value(e.Value).Document())
			for j := range control {
				if control[j].Key == "max" {
					control[j].Value = bson.D{{Key: at, Value: high}}
				}
			}
			d[i].Value = control
		}
	}
	return toRaw(d)
}

// packedIf returns a column as a bucket has it.
func packedIf(packed bool, cells bson.D) any {
	if packed {
		return columnOf(cells)
	}
	return cells
}

// unpacked returns a series' measurements.
func (s *session) unpacked(c *collection, filter bson.Raw) []bson.Raw {
	at, meta := c.fields()
	var out []bson.Raw
	buckets := s.now().colls[c.db+"."+bucketsOf+c.name]
	if buckets == nil {
		return nil
	}
	buckets.docs.Scan(func(b document) bool {
		for _, row := range cellsOf(b.raw.Lookup("data", at)) {
			d := bson.D{{Key: at, Value: row.Value}}
			if v := b.raw.Lookup("meta"); v.Type != 0 {
				d = append(d, bson.E{Key: meta, Value: v})
			}
			columns, _ := b.raw.Lookup("data").Document().Elements()
			for _, col := range columns {
				if v := lookup(cellsOf(col.Value()), row.Key); v != nil && col.Key() != at {
					d = append(d, bson.E{Key: col.Key(), Value: v})
				}
			}
			raw := toRaw(d)
			if ok, err := matches(raw, filter); err == nil && ok {
				out = append(out, raw)
			}
		}
		return true
	})
	return out
}
