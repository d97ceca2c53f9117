package docsim

import (
	"errors"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// The commands that change namespaces as a whole, and their log entries, each
// in the form "c" on DB.$cmd with the collection's uuid beside it.

func uuidValue(u [16]byte) bson.Binary { return bson.Binary{Subtype: 4, Data: slices.Clone(u[:])} }

func (s *session) command(db string, uuid *[16]byte, o bson.D, do effect) {
	d := bson.D{{Key: "op", Value: "c"}, {Key: "ns", Value: db + ".$cmd"}}
	if uuid != nil {
		d = append(d, bson.E{Key: "ui", Value: uuidValue(*uuid)})
	}
	s.log(append(d, bson.E{Key: "o", Value: o}), do)
}

// ensure returns a collection, making it as a first insert does.
func (s *session) ensure(db, name string) *collection {
	ns := db + "." + name
	if c := s.now().colls[ns]; c != nil {
		return c
	}
	s.makeCollection(db, name, nil)
	return s.now().colls[ns]
}

func (s *session) makeCollection(db, name string, options bson.D) {
	u := newUUID()
	o := append(bson.D{{Key: "create", Value: name}}, options...)
	if lookup(options, "clusteredIndex") != nil {
		s.command(db, &u, o, effectCreate(db, name, u, options))
		return
	}
	o = append(o, bson.E{Key: "idIndex",
		Value: bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: bson.D{{Key: "_id", Value: int32(1)}}},
			{Key: "name", Value: "_id_"}}})
	s.command(db, &u, o, effectCreate(db, name, u, options))
}

// generic are fields that any command may have.
func generic(key string) bool {
	return strings.HasPrefix(key, "$") || key == "lsid" || key == "writeConcern" || key == "comment" ||
		key == "txnNumber" || key == "maxTimeMS" || key == "readConcern" || key == "autocommit" ||
		key == "startTransaction" || key == "ordered"
}

func create(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	if s.now().colls[ns] != nil {
		return nil, refuse(48, "NamespaceExists", "Collection %s already exists.", ns)
	}
	name := first(req).StringValue()
	var options bson.D
	for _, e := range toD(req)[1:] {
		if generic(e.Key) || e.Key == "idIndex" {
			continue
		}
		if err := unknownField("create", createOptions, e.Key); err != nil {
			return nil, err
		}
		options = append(options, e)
	}
	if i := slices.IndexFunc(options, func(e bson.E) bool { return e.Key == "clusteredIndex" }); i >= 0 {
		// Servers fill in what was not said.
		v := toD(value(options[i].Value).Document())
		ix := bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: lookup(v, "key")}, {Key: "name", Value: "_id_"},
			{Key: "unique", Value: true}}
		if n := lookup(v, "name"); n != nil {
			ix[2].Value = n
		}
		options[i].Value = ix
	}
	if lookup(options, "timeseries") != nil {
		if !s.m.rs.opt.series() {
			return nil, refuse(40415, "Location40415", "BSON field 'create.timeseries' is an unknown field.")
		}
		return bson.D{}, s.createSeries(db, name, options)
	}
	if lookup(options, "viewOn") != nil {
		doc := bson.D{{Key: "_id", Value: ns}}
		for _, name := range []string{"viewOn", "pipeline", "collation"} {
			if v := lookup(options, name); v != nil {
				doc = append(doc, bson.E{Key: name, Value: v})
			}
		}
		s.define(db, name, "view", options, doc)
		return bson.D{}, nil
	}
	s.makeCollection(db, name, options)
	return bson.D{}, nil
}

func drop(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	c := s.now().colls[ns]
	if c == nil {
		return nil, refuse(26, "NamespaceNotFound", "ns not found")
	}
	if err := s.free(ns); err != nil {
		return nil, err
	}
	s.dropOne(c)
	return bson.D{{Key: "ns", Value: ns}}, nil
}

func (s *session) dropOne(c *collection) {
	ns := c.db + "." + c.name
	if c.kind == "timeseries" {
		if b := s.now().colls[c.db+"."+bucketsOf+c.name]; b != nil {
			s.dropOne(b)
		}
	}
	if c.kind != "collection" {
		s.undefine(c)
		return
	}
	if c.name == viewsOf {
		s.dropViews(c)
		return
	}
	u := c.uuid
	s.command(c.db, &u, bson.D{{Key: "drop", Value: c.name}}, effectDrop(ns))
}

func dropDatabase(s *session, db string, _ bson.Raw) (bson.D, error) {
	for _, c := range s.now().in(db) {
		if err := s.free(c.db + "." + c.name); err != nil {
			return nil, err
		}
	}
	for _, c := range s.now().in(db) {
		if c.kind == "collection" { // views go with system.views
			s.dropOne(c)
		}
	}
	s.command(db, nil, bson.D{{Key: "dropDatabase", Value: int32(1)}}, nil)
	return bson.D{{Key: "dropped", Value: db}}, nil
}

