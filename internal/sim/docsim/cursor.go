package docsim

import (
	"sort"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// cursor is a reading that goes on over several requests. One over a
// collection goes by _id and sees at each step what is committed or current by
// then; one over the log waits at its end where it is tailable.
type cursor struct {
	id      int64
	ns      string
	rest    []bson.Raw  // of results that were gathered at once
	coll    *collection // for following _id order
	uuid    [16]byte
	find    bson.Raw
	last    *bson.RawValue
	max     *bson.RawValue
	left    int64 // documents still to give; -1 for all
	logTS   *bson.Timestamp
	tail    bool
	await   bool
	touched bool
}

const batchBytes = 16 << 20

// find answers "find": through the log, by _id, or gathered and sorted.
func find(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	size := int64(101)
	if n, ok := req.Lookup("batchSize").AsInt64OK(); ok {
		size = n
	}
	limit, _ := req.Lookup("limit").AsInt64OK()
	c := &cursor{ns: ns, find: req, left: -1}
	if limit > 0 {
		c.left = limit
	}
	filter := c.filter()
	if err := checkQuery(filter); err != nil {
		return nil, err
	}
	if err := simpleCollation(req); err != nil {
		return nil, err
	}
	if ns == "config.transactions" && !s.m.rs.opt.Lone {
		c.rest = s.m.transactions(filter)
	} else if ns == "local.oplog.rs" && !s.m.rs.opt.Lone {
		if s.m.rs.opt.Odd.DeniesLog {
			return nil, refuse(13, "Unauthorized", "not authorized on local to execute command find")
		}
		if err := s.findLog(c, filter); err != nil {
			return nil, err
		}
	} else if err := s.findColl(c, filter); err != nil {
		return nil, err
	}
	s.pause()
	batch, done, err := s.fill(c, size)
	if err != nil {
		return nil, err
	}
	single, _ := req.Lookup("singleBatch").BooleanOK()
	if !done && !single {
		c.id = lastCursor.Add(1)
		s.m.cursors[c.id] = c
	}
	return bson.D{
		{Key: "cursor", Value: bson.D{{Key: "firstBatch", Value: batch}, {Key: "id", Value: c.id},
			{Key: "ns", Value: ns}}}}, nil
}

// keyOnly returns what the hinted index holds of a document ("returnKey").
func keyOnly(doc, find bson.Raw) bson.Raw {
	hint, ok := find.Lookup("hint").DocumentOK()
	if !ok {
		return toRaw(nil)
	}
	t := &table{key: toD(hint)}
	return t.keyOf(doc)
}

func (c *cursor) filter() bson.Raw {
	if f, ok := c.find.Lookup("filter").DocumentOK(); ok {
		return f
	}
	return toRaw(nil)
}

// findLog sets a cursor up over the member's log.
func (s *session) findLog(c *cursor, filter bson.Raw) error {
	c.tail = truthy(c.find.Lookup("tailable"))
	c.await = truthy(c.find.Lookup("awaitData"))
	sortSpec, _ := c.find.Lookup("sort").DocumentOK()
	if dir, ok := sortSpec.Lookup("$natural").AsInt64OK(); ok && dir < 0 {
		es := s.m.visible(majority(c.find))
		for i := len(es) - 1; i >= 0; i-- {
			if ok, err := matches(es[i].raw, filter); err != nil {
				return err
			} else if ok {
				c.rest = append(c.rest, es[i].raw)
				if c.left > 0 && int64(len(c.rest)) >= c.left {
					break
				}
			}
		}
		return nil
	}
	c.logTS = &bson.Timestamp{}
	if t, i, ok := filter.Lookup("ts", "$gte").TimestampOK(); ok {
		c.logTS = &bson.Timestamp{T: t, I: i}
		if i > 0 {
			c.logTS.I--
		}
	}
	return nil
}

// findColl sets a cursor up over a collection.
func (s *session) findColl(c *cursor, filter bson.Raw) error {
	coll := s.view(c.find).colls[c.ns]
	if coll == nil {
		c.left = 0
		return nil
	}
	if coll.kind == "timeseries" {
		c.rest = s.unpacked(coll, filter)
		return nil
	}
	if coll.kind == "view" {
		return refuse(166, "CommandNotSupportedOnView", "this stand-in does not read through views")
	}
	sortSpec, _ := c.find.Lookup("sort").DocumentOK()
	skip, _ := c.find.Lookup("skip").AsInt64OK()
	es, _ := sortSpec.Elements()
	natural := len(es) == 0
	if natural && coll.order != nil && c.find.Lookup("hint").Type == 0 && c.find.Lookup("min").Type == 0 {
		// A capped collection is read in the order of insertion.
		for _, raw := range coll.inserted() {
			if ok, err := matches(raw, filter); err != nil {
				return err
			} else if ok {
				c.rest = append(c.rest, raw)
			}
		}
		c.rest = c.rest[max(0, min(int(skip), len(c.rest))):]
		return nil
	}
	if len(es) == 1 && (es[0].Key() == "_id" || es[0].Key() == "$natural") {
		dir, _ := es[0].Value().AsInt64OK()
		natural = dir > 0
	}
	if b, ok := c.find.Lookup("min", "_id").Type, true; ok && b != 0 {
		v := c.find.Lookup("min", "_id")
		c.last = &v
	}
	if v := c.find.Lookup("max", "_id"); v.Type != 0 {
		c.max = &v
	}
	if natural && skip == 0 {
		c.coll, c.uuid = coll, coll.uuid
		if id := filter.Lookup("_id"); id.Type != 0 && id.Type != bson.TypeEmbeddedDocument {
			c.coll = nil
			return s.each(coll, filter, func(d document) bool { c.rest = append(c.rest, d.raw); return true })
		}
		return nil
	}
	if err := s.each(coll, filter, func(d document) bool { c.rest = append(c.rest, d.raw); return true }); err != nil {
		return err
	}
	if err := sortBy(c.rest, sortSpec); err != nil {
		return err
	}
	if !natural && len(es) == 1 && es[0].Key() == "$natural" {
		sort.SliceStable(c.rest, func(i, j int) bool {
			return Compare(c.rest[i].Lookup("_id"), c.rest[j].Lookup("_id")) > 0
		})
	}
	c.rest = c.rest[max(0, min(int(skip), len(c.rest))):]
	return nil
}

// fill returns the next batch and whether the cursor has ended.
func (s *session) fill(c *cursor, size int64) (bson.A, bool, error) {
	var failed error
	batch, done, err := s.fillBatch(c, size, &failed)
	if failed != nil {
		err = failed
	}
	return batch, done, err
}

func (s *session) fillBatch(c *cursor, size int64, failed *error) (bson.A, bool, error) {
	batch := bson.A{}
	bytes := 0
	add := func(raw bson.Raw) bool {
		if s.breaks(raw, s.m.rs.opt.Odd.BreaksReading) {
			*failed = errGoodbye
			return false
		}
		if c.find != nil {
			var err error
			if raw, err = project(raw, c.find); err != nil {
				*failed = err
				return false
			}
		}
		if truthy(c.find.Lookup("returnKey")) {
			raw = keyOnly(raw, c.find)
			if v, ok := raw.Index(0).Value().Int64OK(); ok && s.m.rs.opt.OddHashes {
				raw = toRaw(bson.D{{Key: raw.Index(0).Key(), Value: v + 1}})
			}
		}
		batch = append(batch, raw)
		bytes += len(raw)
		if c.left > 0 {
			c.left--
		}
		return c.left != 0 && (size <= 0 || int64(len(batch)) < size) && (bytes < batchBytes || s.unbounded)
	}
	if c.left == 0 || size == 0 && c.id == 0 {
		return batch, c.left == 0, nil
	}
	filter := c.filter()
	switch {
	case c.logTS != nil:
		es := s.m.visible(majority(c.find))
		i := sort.Search(len(es), func(i int) bool {
			return es[i].ts.T > c.logTS.T || es[i].ts.T == c.logTS.T && es[i].ts.I > c.logTS.I
		})
		if c.touched && (len(es) == 0 || i == 0 && max(s.m.rs.logBase, s.m.logFrom) > 0) {
			return nil, true, refuse(136, "CappedPositionLost",
				"CollectionScan died due to position in capped collection being deleted")
		}
		for ; i < len(es); i++ {
			c.logTS, c.touched = &es[i].ts, true
			ok, err := matches(es[i].raw, filter)
			if err != nil {
				return nil, false, err
			}
			if ok && !add(es[i].raw) {
				return batch, c.left == 0, nil
			}
		}
		return batch, !c.tail || !c.touched, nil
	case c.coll != nil:
		return s.fillByID(c, filter, &batch, add)
	}
	for len(c.rest) > 0 {
		raw := c.rest[0]
		c.rest = c.rest[1:]
		if !add(raw) {
			break
		}
	}
	return batch, len(c.rest) == 0 || c.left == 0, nil
}

// fillByID goes on after the last _id given, in the collection as it is now.
// One that was dropped or renamed ends the cursor.
func (s *session) fillByID(c *cursor, filter bson.Raw, batch *bson.A, add func(bson.Raw) bool) (bson.A, bool, error) {
	coll := s.view(c.find).colls[c.ns]
	if coll == nil || coll.uuid != c.uuid {
		return nil, true, refuse(175, "QueryPlanKilled", "collection dropped or renamed: %s", c.ns)
	}
	done := true
	var err error
	visit := func(d document) bool {
		if c.touched && c.last != nil && Compare(d.id, *c.last) == 0 {
			return true
		}
		if c.max != nil && Compare(d.id, *c.max) >= 0 {
			return false
		}
		var ok bool
		if ok, err = matches(d.raw, filter); err != nil {
			return false
		}
		ok = ok && (s.owns == nil || s.owns(coll, d.raw))
		id := d.id
		c.last, c.touched = &id, true
		if ok && !add(d.raw) {
			done = c.left == 0
			return false
		}
		return true
	}
	if c.last != nil {
		coll.docs.Ascend(document{id: *c.last}, visit)
	} else {
		coll.docs.Scan(visit)
	}
	return *batch, done, err
}

// pause stands for the time a server or network takes.
func (s *session) pause() {
	if d := s.m.rs.opt.Latency; d > 0 {
		s.m.rs.mu.Unlock()
		time.Sleep(d)
		s.m.rs.mu.Lock()
	}
}

func getMore(s *session, _ string, req bson.Raw) (bson.D, error) {
	id, _ := first(req).AsInt64OK()
	c := s.m.cursors[id]
	if c == nil {
		return nil, refuse(43, "CursorNotFound", "cursor id %d not found", id)
	}
	size, _ := req.Lookup("batchSize").AsInt64OK()
	wait := time.Second
	if ms, ok := req.Lookup("maxTimeMS").AsInt64OK(); ok {
		wait = time.Duration(ms) * time.Millisecond
	}
	until := time.Now().Add(wait)
	s.pause()
	for {
		if !s.m.up {
			return nil, errGoodbye
		}
		batch, done, err := s.fill(c, size)
		if err != nil {
			delete(s.m.cursors, id)
			return nil, err
		}
		if left := time.Until(until); c.await && !done && len(batch) == 0 && left > 0 {
			if !s.wait(left) {
				return nil, errGoodbye
			}
			continue
		}
		next := id
		if done {
			delete(s.m.cursors, id)
			next = 0
		}
		return bson.D{
			{Key: "cursor", Value: bson.D{
				{Key: "nextBatch", Value: batch}, {Key: "id", Value: next}, {Key: "ns", Value: c.ns}}}}, nil
	}
}

func killCursors(s *session, _ string, req bson.Raw) (bson.D, error) {
	killed := bson.A{}
	for _, v := range listOf(req, "cursors") {
		id, _ := v.AsInt64OK()
		delete(s.m.cursors, id)
		killed = append(killed, id)
	}
	return bson.D{{Key: "cursorsKilled", Value: killed}, {Key: "cursorsNotFound", Value: bson.A{}},
		{Key: "cursorsAlive", Value: bson.A{}}, {Key: "cursorsUnknown", Value: bson.A{}}}, nil
}

func (s *session) gather(ns string, req, filter bson.Raw) ([]bson.Raw, error) {
	var out []bson.Raw
	if ns == "local.oplog.rs" {
		for _, e := range s.m.visible(majority(req)) {
			if ok, err := matches(e.raw, filter); err != nil {
				return nil, err
			} else if ok {
				out = append(out, e.raw)
			}
		}
		return out, nil
	}
	c := s.view(req).colls[ns]
	if c == nil {
		return nil, nil
	}
	err := s.each(c, filter, func(d document) bool { out = append(out, d.raw); return true })
	return out, err
}

func count(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	q, has := req.Lookup("query").DocumentOK()
	if !has {
		q = toRaw(nil)
	}
	if es, _ := q.Elements(); len(es) == 0 && s.owns == nil {
		n := 0
		if c := s.view(req).colls[ns]; c != nil {
			n = c.docs.Len()
		}
		return bson.D{{Key: "n", Value: int32(n)}}, nil
	}
	list, err := s.gather(ns, req, q)
	return bson.D{{Key: "n", Value: int32(len(list))}}, err
}

func distinct(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	q, ok := req.Lookup("query").DocumentOK()
	if !ok {
		q = toRaw(nil)
	}
	list, err := s.gather(ns, req, q)
	if err != nil {
		return nil, err
	}
	key, _ := req.Lookup("key").StringValueOK()
	return bson.D{{Key: "values", Value: distinctValues(list, key)}}, nil
}

func distinctValues(list []bson.Raw, key string) bson.A {
	out, seen := bson.A{}, map[string]bool{}
	for _, d := range list {
		for _, v := range docquery.Values(d, key) {
			if k := docquery.Key(v); !seen[k] {
				seen[k] = true
				out = append(out, v)
			}
		}
	}
	return out
}
