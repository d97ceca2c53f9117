package document

import (
	"bytes"
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document/bsonkey"
)

// placement implements [engine.Layout] from the config servers' collections
// ("Config Database"): databases names each database's primary shard,
// collections the sharded ones with their keys, chunks which shard owns which
// range of the key, and tags the zones.
type placement struct {
	primaries map[string]string        // by database
	tables    map[string]*shardedTable // by uuid
	byName    map[string]*shardedTable
	gone      map[string]bool // uuids of collections that were sharded and are dropped
}

// shardedTable is a sharded collection.
type shardedTable struct {
	name   string
	uuid   string
	key    bsoncore.Document
	unique bool
	// whole: it is not sharded, and its one piece is on a shard of its own choosing ("moveCollection":
	// unsplittable collections, from 8.0).
	whole  bool
	mins   [][]byte // encoded lower bounds of the chunks, ascending
	bounds []bsoncore.Document
	shards []string // who owns the chunk that begins there
	zones  []bsoncore.Document
}

// Layout implements [engine.ShardedModel].
func (model) Layout(now, before func(string, func([]byte) error) error) (engine.Layout, error) {
	p := &placement{primaries: map[string]string{}, tables: map[string]*shardedTable{},
		byName: map[string]*shardedTable{}, gone: map[string]bool{}}
	err := now("config.databases", func(v []byte) error {
		db, _ := bsoncore.Document(v).Lookup("_id").StringValueOK()
		p.primaries[db], _ = bsoncore.Document(v).Lookup("primary").StringValueOK()
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = now("config.collections", func(v []byte) error {
		d := bsoncore.Document(bytes.Clone(v))
		if b, ok := d.Lookup("dropped").BooleanOK(); ok && b {
			return nil // as older servers keep them
		}
		t := &shardedTable{}
		name, _ := d.Lookup("_id").StringValueOK()
		db, coll, _ := strings.Cut(name, ".")
		t.name, _, _ = shard.content(db, coll)
		t.uuid = string(uuidOf(d.Lookup("uuid")))
		t.key, _ = d.Lookup("key").DocumentOK()
		t.unique, _ = d.Lookup("unique").BooleanOK()
		t.whole, _ = d.Lookup("unsplittable").BooleanOK()
		p.tables[t.uuid], p.byName[t.name] = t, t
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := now("config.chunks", p.chunk); err != nil {
		return nil, err
	}
	for _, t := range p.tables {
		if len(t.mins) == 0 {
			return nil, fmt.Errorf("config.chunks says of no range of %s where it is", t.name)
		}
		sort.Sort(t)
	}
	err = now("config.tags", func(v []byte) error {
		d := bsoncore.Document(bytes.Clone(v))
		ns, _ := d.Lookup("ns").StringValueOK()
		db, coll, _ := strings.Cut(ns, ".")
		name, _, _ := shard.content(db, coll)
		if t := p.byName[name]; t != nil {
			t.zones = append(t.zones, d)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return p, before("config.collections", func(v []byte) error {
		if id := string(uuidOf(bsoncore.Document(v).Lookup("uuid"))); p.tables[id] == nil {
			p.gone[id] = true
		}
		return nil
	})
}

func (p *placement) chunk(v []byte) error {
	d := bsoncore.Document(bytes.Clone(v))
	t := p.tables[string(uuidOf(d.Lookup("uuid")))]
	if t == nil || t.uuid == "" {
		ns, _ := d.Lookup("ns").StringValueOK()
		if t = p.byName[ns]; t == nil {
			return nil // of a collection that is gone
		}
	}
	low, ok := d.Lookup("min").DocumentOK()
	owner, ok2 := d.Lookup("shard").StringValueOK()
	if !ok || !ok2 {
		return fmt.Errorf("config.chunks: a chunk of %s without min or shard", t.name)
	}
	vals, err := low.Values()
	if err != nil {
		return err
	}
	key, err := rangeKey(vals)
	if err != nil {
		return fmt.Errorf("config.chunks: %s: %w", t.name, err)
	}
	t.mins, t.bounds, t.shards = append(t.mins, key), append(t.bounds, low), append(t.shards, owner)
	return nil
}

// Len, Less and Swap implement sort.Interface over the chunks.
func (t *shardedTable) Len() int           { return len(t.mins) }
func (t *shardedTable) Less(i, j int) bool { return bytes.Compare(t.mins[i], t.mins[j]) < 0 }
func (t *shardedTable) Swap(i, j int) {
	t.mins[i], t.mins[j] = t.mins[j], t.mins[i]
	t.bounds[i], t.bounds[j] = t.bounds[j], t.bounds[i]
	t.shards[i], t.shards[j] = t.shards[j], t.shards[i]
}

// rangeKey encodes shard key values so that their bytes order as they do.
func rangeKey(vals []bsoncore.Value) (key []byte, err error) {
	for _, v := range vals {
		if key, err = bsonkey.Append(key, byte(v.Type), v.Data); err != nil {
			return nil, err
		}
	}
	return key, nil
}

// owner returns the shard that a document belongs to.
func (t *shardedTable) owner(doc bsoncore.Document) (string, error) {
	elems, err := t.key.Elements()
	if err != nil {
		return "", err
	}
	vals := make([]bsoncore.Value, len(elems))
	for i, e := range elems {
		v := doc.Lookup(strings.Split(e.Key(), ".")...)
		if v.Type == 0 {
			v = bsoncore.Value{Type: bsoncore.TypeNull} // what is not there counts as null
		}
		if s, ok := e.Value().StringValueOK(); ok && s == "hashed" {
			h, err := hashedValue(v)
			if err != nil {
				return "", fmt.Errorf("%s: %w", t.name, err)
			}
			v = bsoncore.Value{Type: bsoncore.TypeInt64, Data: bsoncore.AppendInt64(nil, h)}
		}
		vals[i] = v
	}
	key, err := rangeKey(vals)
	if err != nil {
		return "", err
	}
	i := sort.Search(len(t.mins), func(i int) bool { return bytes.Compare(t.mins[i], key) > 0 }) - 1
	if i < 0 {
		return "", fmt.Errorf("%s: no chunk holds %x", t.name, key)
	}
	return t.shards[i], nil
}

// hashedValue computes what a hashed shard key keeps of a value ("Hashed
// Indexes"): the first eight bytes, little end first, of MD5 over a seed of
// zero, the type's number in comparison order, and the value; numbers count as
// 64-bit integers, their fractions cut off. Of a document all fields go in,
// each with its name, and an end.
func hashedValue(v bsoncore.Value) (int64, error) {
	b, err := appendHashed(make([]byte, 4, 64), v, nil)
	if err != nil {
		return 0, err
	}
	sum := md5.Sum(b)
	return int64(binary.LittleEndian.Uint64(sum[:8])), nil
}

// typeOrder holds the numbers by which servers order types.
var typeOrder = map[bsoncore.Type]uint32{
	bsoncore.TypeMinKey: 0xFFFFFFFF, bsoncore.TypeMaxKey: 127, bsoncore.TypeNull: 5, bsoncore.TypeUndefined: 0,
	bsoncore.TypeDouble: 10, bsoncore.TypeInt32: 10, bsoncore.TypeInt64: 10, bsoncore.TypeString: 15,
	bsoncore.TypeSymbol:           15,
	bsoncore.TypeEmbeddedDocument: 20, bsoncore.TypeArray: 25, bsoncore.TypeBinary: 30, bsoncore.TypeObjectID: 35,
	bsoncore.TypeBoolean:  40,
	bsoncore.TypeDateTime: 45, bsoncore.TypeTimestamp: 47, bsoncore.TypeRegex: 50}

func appendHashed(b []byte, v bsoncore.Value, name []byte) ([]byte, error) {
	n, ok := typeOrder[v.Type]
	if !ok {
		return nil, fmt.Errorf("a value of type %s in a hashed shard key is more than this version can place", v.Type)
	}
	b = append(binary.LittleEndian.AppendUint32(b, n), name...)
	switch v.Type {
	case bsoncore.TypeDouble:
		return binary.LittleEndian.AppendUint64(b, uint64(truncated(v.Double()))), nil
	case bsoncore.TypeInt32, bsoncore.TypeInt64:
		i, _ := v.AsInt64OK()
		return binary.LittleEndian.AppendUint64(b, uint64(i)), nil
	case bsoncore.TypeEmbeddedDocument, bsoncore.TypeArray:
		elems, err := bsoncore.Document(v.Data).Elements()
		if err != nil {
			return nil, err
		}
		for _, e := range elems {
			if b, err = appendHashed(b, e.Value(), append([]byte(e.Key()), 0)); err != nil {
				return nil, err
			}
		}
		return binary.LittleEndian.AppendUint32(b, 0), nil
	}
	return append(b, v.Data...), nil
}

// truncated cuts a number's fraction off; what no integer holds goes to the
// nearest, and what is no number to zero.
func truncated(f float64) int64 {
	switch {
	case math.IsNaN(f):
		return 0
	case f >= math.MaxInt64:
		return math.MaxInt64
	case f <= math.MinInt64:
		return math.MinInt64
	}
	return int64(f)
}

// Part implements [engine.Layout].
func (p *placement) Part(shardName string, ns record.Namespace) engine.Part {
	part := engine.Part{Name: ns.Name}
	if shardName == configShard {
		part.Leads = true // settings and layout are nowhere else
		return part
	}
	db, coll, _ := strings.Cut(ns.Name, ".")
	// What the layout knows by its identity has the layout's name, also while the shards still keep it
	// under that of an operation which is about to be over.
	t := p.tables[string(ns.Ident)]
	if t == nil && (strings.HasPrefix(coll, "system.resharding.") || p.gone[string(ns.Ident)]) {
		part.None = true
		return part
	}
	if t == nil && p.byName[ns.Name] != nil && p.byName[ns.Name].uuid == "" {
		t = p.byName[ns.Name]
	}
	if t == nil || !ns.Kind.HasRecords() {
		primary := p.primaries[db]
		// Where the name is that of a sharded collection, this one is on its way
		// out.
		part.None, part.Leads = primary != "" && primary != shardName || p.byName[ns.Name] != nil, true
		return part
	}
	part.Name = t.name
	part.None = !slices.Contains(t.shards, shardName)
	part.Leads = t.shards[0] == shardName // as routers answer for the collection
	if !part.None && slices.ContainsFunc(t.shards, func(s string) bool { return s != shardName }) {
		part.Keep = func(value []byte) (bool, error) {
			owner, err := t.owner(value)
			return owner == shardName, err
		}
	}
	return part
}

// Define implements [engine.Layout].
func (p *placement) Define(ns record.Namespace) ([]byte, error) {
	t := p.tables[string(ns.Ident)]
	if t == nil || t.whole {
		return ns.Definition, nil
	}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return nil, err
	}
	var zones, splits bson.A
	for _, z := range t.zones {
		zones = append(zones, bson.D{{Key: "zone", Value: value(z.Lookup("tag"))},
			{Key: "min", Value: value(z.Lookup("min"))}, {Key: "max", Value: value(z.Lookup("max"))}})
	}
	var owners bson.A
	for i, b := range t.bounds {
		owners = append(owners, t.shards[i])
		if i > 0 {
			splits = append(splits, bson.Raw(b))
		}
	}
	sh := bson.D{{Key: "key", Value: bson.Raw(t.key)}, {Key: "unique", Value: t.unique}}
	if zones != nil {
		sh = append(sh, bson.E{Key: "zones", Value: zones})
	}
	if splits != nil {
		sh = append(sh, bson.E{Key: "splits", Value: splits}, bson.E{Key: "owners", Value: owners})
	}
	d.sharding = mustMarshal(sh)
	return d.encode(), nil
}

func value(v bsoncore.Value) bson.RawValue {
	return bson.RawValue{Type: bson.Type(v.Type), Value: v.Data}
}
