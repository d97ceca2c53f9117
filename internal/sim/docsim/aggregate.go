package docsim

import (
	"math/rand/v2"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// aggregate answers an aggregation over a collection, or over the one document that a whole
// database stands for.
func aggregate(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	stages := listOf(req, "pipeline")
	if err := simpleCollation(req); err != nil {
		return nil, err
	}
	var in docquery.Documents
	// A sample comes from anywhere in the collection without reading it all.
	if n, ok := sampled(stages); ok {
		var list []bson.Raw
		if c := s.view(req).colls[ns]; c != nil && c.docs.Len() > 0 {
			for range n {
				d, _ := c.docs.GetAt(rand.IntN(c.docs.Len()))
				list = append(list, d.raw)
			}
		}
		stages, in = stages[1:], documents(list)
	} else {
		list, err := s.gather(ns, req, toRaw(nil))
		if err != nil {
			return nil, err
		}
		in = documents(list)
	}
	list, err := piped(stages, in, func(name string) (docquery.Documents, error) {
		list, err := s.gather(db+"."+name, req, toRaw(nil))
		return documents(list), err
	})
	if err != nil {
		return nil, err
	}
	c := &cursor{ns: ns, find: toRaw(bson.D{{Key: "find", Value: ns}}), rest: list, left: -1}
	size := int64(101)
	if n, ok := req.Lookup("cursor", "batchSize").AsInt64OK(); ok && n > 0 {
		size = n
	}
	batch, done, err := s.fill(c, size)
	if err != nil {
		return nil, err
	}
	if !done {
		c.id = lastCursor.Add(1)
		s.m.cursors[c.id] = c
	}
	return bson.D{
		{Key: "cursor", Value: bson.D{{Key: "firstBatch", Value: batch}, {Key: "id", Value: c.id},
			{Key: "ns", Value: ns}}}}, nil
}

// sampled returns how many documents a pipeline that begins with $sample takes.
func sampled(stages []bson.RawValue) (n int64, ok bool) {
	if len(stages) == 0 {
		return 0, false
	}
	v, err := stages[0].Document().LookupErr("$sample")
	if err != nil {
		return 0, false
	}
	return v.Document().Lookup("size").AsInt64OK()
}

// documents gives a list one by one.
func documents(list []bson.Raw) docquery.Documents {
	return func(fn func(bson.Raw) (bool, error)) error {
		for _, d := range list {
			if more, err := fn(d); err != nil || !more {
				return err
			}
		}
		return nil
	}
}

// piped passes documents through stages.
func piped(stages []bson.RawValue, in docquery.Documents, sources docquery.Sources) (out []bson.Raw, err error) {
	p, err := docquery.CompilePipeline(stages, sources)
	if err != nil {
		return nil, err
	}
	err = p.Run(in, func(d bson.Raw) (bool, error) { out = append(out, d); return true, nil })
	return out, err
}

// simpleCollation refuses collations that are not of bytes.
func simpleCollation(req bson.Raw) error {
	c, err := req.LookupErr("collation")
	if err != nil {
		return nil
	}
	if l, _ := c.Document().Lookup("locale").StringValueOK(); l != "simple" && l != "" {
		return refuse(238, "NotImplemented", "this stand-in compares by bytes, and not as %s does", l)
	}
	return nil
}

func sampleOf(list []bson.Raw, n int) []bson.Raw {
	var out []bson.Raw
	for range n {
		if len(list) > 0 {
			out = append(out, list[rand.IntN(len(list))])
		}
	}
	return out
}
