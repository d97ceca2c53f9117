package docsim

import (
	"bytes"
	"math"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Sharding collections and moving ranges between shards ("Data Partitioning
// with Chunks", "Range Migration Procedure").

func bound(key bson.D, low bool) bson.D {
	var d bson.D
	for _, k := range key {
		if low {
			d = append(d, bson.E{Key: k.Key, Value: bson.MinKey{}})
		} else {
			d = append(d, bson.E{Key: k.Key, Value: bson.MaxKey{}})
		}
	}
	return d
}

func chunkDoc(id [16]byte, low, high any, shard string) bson.D {
	return bson.D{{Key: "_id", Value: bson.NewObjectID()}, {Key: "uuid", Value: uuidValue(id)},
		{Key: "min", Value: low}, {Key: "max", Value: high},
		{Key: "shard", Value: shard}, {Key: "lastmod", Value: bson.Timestamp{T: uint32(time.Now().Unix()), I: 1}}}
}

// mayShard refuses to shard collections of a database that was not enabled for it, where servers want that.
func (c *Sharded) mayShard(db string) error {
	c.timeMu.Lock()
	defer c.timeMu.Unlock()
	if c.opt.Set.needsEnabling() && !c.enabled[db] {
		return refuse(20, "IllegalOperation", "sharding not enabled for db %s", db)
	}
	return nil
}

// supports reports whether an index begins with a shard key and orders it by bytes ("Shard Key Indexes").
func (c *collection) supports(key bson.D) bool {
	if len(key) == 1 && key[0].Key == "_id" && !isHashed(key[0]) {
		return true
	}
	for _, ix := range c.indexes {
		of := keyOfIndex(ix)
		if len(of) < len(key) || lookup(ix, "collation") != nil || lookup(ix, "partialFilterExpression") != nil ||
			lookup(ix, "sparse") != nil || slices.Contains(c.building, indexName(ix)) {
			continue
		}
		fits := true
		for i, k := range key {
			fits = fits && of[i].Key == k.Key && isHashed(of[i]) == isHashed(k)
		}
		if fits {
			return true
		}
	}
	return false
}

// keyIndex sees that a collection which is to be sharded has an index for that: on an empty one servers make it,
// on any other they ask for it ("shardCollection").
func keyIndex(rs *ReplicaSet, c *collection, key bson.D, req bson.Raw) error {
	if lookup(c.options, "collation") != nil {
		if l, _ := req.Lookup("collation", "locale").StringValueOK(); l != "simple" {
			return refuse(2, "BadValue",
				"Collection has default collation. Must specify collation {locale: 'simple'} to shard it")
		}
	}
	if c.supports(key) {
		return nil
	}
	if c.docs.Len() > 0 {
		return refuse(72, "InvalidOptions",
			"Please create an index that starts with the proposed shard key before sharding the collection")
	}
	var name []string
	for _, k := range key {
		s, _ := value(k.Value).StringValueOK()
		if n, ok := value(k.Value).AsInt64OK(); ok && n == 1 {
			s = "1"
		}
		name = append(name, k.Key+"_"+s)
	}
	ix := bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: key}, {Key: "name", Value: strings.Join(name, "_")}}
	if lookup(c.options, "collation") != nil {
		ix = append(ix, bson.E{Key: "collation", Value: bson.D{{Key: "locale", Value: "simple"}}})
	}
	_, err := rs.do(c.db, bson.D{{Key: "createIndexes", Value: c.name}, {Key: "indexes", Value: bson.A{ix}}}, nil)
	return err
}

