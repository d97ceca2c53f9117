package docsim

import (
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// writeErrors gathers the per-document errors of a write command.
type writeErrors struct{ list bson.A }

func (w *writeErrors) add(i int, err error) error {
	var ce *commandError
	if !errors.As(err, &ce) {
		return err
	}
	w.list = append(w.list, bson.D{{Key: "index", Value: int32(i)}, {Key: "code", Value: ce.Code},
		{Key: "errmsg", Value: ce.Msg}})
	return nil
}

func (w *writeErrors) into(d bson.D) bson.D {
	if len(w.list) > 0 {
		d = append(d, bson.E{Key: "writeErrors", Value: w.list})
	}
	return d
}

func isOrdered(req bson.Raw) bool {
	b, ok := req.Lookup("ordered").BooleanOK()
	return !ok || b
}

func listOf(req bson.Raw, field string) []bson.RawValue {
	arr, _ := req.Lookup(field).ArrayOK()
	vals, _ := arr.Values()
	return vals
}

// stamped returns a document as it is inserted or put in the place of another: an empty timestamp at its top level, but
// in the _id, is the time of the server ("BSON Types: Timestamps").
func stamped(raw bson.Raw) bson.Raw {
	raw = bytes.Clone(raw)
	elems, err := raw.Elements()
	if err != nil {
		return raw
	}
	for _, e := range elems {
		v := e.Value()
		if t, i, ok := v.TimestampOK(); ok && t == 0 && i == 0 && e.Key() != "_id" {
			binary.LittleEndian.PutUint64(v.Value, uint64(time.Now().Unix())<<32|1) // part of raw
		}
	}
	return raw
}

func insert(s *session, db string, req bson.Raw) (bson.D, error) {
	if _, err := namespaceOf(db, first(req)); err != nil {
		return nil, err
	}
	c := s.ensure(db, first(req).StringValue())
	n := int32(0)
	var bad writeErrors
	if c.kind == "timeseries" {
		return s.measure(c, listOf(req, "documents"))
	}
	for i, v := range listOf(req, "documents") {
		if err := s.insertOne(c, stamped(v.Document())); err != nil {
			if err := bad.add(i, err); err != nil {
				return nil, err
			}
			if isOrdered(req) {
				break
			}
			continue
		}
		n++
	}
	return bad.into(bson.D{{Key: "n", Value: n}}), nil
}

func (s *session) insertOne(c *collection, raw bson.Raw) error {
	ns := c.db + "." + c.name
	if c.kind == "view" {
		return refuse(166, "CommandNotSupportedOnView", "%s is a view", ns)
	}
	if id, err := raw.LookupErr("_id"); err != nil {
		raw = toRaw(append(bson.D{{Key: "_id", Value: bson.NewObjectID()}}, toD(raw)...))
	} else if id.Type == bson.TypeArray || id.Type == bson.TypeRegex || id.Type == bson.TypeUndefined {
		return refuse(53, "InvalidIdField", "The '_id' value cannot be of type %s", id.Type)
	} else if raw.Index(0).Key() != "_id" {
		// Servers store _id first.
		d := bson.D{{Key: "_id", Value: id}}
		for _, e := range toD(raw) {
			if e.Key != "_id" {
				d = append(d, e)
			}
		}
		raw = toRaw(d)
	}
	if s.breaks(raw, s.m.rs.opt.Odd.BreaksWriting) {
		return errGoodbye
	}
	d := newDocument(raw)
	if _, exists := c.get(d.id); exists {
		return refuse(11000, "DuplicateKey",
			"E11000 duplicate key error collection: %s index: _id_ dup key: { _id: %s }", ns, d.id)
	}
	if err := s.lock(c, d.id); err != nil {
		return err
	}
	if ix := c.conflict(raw, nil); ix != "" {
		return refuse(11000, "DuplicateKey", "E11000 duplicate key error collection: %s index: %s", ns, ix)
	}
	s.log(bson.D{{Key: "op", Value: "i"}, {Key: "ns", Value: ns}, {Key: "ui", Value: uuidValue(c.uuid)},
		{Key: "o", Value: raw},
		{Key: "o2", Value: bson.D{{Key: "_id", Value: d.id}}}}, effectPut(ns, raw))
	if s.breaks(raw, s.m.rs.opt.Odd.LosesAnswer) {
		return errGoodbye
	}
	for most := c.most(); most > 0 && int64(c.docs.Len()) > most; {
		old, ok := c.oldest()
		if ok && !s.m.rs.opt.logsEviction() {
			s.log(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""}, {Key: "o", Value: bson.D{}}},
				effectRemove(ns, old.id))
		} else if !ok || s.removeOne(c, old) != nil {
			return nil // one that a transaction holds goes with the next insert
		}
	}
	return nil
}

