package docsim

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// lookupPath follows a dotted path; through an array it gives the first
// element that has the rest, as sorting and uniqueness need it.
func lookupPath(raw bson.Raw, path string) bson.RawValue {
	for _, v := range pathValues(raw, path) {
		return v
	}
	return bson.RawValue{}
}

// pathValues returns all values a dotted path leads to ("Query an Array").
func pathValues(raw bson.Raw, path string) []bson.RawValue {
	head, rest, more := strings.Cut(path, ".")
	v, err := raw.LookupErr(head)
	if err != nil {
		return nil
	}
	if !more {
		return []bson.RawValue{v}
	}
	return below(v, rest)
}

func below(v bson.RawValue, rest string) []bson.RawValue {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		return pathValues(v.Document(), rest)
	case bson.TypeArray:
		vals, _ := v.Array().Values()
		head, tail, more := strings.Cut(rest, ".")
		if n, err := strconv.Atoi(head); err == nil && n >= 0 && n < len(vals) {
			if !more {
				return []bson.RawValue{vals[n]}
			}
			return below(vals[n], tail)
		}
		var out []bson.RawValue
		for _, e := range vals {
			if e.Type == bson.TypeEmbeddedDocument {
				out = append(out, pathValues(e.Document(), rest)...)
			}
		}
		return out
	}
	return nil
}

// matches reports whether a document fits a filter ("Query and Projection
// Operators").
func matches(doc, filter bson.Raw) (bool, error) {
	elems, err := filter.Elements()
	if err != nil {
		return false, err
	}
	for _, e := range elems {
		ok, err := matchElement(doc, e.Key(), e.Value())
		if err != nil || !ok {
			return false, err
		}
	}
	return true, nil
}

func matchElement(doc bson.Raw, key string, cond bson.RawValue) (bool, error) {
	switch key {
	case "$and", "$or", "$nor":
		arr, ok := cond.ArrayOK()
		if !ok {
			return false, refuse(2, "BadValue", "%s must be an array", key)
		}
		vals, _ := arr.Values()
		hits := 0
		for _, v := range vals {
			ok, err := matches(doc, v.Document())
			if err != nil {
				return false, err
			}
			if ok {
				hits++
			}
		}
		return key == "$and" && hits == len(vals) || key == "$or" && hits > 0 || key == "$nor" && hits == 0, nil
	case "$comment":
		return true, nil
	}
	if strings.HasPrefix(key, "$") {
		return false, refuse(2, "BadValue", "unknown top level operator: %s", key)
	}
	vals := pathValues(doc, key)
	if cond.Type == bson.TypeEmbeddedDocument {
		if elems, _ := cond.Document().Elements(); len(elems) > 0 && strings.HasPrefix(elems[0].Key(), "$") {
			for _, op := range elems {
				ok, err := matchOperator(vals, op.Key(), op.Value(), cond.Document())
				if err != nil || !ok {
					return false, err
				}
			}
			return true, nil
		}
	}
	return matchOperator(vals, "$eq", cond, nil)
}

// anyValue calls fn with each value, and with the elements of each array.
func anyValue(vals []bson.RawValue, fn func(bson.RawValue) bool) bool {
	for _, v := range vals {
		if fn(v) {
			return true
		}
		if v.Type == bson.TypeArray {
			sub, _ := v.Array().Values()
			if slices.ContainsFunc(sub, fn) {
				return true
			}
		}
	}
	return false
}

