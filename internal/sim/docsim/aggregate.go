package docsim

import (
	"math/rand/v2"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// aggregate answers the stages that drivers and administrators' shells use to
// count and to sample: $match, $sort, $skip, $limit, $project, $sample, $count
// and $group by a constant with $sum.
func aggregate(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	var list []bson.Raw
	stages := listOf(req, "pipeline")
	if len(stages) > 0 {
		// A sample comes from anywhere in the collection without reading it all.
		if v, err := stages[0].Document().LookupErr("$sample"); err == nil {
			n, _ := v.Document().Lookup("size").AsInt64OK()
			if c := s.view(req).colls[ns]; c != nil && c.docs.Len() > 0 {
				for range n {
					d, _ := c.docs.GetAt(rand.IntN(c.docs.Len()))
					list = append(list, d.raw)
				}
			}
			stages = stages[1:]
		} else if list, err = s.gather(ns, req, toRaw(nil)); err != nil {
			return nil, err
		}
	} else if list, err = s.gather(ns, req, toRaw(nil)); err != nil {
		return nil, err
	}
	for _, st := range stages {
		e, err := st.Document().IndexErr(0)
		if err != nil {
			return nil, refuse(40323, "Location40323", "a pipeline stage must have one field")
		}
		if list, err = stage(list, e.Key(), e.Value()); err != nil {
			return nil, err
		}
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

func sampleOf(list []bson.Raw, n int) []bson.Raw {
	var out []bson.Raw
	for range n {
		if len(list) > 0 {
			out = append(out, list[rand.IntN(len(list))])
		}
	}
	return out
}

func stage(list []bson.Raw, op string, arg bson.RawValue) ([]bson.Raw, error) {
	n, _ := arg.AsInt64OK()
	switch op {
	case "$match":
		var out []bson.Raw
		for _, d := range list {
			ok, err := matches(d, arg.Document())
			if err != nil {
				return nil, err
			}
			if ok {
				out = append(out, d)
			}
		}
		return out, nil
	case "$sort":
		sortBy(list, arg.Document())
		return list, nil
	case "$skip":
		return list[min(int(n), len(list)):], nil
	case "$limit":
		return list[:min(int(n), len(list))], nil
	case "$project":
		var out []bson.Raw
		for _, d := range list {
			out = append(out, project(d, arg.Document()))
		}
		return out, nil
	case "$count":
		return []bson.Raw{toRaw(bson.D{{Key: arg.StringValue(), Value: int32(len(list))}})}, nil
	case "$group":
		id := arg.Document().Lookup("_id")
		if id.Type == bson.TypeString || id.Type == bson.TypeEmbeddedDocument {
			break
		}
		if len(list) == 0 {
			return nil, nil
		}
		d := bson.D{{Key: "_id", Value: id}}
		for _, f := range toD(arg.Document()) {
			if f.Key == "_id" {
				continue
			}
			by, ok := value(f.Value).Document().Lookup("$sum").AsInt64OK()
			if !ok {
				return nil, refuse(15952, "Location15952", "this stand-in groups with $sum of a constant only")
			}
			d = append(d, bson.E{Key: f.Key, Value: int32(by * int64(len(list)))})
		}
		return []bson.Raw{toRaw(d)}, nil
	}
	return nil, refuse(40324, "Location40324", "this stand-in does not know the pipeline stage %s as written", op)
}
