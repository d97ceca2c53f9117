package docquery

import (
	"math/big"
	"regexp"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

func not(p predicate, err error) (predicate, error) {
	return func(doc bson.Raw) (bool, error) {
		ok, err := p(doc)
		return !ok, err
	}, err
}

// onLeaf compiles a condition that holds where it does of anything that a path leads to.
func onLeaf(p path, fits func(leaf) bool) predicate {
	return func(doc bson.Raw) (bool, error) { return p.any(doc, fits), nil }
}

// equals compiles equality: null is equal to what is missing, a regular expression fits texts.
func equals(p path, arg bson.RawValue) (predicate, error) {
	fits, err := equality(arg)
	return onLeaf(p, fits), err
}

func equality(arg bson.RawValue) (func(leaf) bool, error) {
	switch arg.Type {
	case bson.TypeUndefined:
		return nil, badValue("cannot compare to undefined")
	case bson.TypeRegex:
		pattern, opts := arg.Regex()
		re, err := regexOf(pattern, opts)
		if err != nil {
			return nil, err
		}
		return func(l leaf) bool {
			return !l.missing && (isText(l.v) && re.MatchString(text(l.v)) ||
				l.v.Type == bson.TypeRegex && Compare(l.v, arg) == 0)
		}, nil
	case bson.TypeNull:
		return func(l leaf) bool {
			return l.missing || l.v.Type == bson.TypeNull ||
				l.v.Type == bson.TypeUndefined
		}, nil
	}
	return func(l leaf) bool { return !l.missing && Compare(l.v, arg) == 0 }, nil
}

func isText(v bson.RawValue) bool { return v.Type == bson.TypeString || v.Type == bson.TypeSymbol }

// ordered compiles $gt and its like: values are compared with those of their own kind only.
func ordered(p path, op string, arg bson.RawValue) (predicate, error) {
	if arg.Type == bson.TypeRegex || arg.Type == bson.TypeUndefined {
		return nil, badValue("Can't have %s as arg to predicate over field '%s'.", typeName(arg.Type), p)
	}
	or := op == "$gte" || op == "$lte"
	if arg.Type == bson.TypeNull {
		if !or {
			return func(bson.Raw) (bool, error) { return false, nil }, nil
		}
		return equals(p, arg)
	}
	fits := map[string]func(int) bool{"$gt": func(c int) bool { return c > 0 },
		"$gte": func(c int) bool { return c >= 0 },
		"$lt":  func(c int) bool { return c < 0 }, "$lte": func(c int) bool { return c <= 0 }}[op]
	extreme := arg.Type == bson.TypeMinKey || arg.Type == bson.TypeMaxKey
	return onLeaf(p, func(l leaf) bool {
		switch {
		case l.missing:
			return false
		case isNumber(arg.Type) && isNumber(l.v.Type) && (isNaN(arg) || isNaN(l.v)):
			return or && isNaN(arg) && isNaN(l.v)
		case Rank(l.v.Type) != Rank(arg.Type) && !extreme:
			return false
		}
		return fits(Compare(l.v, arg))
	}), nil
}

// operator compiles one operator; nil where it belongs to another one.
func operator(p path, op string, arg bson.RawValue, all bson.Raw) (predicate, error) {
	switch op {
	case "$eq":
		if arg.Type == bson.TypeRegex { // written so it is a value, and no pattern
			return onLeaf(p, func(l leaf) bool { return !l.missing && Compare(l.v, arg) == 0 }), nil
		}
		return equals(p, arg)
	case "$ne":
		if arg.Type == bson.TypeRegex {
			return nil, badValue("Can't have regex as arg to $ne.")
		}
		return not(equals(p, arg))
	case "$gt", "$gte", "$lt", "$lte":
		return ordered(p, op, arg)
	case "$in":
		return in(p, op, arg)
	case "$nin":
		return not(in(p, op, arg))
	case "$exists":
		want := truthy(arg)
		return func(doc bson.Raw) (bool, error) {
			return p.any(doc, func(l leaf) bool { return !l.missing }) == want, nil
		}, nil
	case "$type":
		return ofType(p, arg)
	case "$size":
		n, ok := whole(arg)
		if !ok || n < 0 {
			return nil, badValue("Failed to parse $size. Expected a non-negative whole number")
		}
		return onArray(p, func(list []bson.RawValue) (bool, error) { return int64(len(list)) == n, nil }), nil
	case "$all":
		return allOf(p, arg)
	case "$elemMatch":
		return elementMatch(p, arg)
	case "$mod":
		return modulo(p, arg)
	case "$regex":
		return regexCondition(p, arg, all)
	case "$options":
		if all.Lookup("$regex").Type == 0 {
			return nil, badValue("$options needs a $regex")
		}
		return nil, nil
	case "$not":
		if arg.Type == bson.TypeRegex {
			return not(equals(p, arg))
		}
		ops, ok, err := operators(arg)
		if err != nil || !ok {
			return nil, badValue("$not needs a regex or a document of operators")
		}
		return not(conditions(p, ops, arg.Document()))
	case "$comment":
		return nil, nil
	case "$bitsAllSet", "$bitsAllClear", "$bitsAnySet", "$bitsAnyClear":
		return bitwise(p, op, arg)
	case "$geoWithin", "$geoIntersects", "$near", "$nearSphere", "$within", "$maxDistance", "$minDistance":
		return nil, notHere("%s", op)
	}
	return nil, badValue("unknown operator: %s", op)
}

func in(p path, op string, arg bson.RawValue) (predicate, error) {
	if arg.Type != bson.TypeArray {
		return nil, badValue("%s needs an array", op)
	}
	plain := map[string]bool{}
	var others []func(leaf) bool
	for _, v := range values(arg) {
		if _, isOps, _ := operators(v); isOps {
			return nil, badValue("cannot nest $ under %s", op)
		}
		if v.Type == bson.TypeRegex || v.Type == bson.TypeNull {
			fits, err := equality(v)
			if err != nil {
				return nil, err
			}
			others = append(others, fits)
			continue
		}
		plain[string(canonical(nil, v))] = true
	}
	return onLeaf(p, func(l leaf) bool {
		return !l.missing && len(plain) > 0 && plain[string(canonical(nil, l.v))] ||
			slices.ContainsFunc(others, func(f func(leaf) bool) bool { return f(l) })
	}), nil
}

// onArray compiles a condition on arrays as they are.
func onArray(p path, fits func(list []bson.RawValue) (bool, error)) predicate {
	return func(doc bson.Raw) (ok bool, err error) {
		p.each(doc, func(l leaf) bool {
			if !l.missing && !l.element && l.v.Type == bson.TypeArray {
				ok, err = fits(values(l.v))
			}
			return !ok && err == nil
		})
		return ok, err
	}
}

func allOf(p path, arg bson.RawValue) (predicate, error) {
	if arg.Type != bson.TypeArray {
		return nil, badValue("$all needs an array")
	}
	list := values(arg)
	var each []predicate
	for i, v := range list {
		ops, isOps, err := operators(v)
		if err != nil {
			return nil, err
		}
		var one predicate
		switch {
		case isOps && ops[0].Key() == "$elemMatch" && len(ops) == 1:
			one, err = elementMatch(p, ops[0].Value())
		case isOps:
			return nil, badValue("no $ expressions in $all")
		default:
			one, err = equals(p, list[i])
		}
		if err != nil {
			return nil, err
		}
		each = append(each, one)
	}
	return func(doc bson.Raw) (bool, error) {
		for _, one := range each {
			if ok, err := one(doc); err != nil || !ok {
				return false, err
			}
		}
		return len(each) > 0, nil
	}, nil
}

// elementMatch compiles $elemMatch: of documents in an array by a filter, or of its elements by
// operators.
func elementMatch(p path, arg bson.RawValue) (predicate, error) {
	fits, err := elementFits(arg)
	if err != nil {
		return nil, err
	}
	return onArray(p, func(list []bson.RawValue) (bool, error) {
		for _, e := range list {
			if ok, err := fits(e); err != nil || ok {
				return ok, err
			}
		}
		return false, nil
	}), nil
}

// ElementFits reads the argument of an $elemMatch or $pull, and returns which elements fit.
func ElementFits(arg bson.RawValue) (func(bson.RawValue) (bool, error), error) {
	return elementFits(arg)
}

func elementFits(arg bson.RawValue) (func(bson.RawValue) (bool, error), error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, badValue("$elemMatch needs an Object")
	}
	ops, isOps, err := operators(arg)
	if err != nil {
		return nil, err
	}
	if isOps && !slices.Contains([]string{"$and", "$or", "$nor", "$expr", "$where", "$comment"}, ops[0].Key()) {
		// The elements themselves, each as the one field of a document.
		one, err := conditions(path{elementName}, ops, arg.Document())
		if err != nil {
			return nil, err
		}
		return func(e bson.RawValue) (bool, error) { return one(document(field{elementName, e})) }, nil
	}
	f, err := CompileFilter(arg.Document())
	if err != nil {
		return nil, err
	}
	return func(e bson.RawValue) (bool, error) {
		if e.Type != bson.TypeEmbeddedDocument && e.Type != bson.TypeArray {
			return false, nil
		}
		return f.Fits(e.Value)
	}, nil
}

