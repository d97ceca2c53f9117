// Package bsonkey encodes BSON values so that the order of the bytes is the order in
// which document servers compare the values, for the keys of records.
package bsonkey

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// BSON element types, from the open BSON specification (bsonspec.org, 1.1).
const (
	bsonDouble     = 0x01
	bsonString     = 0x02
	bsonDocument   = 0x03
	bsonArray      = 0x04
	bsonBinary     = 0x05
	bsonUndefined  = 0x06
	bsonObjectID   = 0x07
	bsonBool       = 0x08
	bsonDate       = 0x09
	bsonNull       = 0x0A
	bsonRegex      = 0x0B
	bsonDBPointer  = 0x0C
	bsonCode       = 0x0D
	bsonSymbol     = 0x0E
	bsonCodeScope  = 0x0F
	bsonInt32      = 0x10
	bsonTimestamp  = 0x11
	bsonInt64      = 0x12
	bsonDecimal128 = 0x13
	bsonMinKey     = 0xFF
	bsonMaxKey     = 0x7F
)

// classOf maps a BSON type to the byte that orders its values among those of
// other types, as document servers document their comparison order: MinKey,
// null, numbers, strings and symbols, documents, arrays, binary, object ids,
// booleans, dates, timestamps, regular expressions, code, MaxKey. Zero is no
// class: it ends a document.
func classOf(typ byte) byte {
	switch typ {
	case bsonMinKey:
		return 0x05
	case bsonUndefined:
		return 0x08
	case bsonNull:
		return 0x0A
	case bsonDouble, bsonInt32, bsonInt64, bsonDecimal128:
		return 0x10
	case bsonString, bsonSymbol:
		return 0x18
	case bsonDocument:
		return 0x20
	case bsonArray:
		return 0x28
	case bsonBinary:
		return 0x30
	case bsonObjectID:
		return 0x38
	case bsonBool:
		return 0x40
	case bsonDate:
		return 0x48
	case bsonTimestamp:
		return 0x50
	case bsonRegex:
		return 0x58
	case bsonDBPointer:
		return 0x60
	case bsonCode:
		return 0x68
	case bsonCodeScope:
		return 0x70
	case bsonMaxKey:
		return 0x7F
	}
	return 0
}

// ErrMalformed means that bytes are not a well-formed BSON document.
var ErrMalformed = errors.New("record: malformed BSON")

const maxBSONDepth = 200

// Of returns the record key of a BSON document: its _id, encoded.
func Of(doc []byte) ([]byte, error) { return AppendOf(make([]byte, 0, 24), doc) }

// AppendOf appends the record key of a BSON document.
func AppendOf(dst, doc []byte) ([]byte, error) {
	typ, val, err := Lookup(doc, "_id")
	if err != nil {
		return nil, err
	}
	if typ == 0 {
		return nil, errors.New("record: document has no _id")
	}
	return Append(dst, typ, val)
}

// Lookup finds a top-level element of a BSON document; its type is 0 when
// there is none of that name.
func Lookup(doc []byte, name string) (typ byte, value []byte, err error) {
	it, err := elements(doc)
	if err != nil {
		return 0, nil, err
	}
	for {
		e, ok, err := it.next()
		if err != nil || !ok {
			return 0, nil, err
		}
		if string(e.name) == name {
			return e.typ, e.val, nil
		}
	}
}

// Append appends an encoding of a BSON value whose byte order is the
// servers' comparison order. Values that servers hold to be the same _id have
// the same encoding: 5 as int32, int64, double and decimal are one key. No
// encoding is a prefix of another.
func Append(dst []byte, typ byte, val []byte) ([]byte, error) {
	return appendKey(dst, typ, val, 0)
}

func appendKey(dst []byte, typ byte, val []byte, depth int) ([]byte, error) {
	if depth > maxBSONDepth {
		return nil, fmt.Errorf("%w: nested deeper than %d", ErrMalformed, maxBSONDepth)
	}
	class := classOf(typ)
	if class == 0 {
		return nil, fmt.Errorf("%w: unknown element type 0x%02x", ErrMalformed, typ)
	}
	if n, err := valueLen(typ, val); err != nil {
		return nil, err
	} else if n != len(val) {
		return nil, fmt.Errorf("%w: value of type 0x%02x has %d bytes, %d expected", ErrMalformed, typ, len(val), n)
	}
	dst = append(dst, class)
	switch typ {
	case bsonMinKey, bsonMaxKey, bsonNull, bsonUndefined:
	case bsonInt32:
		return appendInt(dst, int64(int32(binary.LittleEndian.Uint32(val)))), nil
	case bsonInt64:
		return appendInt(dst, int64(binary.LittleEndian.Uint64(val))), nil
	case bsonDouble:
		return appendDouble(dst, math.Float64frombits(binary.LittleEndian.Uint64(val))), nil
	case bsonDecimal128:
		return appendDecimal(dst, binary.LittleEndian.Uint64(val[8:]), binary.LittleEndian.Uint64(val)), nil
	case bsonString, bsonSymbol, bsonCode:
		return appendEscaped(dst, val[4:len(val)-1]), nil
	case bsonObjectID:
		return append(dst, val...), nil
	case bsonBool:
		return append(dst, val[0]), nil
	case bsonDate:
		return binary.BigEndian.AppendUint64(dst, binary.LittleEndian.Uint64(val)^(1<<63)), nil
	case bsonTimestamp:
		return binary.BigEndian.AppendUint64(dst, binary.LittleEndian.Uint64(val)), nil
	case bsonBinary:
		// Servers compare length first, then subtype, then bytes.
		dst = binary.BigEndian.AppendUint32(dst, binary.LittleEndian.Uint32(val))
		return append(dst, val[4:]...), nil
	case bsonRegex:
		return append(dst, val...), nil // two strings, each ended by a zero byte
	case bsonDBPointer:
		n := len(val) - 12
		dst = appendEscaped(dst, val[4:n-1])
		return append(dst, val[n:]...), nil
	case bsonDocument, bsonArray:
		return appendDocument(dst, typ == bsonDocument, val, depth)
	case bsonCodeScope:
		n := int(binary.LittleEndian.Uint32(val[4:]))
		dst = appendEscaped(dst, val[8:8+n-1])
		return appendDocument(dst, true, val[8+n:], depth)
	}
	return dst, nil
}

