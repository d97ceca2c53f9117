package docsim

import (
	"crypto/md5"
	"encoding/binary"
	"io"
	"math"
	"sort"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// layout is what config servers say about where content is.
type layout struct {
	primary map[string]string // by database
	byNS    map[string]*table
	byID    map[[16]byte]*table
}

// table is a sharded collection.
type table struct {
	ns     string
	uuid   [16]byte
	key    bson.D
	chunks []chunk // in order
}

type chunk struct {
	id       bson.RawValue
	min, max bson.Raw
	shard    string
}

func readLayout(st *state) *layout {
	l := &layout{primary: map[string]string{}, byNS: map[string]*table{}, byID: map[[16]byte]*table{}}
	each := func(name string, fn func(bson.Raw)) {
		if c := st.colls["config."+name]; c != nil {
			c.docs.Scan(func(d document) bool { fn(d.raw); return true })
		}
	}
	each("databases", func(d bson.Raw) { l.primary[d.Lookup("_id").StringValue()] = d.Lookup("primary").StringValue() })
	each("collections", func(d bson.Raw) {
		t := &table{ns: d.Lookup("_id").StringValue(), key: toD(d.Lookup("key").Document())}
		_, id := d.Lookup("uuid").Binary()
		copy(t.uuid[:], id)
		l.byNS[t.ns], l.byID[t.uuid] = t, t
	})
	each("chunks", func(d bson.Raw) {
		var id [16]byte
		_, b := d.Lookup("uuid").Binary()
		copy(id[:], b)
		if t := l.byID[id]; t != nil {
			t.chunks = append(t.chunks, chunk{
				d.Lookup("_id"), d.Lookup("min").Document(), d.Lookup("max").Document(), d.Lookup(
					"shard").StringValue()})
		}
	})
	for _, t := range l.byID {
		sort.Slice(t.chunks, func(i, j int) bool { return t.compare(t.chunks[i].min, t.chunks[j].min) < 0 })
	}
	return l
}

// compare orders two shard key values.
func (t *table) compare(a, b bson.Raw) int {
	for _, k := range t.key {
		if c := Compare(a.Lookup(k.Key), b.Lookup(k.Key)); c != 0 {
			return c
		}
	}
	return 0
}

// keyOf returns a document's shard key values ("Shard Keys": a missing field
// counts as null).
func (t *table) keyOf(doc bson.Raw) bson.Raw {
	d := bson.D{}
	for _, k := range t.key {
		v := lookupPath(doc, k.Key)
		if v.Type == 0 {
			v = bson.RawValue{Type: bson.TypeNull}
		}
		if isHashed(k) {
			d = append(d, bson.E{Key: k.Key, Value: hashOf(v)})
		} else {
			d = append(d, bson.E{Key: k.Key, Value: v})
		}
	}
	return toRaw(d)
}

func isHashed(k bson.E) bool { s, _ := value(k.Value).StringValueOK(); return s == "hashed" }

// chunkOf returns the chunk a key belongs to.
func (t *table) chunkOf(key bson.Raw) *chunk {
	i := sort.Search(len(t.chunks), func(i int) bool { return t.compare(t.chunks[i].min, key) > 0 }) - 1
	if i < 0 {
		return nil
	}
	return &t.chunks[i]
}

func (t *table) owner(doc bson.Raw) string {
	if ch := t.chunkOf(t.keyOf(doc)); ch != nil {
		return ch.shard
	}
	return ""
}

// hashOf is the hash of hashed indexes: MD5 over a seed, the type's canonical
// number and the value; of documents, all fields in order and an end.
func hashOf(v bson.RawValue) int64 {
	h := md5.New()
	_, _ = h.Write(make([]byte, 4))
	hashInto(h, nil, v)
	return int64(binary.LittleEndian.Uint64(h.Sum(nil)))
}

func hashInto(h io.Writer, name []byte, v bson.RawValue) {
	canonical := map[bson.Type]uint32{bson.TypeNull: 5, bson.TypeInt32: 10, bson.TypeInt64: 10, bson.TypeDouble: 10,
		bson.TypeString: 15, bson.TypeEmbeddedDocument: 20,
		bson.TypeArray: 25, bson.TypeBinary: 30, bson.TypeObjectID: 35, bson.TypeBoolean: 40, bson.TypeDateTime: 45,
		bson.TypeTimestamp: 47}
	_ = binary.Write(h, binary.LittleEndian, canonical[v.Type])
	_, _ = h.Write(name)
	switch v.Type {
	case bson.TypeInt32, bson.TypeInt64:
		n, _ := v.AsInt64OK()
		_ = binary.Write(h, binary.LittleEndian, n)
	case bson.TypeDouble:
		f, n := v.Double(), int64(0)
		switch {
		case f >= math.MaxInt64:
			n = math.MaxInt64
		case f <= math.MinInt64:
			n = math.MinInt64
		case f == f:
			n = int64(f)
		}
		_ = binary.Write(h, binary.LittleEndian, n)
	case bson.TypeEmbeddedDocument, bson.TypeArray:
		es, _ := bson.Raw(v.Value).Elements()
		for _, e := range es {
			hashInto(h, append([]byte(e.Key()), 0), e.Value())
		}
		_ = binary.Write(h, binary.LittleEndian, uint32(0))
	default:
		_, _ = h.Write(v.Value)
	}
}
