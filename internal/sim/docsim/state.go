package docsim

import (
	"bytes"
	"crypto/rand"
	"maps"
	"slices"
	"sort"
	"strings"

	"github.com/tidwall/btree"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// document is a stored document with its _id at hand.
type document struct {
	id    bson.RawValue
	raw   bson.Raw
	place int64 // in the order of insertion of a capped collection
}

func newDocument(raw bson.Raw) document { return document{id: raw.Lookup("_id"), raw: raw} }

type docs = btree.BTreeG[document]

func newDocs() *docs {
	return btree.NewBTreeGOptions(func(a, b document) bool { return Compare(a.id, b.id) < 0 },
		btree.Options{NoLocks: true})
}

// collection is one incarnation of a collection, as one state sees it.
type collection struct {
	db, name string
	kind     string
	uuid     [16]byte
	options  bson.D
	indexes  []bson.D
	docs     *docs
	bytes    int64
	// order is that of insertion, of a capped collection, in which placed is how many there were.
	order  *btree.Map[int64, bson.RawValue]
	placed int64
	// building names the indexes of which a build goes on.
	building []string
	// unique holds, once first needed, the keys of each unique index.
	unique map[string]map[string]int
}

func newUUID() (u [16]byte) {
	_, _ = rand.Read(u[:])
	u[6], u[8] = u[6]&0x0F|0x40, u[8]&0x3F|0x80
	return u
}

func newCollection(db, name string, uuid [16]byte, options bson.D) *collection {
	c := plainCollection(db, name, uuid, options)
	switch v := lookup(options, "clusteredIndex").(type) {
	case nil:
	case bson.D: // "Clustered Collections": its order is listed as an index
		c.indexes = []bson.D{append(slices.Clone(v), bson.E{Key: "clustered", Value: true})}
	default:
		c.indexes = nil
	}
	return c
}

func plainCollection(db, name string, uuid [16]byte, options bson.D) *collection {
	return &collection{db: db, name: name, kind: "collection", uuid: uuid, options: options, docs: newDocs(),
		indexes: []bson.D{{{Key: "v", Value: int32(2)}, {Key: "key", Value: bson.D{{Key: "_id", Value: int32(1)}}},
			{Key: "name", Value: "_id_"}}}}
}

func (c *collection) clone() *collection {
	d := *c
	d.docs = c.docs.Copy()
	d.indexes = slices.Clone(c.indexes)
	d.options = slices.Clone(c.options)
	if c.order != nil {
		d.order = c.order.Copy()
	}
	d.unique = nil
	return &d
}

func (c *collection) get(id bson.RawValue) (document, bool) { return c.docs.Get(document{id: id}) }

func (c *collection) put(raw bson.Raw) {
	d := newDocument(raw)
	if c.most() > 0 {
		if was, there := c.get(d.id); there {
			d.place = was.place
		} else {
			if c.order == nil {
				c.order = &btree.Map[int64, bson.RawValue]{}
			}
			c.placed++
			d.place = c.placed
			c.order.Set(d.place, d.id)
		}
	}
	old, had := c.docs.Set(d)
	if had {
		c.bytes -= int64(len(old.raw))
		c.track(old.raw, -1)
	}
	c.bytes += int64(len(raw))
	c.track(raw, 1)
}

// most is how many documents a capped collection holds; 0 for any other.
func (c *collection) most() int64 {
	capped, most := lookup(c.options, "capped"), lookup(c.options, "max")
	if capped == nil || !truthy(value(capped)) {
		return 0
	}
	n, ok := int64(0), false
	if most != nil {
		n, ok = value(most).AsInt64OK()
	}
	if !ok {
		return 1 << 40
	}
	return n
}

// inserted returns the documents of a capped collection in the order in which they came.
func (c *collection) inserted() (out []bson.Raw) {
	if c.order == nil {
		return nil
	}
	c.order.Scan(func(_ int64, id bson.RawValue) bool {
		if d, ok := c.get(id); ok {
			out = append(out, d.raw)
		}
		return true
	})
	return out
}

// oldest returns the document that was inserted first.
func (c *collection) oldest() (document, bool) {
	if c.order == nil {
		return document{}, false
	}
	_, id, ok := c.order.Min()
	if !ok {
		return document{}, false
	}
	return c.get(id)
}

func (c *collection) remove(id bson.RawValue) {
	if old, had := c.docs.Delete(document{id: id}); had {
		c.bytes -= int64(len(old.raw))
		c.track(old.raw, -1)
		if c.order != nil {
			c.order.Delete(old.place)
		}
	}
}

func (c *collection) track(raw bson.Raw, by int) {
	for name, keys := range c.unique {
		for _, ix := range c.indexes {
			if indexName(ix) == name && holds(ix, raw) {
				k := uniqueKey(ix, raw)
				if keys[k] += by; keys[k] == 0 {
					delete(keys, k)
				}
			}
		}
	}
}

func indexName(ix bson.D) string { s, _ := lookup(ix, "name").(string); return s }

func lookup(d bson.D, key string) any {
	for _, e := range d {
		if e.Key == key {
			return e.Value
		}
	}
	return nil
}

func isUnique(ix bson.D) bool { b, _ := lookup(ix, "unique").(bool); return b }

// holds reports whether an index has an entry for a document: a sparse one has none where all its fields are missing, a
// partial one where its filter does not fit ("Sparse Indexes", "Partial Indexes").
func holds(ix bson.D, raw bson.Raw) bool {
	if of := lookup(ix, "partialFilterExpression"); of != nil {
		ok, err := matches(raw, value(of).Document())
		return err == nil && ok
	}
	if sparse := lookup(ix, "sparse"); sparse == nil || !truthy(value(sparse)) {
		return true
	}
	key := keyOfIndex(ix)
	for _, k := range key {
		if lookupPath(raw, k.Key).Type != 0 {
			return true
		}
	}
	return false
}

// keyOfIndex returns the fields of an index.
func keyOfIndex(ix bson.D) bson.D {
	switch key := lookup(ix, "key").(type) {
	case nil:
		return nil
	case bson.D:
		return key
	default:
		return toD(value(key).Document())
	}
}

func uniqueKey(ix bson.D, raw bson.Raw) string {
	var b bytes.Buffer
	for _, k := range keyOfIndex(ix) {
		v := lookupPath(raw, k.Key)
		b.WriteString(docquery.Key(v))
		b.WriteByte(0)
	}
	return b.String()
}

// conflict names the unique index that a document would break. old is what the
// document replaces.
func (c *collection) conflict(raw, old bson.Raw) string {
	for _, ix := range c.indexes {
		if !isUnique(ix) || !holds(ix, raw) {
			continue
		}
		name := indexName(ix)
		if c.unique == nil {
			c.unique = map[string]map[string]int{}
		}
		keys, ok := c.unique[name]
		if !ok {
			keys = map[string]int{}
			c.docs.Scan(func(d document) bool {
				if holds(ix, d.raw) {
					keys[uniqueKey(ix, d.raw)]++
				}
				return true
			})
			c.unique[name] = keys
		}
		k := uniqueKey(ix, raw)
		n := keys[k]
		if old != nil && holds(ix, old) && uniqueKey(ix, old) == k {
			n--
		}
		if n > 0 {
			return name
		}
	}
	return ""
}

// state is all that one member holds at one position of the log.
type state struct {
	colls map[string]*collection // by "db.name"
}

func newState() *state { return &state{colls: map[string]*collection{}} }

func (s *state) clone() *state {
	t := &state{colls: maps.Clone(s.colls)}
	for k, c := range t.colls {
		t.colls[k] = c.clone()
	}
	return t
}

func (s *state) databases() []string {
	seen := map[string]bool{"admin": true, "local": true}
	for _, c := range s.colls {
		seen[c.db] = true
	}
	return slices.Sorted(maps.Keys(seen))
}

func (s *state) in(db string) []*collection {
	var out []*collection
	for _, c := range s.colls {
		if c.db == db {
			out = append(out, c)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].name < out[j].name })
	return out
}

