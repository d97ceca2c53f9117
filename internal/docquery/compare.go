package docquery

import (
	"bytes"
	"cmp"
	"math"
	"math/big"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Rank orders BSON types among each other ("Comparison/Sort Order").
func Rank(t bson.Type) int {
	switch t {
	case bson.TypeMinKey:
		return 1
	case bson.TypeUndefined:
		return 2
	case bson.TypeNull, 0:
		return 3
	case bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128:
		return 4
	case bson.TypeString, bson.TypeSymbol:
		return 5
	case bson.TypeEmbeddedDocument:
		return 6
	case bson.TypeArray:
		return 7
	case bson.TypeBinary:
		return 8
	case bson.TypeObjectID:
		return 9
	case bson.TypeBoolean:
		return 10
	case bson.TypeDateTime:
		return 11
	case bson.TypeTimestamp:
		return 12
	case bson.TypeRegex:
		return 13
	case bson.TypeDBPointer:
		return 14
	case bson.TypeJavaScript:
		return 15
	case bson.TypeCodeWithScope:
		return 16
	case bson.TypeMaxKey:
		return 99
	}
	return 50
}

func isNumber(t bson.Type) bool { return Rank(t) == 4 }

// exact returns a number's exact value; special is -2 for NaN, -1 and +1 for
// the infinities.
func exact(v bson.RawValue) (r *big.Rat, special int) {
	switch v.Type {
	case bson.TypeInt32:
		return new(big.Rat).SetInt64(int64(v.Int32())), 0
	case bson.TypeInt64:
		return new(big.Rat).SetInt64(v.Int64()), 0
	case bson.TypeDouble:
		f := v.Double()
		switch {
		case math.IsNaN(f):
			return nil, -2
		case math.IsInf(f, 0):
			return nil, int(math.Copysign(1, f))
		}
		return new(big.Rat).SetFloat64(f), 0
	}
	d := v.Decimal128()
	if d.IsNaN() {
		return nil, -2
	}
	if s := d.IsInf(); s != 0 {
		return nil, s
	}
	m, exp, err := d.BigInt()
	if err != nil {
		return new(big.Rat), 0
	}
	r = new(big.Rat).SetInt(m)
	scale := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(exp, -exp))), nil)
	if exp < 0 {
		return r.Quo(r, new(big.Rat).SetInt(scale)), 0
	}
	return r.Mul(r, new(big.Rat).SetInt(scale)), 0
}

func isNaN(v bson.RawValue) bool {
	switch v.Type {
	case bson.TypeDouble:
		return math.IsNaN(v.Double())
	case bson.TypeDecimal128:
		return v.Decimal128().IsNaN()
	}
	return false
}

func compareNumbers(a, b bson.RawValue) int {
	if a.Type == b.Type {
		switch a.Type {
		case bson.TypeInt32:
			return cmp.Compare(a.Int32(), b.Int32())
		case bson.TypeInt64:
			return cmp.Compare(a.Int64(), b.Int64())
		case bson.TypeDouble:
			return cmp.Compare(a.Double(), b.Double()) // NaN is before all others
		}
	}
	ra, sa := exact(a)
	rb, sb := exact(b)
	if ra != nil && rb != nil {
		return ra.Cmp(rb)
	}
	return cmp.Compare(sa, sb)
}

// Compare orders two values as sorting does; a zero value stands for null.
func Compare(a, b bson.RawValue) int {
	if c := cmp.Compare(Rank(a.Type), Rank(b.Type)); c != 0 {
		return c
	}
	switch Rank(a.Type) {
	case 1, 2, 3, 99:
		return 0
	case 4:
		return compareNumbers(a, b)
	case 5:
		return strings.Compare(text(a), text(b))
	case 6:
		return compareDocs(a.Value, b.Value, true)
	case 7:
		return compareDocs(a.Value, b.Value, false)
	case 8:
		sa, da := a.Binary()
		sb, db := b.Binary()
		return cmp.Or(cmp.Compare(len(da), len(db)), cmp.Compare(sa, sb), bytes.Compare(da, db))
	case 11:
		return cmp.Compare(a.DateTime(), b.DateTime())
	case 12:
		at, ai := a.Timestamp()
		bt, bi := b.Timestamp()
		return cmp.Or(cmp.Compare(at, bt), cmp.Compare(ai, bi))
	}
	return bytes.Compare(a.Value, b.Value)
}

func text(v bson.RawValue) string {
	if v.Type == bson.TypeSymbol {
		return v.Symbol()
	}
	return v.StringValue()
}

// compareDocs compares field by field: type, then name, then value.
func compareDocs(a, b bson.Raw, names bool) int {
	ea, _ := a.Elements()
	eb, _ := b.Elements()
	for i := range min(len(ea), len(eb)) {
		va, vb := ea[i].Value(), eb[i].Value()
		if c := cmp.Compare(Rank(va.Type), Rank(vb.Type)); c != 0 {
			return c
		}
		if names {
			if c := strings.Compare(ea[i].Key(), eb[i].Key()); c != 0 {
				return c
			}
		}
		if c := Compare(va, vb); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(ea), len(eb))
}

// canonical returns a text that two values have in common exactly where they are equal.
func canonical(dst []byte, v bson.RawValue) []byte {
	rank := Rank(v.Type)
	dst = append(dst, byte(rank))
	switch rank {
	case 1, 2, 3, 99:
		return append(dst, 0)
	case 4:
		r, special := exact(v)
		if r == nil {
			return append(dst, byte(special), 0)
		}
		return append(append(dst, r.RatString()...), 0)
	case 5:
		s := text(v)
		return append(append(dst, big.NewInt(int64(len(s))).String()...), ":"+s...)
	case 6, 7:
		els, _ := bson.Raw(v.Value).Elements()
		for _, e := range els {
			dst = append(dst, 1)
			if rank == 6 {
				dst = append(append(dst, e.Key()...), 0)
			}
			dst = canonical(dst, e.Value())
		}
		return append(dst, 0)
	}
	dst = append(append(dst, big.NewInt(int64(len(v.Value))).String()...), ':')
	return append(dst, v.Value...)
}

// valueOf makes a raw value of a Go one.
func valueOf(x any) bson.RawValue {
	switch x := x.(type) {
	case bson.RawValue:
		return x
	case bson.Raw:
		return bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: x}
	}
	t, data, err := bson.MarshalValue(x)
	if err != nil {
		panic(err) // of plain values there always is one
	}
	return bson.RawValue{Type: t, Value: data}
}

var null = bson.RawValue{Type: bson.TypeNull}

// truthy reports whether a value counts as true: not false, zero, null or missing.
func truthy(v bson.RawValue) bool {
	switch v.Type {
	case 0, bson.TypeNull, bson.TypeUndefined:
		return false
	case bson.TypeBoolean:
		return v.Boolean()
	}
	if isNumber(v.Type) {
		r, _ := exact(v)
		return r == nil || r.Sign() != 0
	}
	return true
}

// whole returns a number that is an integer of 64 bits; ok is false for all others.
func whole(v bson.RawValue) (int64, bool) {
	if !isNumber(v.Type) {
		return 0, false
	}
	r, _ := exact(v)
	if r == nil || !r.IsInt() || !r.Num().IsInt64() {
		return 0, false
	}
	return r.Num().Int64(), true
}

func values(v bson.RawValue) []bson.RawValue {
	list, _ := bson.RawArray(v.Value).Values()
	return list
}

// Key returns a text that two values have in common exactly where they are equal.
func Key(v bson.RawValue) string { return string(canonical(nil, v)) }