func matchOperator(vals []bson.RawValue, op string, arg bson.RawValue, whole bson.Raw) (bool, error) {
	equal := func(want bson.RawValue) bool {
		if want.Type == bson.TypeNull && len(vals) == 0 {
			return true
		}
		if want.Type == bson.TypeRegex {
			ok, _ := matchRegex(vals, want)
			return ok
		}
		return anyValue(vals, func(v bson.RawValue) bool { return Compare(v, want) == 0 })
	}
	ordered := func(fit func(int) bool) bool {
		return anyValue(vals, func(v bson.RawValue) bool {
			return rank(v.Type) == rank(arg.Type) && fit(Compare(v, arg))
		})
	}
	list := func() []bson.RawValue {
		arr, _ := arg.ArrayOK()
		l, _ := arr.Values()
		return l
	}
	switch op {
	case "$eq":
		return equal(arg), nil
	case "$ne":
		return !equal(arg), nil
	case "$gt":
		return ordered(func(c int) bool { return c > 0 }), nil
	case "$gte":
		return ordered(func(c int) bool { return c >= 0 }), nil
	case "$lt":
		return ordered(func(c int) bool { return c < 0 }), nil
	case "$lte":
		return ordered(func(c int) bool { return c <= 0 }), nil
	case "$in":
		return slices.ContainsFunc(list(), equal), nil
	case "$nin":
		return !slices.ContainsFunc(list(), equal), nil
	case "$exists":
		want := truthy(arg)
		return (len(vals) > 0) == want, nil
	case "$size":
		n, _ := arg.AsInt64OK()
		for _, v := range vals {
			if v.Type == bson.TypeArray {
				if l, _ := v.Array().Values(); int64(len(l)) == n {
					return true, nil
				}
			}
		}
		return false, nil
	case "$all":
		for _, w := range list() {
			if !equal(w) {
				return false, nil
			}
		}
		return true, nil
	case "$mod":
		l := list()
		if len(l) != 2 {
			return false, refuse(2, "BadValue", "malformed mod")
		}
		d, _ := l[0].AsInt64OK()
		r, _ := l[1].AsInt64OK()
		if d == 0 {
			return false, refuse(2, "BadValue", "divisor cannot be 0")
		}
		return anyValue(vals, func(v bson.RawValue) bool {
			n, ok := v.AsInt64OK()
			return ok && n%d == r
		}), nil
	case "$regex":
		re := arg
		if arg.Type == bson.TypeString {
			opts, _ := whole.Lookup("$options").StringValueOK()
			d, _ := bson.Marshal(bson.D{{Key: "r", Value: bson.Regex{Pattern: arg.StringValue(), Options: opts}}})
			re = bson.Raw(d).Lookup("r")
		}
		return matchRegex(vals, re)
	case "$options":
		return true, nil
	case "$not":
		if arg.Type == bson.TypeRegex {
			ok, err := matchRegex(vals, arg)
			return !ok, err
		}
		elems, _ := arg.Document().Elements()
		for _, e := range elems {
			ok, err := matchOperator(vals, e.Key(), e.Value(), arg.Document())
			if err != nil || !ok {
				return true, err
			}
		}
		return false, nil
	case "$elemMatch":
		for _, v := range vals {
			if v.Type != bson.TypeArray {
				continue
			}
			sub, _ := v.Array().Values()
			for _, e := range sub {
				if e.Type == bson.TypeEmbeddedDocument {
					if ok, err := matches(e.Document(), arg.Document()); err != nil || ok {
						return ok, err
					}
				}
			}
		}
		return false, nil
	case "$type":
		want, _ := arg.AsInt64OK()
		name, _ := arg.StringValueOK()
		return anyValue(vals, func(v bson.RawValue) bool {
			return int64(v.Type) == want || name == "number" && isNumber(v.Type) ||
				name != "" && typeNames[v.Type] == name
		}), nil
	}
	return false, refuse(2, "BadValue", "unknown operator: %s", op)
}

var typeNames = map[bson.Type]string{bson.TypeDouble: "double", bson.TypeString: "string",
	bson.TypeEmbeddedDocument: "object",
	bson.TypeArray:            "array", bson.TypeBinary: "binData", bson.TypeObjectID: "objectId",
	bson.TypeBoolean: "bool", bson.TypeDateTime: "date",
	bson.TypeNull: "null", bson.TypeRegex: "regex", bson.TypeInt32: "int", bson.TypeTimestamp: "timestamp",
	bson.TypeInt64:      "long",
	bson.TypeDecimal128: "decimal"}

func truthy(v bson.RawValue) bool {
	if b, ok := v.BooleanOK(); ok {
		return b
	}
	n, ok := v.AsInt64OK()
	return ok && n != 0
}

func matchRegex(vals []bson.RawValue, re bson.RawValue) (bool, error) {
	pattern, opts := re.Regex()
	if f := strings.Map(func(r rune) rune {
		if strings.ContainsRune("ims", r) {
			return r
		}
		return -1
	}, opts); f != "" {
		pattern = "(?" + f + ")" + pattern
	}
	x, err := regexp.Compile(pattern)
	if err != nil {
		return false, refuse(51091, "Location51091", "bad regular expression: %v", err)
	}
	return anyValue(vals, func(v bson.RawValue) bool {
		s, ok := v.StringValueOK()
		return ok && x.MatchString(s)
	}), nil
}

// project keeps or leaves out top-level fields ("Project Fields to Return").
func project(doc, spec bson.Raw) bson.Raw {
	elems, _ := spec.Elements()
	if len(elems) == 0 {
		return doc
	}
	with := map[string]bool{}
	include := false
	for _, e := range elems {
		with[e.Key()] = truthy(e.Value())
		if e.Key() != "_id" && with[e.Key()] {
			include = true
		}
	}
	if id, ok := with["_id"]; ok && id && len(elems) == 1 {
		include = true
	}
	if _, ok := with["_id"]; !ok && include {
		with["_id"] = true
	}
	var out bson.D
	all, _ := doc.Elements()
	for _, e := range all {
		if keep, named := with[e.Key()]; keep || !named && !include {
			out = append(out, bson.E{Key: e.Key(), Value: e.Value()})
		}
	}
	b, _ := bson.Marshal(out)
	return b
}

// sortBy orders documents by a sort specification.
func sortBy(list []bson.Raw, spec bson.Raw) {
	elems, _ := spec.Elements()
	slices.SortStableFunc(list, func(a, b bson.Raw) int {
		for _, e := range elems {
			dir, _ := e.Value().AsInt64OK()
			if c := Compare(lookupPath(a, e.Key()), lookupPath(b, e.Key())); c != 0 {
				return c * int(dir)
			}
		}
		return 0
	})
}
