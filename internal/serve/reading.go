package serve

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/docquery"
	"dexamen/internal/engine/document/bsonkey"
	"dexamen/internal/moment"
)

// scan reads all documents of a collection, in order of _id.
func (s *documentServer) scan(ctx context.Context, state moment.NamespaceState) docquery.Documents {
	return func(fn func(bson.Raw) (bool, error)) error {
		for r, err := range tree.Records(ctx, s.c.x, state.Root) {
			if err != nil {
				return err
			}
			if more, err := fn(bytes.Clone(r.Value)); err != nil || !more {
				return err
			}
		}
		return nil
	}
}

// find looks documents up by the key of their _id.
func (s *documentServer) find(ctx context.Context, state moment.NamespaceState) func([]byte,
	func(bson.Raw) (bool, error)) error {
	return func(key []byte, fn func(bson.Raw) (bool, error)) error {
		return s.c.get(ctx, state, key, func(r record.Record) (bool, error) { return fn(bytes.Clone(r.Value)) })
	}
}

// openView has a view give what its pipeline makes of what it is on.
func (s *documentServer) openView(ctx context.Context, v *served) error {
	on, _ := v.options.Lookup("viewOn").StringValueOK()
	db, _, _ := bytes.Cut([]byte(v.name), []byte("."))
	base, ok, err := s.open(ctx, string(db)+"."+on)
	if err != nil {
		return err
	}
	if !ok {
		base.all = func(func(bson.Raw) (bool, error)) error { return nil }
	}
	var stages []bson.RawValue
	if arr, ok := v.options.Lookup("pipeline").ArrayOK(); ok {
		if stages, err = arr.Values(); err != nil {
			return err
		}
	}
	p, err := docquery.CompilePipeline(stages, s.sources(ctx, string(db)))
	if err != nil {
		return err
	}
	v.all = func(fn func(bson.Raw) (bool, error)) error { return p.Run(base.all, fn) }
	return nil
}

// sources gives other collections of a database.
func (s *documentServer) sources(ctx context.Context, db string) docquery.Sources {
	return func(name string) (docquery.Documents, error) {
		v, ok, err := s.open(ctx, db+"."+name)
		if err != nil {
			return nil, err
		}
		if !ok {
			return func(func(bson.Raw) (bool, error)) error { return nil }, nil
		}
		return v.all, nil
	}
}

// narrowed returns the documents of a collection that may fit a filter: those of the _ids that
// it names, or all. By says which way was taken.
func (v *served) narrowed(filter bson.Raw) (docs docquery.Documents, by string) {
	ids := idsOf(filter)
	if ids == nil || v.lookup == nil {
		return v.all, "collection scan"
	}
	return func(fn func(bson.Raw) (bool, error)) error {
		more := true
		for _, key := range ids {
			err := v.lookup(key, func(d bson.Raw) (bool, error) {
				var err error
				more, err = fn(d)
				return more, err
			})
			if err != nil || !more {
				return err
			}
		}
		return nil
	}, "_id"
}

// idsOf returns the keys of the _ids that a filter asks for, in order; nil where it may be any.
func idsOf(filter bson.Raw) [][]byte {
	v, err := filter.LookupErr("_id")
	if err != nil {
		return nil
	}
	list := []bson.RawValue{v}
	if v.Type == bson.TypeEmbeddedDocument {
		if in, err := v.Document().LookupErr("$in"); err == nil && in.Type == bson.TypeArray {
			list, _ = in.Array().Values()
		} else if eq, err := v.Document().LookupErr("$eq"); err == nil {
			list = []bson.RawValue{eq}
		} else if els, _ := v.Document().Elements(); len(els) > 0 && len(els[0].Key()) > 0 && els[0].Key()[0] == '$' {
			return nil
		}
	}
	out := [][]byte{}
	for _, id := range list {
		switch id.Type {
		case bson.TypeRegex, bson.TypeNull, bson.TypeUndefined, bson.TypeArray:
			return nil // what fits these is not one key
		}
		key, err := bsonkey.Append(nil, byte(id.Type), id.Value)
		if err != nil {
			return nil
		}
		out = append(out, key)
	}
	slices.SortFunc(out, bytes.Compare)
	return slices.CompactFunc(out, bytes.Equal)
}

// filtered returns the documents that fit.
func filtered(docs docquery.Documents, f *docquery.Filter) docquery.Documents {
	if f.All() {
		return docs
	}
	return func(fn func(bson.Raw) (bool, error)) error {
		return docs(func(d bson.Raw) (bool, error) {
			ok, err := f.Fits(d)
			if err != nil || !ok {
				return err == nil, err
			}
			return fn(d)
		})
	}
}