// effect is what a log entry does to a state. Members apply effects, clients
// see the entry.
type effect func(*state)

func effectPut(ns string, raw bson.Raw) effect {
	return func(s *state) {
		if c := s.colls[ns]; c != nil {
			c.put(raw)
		}
	}
}

func effectRemove(ns string, id bson.RawValue) effect {
	return func(s *state) {
		if c := s.colls[ns]; c != nil {
			c.remove(id)
		}
	}
}

func effectCreate(db, name string, uuid [16]byte, options bson.D) effect {
	return func(s *state) { s.colls[db+"."+name] = newCollection(db, name, uuid, options) }
}

func effectDrop(ns string) effect { return func(s *state) { delete(s.colls, ns) } }

func effectRename(from, to string) effect {
	return func(s *state) {
		c := s.colls[from]
		delete(s.colls, from)
		c.db, c.name, _ = strings.Cut(to, ".")
		s.colls[to] = c
	}
}

func effectIndex(ns string, spec bson.D) effect {
	return func(s *state) {
		c := s.colls[ns]
		c.indexes = append(c.indexes, spec)
	}
}

func effectDropIndex(ns, name string) effect {
	return func(s *state) {
		c := s.colls[ns]
		c.indexes = slices.DeleteFunc(slices.Clone(c.indexes), func(ix bson.D) bool { return indexName(ix) == name })
		delete(c.unique, name)
	}
}

func effectModify(ns string, change func(*collection)) effect {
	return func(s *state) { change(s.colls[ns]) }
}
