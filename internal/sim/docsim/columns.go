package docsim

import (
	"bytes"
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// columnType is the subtype of a column of a compressed bucket ("BSON Types: Binary Data", subtype 7). The stand-in
// writes each value as it is, an element without a name; a row that has none is a block that skips it.
const columnType = 7

// skip is a block of one word that has one row without a value.
var skip = []byte{0x80, 0xFE, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF}

// columnOf packs cells, whose names are the numbers of their rows.
func columnOf(cells bson.D) bson.Binary {
	var b []byte
	row := 0
	for _, c := range cells {
		n, _ := strconv.Atoi(c.Key) // the stand-in's own
		for ; row < n; row++ {
			b = append(b, skip...)
		}
		v := value(c.Value)
		b = append(append(b, byte(v.Type), 0), v.Value...)
		row++
	}
	return bson.Binary{Subtype: columnType, Data: append(b, 0)}
}

// cellsOf returns the cells of a column, packed or not.
func cellsOf(column bson.RawValue) bson.D {
	subtype, b, packed := column.BinaryOK()
	if !packed || subtype != columnType {
		return toD(column.Document())
	}
	var out bson.D
	for row := 0; len(b) > 1; row++ {
		if bytes.HasPrefix(b, skip) {
			b = b[len(skip):]
			continue
		}
		e, rest, ok := bsoncore.ReadElement(b)
		if !ok {
			return out
		}
		v := e.Value()
		out = append(out, bson.E{Key: strconv.Itoa(row), Value: bson.RawValue{Type: bson.Type(v.Type), Value: v.Data}})
		b = rest
	}
	return out
}

// packedDiff returns how a packed column has changed: from where on it has other bytes, and which.
func packedDiff(old, new bson.RawValue) (bson.D, bool) {
	was, a, ok := old.BinaryOK()
	is, b, also := new.BinaryOK()
	if !ok || !also || was != columnType || is != columnType {
		return nil, false
	}
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return bson.D{{Key: "o", Value: int32(n)}, {Key: "d", Value: bson.Binary{Subtype: columnType, Data: b[n:]}}}, true
}