// each calls fn with the documents of a collection that fit a filter; fn
// answers false to end. An equality on _id is looked up.
func (c *collection) each(filter bson.Raw, fn func(document) bool) error {
	if id, err := filter.LookupErr("_id"); err == nil && id.Type != bson.TypeRegex {
		direct := id.Type != bson.TypeEmbeddedDocument
		if !direct {
			es, _ := id.Document().Elements()
			direct = len(es) == 0 || !strings.HasPrefix(es[0].Key(), "$")
		}
		if direct {
			d, ok := c.get(id)
			if !ok {
				return nil
			}
			if ok, err := matches(d.raw, filter); err != nil || !ok {
				return err
			}
			fn(d)
			return nil
		}
	}
	var err error
	c.docs.Scan(func(d document) bool {
		var ok bool
		if ok, err = matches(d.raw, filter); err != nil {
			return false
		}
		return !ok || fn(d)
	})
	return err
}

// each is as the collection's, of those documents the session may see: a
// router's, only those that the shard owns.
func (s *session) each(c *collection, filter bson.Raw, fn func(document) bool) error {
	if s.owns == nil {
		return c.each(filter, fn)
	}
	return c.each(filter, func(d document) bool { return !s.owns(c, d.raw) || fn(d) })
}

// change makes a document another, and logs it: as a replacement, or in the
// form for updates.
func (s *session) change(c *collection, old document, raw bson.Raw, replaced bool, asked bson.Raw) error {
	ns := c.db + "." + c.name
	if err := s.lock(c, old.id); err != nil {
		return err
	}
	if s.table != nil && s.table.compare(s.table.keyOf(old.raw), s.table.keyOf(raw)) != 0 {
		return refuse(20, "IllegalOperation", "this stand-in does not change a document's shard key value")
	}
	if ix := c.conflict(raw, old.raw); ix != "" {
		return refuse(11000, "DuplicateKey", "E11000 duplicate key error collection: %s index: %s", ns, ix)
	}
	var o any = raw
	if !replaced {
		if s.m.rs.opt.Odd.RawOperators && asked != nil {
			o = asked
		} else if s.m.rs.opt.LogForm == 1 {
			if ops, ok := operators(old.raw, raw); ok {
				o = ops
			}
		} else if d, ok := diff(old.raw, raw); ok {
			o = bson.D{{Key: "$v", Value: int32(2)}, {Key: "diff", Value: d}}
		}
	}
	s.log(bson.D{{Key: "op", Value: "u"}, {Key: "ns", Value: ns}, {Key: "ui", Value: uuidValue(c.uuid)},
		{Key: "o", Value: o},
		{Key: "o2", Value: bson.D{{Key: "_id", Value: old.id}}}}, effectPut(ns, raw))
	return nil
}

// updateOne applies one update statement.
func (s *session) updateOne(db, name string, q, u bson.Raw, multi,
	upsert bool) (matched, modified int32, upserted any, err error) {
	// An update that finds nothing makes no collection; an upsert does.
	c := s.now().colls[db+"."+name]
	if c == nil {
		if !upsert {
			return
		}
		c = s.ensure(db, name)
	}
	var hits []document
	if err = s.each(c, q, func(d document) bool { hits = append(hits, d); return multi }); err != nil {
		return
	}
	es, _ := u.Elements()
	replaced := len(es) == 0 || !strings.HasPrefix(es[0].Key(), "$")
	for _, d := range hits {
		matched++
		var raw bson.Raw
		if raw, err = update(d.raw, u, false); err != nil {
			return
		}
		if bytes.Equal(raw, d.raw) {
			continue
		}
		if replaced {
			raw = stamped(raw)
		}
		if err = s.change(c, d, raw, replaced, u); err != nil {
			return
		}
		modified++
	}
	if matched > 0 || !upsert {
		return
	}
	// Equalities of the query are the new document's beginning.
	base := bson.D{}
	for _, e := range toD(q) {
		v := value(e.Value)
		if strings.HasPrefix(e.Key, "$") || strings.Contains(e.Key, ".") {
			continue
		}
		if v.Type == bson.TypeEmbeddedDocument {
			if ops, _ := v.Document().Elements(); len(ops) > 0 && strings.HasPrefix(ops[0].Key(), "$") {
				continue
			}
		}
		if !replaced || e.Key == "_id" {
			base = append(base, e)
		}
	}
	if lookup(base, "_id") == nil {
		id := any(bson.NewObjectID())
		if v, err := u.LookupErr("_id"); err == nil {
			id = v
		}
		base = append(bson.D{{Key: "_id", Value: id}}, base...)
	}
	raw, err := update(toRaw(base), u, true)
	if err != nil {
		return
	}
	if err = s.insertOne(c, stamped(raw)); err == nil {
		matched, upserted = 1, raw.Lookup("_id")
	}
	return
}