func modulo(p path, arg bson.RawValue) (predicate, error) {
	var list []bson.RawValue
	if arg.Type == bson.TypeArray {
		list = values(arg)
	}
	if len(list) != 2 {
		return nil, badValue("malformed mod, needs to be an array of two numbers")
	}
	d, ok1 := truncated(list[0])
	r, ok2 := truncated(list[1])
	if !ok1 || !ok2 {
		return nil, badValue("malformed mod, divisor and remainder must be finite numbers")
	}
	if d.Sign() == 0 {
		return nil, badValue("divisor cannot be 0")
	}
	return onLeaf(p, func(l leaf) bool {
		if l.missing {
			return false
		}
		n, ok := truncated(l.v)
		return ok && new(big.Int).Rem(n, d).Cmp(r) == 0
	}), nil
}

// truncated returns a number without its fraction; ok is false for what has no such.
func truncated(v bson.RawValue) (*big.Int, bool) {
	if !isNumber(v.Type) {
		return nil, false
	}
	r, _ := exact(v)
	if r == nil {
		return nil, false
	}
	return new(big.Int).Quo(r.Num(), r.Denom()), true
}

func regexCondition(p path, arg bson.RawValue, all bson.Raw) (predicate, error) {
	var pattern, opts string
	switch arg.Type {
	case bson.TypeString:
		pattern = arg.StringValue()
	case bson.TypeRegex:
		pattern, opts = arg.Regex()
	default:
		return nil, badValue("$regex has to be a string")
	}
	if o := all.Lookup("$options"); o.Type != 0 {
		s, ok := o.StringValueOK()
		if !ok {
			return nil, badValue("$options has to be a string")
		}
		if opts != "" {
			return nil, Refuse(51075, "Location51075", "options set in both $regex and $options")
		}
		opts = s
	}
	re, err := regexOf(pattern, opts)
	if err != nil {
		return nil, err
	}
	same := valueOf(bson.Regex{Pattern: pattern, Options: opts})
	return onLeaf(p, func(l leaf) bool {
		return !l.missing && (isText(l.v) && re.MatchString(text(l.v)) ||
			l.v.Type == bson.TypeRegex && Compare(l.v, same) == 0)
	}), nil
}