func documentOf(r request, field string) (bson.Raw, error) {
	v, err := r.body.LookupErr(field)
	if err != nil || v.Type == bson.TypeNull {
		d, err := bson.Marshal(bson.D{})
		return d, err
	}
	d, ok := v.DocumentOK()
	if !ok {
		return nil, docquery.Refuse(14, "TypeMismatch", "%s.%s must be a document", r.name, field)
	}
	return d, nil
}

func numberOf(r request, field string, unset int64) (int64, error) {
	v, err := r.body.LookupErr(field)
	if err != nil || v.Type == bson.TypeNull {
		return unset, nil
	}
	n, ok := v.AsInt64OK()
	if !ok || n < 0 {
		return 0, docquery.Refuse(51024, "Location51024", "BSON field '%s' value must be >= 0, and a whole number",
			field)
	}
	return n, nil
}

// query is a find, compiled.
type query struct {
	v     served
	there bool
	docs  docquery.Documents
	by    string
}

// compile reads what a find, or a count, asks for. A cursor reads it after the command has
// ended: under its own context.
func (c *connection) compile(ctx context.Context, r request, filterField string) (q query, err error) {
	ns, err := r.collection()
	if err != nil {
		return q, err
	}
	filter, err := documentOf(r, filterField)
	if err != nil {
		return q, err
	}
	f, err := docquery.CompileFilter(filter)
	if err != nil {
		return q, err
	}
	if q.v, q.there, err = c.open(ctx, ns); err != nil {
		return q, err
	}
	if !q.there {
		q.docs, q.by = func(func(bson.Raw) (bool, error)) error { return nil }, "nothing: there is no such collection"
		return q, nil
	}
	q.docs, q.by = q.v.narrowed(filter)
	q.docs = filtered(q.docs, f)
	return q, nil
}

// planFind compiles a find with all that is done to what it finds.
func (c *connection) planFind(ctx context.Context, r request) (q query, err error) {
	if q, err = c.compile(ctx, r, "filter"); err != nil {
		return q, err
	}
	spec, err := documentOf(r, "sort")
	if err != nil {
		return q, err
	}
	s, err := docquery.CompileSort(spec)
	if err != nil {
		return q, err
	}
	want, err := documentOf(r, "projection")
	if err != nil {
		return q, err
	}
	filter, err := documentOf(r, "filter")
	if err != nil {
		return q, err
	}
	p, err := docquery.CompileProjection(want, filter)
	if err != nil {
		return q, err
	}
	skip, err := numberOf(r, "skip", 0)
	if err != nil {
		return q, err
	}
	limit, err := numberOf(r, "limit", 0)
	if err != nil {
		return q, err
	}
	natural, backward := s.Natural()
	if byID, back := s.ByID(); byID && !back && q.v.lookup != nil {
		natural, backward = true, false
	}
	if natural && backward {
		return q, docquery.Refuse(238, "NotImplemented",
			"the order in which documents were written is not kept; sort by a field")
	}
	if !natural {
		q.docs = ordered(q.docs, s, skip, limit)
		q.by += ", sorted"
	}
	q.docs = cutOut(q.docs, skip, limit)
	if els, _ := want.Elements(); len(els) > 0 {
		docs := q.docs
		q.docs = func(fn func(bson.Raw) (bool, error)) error {
			return docs(func(d bson.Raw) (bool, error) {
				made, err := p.Apply(d)
				if err != nil {
					return false, err
				}
				return fn(made)
			})
		}
	}
	return q, nil
}

// mostSorted is how many bytes a sort may hold.
const mostSorted = 100 << 20

// ordered returns documents in order. Where a limit follows no more are held than it needs.
func ordered(docs docquery.Documents, s *docquery.Sort, skip, limit int64) docquery.Documents {
	return func(fn func(bson.Raw) (bool, error)) error {
		var list []bson.Raw
		held := 0
		keep := skip + limit
		err := docs(func(d bson.Raw) (bool, error) {
			list = append(list, d)
			held += len(d) + 100
			if limit > 0 && int64(len(list)) >= 2*keep+1000 {
				s.Order(list)
				clear(list[keep:])
				list = list[:keep]
				held = 0
				for _, d := range list {
					held += len(d) + 100
				}
			}
			if held > mostSorted {
				return false, docquery.Refuse(292, "QueryExceededMemoryLimitNoDiskUseAllowed",
					"Sort exceeded memory limit of %d bytes; a limit, or a narrower filter, helps", mostSorted)
			}
			return true, nil
		})
		if err != nil {
			return err
		}
		s.Order(list)
		for _, d := range list {
			if more, err := fn(d); err != nil || !more {
				return err
			}
		}
		return nil
	}
}

// cutOut passes documents over, and ends after some; limit 0 is none.
func cutOut(docs docquery.Documents, skip, limit int64) docquery.Documents {
	if skip == 0 && limit == 0 {
		return docs
	}
	return func(fn func(bson.Raw) (bool, error)) error {
		n := int64(0)
		return docs(func(d bson.Raw) (bool, error) {
			if n++; n <= skip {
				return true, nil
			}
			more, err := fn(d)
			return more && (limit == 0 || n < skip+limit), err
		})
	}
}

