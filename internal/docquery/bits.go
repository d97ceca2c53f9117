package docquery

import (
	"go.mongodb.org/mongo-driver/v2/bson"
)

// bitwise compiles $bitsAllSet and its like ("Bitwise Query Operators"): of whole numbers, which
// are extended by their sign, and of binary data, of which the first bit is the lowest of the
// first byte.
func bitwise(p path, op string, arg bson.RawValue) (predicate, error) {
	at, err := bitPositions(op, arg)
	if err != nil {
		return nil, err
	}
	return onLeaf(p, func(l leaf) bool {
		if l.missing {
			return false
		}
		test, ok := bitsOf(l.v)
		if !ok {
			return false
		}
		set := 0
		for _, n := range at {
			if test(n) {
				set++
			}
		}
		switch op {
		case "$bitsAllSet":
			return set == len(at)
		case "$bitsAllClear":
			return set == 0
		case "$bitsAnySet":
			return set > 0
		}
		return set < len(at)
	}), nil
}

// bitsOf returns what tells whether a bit of a value is set.
func bitsOf(v bson.RawValue) (func(n int64) bool, bool) {
	if v.Type == bson.TypeBinary {
		_, data := v.Binary()
		return func(n int64) bool { return n/8 < int64(len(data)) && data[n/8]>>(n%8)&1 == 1 }, true
	}
	x, ok := whole(v)
	return func(n int64) bool { return x>>min(n, 63)&1 == 1 }, ok && isNumber(v.Type)
}

// bitPositions returns which bits are asked for: by their positions, by a number or by binary
// data.
func bitPositions(op string, arg bson.RawValue) (at []int64, err error) {
	if arg.Type == bson.TypeArray {
		for _, v := range values(arg) {
			n, ok := whole(v)
			if !ok || n < 0 {
				return nil, badValue("bit positions of %s must be whole and not negative", op)
			}
			at = append(at, n)
		}
		return at, nil
	}
	bits := int64(64)
	if arg.Type == bson.TypeBinary {
		_, data := arg.Binary()
		bits = int64(len(data)) * 8
	} else if n, ok := whole(arg); !ok || n < 0 {
		return nil, badValue("%s takes an Array, a number that is not negative, or BinData", op)
	}
	test, _ := bitsOf(arg)
	for n := range bits {
		if test(n) {
			at = append(at, n)
		}
	}
	return at, nil
}