// routeShardCollection: a range key begins as one chunk on the primary shard,
// a hashed one over an empty collection as two on each shard.
func routeShardCollection(x *routed, _ string, req bson.Raw) (bson.D, error) {
	ns, _ := first(req).StringValueOK()
	db, coll, ok := strings.Cut(ns, ".")
	keyDoc, isDoc := req.Lookup("key").DocumentOK()
	if !ok || !isDoc {
		return nil, refuse(9, "FailedToParse", "shardCollection needs a namespace and a key")
	}
	key := toD(keyDoc)
	c := x.r.c
	if err := c.mayShard(db); err != nil {
		return nil, err
	}
	if err := c.makeDatabase(db, ""); err != nil {
		return nil, err
	}
	c.where.Lock()
	defer c.where.Unlock()
	if c.lay.byNS[ns] != nil {
		return nil, refuse(20, "IllegalOperation", "%s is sharded already", ns)
	}
	primary := c.lay.primary[db]
	rs := c.set(primary)
	is := func() *collection {
		rs.mu.Lock()
		defer rs.mu.Unlock()
		if p := rs.members[max(rs.primary, 0)].current.colls[ns]; p != nil {
			return p.clone()
		}
		return nil
	}
	p := is()
	if p != nil && p.kind == "timeseries" {
		return c.shardSeries(p, primary, key)
	}
	if p == nil {
		if _, err := rs.do(db, bson.D{{Key: "create", Value: coll}}, nil); err != nil {
			return nil, err
		}
		p = is()
	}
	if p == nil || p.kind != "collection" {
		return nil, refuse(26, "NamespaceNotFound", "%s cannot be sharded", ns)
	}
	if err := keyIndex(rs, p, key, req); err != nil {
		return nil, err
	}
	if err := rs.settled(); err != nil {
		return nil, err
	}
	if p = is(); p == nil || !p.supports(key) {
		return nil, refuse(189, "PrimarySteppedDown", "the index of the shard key was rolled back")
	}
	empty, id := p.docs.Len() == 0, p.uuid
	t := &table{ns: ns, uuid: id, key: key}
	var chunks []any
	if empty && len(key) == 1 && isHashed(key[0]) {
		n := int64(2 * len(c.names))
		step := math.MaxInt64 / n * 2
		low := any(bound(key, true))
		for i := int64(1); i <= n; i++ {
			high := any(bson.D{{Key: key[0].Key, Value: math.MinInt64 + i*step}})
			if i == n {
				high = bound(key, false)
			}
			chunks = append(chunks, chunkDoc(id, low, high, c.names[int(i-1)%len(c.names)]))
			low = high
		}
		for _, shard := range c.names {
			// Until a majority of the shard has it: no rollback takes it away.
			for shard != primary {
				if err := c.settle(t, primary, shard); err != nil {
					return nil, err
				}
				if err := c.set(shard).settled(); err != nil {
					return nil, err
				}
				if slices.Contains(c.holders(id), shard) {
					break
				}
			}
		}
	} else {
		chunks = append(chunks, chunkDoc(id, bound(key, true), bound(key, false), primary))
	}
	err := c.write(put("chunks", chunks...))
	if err == nil {
		err = c.write(put("collections",
			bson.D{{Key: "_id", Value: ns}, {Key: "uuid", Value: uuidValue(id)}, {Key: "key", Value: key},
				{Key: "unique", Value: truthy(req.Lookup("unique"))}, {Key: "lastmod", Value: time.Now()}}))
	}
	c.noteSharded(id)
	if rerr := c.reload(); rerr != nil {
		return nil, rerr
	}
	return bson.D{{Key: "collectionsharded", Value: ns}}, err
}

