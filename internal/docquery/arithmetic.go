package docquery

import (
	"math"
	"math/big"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// sum adds numbers as servers do: of the widest type there is among them, and wider where the
// result does not fit.
type sum struct {
	exact   *big.Int // of whole numbers
	double  float64  // of others, with what rounding lost
	lost    float64
	decimal *big.Rat // nil as long as there is none
	kind    bson.Type
}

func newSum() *sum { return &sum{exact: new(big.Int), kind: bson.TypeInt32} }

func (s *sum) add(v bson.RawValue) {
	switch v.Type {
	case bson.TypeInt32, bson.TypeInt64:
		n, _ := whole(v)
		s.exact.Add(s.exact, big.NewInt(n))
		if v.Type == bson.TypeInt64 && s.kind == bson.TypeInt32 {
			s.kind = bson.TypeInt64
		}
	case bson.TypeDouble:
		f := v.Double()
		t := s.double + f
		if !math.IsInf(t, 0) && !math.IsNaN(t) { // Neumaier's
			if math.Abs(s.double) >= math.Abs(f) {
				s.lost += (s.double - t) + f
			} else {
				s.lost += (f - t) + s.double
			}
		}
		s.double = t
		if s.kind != bson.TypeDecimal128 {
			s.kind = bson.TypeDouble
		}
	case bson.TypeDecimal128:
		s.kind = bson.TypeDecimal128
		if s.decimal == nil {
			s.decimal = new(big.Rat)
		}
		if r, special := exact(v); r != nil {
			s.decimal.Add(s.decimal, r)
		} else {
			s.double += map[int]float64{-2: math.NaN(), -1: math.Inf(-1), 1: math.Inf(1)}[special]
		}
	}
}

func (s *sum) value() bson.RawValue {
	f, _ := new(big.Float).SetInt(s.exact).Float64()
	double := s.double + s.lost
	if math.IsInf(s.double, 0) || math.IsNaN(s.double) {
		double = s.double
	}
	switch {
	case s.kind == bson.TypeDecimal128:
		if math.IsInf(double, 0) || math.IsNaN(double) {
			return valueOf(double)
		}
		r := new(big.Rat).SetInt(s.exact)
		r.Add(r, s.decimal)
		r.Add(r, new(big.Rat).SetFloat64(double))
		return decimal(r)
	case s.kind == bson.TypeDouble:
		return valueOf(double + f)
	}
	return integer(s.exact, s.kind)
}

// integer returns a whole number in the narrowest type that is not narrower than one and
// that it fits into.
func integer(n *big.Int, least bson.Type) bson.RawValue {
	if n.IsInt64() {
		if v := n.Int64(); least == bson.TypeInt32 && v >= math.MinInt32 && v <= math.MaxInt32 {
			return valueOf(int32(v))
		}
		return valueOf(n.Int64())
	}
	f, _ := new(big.Float).SetInt(n).Float64()
	return valueOf(f)
}

// decimalDigits is how many digits a decimal number of 128 bits has.
const decimalDigits = 34

// decimal returns a decimal number of 128 bits, rounded to the nearest, half to even.
func decimal(r *big.Rat) bson.RawValue {
	if r.Sign() == 0 {
		return valueOf(bson.NewDecimal128(0x3040000000000000, 0))
	}
	num, den := new(big.Int).Set(r.Num()), r.Denom()
	ten := big.NewInt(10)
	exp := 0
	limit := new(big.Int).Exp(ten, big.NewInt(decimalDigits), nil)
	q, m := new(big.Int), new(big.Int)
	// As many digits behind the point as are needed, and there are.
	for range decimalDigits + 6200 {
		q.QuoRem(num, den, m)
		if m.Sign() == 0 || q.CmpAbs(limit) >= 0 {
			break
		}
		num.Mul(num, ten)
		exp--
	}
	q.QuoRem(num, den, m)
	rest := m.Sign() != 0
	for q.CmpAbs(limit) >= 0 {
		var digit big.Int
		q.QuoRem(q, ten, &digit)
		exp++
		d := digit.Int64()
		if d < 0 {
			d = -d
		}
		if q.CmpAbs(limit) < 0 && (d > 5 || d == 5 && (rest || q.Bit(0) == 1)) {
			q.Add(q, big.NewInt(int64(r.Sign())))
		}
		rest = rest || d != 0
	}
	d, ok := bson.ParseDecimal128FromBigInt(q, exp)
	if !ok {
		f, _ := r.Float64()
		return valueOf(f)
	}
	return valueOf(d)
}

// numbers reports whether all values are numbers; anyNull whether one is null or missing.
func numbers(list []bson.RawValue) (ok, anyNull bool) {
	ok = true
	for _, v := range list {
		anyNull = anyNull || nullish(v)
		ok = ok && (nullish(v) || isNumber(v.Type))
	}
	return ok, anyNull
}

// widest returns the widest type of numbers.
func widest(list []bson.RawValue) bson.Type {
	order := map[bson.Type]int{bson.TypeInt32: 1, bson.TypeInt64: 2, bson.TypeDouble: 3, bson.TypeDecimal128: 4}
	w := bson.TypeInt32
	for _, v := range list {
		if order[v.Type] > order[w] {
			w = v.Type
		}
	}
	return w
}

func float(v bson.RawValue) float64 {
	switch v.Type {
	case bson.TypeDouble:
		return v.Double()
	case bson.TypeInt32:
		return float64(v.Int32())
	case bson.TypeInt64:
		return float64(v.Int64())
	}
	r, special := exact(v)
	if r == nil {
		return map[int]float64{-2: math.NaN(), -1: math.Inf(-1), 1: math.Inf(1)}[special]
	}
	f, _ := r.Float64()
	return f
}

// multiply returns the product of numbers.
func multiply(list []bson.RawValue) bson.RawValue {
	switch w := widest(list); w {
	case bson.TypeDouble:
		p := 1.0
		for _, v := range list {
			p *= float(v)
		}
		return valueOf(p)
	case bson.TypeDecimal128:
		p := big.NewRat(1, 1)
		for _, v := range list {
			r, _ := exact(v)
			if r == nil {
				return valueOf(math.NaN())
			}
			p.Mul(p, r)
		}
		return decimal(p)
	default:
		p := big.NewInt(1)
		for _, v := range list {
			n, _ := whole(v)
			p.Mul(p, big.NewInt(n))
		}
		return integer(p, w)
	}
}

// divide returns a quotient, which is never an integer.
func divide(a, b bson.RawValue) (bson.RawValue, error) {
	if r, _ := exact(b); r != nil && r.Sign() == 0 {
		return null, badValue("can't $divide by zero")
	}
	if widest([]bson.RawValue{a, b}) == bson.TypeDecimal128 {
		ra, _ := exact(a)
		rb, _ := exact(b)
		if ra == nil || rb == nil {
			return valueOf(math.NaN()), nil
		}
		return decimal(new(big.Rat).Quo(ra, rb)), nil
	}
	return valueOf(float(a) / float(b)), nil
}

// remainder returns what is left of a division, of the sign of the dividend.
func remainder(a, b bson.RawValue) (bson.RawValue, error) {
	if r, _ := exact(b); r != nil && r.Sign() == 0 {
		return null, Refuse(16610, "Location16610", "can't $mod by zero")
	}
	switch w := widest([]bson.RawValue{a, b}); w {
	case bson.TypeDouble:
		return valueOf(math.Mod(float(a), float(b))), nil
	case bson.TypeDecimal128:
		return null, notHere("$mod of decimal numbers")
	default:
		x, _ := whole(a)
		y, _ := whole(b)
		return integer(new(big.Int).Rem(big.NewInt(x), big.NewInt(y)), w), nil
	}
}