func updateCmd(s *session, db string, req bson.Raw) (bson.D, error) {
	if _, err := namespaceOf(db, first(req)); err != nil {
		return nil, err
	}
	var n, modified int32
	var ups bson.A
	var bad writeErrors
	for i, v := range listOf(req, "updates") {
		st := v.Document()
		q, _ := st.Lookup("q").DocumentOK()
		u, isDoc := st.Lookup("u").DocumentOK()
		var err error
		if !isDoc {
			err = refuse(9, "FailedToParse", "this stand-in takes updates as documents, not as pipelines")
		} else {
			var a, b int32
			var id any
			a, b, id, err = s.updateOne(db, first(req).StringValue(), q, u, truthy(st.Lookup("multi")),
				truthy(st.Lookup("upsert")))
			n, modified = n+a, modified+b
			if id != nil {
				ups = append(ups, bson.D{{Key: "index", Value: int32(i)}, {Key: "_id", Value: id}})
			}
		}
		if err != nil {
			if err := bad.add(i, err); err != nil {
				return nil, err
			}
			if isOrdered(req) {
				break
			}
		}
	}
	d := bson.D{{Key: "n", Value: n}, {Key: "nModified", Value: modified}}
	if ups != nil {
		d = append(d, bson.E{Key: "upserted", Value: ups})
	}
	return bad.into(d), nil
}

func (s *session) removeOne(c *collection, d document) error {
	ns := c.db + "." + c.name
	if err := s.lock(c, d.id); err != nil {
		return err
	}
	s.log(bson.D{{Key: "op", Value: "d"}, {Key: "ns", Value: ns}, {Key: "ui", Value: uuidValue(c.uuid)},
		{Key: "o", Value: bson.D{{Key: "_id", Value: d.id}}}}, effectRemove(ns, d.id))
	return nil
}

func deleteCmd(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	n := int32(0)
	c := s.now().colls[ns]
	for _, v := range listOf(req, "deletes") {
		if c == nil {
			break
		}
		st := v.Document()
		q, _ := st.Lookup("q").DocumentOK()
		limit, _ := st.Lookup("limit").AsInt64OK()
		var hits []document
		if err := s.each(c, q, func(d document) bool { hits = append(hits, d); return limit != 1 }); err != nil {
			return nil, err
		}
		for _, d := range hits {
			if err := s.removeOne(c, d); err != nil {
				return nil, err
			}
			n++
		}
	}
	return bson.D{{Key: "n", Value: n}}, nil
}

func findAndModify(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	q, _ := req.Lookup("query").DocumentOK()
	if q == nil {
		q = toRaw(nil)
	}
	var hits []bson.Raw
	if c := s.now().colls[ns]; c != nil {
		if err := s.each(c, q, func(d document) bool { hits = append(hits, d.raw); return true }); err != nil {
			return nil, err
		}
	}
	if spec, ok := req.Lookup("sort").DocumentOK(); ok {
		if err := sortBy(hits, spec); err != nil {
			return nil, err
		}
	}
	wantNew, upsert := truthy(req.Lookup("new")), truthy(req.Lookup("upsert"))
	var before, after any
	if len(hits) > 0 {
		before = hits[0]
		q = toRaw(bson.D{{Key: "_id", Value: hits[0].Lookup("_id")}})
	}
	if truthy(req.Lookup("remove")) {
		if before != nil {
			c := s.now().colls[ns]
			if err := s.removeOne(c, newDocument(hits[0])); err != nil {
				return nil, err
			}
		}
		return bson.D{{Key: "lastErrorObject", Value: bson.D{{Key: "n", Value: int32(len(hits[:min(1, len(hits))]))}}},
			{Key: "value", Value: before}}, nil
	}
	u, _ := req.Lookup("update").DocumentOK()
	n, _, id, err := s.updateOne(db, first(req).StringValue(), q, u, false, upsert)
	if err != nil {
		return nil, err
	}
	if id == nil && before != nil {
		id = hits[0].Lookup("_id")
	}
	if id != nil {
		if d, ok := s.now().colls[ns].get(value(id)); ok {
			after = d.raw
		}
	}
	v := before
	if wantNew {
		v = after
	}
	return bson.D{{Key: "lastErrorObject",
		Value: bson.D{{Key: "n", Value: n}, {Key: "updatedExisting", Value: before != nil}}},
		{Key: "value", Value: v}}, nil
}