// shardSeries shards a time series by the fields of its measurements, as one range on the primary shard; what the
// config servers keep is of its buckets ("Shard a Time Series Collection": from 5.1).
func (c *Sharded) shardSeries(p *collection, primary string, key bson.D) (bson.D, error) {
	if c.opt.Set.major() < 6 {
		return nil, refuse(20, "IllegalOperation", "can't shard time-series collection %s.%s", p.db, p.name)
	}
	at, meta := p.fields()
	var of bson.D
	for _, k := range key {
		rest, ofMeta := strings.CutPrefix(k.Key, meta)
		switch {
		case k.Key == at:
			k.Key = "control.min." + at
		case meta != "" && ofMeta && (rest == "" || rest[0] == '.'):
			k.Key = "meta" + rest
		default:
			return nil, refuse(2, "BadValue",
				"Only the metaField or timeField can be in the shard key, and %s is neither", k.Key)
		}
		of = append(of, k)
	}
	ns := p.db + "." + bucketsOf + p.name
	var id [16]byte
	err := c.withPrimary(primary, func(s *session) error {
		b := s.m.current.colls[ns]
		if b == nil {
			return refuse(26, "NamespaceNotFound", "%s does not exist", ns)
		}
		id = b.uuid
		return nil
	})
	if err == nil {
		err = c.set(primary).settled()
	}
	if err == nil {
		err = c.write(put("chunks", chunkDoc(id, bound(of, true), bound(of, false), primary)))
	}
	if err == nil {
		err = c.write(put("collections", bson.D{{Key: "_id", Value: ns}, {Key: "uuid", Value: uuidValue(id)},
			{Key: "key", Value: of}, {Key: "unique", Value: false}, {Key: "lastmod", Value: time.Now()},
			{Key: "timeseriesFields", Value: lookup(p.options, "timeseries")}}))
	}
	c.noteSharded(id)
	if rerr := c.reload(); rerr != nil {
		return nil, rerr
	}
	return bson.D{{Key: "collectionsharded", Value: ns}}, err
}

// settle makes a shard have a collection as another one has it: of the same
// identity, options and indexes.
func (c *Sharded) settle(t *table, from, to string) error {
	if from == to {
		return nil
	}
	db, coll, _ := strings.Cut(t.ns, ".")
	src := c.set(from)
	src.mu.Lock()
	have := src.members[max(src.primary, 0)].current.colls[t.ns]
	if have == nil {
		src.mu.Unlock()
		return refuse(26, "NamespaceNotFound", "%s is not on %s", t.ns, from)
	}
	options, indexes := have.options, have.indexes
	src.mu.Unlock()
	return c.withPrimary(to, func(s *session) error {
		cur := s.m.current.colls[t.ns]
		if cur != nil && cur.uuid != t.uuid {
			s.dropOne(cur)
			cur = nil
		}
		if cur == nil {
			o := append(bson.D{{Key: "create", Value: coll}}, options...)
			o = append(o, bson.E{Key: "idIndex", Value: indexes[0]})
			s.command(db, &t.uuid, o, effectCreate(db, coll, t.uuid, options))
			cur = s.m.current.colls[t.ns]
		}
		for _, ix := range cur.indexes[1:] {
			if !hasIndex(indexes, indexName(ix)) {
				name := indexName(ix)
				s.command(db, &t.uuid, bson.D{{Key: "dropIndexes", Value: coll}, {Key: "index", Value: name}},
					effectDropIndex(t.ns, name))
			}
		}
		for _, ix := range indexes[1:] {
			if !hasIndex(s.m.current.colls[t.ns].indexes, indexName(ix)) {
				s.command(db, &t.uuid, append(bson.D{{Key: "createIndexes", Value: coll}}, ix...),
					effectIndex(t.ns, ix))
			}
		}
		return nil
	})
}

func hasIndex(list []bson.D, name string) bool {
	for _, ix := range list {
		if indexName(ix) == name {
			return true
		}
	}
	return false
}

// withPrimary runs fn on a set's primary, under its lock.
func (c *Sharded) withPrimary(shard string, fn func(*session) error) error {
	rs := c.set(shard)
	c.tell(rs)
	defer c.hear(rs)
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if rs.primary < 0 || !rs.members[rs.primary].up {
		return refuse(133, "FailedToSatisfyReadPreference", "shard %s has no primary", shard)
	}
	return fn(&session{m: rs.members[rs.primary]})
}

