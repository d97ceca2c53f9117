package bsonkey

import (
	"encoding/binary"
	"math"
	"math/big"
)

// Numbers of all types encode by value. One byte says which stretch of the
// number line a value is in; then, within the 64-bit range, the integer part
// as 8 bytes and the exact decimal fraction; beyond it, the decimal exponent
// and digits. Every finite double has a finite decimal expansion, so doubles
// and decimals meet exactly. Negative values are the complement of their
// magnitude's bytes.
const (
	numNaN      = 0x10
	numMinusInf = 0x20
	numBelow    = 0x30 // less than or equal to -2^63
	numNegative = 0x40
	numZero     = 0x50
	numPositive = 0x60
	numAbove    = 0x70 // greater than or equal to 2^63
	numPlusInf  = 0x80
)

func appendInt(dst []byte, v int64) []byte {
	switch {
	case v == 0:
		return append(dst, numZero)
	case v > 0:
		dst = append(dst, numPositive)
		dst = binary.BigEndian.AppendUint64(dst, uint64(v))
		return append(dst, 0)
	case v == math.MinInt64:
		return appendBig(dst, true, new(big.Int).SetUint64(1<<63), 0)
	}
	dst = append(dst, numNegative)
	dst = binary.BigEndian.AppendUint64(dst, ^uint64(-v))
	return append(dst, 0xFF)
}

func appendDouble(dst []byte, f float64) []byte {
	switch {
	case math.IsNaN(f):
		return append(dst, numNaN)
	case math.IsInf(f, 1):
		return append(dst, numPlusInf)
	case math.IsInf(f, -1):
		return append(dst, numMinusInf)
	case f == 0:
		return append(dst, numZero)
	case f == math.Trunc(f) && math.Abs(f) < 1<<63:
		return appendInt(dst, int64(f))
	}
	bits := math.Float64bits(f)
	exp := int(bits>>52) & 0x7FF
	mant := bits & (1<<52 - 1)
	if exp == 0 {
		exp = 1
	} else {
		mant |= 1 << 52
	}
	exp -= 1075
	m := new(big.Int).SetUint64(mant)
	if exp >= 0 {
		return appendBig(dst, f < 0, m.Lsh(m, uint(exp)), 0)
	}
	// m / 2^k = m * 5^k / 10^k
	k := int64(-exp)
	m.Mul(m, new(big.Int).Exp(big.NewInt(5), big.NewInt(k), nil))
	return appendBig(dst, f < 0, m, int(-k))
}

// appendDecimal encodes an IEEE 754-2008 decimal128 in the binary integer
// significand form that BSON uses.
func appendDecimal(dst []byte, hi, lo uint64) []byte {
	neg := hi>>63 == 1
	switch hi >> 58 & 0x1F {
	case 0x1F:
		return append(dst, numNaN)
	case 0x1E:
		if neg {
			return append(dst, numMinusInf)
		}
		return append(dst, numPlusInf)
	}
	if hi>>61&3 == 3 {
		// A significand this large is not canonical and counts as zero.
		return append(dst, numZero)
	}
	exp := int(hi>>49&0x3FFF) - 6176
	m := new(big.Int).SetUint64(hi & (1<<49 - 1))
	m.Lsh(m, 64).Or(m, new(big.Int).SetUint64(lo))
	if m.Sign() == 0 || len(m.String()) > 34 {
		return append(dst, numZero)
	}
	return appendBig(dst, neg, m, exp)
}

var two63 = new(big.Int).Lsh(big.NewInt(1), 63)

// appendBig encodes m * 10^exp, m > 0.
func appendBig(dst []byte, neg bool, m *big.Int, exp int) []byte {
	digits := m.String()
	for len(digits) > 1 && digits[len(digits)-1] == '0' {
		digits = digits[:len(digits)-1]
		exp++
	}
	point := len(digits) + exp // digits before the decimal point; may be negative
	var whole uint64
	fits := point <= 19
	if fits && point > 0 {
		w := digits
		if point <= len(digits) {
			w = digits[:point]
		} else {
			for len(w) < point {
				w += "0"
			}
		}
		b, _ := new(big.Int).SetString(w, 10)
		if fits = b.Cmp(two63) < 0; fits {
			whole = b.Uint64()
		}
	}
	start := len(dst)
	if !fits {
		dst = append(dst, numAbove)
		dst = binary.BigEndian.AppendUint16(dst, uint16(point))
		dst = appendDigits(dst, digits)
	} else {
		dst = append(dst, numPositive)
		dst = binary.BigEndian.AppendUint64(dst, whole)
		switch {
		case point >= len(digits):
			dst = append(dst, 0)
		case point > 0:
			frac, zeros := digits[point:], 0
			for frac[zeros] == '0' {
				zeros++
			}
			dst = append(dst, 1)
			dst = binary.BigEndian.AppendUint16(dst, math.MaxUint16-uint16(zeros))
			dst = appendDigits(dst, frac[zeros:])
		default:
			dst = append(dst, 1)
			dst = binary.BigEndian.AppendUint16(dst, math.MaxUint16-uint16(-point))
			dst = appendDigits(dst, digits)
		}
	}
	if neg {
		for i := start + 1; i < len(dst); i++ {
			dst[i] = ^dst[i]
		}
		if dst[start] == numAbove {
			dst[start] = numBelow
		} else {
			dst[start] = numNegative
		}
	}
	return dst
}

// appendDigits writes decimal digits two to a byte (1 to 100), ended by zero.
func appendDigits(dst []byte, digits string) []byte {
	for i := 0; i < len(digits); i += 2 {
		v := (digits[i] - '0') * 10
		if i+1 < len(digits) {
			v += digits[i+1] - '0'
		}
		dst = append(dst, v+1)
	}
	return append(dst, 0)
}
