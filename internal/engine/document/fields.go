package document

import (
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
	"dexamen/internal/engine/document/bsonkey"
)

// KeysNamed implements [engine.Inspector]: a text is extended JSON, the hexadecimal digits
// of an ObjectID, a number, or a string as it is.
func (model) KeysNamed(_, text string) [][]byte {
	var out [][]byte
	add := func(v any) {
		typ, data, err := bson.MarshalValue(v)
		if err != nil {
			return
		}
		if k, err := bsonkey.Append(nil, byte(typ), data); err == nil {
			for _, have := range out {
				if string(have) == string(k) {
					return
				}
			}
			out = append(out, k)
		}
	}
	if id, err := bson.ObjectIDFromHex(text); err == nil {
		add(id)
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		add(n)
	} else if f, err := strconv.ParseFloat(text, 64); err == nil {
		add(f)
	}
	var doc bson.D
	if bson.UnmarshalExtJSON([]byte(`{"v":`+text+`}`), false, &doc) == nil && len(doc) == 1 {
		add(doc[0].Value)
	}
	add(text)
	return out
}

// Fields implements [engine.Inspector]: an ObjectID is its hexadecimal digits, a decimal
// number its text, what has no like in conditions its extended JSON.
func (model) Fields(value []byte) (map[string]any, bool, error) {
	m, err := plainDocument(bson.Raw(value))
	return m, err == nil, err
}

func plainDocument(doc bson.Raw) (map[string]any, error) {
	els, err := doc.Elements()
	if err != nil {
		return nil, fmt.Errorf("a document that is not readable: %w", err)
	}
	out := make(map[string]any, len(els))
	for _, e := range els {
		if out[e.Key()], err = plainValue(e.Value()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func plainValue(v bson.RawValue) (any, error) {
	switch v.Type {
	case bson.TypeDouble:
		return v.Double(), nil
	case bson.TypeString:
		return v.StringValue(), nil
	case bson.TypeEmbeddedDocument:
		return plainDocument(v.Document())
	case bson.TypeArray:
		list, err := v.Array().Values()
		if err != nil {
			return nil, fmt.Errorf("an array that is not readable: %w", err)
		}
		out := make([]any, len(list))
		for i, e := range list {
			if out[i], err = plainValue(e); err != nil {
				return nil, err
			}
		}
		return out, nil
	case bson.TypeBinary:
		_, b := v.Binary()
		return slices.Clone(b), nil
	case bson.TypeObjectID:
		id := v.ObjectID()
		return hex.EncodeToString(id[:]), nil
	case bson.TypeBoolean:
		return v.Boolean(), nil
	case bson.TypeDateTime:
		return v.Time().UTC(), nil
	case bson.TypeNull, bson.TypeUndefined:
		return nil, nil
	case bson.TypeInt32:
		return int64(v.Int32()), nil
	case bson.TypeInt64:
		return v.Int64(), nil
	case bson.TypeDecimal128:
		return v.Decimal128().String(), nil
	case bson.TypeSymbol:
		return v.Symbol(), nil
	}
	return valueText(rawToCore(v)), nil
}

// Shape implements [engine.Shaper]: the fields that an update names.
func (model) Shape(c *record.Change) string {
	if c.Op != record.Patch {
		return ""
	}
	fs, err := parseFields(c.Value)
	if err != nil {
		return ""
	}
	names := map[string]bool{}
	add := func(v bsoncore.Value) {
		sub, ok := v.DocumentOK()
		if !ok {
			return
		}
		inner, _ := parseFields(sub)
		for _, f := range inner {
			head, _, _ := strings.Cut(f.name, ".")
			names[head] = true
		}
	}
	for _, f := range fs {
		switch f.name {
		case "$set", "$unset":
			add(f.val)
		case "diff":
			diff, _ := f.val.DocumentOK()
			inner, _ := parseFields(diff)
			for _, d := range inner {
				switch {
				case d.name == "u" || d.name == "i" || d.name == "d":
					add(d.val)
				case strings.HasPrefix(d.name, "s"):
					names[d.name[1:]] = true
				}
			}
		}
	}
	list := slices.Sorted(maps.Keys(names))
	if len(list) > 5 {
		list = append(list[:5], "…")
	}
	return strings.Join(list, ", ")
}