func find(c *connection, r request) (bson.D, error) {
	ns, err := r.collection()
	if err != nil {
		return nil, err
	}
	size, err := numberOf(r, "batchSize", batchDefault)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(c.ctx)
	q, err := c.planFind(ctx, r)
	if err != nil {
		cancel()
		return nil, err
	}
	single, _ := r.body.Lookup("singleBatch").BooleanOK()
	return c.first(r, newCursor(ns, within(r.ctx, q.docs), cancel), size, single)
}

// within ends the reading of documents with a command's time; what a cursor reads later is
// under the time of the commands that go on with it.
func within(ctx context.Context, docs docquery.Documents) docquery.Documents {
	n := 0
	return func(fn func(bson.Raw) (bool, error)) error {
		return docs(func(d bson.Raw) (bool, error) {
			if n++; n%256 == 0 {
				if err := ctx.Err(); errors.Is(err, context.DeadlineExceeded) {
					return false, err
				}
			}
			return fn(d)
		})
	}
}

func count(c *connection, r request) (bson.D, error) {
	q, err := c.compile(r.ctx, r, "query")
	if err != nil {
		return nil, err
	}
	skip, err := numberOf(r, "skip", 0)
	if err != nil {
		return nil, err
	}
	limit, err := numberOf(r, "limit", 0)
	if err != nil {
		return nil, err
	}
	n := int64(0)
	err = within(r.ctx, cutOut(q.docs, skip, limit))(func(bson.Raw) (bool, error) { n++; return true, nil })
	return bson.D{{Key: "n", Value: n}}, err
}

func distinct(c *connection, r request) (bson.D, error) {
	q, err := c.compile(r.ctx, r, "query")
	if err != nil {
		return nil, err
	}
	key, ok := r.body.Lookup("key").StringValueOK()
	if !ok || key == "" {
		return nil, docquery.Refuse(14, "TypeMismatch", "distinct.key must be a string")
	}
	out, seen, size := bson.A{}, map[string]bool{}, 0
	err = within(r.ctx, q.docs)(func(d bson.Raw) (bool, error) {
		for _, v := range docquery.Values(d, key) {
			k := docquery.Key(v)
			if seen[k] {
				continue
			}
			seen[k] = true
			out = append(out, v)
			if size += len(v.Value) + 20; size > batchBytes {
				return false, docquery.Refuse(17217, "Location17217", "distinct too big, 16mb cap")
			}
		}
		return true, nil
	})
	return bson.D{{Key: "values", Value: out}}, err
}

func aggregate(c *connection, r request) (bson.D, error) {
	arr, ok := r.body.Lookup("pipeline").ArrayOK()
	if !ok {
		return nil, docquery.Refuse(14, "TypeMismatch", "'pipeline' option must be specified as an array")
	}
	stages, err := arr.Values()
	if err != nil {
		return nil, docquery.Refuse(14, "TypeMismatch", "pipeline: %v", err)
	}
	if _, whole := r.body.Index(0).Value().AsInt64OK(); whole {
		return nil, docquery.Refuse(238, "NotImplemented", "an aggregation over a whole database is not evaluated here")
	}
	ns, err := r.collection()
	if err != nil {
		return nil, err
	}
	cur, err := documentOf(r, "cursor")
	if err != nil {
		return nil, err
	}
	size := int64(batchDefault)
	if v, err := cur.LookupErr("batchSize"); err == nil {
		if size, ok = v.AsInt64OK(); !ok || size < 0 {
			return nil, docquery.Refuse(51024, "Location51024",
				"cursor.batchSize must be a whole number, and not negative")
		}
	}
	ctx, cancel := context.WithCancel(c.ctx)
	docs, _, err := c.planAggregate(ctx, r.db, ns, stages)
	if err != nil {
		cancel()
		return nil, err
	}
	return c.first(r, newCursor(ns, within(r.ctx, docs), cancel), size, false)
}

func (c *connection) planAggregate(ctx context.Context, db, ns string, stages []bson.RawValue) (docs docquery.Documents,
	by string, err error) {
	p, err := docquery.CompilePipeline(stages, c.sources(ctx, db))
	if err != nil {
		return nil, "", err
	}
	v, ok, err := c.open(ctx, ns)
	if err != nil {
		return nil, "", err
	}
	in, by := docquery.Documents(func(func(bson.Raw) (bool, error)) error {
		return nil
	}), "nothing: there is no such collection"
	if ok {
		in, by = v.all, "collection scan"
		if p.Match != nil {
			in, by = v.narrowed(p.Match)
		}
	}
	return func(fn func(bson.Raw) (bool, error)) error { return p.Run(in, fn) }, by, nil
}