// regexOf compiles a regular expression. Servers have some constructs more: those are
// refused.
func regexOf(pattern, opts string) (*regexp.Regexp, error) {
	flags := ""
	for _, o := range opts {
		switch o {
		case 'i', 'm', 's':
			flags += string(o)
		case 'u':
		case 'x':
			return nil, notHere("the option x of regular expressions")
		default:
			return nil, Refuse(51108, "Location51108", "invalid flag in regex options: %c", o)
		}
	}
	if flags != "" {
		flags = "(?" + flags + ")"
	}
	re, err := regexp.Compile(flags + pattern)
	if err != nil {
		return nil, Refuse(51091, "Location51091", "Regular expression is invalid, or not evaluated here: %v", err)
	}
	return re, nil
}

// typeNames are the names of types, and their numbers.
var typeNames = map[string]bson.Type{"double": bson.TypeDouble, "string": bson.TypeString,
	"object": bson.TypeEmbeddedDocument, "array": bson.TypeArray, "binData": bson.TypeBinary,
	"undefined": bson.TypeUndefined, "objectId": bson.TypeObjectID, "bool": bson.TypeBoolean, "date": bson.TypeDateTime,
	"null": bson.TypeNull, "regex": bson.TypeRegex, "dbPointer": bson.TypeDBPointer, "javascript": bson.TypeJavaScript,
	"symbol": bson.TypeSymbol, "javascriptWithScope": bson.TypeCodeWithScope, "int": bson.TypeInt32,
	"timestamp": bson.TypeTimestamp, "long": bson.TypeInt64, "decimal": bson.TypeDecimal128, "minKey": bson.TypeMinKey,
	"maxKey": bson.TypeMaxKey}

func typeName(t bson.Type) string {
	for name, x := range typeNames {
		if x == t {
			return name
		}
	}
	return "missing"
}

func ofType(p path, arg bson.RawValue) (predicate, error) {
	list := []bson.RawValue{arg}
	if arg.Type == bson.TypeArray {
		if list = values(arg); len(list) == 0 {
			return nil, Refuse(9, "FailedToParse", "%s must match at least one type", p)
		}
	}
	want := map[bson.Type]bool{}
	for _, v := range list {
		switch {
		case v.Type == bson.TypeString && v.StringValue() == "number":
			for _, t := range []bson.Type{bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128} {
				want[t] = true
			}
		case v.Type == bson.TypeString:
			t, ok := typeNames[v.StringValue()]
			if !ok {
				return nil, badValue("Unknown type name alias: %s", v.StringValue())
			}
			want[t] = true
		case isNumber(v.Type):
			n, ok := whole(v)
			if ok && n == -1 {
				n = int64(bson.TypeMinKey)
			}
			known := false
			for _, t := range typeNames {
				known = known || int64(t) == n
			}
			if !ok || !known {
				return nil, badValue("Invalid numerical type code: %s", strings.TrimSpace(v.String()))
			}
			want[bson.Type(n)] = true
		default:
			return nil, badValue("type must be represented as a number or a string")
		}
	}
	return onLeaf(p, func(l leaf) bool { return !l.missing && want[l.v.Type] }), nil
}