// routeSplit cuts a chunk in two at a shard key value.
func routeSplit(x *routed, _ string, req bson.Raw) (bson.D, error) {
	ns, _ := first(req).StringValueOK()
	mid, ok := req.Lookup("middle").DocumentOK()
	c := x.r.c
	c.where.Lock()
	defer c.where.Unlock()
	t := c.lay.byNS[ns]
	if t == nil || !ok {
		return nil, refuse(118, "NamespaceNotSharded", "%s is not sharded, or no middle is given", ns)
	}
	fields, _ := mid.Elements()
	if !slices.EqualFunc(fields, t.key, func(f bson.RawElement, k bson.E) bool { return f.Key() == k.Key }) {
		return nil, refuse(2, "BadValue", "the middle is no value of the shard key %v", t.key)
	}
	ch := t.chunkOf(mid)
	if ch == nil || t.compare(ch.min, mid) == 0 {
		return nil, refuse(2, "BadValue", "cannot split at a boundary")
	}
	// The upper half first: in between, the lower chunk still reaches to the
	// old end, and a key belongs to the chunk that begins last before it.
	err := c.write(put("chunks", chunkDoc(t.uuid, mid, ch.max, ch.shard)))
	if err == nil {
		err = c.write(bson.D{{Key: "update", Value: "chunks"},
			{Key: "updates", Value: bson.A{bson.D{{Key: "q", Value: bson.D{{Key: "_id", Value: ch.id}}},
				{Key: "u", Value: bson.D{{Key: "$set", Value: bson.D{{Key: "max", Value: mid}}}}}}}}})
	}
	if rerr := c.reload(); rerr != nil {
		return nil, rerr
	}
	return bson.D{}, err
}

func routeShardZone(x *routed, _ string, req bson.Raw) (bson.D, error) {
	shard, _ := first(req).StringValueOK()
	zone, _ := req.Lookup("zone").StringValueOK()
	c := x.r.c
	c.where.Lock()
	defer c.where.Unlock()
	if c.shards[shard] == nil {
		return nil, refuse(70, "ShardNotFound", "shard %s does not exist", shard)
	}
	if c.zones == nil {
		c.zones = map[string][]string{}
	}
	c.zones[shard] = append(c.zones[shard], zone)
	return bson.D{}, c.write(bson.D{{Key: "update", Value: "shards"},
		{Key: "updates", Value: bson.A{bson.D{{Key: "q", Value: bson.D{{Key: "_id", Value: shard}}},
			{Key: "u", Value: bson.D{{Key: "$set", Value: bson.D{{Key: "tags", Value: c.zones[shard]}}}}}}}}})
}

func routeZone(x *routed, _ string, req bson.Raw) (bson.D, error) {
	ns, _ := first(req).StringValueOK()
	low := req.Lookup("min")
	x.r.c.where.Lock()
	defer x.r.c.where.Unlock()
	return bson.D{}, x.r.c.write(put("tags",
		bson.D{{Key: "_id", Value: bson.D{{Key: "ns", Value: ns}, {Key: "min", Value: low}}}, {Key: "ns", Value: ns},
			{Key: "min", Value: low}, {Key: "max", Value: req.Lookup("max")}, {Key: "tag", Value: req.Lookup("zone")}}))
}

func routeMoveChunk(x *routed, _ string, req bson.Raw) (bson.D, error) {
	ns, _ := first(req).StringValueOK()
	to, _ := req.Lookup("to").StringValueOK()
	find, ok := req.Lookup("find").DocumentOK()
	if !ok {
		return nil, refuse(9, "FailedToParse", "moveChunk needs find")
	}
	return bson.D{}, x.r.c.Move(ns, find, to, MoveOptions{})
}

// MoveOptions say how a range moves.
type MoveOptions struct {
	// Pause is waited between the steps, for others to write in between.
	Pause time.Duration
	// Fail ends the migration after the copying: what was copied stays behind.
	Fail bool
	// Keep leaves what was moved away on the shard it came from.
	Keep bool
}

// within reports whether a document belongs to a chunk.
func (t *table) within(ch *chunk, doc bson.Raw) bool {
	k := t.keyOf(doc)
	return t.compare(ch.min, k) <= 0 && t.compare(k, ch.max) < 0
}