func rename(s *session, _ string, req bson.Raw) (bson.D, error) {
	from, _ := first(req).StringValueOK()
	to, _ := req.Lookup("to").StringValueOK()
	c := s.now().colls[from]
	if c == nil {
		return nil, refuse(26, "NamespaceNotFound", "Source collection %s does not exist", from)
	}
	fromDB, _, _ := strings.Cut(from, ".")
	if toDB, rest, _ := strings.Cut(to, "."); toDB != fromDB || rest == "" {
		return nil, refuse(20, "IllegalOperation", "this stand-in renames within a database only")
	}
	if err := errors.Join(s.free(from), s.free(to)); err != nil {
		return nil, refuse(46, "LockBusy", "a prepared transaction holds %s or %s", from, to)
	}
	o := bson.D{{Key: "renameCollection", Value: from}, {Key: "to", Value: to}, {Key: "stayTemp", Value: false}}
	target := s.now().colls[to]
	if target != nil {
		if !truthy(req.Lookup("dropTarget")) {
			return nil, refuse(48, "NamespaceExists", "target namespace exists")
		}
		o = append(o, bson.E{Key: "dropTarget", Value: uuidValue(target.uuid)})
	}
	u := c.uuid
	real, err := s.m.rs.opt.Odd.renamed(to)
	if err != nil {
		return nil, err
	}
	loses := s.m.rs.opt.Odd.RenameLoses
	s.command(fromDB, &u, o, func(st *state) {
		delete(st.colls, to)
		effectRename(from, real)(st)
		if loses {
			st.colls[real].options = nil
		}
	})
	return bson.D{}, nil
}

func createIndexes(s *session, db string, req bson.Raw) (bson.D, error) {
	if _, err := namespaceOf(db, first(req)); err != nil {
		return nil, err
	}
	c := s.ensure(db, first(req).StringValue())
	ns := c.db + "." + c.name
	before := int32(len(c.indexes))
	arr, _ := req.Lookup("indexes").ArrayOK()
	specs, _ := arr.Values()
	for _, v := range specs {
		var ix bson.D
		if err := bson.Unmarshal(v.Document(), &ix); err != nil {
			return nil, refuse(9, "FailedToParse", "index: %v", err)
		}
		name := indexName(ix)
		if name == "" {
			return nil, refuse(9, "FailedToParse", "an index needs a name")
		}
		exists := false
		for _, old := range s.now().colls[ns].indexes {
			if indexName(old) == name {
				if uniqueSpec(old) != uniqueSpec(ix) {
					return nil, refuse(86, "IndexKeySpecsConflict",
						"an index of the name %s exists with another definition", name)
				}
				exists = true
			}
		}
		if exists {
			continue
		}
		if lookup(ix, "v") == nil {
			ix = append(bson.D{{Key: "v", Value: int32(2)}}, ix...)
		}
		ix = collated(ix, c)
		if c.kind == "collection" && c.docs.Len() > 0 && s.txn == nil {
			id := s.begin(c, []bson.D{ix})
			twice := isUnique(ix) && c.twice(ix)
			s.end(c, id, []bson.D{ix}, !twice)
			if twice {
				return nil, refuse(11000, "DuplicateKey", "E11000 duplicate key error collection: %s index: %s", ns,
					name)
			}
			continue
		}
		u := c.uuid
		o := append(bson.D{{Key: "createIndexes", Value: c.name}}, ix...)
		s.command(db, &u, o, effectIndex(ns, ix))
	}
	return bson.D{{Key: "numIndexesBefore", Value: before},
		{Key: "numIndexesAfter", Value: int32(len(s.now().colls[ns].indexes))}}, nil
}

// twice reports whether two documents have the same key of an index.
func (c *collection) twice(ix bson.D) bool {
	seen, twice := map[string]bool{}, false
	c.docs.Scan(func(d document) bool {
		if holds(ix, d.raw) {
			k := uniqueKey(ix, d.raw)
			twice = seen[k]
			seen[k] = true
		}
		return !twice
	})
	return twice
}

// collated returns an index with the collation it has: that of its collection where it names none, and
// none where it asks for bytes ("Collation").
func collated(ix bson.D, c *collection) bson.D {
	has, of := lookup(ix, "collation"), lookup(c.options, "collation")
	if has == nil && of != nil {
		return append(ix, bson.E{Key: "collation", Value: of})
	}
	if has != nil {
		if l, _ := value(has).Document().Lookup("locale").StringValueOK(); l == "simple" {
			return slices.DeleteFunc(slices.Clone(ix), func(e bson.E) bool { return e.Key == "collation" })
		}
	}
	return ix
}

// uniqueSpec returns what must be equal for two index definitions to be the same.
func uniqueSpec(ix bson.D) string {
	var keep bson.D
	for _, e := range ix {
		if e.Key == "key" || e.Key == "unique" || e.Key == "expireAfterSeconds" || e.Key == "partialFilterExpression" {
			keep = append(keep, e)
		}
	}
	slices.SortFunc(keep, func(a, b bson.E) int { return strings.Compare(a.Key, b.Key) })
	b, _ := bson.MarshalExtJSON(keep, false, false)
	return string(b)
}

func dropIndexes(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	c := s.now().colls[ns]
	if c == nil {
		return nil, refuse(26, "NamespaceNotFound", "ns not found %s", ns)
	}
	want, _ := req.Lookup("index").StringValueOK()
	was := int32(len(c.indexes))
	found := want == "*"
	for _, ix := range slices.Clone(c.indexes) {
		name := indexName(ix)
		if name == "_id_" || want != "*" && want != name {
			continue
		}
		found = true
		u := c.uuid
		d := bson.D{{Key: "op", Value: "c"}, {Key: "ns", Value: db + ".$cmd"}, {Key: "ui", Value: uuidValue(u)},
			{Key: "o", Value: bson.D{{Key: "dropIndexes", Value: c.name}, {Key: "index", Value: name}}},
			{Key: "o2", Value: ix}}
		s.log(d, effectDropIndex(ns, name))
	}
	if !found {
		return nil, refuse(27, "IndexNotFound", "index not found with name [%s]", want)
	}
	return bson.D{{Key: "nIndexesWas", Value: was}}, nil
}
