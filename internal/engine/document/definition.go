package document

import (
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/record"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// A definition is a BSON document {options: {...}, indexes: [...]}: options in
// order of their names; each index with v, key and name first and the rest in
// order, the index on _id first and the others in order of their names. So
// what means the same has the same bytes, whether a server listed it or a log
// entry told it.

type definition struct {
	options  []field
	indexes  []indexSpec
	sharding []byte // {key, unique, zones, splits, owners} of a sharded collection
}

type indexSpec struct {
	name string
	spec []byte
}

var defaultIDIndex = canonicalIndex([]field{
	{"v", bsoncore.Value{Type: bsoncore.TypeInt32, Data: bsoncore.AppendInt32(nil, 2)}},
	{"key", docValue(bsoncore.BuildDocument(nil, bsoncore.AppendInt32Element(nil, "_id", 1)))},
	{"name", bsoncore.Value{Type: bsoncore.TypeString, Data: bsoncore.AppendString(nil, "_id_")}},
})

// optionsLeftOut are given by servers beside the options and are no part of
// what was asked for.
var optionsLeftOut = map[string]bool{"uuid": true, "idIndex": true, "autoIndexId": true, "temp": true, "create": true,
	"lsid": true, "writeConcern": true, "$db": true}

func canonicalOptions(kind record.Kind, opts []field) []field {
	var out []field
	for _, o := range opts {
		if kind == kindSeries && (o.name == "validator" || o.name == "clusteredIndex") {
			continue // the server's own, for every such collection
		}
		if optionsLeftOut[o.name] || strings.HasPrefix(o.name, "$") || isDefault(o) {
			continue
		}
		if o.name == "timeseries" && isDocument(o.val) {
			if fs, err := parseFields(o.val.Data); err == nil {
				slices.SortStableFunc(fs, func(a, b field) int { return strings.Compare(a.name, b.name) })
				o.val = docValue(buildFields(fs))
			}
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b field) int { return strings.Compare(a.name, b.name) })
	return out
}

// isDefault reports whether an option says what counts without it too: some servers list it once
// something else was changed ("Schema Validation", "Change Streams: Document Pre- and Post-Images").
func isDefault(o field) bool {
	text, _ := o.val.StringValueOK()
	switch o.name {
	case "validationLevel":
		return text == "strict"
	case "validationAction":
		return text == "error"
	case "validator":
		return isDocument(o.val) && len(o.val.Data) == 5
	case "changeStreamPreAndPostImages":
		return isDocument(o.val) && !truthOf(bsoncore.Document(o.val.Data).Lookup("enabled"))
	case "recordPreImages", "capped":
		return !truthOf(o.val)
	}
	return false
}

func truthOf(v bsoncore.Value) bool {
	b, ok := v.BooleanOK()
	return ok && b
}

func canonicalIndex(fs []field) indexSpec {
	rank := func(name string) int {
		return map[string]int{"v": -3, "key": -2, "name": -1}[name]
	}
	var out []field
	s := indexSpec{}
	for _, f := range fs {
		switch f.name {
		case "ns", "background", "createIndexes", "buildUUID", "commitQuorum":
			continue
		case "name":
			s.name, _ = f.val.StringValueOK()
		case "v", "expireAfterSeconds":
			// Shells send these as doubles, servers answer with integers.
			if n, ok := f.val.AsInt64OK(); ok && n == int64(int32(n)) {
				f.val = bsoncore.Value{Type: bsoncore.TypeInt32, Data: bsoncore.AppendInt32(nil, int32(n))}
			}
		case "hidden", "prepareUnique", "unique", "sparse":
			if b, ok := f.val.BooleanOK(); ok && !b {
				continue // the rule, which some servers list
			}
		}
		out = append(out, f)
	}
	slices.SortStableFunc(out, func(a, b field) int {
		if ra, rb := rank(a.name), rank(b.name); ra != rb {
			return ra - rb
		} else if ra < 0 {
			return 0
		}
		return strings.Compare(a.name, b.name)
	})
	s.spec = buildFields(out)
	return s
}

func (d *definition) put(s indexSpec) {
	i := slices.IndexFunc(d.indexes, func(x indexSpec) bool { return x.name == s.name })
	if i >= 0 {
		d.indexes[i] = s
	} else {
		d.indexes = append(d.indexes, s)
	}
}

func (d *definition) encode() []byte {
	slices.SortFunc(d.indexes, func(a, b indexSpec) int {
		if (a.name == "_id_") != (b.name == "_id_") {
			return map[bool]int{true: -1, false: 1}[a.name == "_id_"]
		}
		return strings.Compare(a.name, b.name)
	})
	var vals []bsoncore.Value
	for _, s := range d.indexes {
		vals = append(vals, docValue(s.spec))
	}
	fs := []field{{"options", docValue(buildFields(d.options))}, {"indexes", arrayValue(buildArray(vals))}}
	if d.sharding != nil {
		fs = append(fs, field{"sharding", docValue(d.sharding)})
	}
	return buildFields(fs)
}

func decodeDefinition(b []byte) (d definition, err error) {
	if len(b) == 0 {
		return d, nil
	}
	opts, ok := bsoncore.Document(b).Lookup("options").DocumentOK()
	if !ok {
		return d, fmt.Errorf("definition has no options")
	}
	if d.options, err = parseFields(opts); err != nil {
		return d, err
	}
	if sh, ok := bsoncore.Document(b).Lookup("sharding").DocumentOK(); ok {
		d.sharding = sh
	}
	list, ok := bsoncore.Document(b).Lookup("indexes").ArrayOK()
	if !ok {
		return d, fmt.Errorf("definition has no indexes")
	}
	vals, err := list.Values()
	if err != nil {
		return d, err
	}
	for _, v := range vals {
		spec, ok := v.DocumentOK()
		if !ok {
			return d, fmt.Errorf("definition: an index is no document")
		}
		name, _ := spec.Lookup("name").StringValueOK()
		d.indexes = append(d.indexes, indexSpec{name, spec})
	}
	return d, nil
}

// newDefinition makes a definition from listed options and indexes.
func newDefinition(kind record.Kind, options []byte, indexes [][]byte) ([]byte, error) {
	var d definition
	if len(options) > 0 {
		fs, err := parseFields(options)
		if err != nil {
			return nil, err
		}
		d.options = canonicalOptions(kind, fs)
	}
	for _, raw := range indexes {
		fs, err := parseFields(raw)
		if err != nil {
			return nil, err
		}
		if s := canonicalIndex(fs); kind != kindSeries || !s.clustered() && s.name != "_id_" {
			d.put(s)
		}
	}
	return d.encode(), nil
}

// clustered reports whether it is the order in which a clustered collection keeps
// its documents ("Clustered Collections"), which comes with the collection.
func (s indexSpec) clustered() bool {
	b, ok := bsoncore.Document(s.spec).Lookup("clustered").BooleanOK()
	return ok && b
}

// createdDefinition makes the definition that a create entry gives.
func createdDefinition(kind record.Kind, o []field) []byte {
	d := definition{options: canonicalOptions(kind, o)}
	if kind == kindSeries {
		return d.encode()
	}
	if i := indexOf(o, "clusteredIndex"); i >= 0 && isDocument(o[i].val) {
		if fs, err := parseFields(o[i].val.Data); err == nil {
			yes := bsoncore.Value{Type: bsoncore.TypeBoolean, Data: []byte{1}}
			d.put(canonicalIndex(append(fs, field{"clustered", yes})))
		}
	}
	if i := indexOf(o, "idIndex"); i >= 0 && isDocument(o[i].val) {
		if fs, err := parseFields(o[i].val.Data); err == nil {
			d.put(canonicalIndex(fs))
		}
	}
	if len(d.indexes) == 0 {
		d.put(defaultIDIndex)
	}
	return d.encode()
}

// describeDefinition returns lines for people.
func describeDefinition(def []byte) []string {
	d, err := decodeDefinition(def)
	if err != nil {
		return []string{"unreadable definition: " + err.Error()}
	}
	var out []string
	for _, o := range d.options {
		out = append(out, "option "+o.name+" "+valueText(o.val))
	}
	out = append(out, describeSharding(d.sharding)...)
	for _, s := range d.indexes {
		fs, err := parseFields(s.spec)
		if err != nil {
			continue
		}
		line := "index " + s.name
		for _, f := range fs {
			switch f.name {
			case "v", "name":
			case "key":
				line += " " + valueText(f.val)
			default:
				line += " " + f.name + " " + valueText(f.val)
			}
		}
		out = append(out, line)
	}
	return out
}

// describeSharding returns lines for people.
func describeSharding(sharding []byte) []string {
	if sharding == nil {
		return nil
	}
	sh := bsoncore.Document(sharding)
	line := "sharded by " + valueText(sh.Lookup("key"))
	if b, ok := sh.Lookup("unique").BooleanOK(); ok && b {
		line += " unique"
	}
	out := []string{line}
	vals, _ := valuesOf(sh.Lookup("zones"))
	for _, z := range vals {
		out = append(out, fmt.Sprintf("zone %s from %s to %s", valueText(z.Document().Lookup("zone")),
			valueText(z.Document().Lookup("min")), valueText(z.Document().Lookup("max"))))
	}
	return out
}

// valueText renders one value as relaxed extended JSON.
func valueText(v bsoncore.Value) string {
	text := documentText(buildFields([]field{{"v", v}}))
	return strings.TrimSuffix(strings.TrimPrefix(text, `{"v":`), "}")
}

func documentText(doc []byte) string {
	b, err := bson.MarshalExtJSON(bson.Raw(doc), false, false)
	if err != nil {
		return fmt.Sprintf("(%d bytes, not readable: %v)", len(doc), err)
	}
	return string(b)
}

func rawToCore(v bson.RawValue) bsoncore.Value {
	return bsoncore.Value{Type: bsoncore.Type(v.Type), Data: v.Value}
}
