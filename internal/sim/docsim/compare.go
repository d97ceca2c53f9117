package docsim

import (
	"bytes"
	"cmp"
	"math"
	"math/big"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// rank orders BSON types among each other ("Comparison/Sort Order" in the
// server manual).
func rank(t bson.Type) int {
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
	case bson.TypeMaxKey:
		return 99
	}
	return 50
}

func isNumber(t bson.Type) bool { return rank(t) == 4 }

// number returns a number's exact value; special is -2 for NaN, -1 and +1 for
// the infinities.
func number(v bson.RawValue) (r *big.Rat, special int) {
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

// Compare orders two values as servers do.
func Compare(a, b bson.RawValue) int {
	if c := cmp.Compare(rank(a.Type), rank(b.Type)); c != 0 {
		return c
	}
	switch rank(a.Type) {
	case 4:
		if a.Type == bson.TypeInt32 && b.Type == bson.TypeInt32 {
			return cmp.Compare(a.Int32(), b.Int32())
		}
		if a.Type == bson.TypeInt64 && b.Type == bson.TypeInt64 {
			return cmp.Compare(a.Int64(), b.Int64())
		}
		ra, sa := number(a)
		rb, sb := number(b)
		if ra != nil && rb != nil {
			return ra.Cmp(rb)
		}
		return cmp.Compare(sa, sb)
	case 5:
		return strings.Compare(text(a), text(b))
	case 6, 7:
		return compareDocs(a.Value, b.Value, a.Type == bson.TypeEmbeddedDocument)
	case 8:
		sa, da := a.Binary()
		sb, db := b.Binary()
		if c := cmp.Compare(len(da), len(db)); c != 0 {
			return c
		}
		if c := cmp.Compare(sa, sb); c != 0 {
			return c
		}
		return bytes.Compare(da, db)
	case 10:
		return bytes.Compare(a.Value, b.Value)
	case 11:
		return cmp.Compare(a.DateTime(), b.DateTime())
	case 12:
		at, ai := a.Timestamp()
		bt, bi := b.Timestamp()
		if c := cmp.Compare(at, bt); c != 0 {
			return c
		}
		return cmp.Compare(ai, bi)
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
		if c := cmp.Compare(rank(va.Type), rank(vb.Type)); c != 0 {
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