// Move moves the chunk that holds a document's shard key to another shard:
// copies the range while writes go on, stops them, copies what has changed,
// commits on the config servers, and deletes the range where it was.
func (c *Sharded) Move(ns string, find bson.Raw, to string, opt MoveOptions) error {
	c.where.RLock()
	t := c.lay.byNS[ns]
	var ch chunk
	if t != nil {
		if p := t.chunkOf(t.keyOf(find)); p != nil {
			ch = *p
		}
	}
	c.where.RUnlock()
	if t == nil || ch.shard == "" || c.shards[to] == nil {
		return refuse(118, "NamespaceNotSharded", "%s is not sharded, or there is no shard %s", ns, to)
	}
	if ch.shard == to {
		return nil
	}
	// Copy in steps; where a commit comes in between, the ranges are compared
	// again at the end anyway.
	if err := c.stillThere(t, &ch, func() error { return c.settle(t, ch.shard, to) }); err != nil {
		return err
	}
	for step := 0; ; step++ {
		more := false
		err := c.stillThere(t, &ch, func() (err error) {
			more, err = c.catchUp(t, &ch, to, 40)
			return err
		})
		if err != nil {
			return err
		}
		if !more || step > 200 {
			break
		}
		time.Sleep(opt.Pause)
	}
	if opt.Fail {
		return nil
	}
	if err := c.commitMove(t, &ch, to); err != nil || opt.Keep {
		return err
	}
	time.Sleep(opt.Pause)
	return c.clearRange(t, &ch, ch.shard)
}

// stillThere runs a step of a migration while the chunk is what it was.
func (c *Sharded) stillThere(t *table, ch *chunk, fn func() error) error {
	c.where.RLock()
	defer c.where.RUnlock()
	now := c.lay.byID[t.uuid]
	if now == nil || now.ns != t.ns {
		return refuse(118, "NamespaceNotSharded", "%s is gone", t.ns)
	}
	for i := range now.chunks {
		if now.chunks[i].id.Equal(ch.id) && now.chunks[i].shard == ch.shard && bytes.Equal(now.chunks[i].max, ch.max) {
			return fn()
		}
	}
	return refuse(46, "LockBusy", "the chunk has changed")
}

// rangeOf returns a shard's documents of a chunk, as its primary has them.
func (c *Sharded) rangeOf(t *table, ch *chunk, shard string) (map[string]document, error) {
	out := map[string]document{}
	err := c.withPrimary(shard, func(s *session) error {
		if coll := s.m.current.colls[t.ns]; coll != nil && coll.uuid == t.uuid {
			coll.docs.Scan(func(d document) bool {
				if t.within(ch, d.raw) {
					out[string(d.id.Type)+string(d.id.Value)] = d
				}
				return true
			})
		}
		return nil
	})
	return out, err
}

