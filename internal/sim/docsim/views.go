package docsim

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Views ("Views") are documents {_id: "db.view", viewOn, pipeline, collation} of the collection
// system.views of their database, and the log tells of them as such: it comes with the first
// view, and goes with the database.

const viewsOf = "system.views"

// define keeps the document of a view, or of a time series, and what the name then is.
func (s *session) define(db, name, kind string, options, doc bson.D) {
	views := s.ensure(db, viewsOf)
	ns, raw := db+"."+name, toRaw(doc)
	s.log(bson.D{{Key: "op", Value: "i"}, {Key: "ns", Value: db + "." + viewsOf},
		{Key: "ui", Value: uuidValue(views.uuid)}, {Key: "o", Value: raw},
		{Key: "o2", Value: bson.D{{Key: "_id", Value: ns}}}},
		func(st *state) {
			effectPut(db+"."+viewsOf, raw)(st)
			c := newCollection(db, name, [16]byte{}, options)
			c.kind = kind
			st.colls[ns] = c
		})
}

// redefine replaces the document of a view, or of a time series.
func (s *session) redefine(c *collection, options, doc bson.D) {
	ns, raw := c.db+"."+c.name, toRaw(doc)
	views := s.now().colls[c.db+"."+viewsOf]
	s.log(bson.D{{Key: "op", Value: "u"}, {Key: "ns", Value: c.db + "." + viewsOf},
		{Key: "ui", Value: uuidValue(views.uuid)}, {Key: "o", Value: raw},
		{Key: "o2", Value: bson.D{{Key: "_id", Value: ns}}}},
		func(st *state) {
			effectPut(c.db+"."+viewsOf, raw)(st)
			effectModify(ns, func(c *collection) { c.options = options })(st)
		})
}

// undefine removes the document of a view, or of a time series.
func (s *session) undefine(c *collection) {
	ns := c.db + "." + c.name
	views := s.now().colls[c.db+"."+viewsOf]
	id := value(ns)
	s.log(bson.D{{Key: "op", Value: "d"}, {Key: "ns", Value: c.db + "." + viewsOf},
		{Key: "ui", Value: uuidValue(views.uuid)}, {Key: "o", Value: bson.D{{Key: "_id", Value: ns}}}},
		func(st *state) {
			effectRemove(c.db+"."+viewsOf, id)(st)
			effectDrop(ns)(st)
		})
}

// dropViews drops the collection in which a database's views are, and with it all of them.
func (s *session) dropViews(views *collection) {
	u := views.uuid
	db := views.db
	s.command(db, &u, bson.D{{Key: "drop", Value: viewsOf}}, func(st *state) {
		effectDrop(db + "." + viewsOf)(st)
		for _, c := range st.in(db) {
			if c.kind != "collection" {
				effectDrop(db + "." + c.name)(st)
			}
		}
	})
}

// modifyView answers collMod of a view, which takes what it is on and its pipeline together.
func (s *session) modifyView(c *collection, req bson.Raw) error {
	on, pipeline := req.Lookup("viewOn"), req.Lookup("pipeline")
	if on.Type != bson.TypeString || pipeline.Type != bson.TypeArray {
		return refuse(72, "InvalidOptions", "viewOn and pipeline must be given together")
	}
	options := slices.DeleteFunc(slices.Clone(c.options), func(e bson.E) bool {
		return e.Key == "viewOn" || e.Key == "pipeline"
	})
	options = append(bson.D{{Key: "viewOn", Value: on}, {Key: "pipeline", Value: pipeline}}, options...)
	s.redefine(c, options, append(bson.D{{Key: "_id", Value: c.db + "." + c.name}}, options...))
	return nil
}