// appendDocument encodes fields in order, each as class, name, value: servers
// compare the type class of a field before its name. Array indexes are left
// out, as they are equal wherever they are compared.
func appendDocument(dst []byte, names bool, doc []byte, depth int) ([]byte, error) {
	it, err := elements(doc)
	if err != nil {
		return nil, err
	}
	for {
		e, ok, err := it.next()
		if err != nil {
			return nil, err
		}
		if !ok {
			return append(dst, 0), nil
		}
		if names {
			if class := classOf(e.typ); class != 0 {
				dst = append(dst, class)
			}
			dst = append(dst, e.name...)
			dst = append(dst, 0)
		}
		if dst, err = appendKey(dst, e.typ, e.val, depth+1); err != nil {
			return nil, err
		}
	}
}

// appendEscaped writes bytes so that order is kept and the end is marked: a
// zero byte becomes 00 FF, the end is 00 00.
func appendEscaped(dst, s []byte) []byte {
	for {
		i := bytes.IndexByte(s, 0)
		if i < 0 {
			dst = append(dst, s...)
			return append(dst, 0, 0)
		}
		dst = append(dst, s[:i]...)
		dst = append(dst, 0, 0xFF)
		s = s[i+1:]
	}
}

type bsonElement struct {
	typ  byte
	name []byte
	val  []byte
}

type bsonIter struct{ rest []byte }

// elements checks a document's frame and gives an iterator over its elements.
func elements(doc []byte) (bsonIter, error) {
	if len(doc) < 5 {
		return bsonIter{}, fmt.Errorf("%w: %d bytes are no document", ErrMalformed, len(doc))
	}
	n := binary.LittleEndian.Uint32(doc)
	if uint64(n) != uint64(len(doc)) || doc[len(doc)-1] != 0 {
		return bsonIter{}, fmt.Errorf("%w: document says %d bytes, has %d", ErrMalformed, n, len(doc))
	}
	return bsonIter{doc[4 : len(doc)-1]}, nil
}

func (it *bsonIter) next() (bsonElement, bool, error) {
	if len(it.rest) == 0 {
		return bsonElement{}, false, nil
	}
	e := bsonElement{typ: it.rest[0]}
	i := bytes.IndexByte(it.rest[1:], 0)
	if i < 0 {
		return e, false, fmt.Errorf("%w: field name without end", ErrMalformed)
	}
	e.name = it.rest[1 : 1+i]
	body := it.rest[2+i:]
	n, err := valueLen(e.typ, body)
	if err != nil {
		return e, false, fmt.Errorf("field %q: %w", e.name, err)
	}
	e.val, it.rest = body[:n:n], body[n:]
	return e, true, nil
}

// valueLen returns the length of the value of this type at the front of b.
func valueLen(typ byte, b []byte) (int, error) {
	n := 0
	lenAt := func(extra, least int) error {
		if len(b) < 4 {
			return fmt.Errorf("%w: value of type 0x%02x is cut short", ErrMalformed, typ)
		}
		l := int(int32(binary.LittleEndian.Uint32(b)))
		if l < least {
			return fmt.Errorf("%w: length %d of type 0x%02x", ErrMalformed, l, typ)
		}
		n = l + extra
		return nil
	}
	var err error
	switch typ {
	case bsonMinKey, bsonMaxKey, bsonNull, bsonUndefined:
	case bsonBool:
		n = 1
	case bsonInt32:
		n = 4
	case bsonDouble, bsonInt64, bsonDate, bsonTimestamp:
		n = 8
	case bsonObjectID:
		n = 12
	case bsonDecimal128:
		n = 16
	case bsonString, bsonSymbol, bsonCode:
		err = lenAt(4, 1)
	case bsonDBPointer:
		err = lenAt(16, 1)
	case bsonBinary:
		err = lenAt(5, 0)
	case bsonDocument, bsonArray:
		err = lenAt(0, 5)
	case bsonCodeScope:
		if err = lenAt(0, 14); err == nil && n <= len(b) {
			s := int(int32(binary.LittleEndian.Uint32(b[4:])))
			if s < 1 || s > n-8-5 {
				err = fmt.Errorf("%w: code with scope of bad lengths", ErrMalformed)
			}
		}
	case bsonRegex:
		for range 2 {
			i := bytes.IndexByte(b[n:], 0)
			if i < 0 {
				return 0, fmt.Errorf("%w: regular expression without end", ErrMalformed)
			}
			n += i + 1
		}
	default:
		err = fmt.Errorf("%w: unknown element type 0x%02x", ErrMalformed, typ)
	}
	if err != nil {
		return 0, err
	}
	if n > len(b) {
		return 0, fmt.Errorf("%w: value of type 0x%02x is cut short", ErrMalformed, typ)
	}
	return n, nil
}