// catchUp makes the recipient's range more like the donor's, by so many
// documents at most.
func (c *Sharded) catchUp(t *table, ch *chunk, to string, most int) (more bool, err error) {
	have, err := c.rangeOf(t, ch, ch.shard)
	if err != nil {
		return false, err
	}
	err = c.withPrimary(to, func(s *session) error {
		s.migrating = true
		coll := s.m.current.colls[t.ns]
		if coll == nil || coll.uuid != t.uuid {
			return refuse(26, "NamespaceNotFound", "%s is not on %s", t.ns, to)
		}
		var gone []document
		coll.docs.Scan(func(d document) bool {
			if _, ok := have[string(d.id.Type)+string(d.id.Value)]; !ok && t.within(ch, d.raw) {
				gone = append(gone, d)
			}
			return true
		})
		for _, d := range gone {
			if err := s.removeOne(coll, d); err != nil {
				return err
			}
		}
		for _, d := range have {
			old, ok := coll.get(d.id)
			if ok && bytes.Equal(old.raw, d.raw) {
				continue
			}
			if ok && !t.within(ch, old.raw) {
				// The same _id in another range: the shard's index on _id does
				// not let both in.
				return refuse(11000, "DuplicateKey", "E11000 duplicate key on the recipient")
			}
			if most--; most < 0 {
				more = true
				return nil
			}
			var err error
			if ok {
				err = s.change(coll, old, d.raw, true, nil)
			} else {
				err = s.insertOne(coll, d.raw)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	return more, err
}

// commitMove is the critical section: no routed command runs meanwhile.
func (c *Sharded) commitMove(t *table, ch *chunk, to string) error {
	until := time.Now().Add(5 * time.Second)
	for {
		c.where.Lock()
		if !c.preparedOn(ch.shard) && !c.preparedOn(to) {
			break
		}
		c.where.Unlock() // a prepared transaction may have written to the range
		if time.Now().After(until) {
			return refuse(46, "LockBusy", "a prepared transaction holds the range")
		}
		time.Sleep(2 * time.Millisecond)
	}
	defer c.where.Unlock()
	now := c.lay.byID[t.uuid]
	same := false
	for i := 0; now != nil && now.ns == t.ns && i < len(now.chunks); i++ {
		same = same || now.chunks[i].id.Equal(ch.id) && now.chunks[i].shard == ch.shard &&
			bytes.Equal(now.chunks[i].max, ch.max)
	}
	if !same {
		return refuse(46, "LockBusy", "the chunk has changed")
	}
	c.endOpen(ch.shard)
	c.endOpen(to)
	if err := c.settle(t, ch.shard, to); err != nil {
		return err
	}
	// What the donor has must stay, and what the recipient gets too, before
	// the range is the recipient's.
	if err := c.set(ch.shard).settled(); err != nil {
		return err
	}
	if _, err := c.catchUp(t, ch, to, math.MaxInt); err != nil {
		return err
	}
	if err := c.set(to).settled(); err != nil {
		return err
	}
	if more, err := c.catchUp(t, ch, to, 0); err != nil || more {
		return refuse(46, "LockBusy", "what was copied was rolled back")
	}
	err := c.write(bson.D{{Key: "update", Value: "chunks"},
		{Key: "updates", Value: bson.A{bson.D{{Key: "q", Value: bson.D{{Key: "_id", Value: ch.id}}},
			{Key: "u", Value: bson.D{{Key: "$set", Value: bson.D{{Key: "shard", Value: to}}}}}}}}})
	if rerr := c.reload(); rerr != nil {
		return rerr
	}
	return err
}

func (c *Sharded) preparedOn(shard string) bool {
	rs := c.set(shard)
	rs.mu.Lock()
	defer rs.mu.Unlock()
	for _, t := range rs.txns {
		if t.prepared != nil {
			return true
		}
	}
	return false
}

// endOpen ends open transactions on a shard, as those that meet a migration.
func (c *Sharded) endOpen(shard string) {
	rs := c.set(shard)
	rs.mu.Lock()
	defer rs.mu.Unlock()
	for _, t := range rs.txns {
		t.failed = t.failed || t.prepared == nil
	}
}

// clearRange deletes what a shard has of a range that it does not own.
func (c *Sharded) clearRange(t *table, ch *chunk, shard string) error {
	for {
		c.where.RLock()
		now := c.lay.byID[t.uuid]
		left := 0
		var err error
		if now != nil {
			err = c.withPrimary(shard, func(s *session) error {
				s.migrating = true
				coll := s.m.current.colls[now.ns]
				if coll == nil || coll.uuid != t.uuid {
					return nil
				}
				var gone []document
				coll.docs.Scan(func(d document) bool {
					if t.within(ch, d.raw) && now.owner(d.raw) != shard {
						gone = append(gone, d)
					}
					return true
				})
				for i, d := range gone {
					if i == 40 {
						left = len(gone) - i
						break
					}
					if err := s.removeOne(coll, d); err != nil {
						return err
					}
				}
				return nil
			})
		}
		c.where.RUnlock()
		if err != nil || left == 0 {
			return err
		}
	}
}
