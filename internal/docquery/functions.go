package docquery

import (
	"math"
	"strings"
	"time"
	"unicode/utf8"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// function compiles an operator of expressions.
func function(name string, arg bson.RawValue) (expression, error) {
	switch name {
	case "$literal":
		return constant(arg), nil
	case "$cond":
		return conditional(arg)
	case "$switch":
		return switched(arg)
	case "$map", "$filter", "$reduce":
		return overArray(name, arg)
	case "$let":
		return let(arg)
	}
	f, ok := functions[name]
	if !ok {
		return nil, notHere("the expression operator %s", name)
	}
	args := []bson.RawValue{arg}
	if arg.Type == bson.TypeArray {
		args = values(arg)
	}
	if len(args) < f.least || f.most >= 0 && len(args) > f.most {
		return nil, Refuse(16020, "Location16020", "Expression %s takes %d to %d arguments. %d were passed in.", name,
			f.least,
			f.most, len(args))
	}
	list, err := compileList(args)
	if err != nil {
		return nil, err
	}
	if name == "$and" || name == "$or" {
		return junctionOf(list, name == "$or"), nil
	}
	return func(s scope) (bson.RawValue, error) {
		in, err := evaluate(s, list)
		if err != nil {
			return null, err
		}
		return f.of(name, in)
	}, nil
}

// junctionOf evaluates no more than it must.
func junctionOf(list []expression, or bool) expression {
	return func(s scope) (bson.RawValue, error) {
		for _, x := range list {
			v, err := x(s)
			if err != nil {
				return null, err
			}
			if truthy(v) == or {
				return boolean(or), nil
			}
		}
		return boolean(!or), nil
	}
}

type functionOf struct {
	least, most int // arguments; most -1: any number
	of          func(name string, in []bson.RawValue) (bson.RawValue, error)
}

var functions map[string]functionOf

func init() {
	functions = map[string]functionOf{
		"$add": {1, -1, add}, "$subtract": {2, 2, subtract}, "$multiply": {1, -1, product}, "$divide": {2, 2, quotient},
		"$mod": {2, 2, quotient}, "$abs": {1, 1, rounded}, "$ceil": {1, 1, rounded}, "$floor": {1, 1, rounded},
		"$trunc": {1, 1, rounded}, "$sqrt": {1, 1, rounded},
		"$eq": {2, 2, compared}, "$ne": {2, 2, compared}, "$gt": {2, 2, compared}, "$gte": {2, 2, compared},
		"$lt": {2, 2, compared}, "$lte": {2, 2, compared}, "$cmp": {2, 2, compared},
		"$and": {0, -1, logical}, "$or": {0, -1, logical}, "$not": {1, 1, logical}, "$ifNull": {2, -1, ifNull},
		"$concat": {1, -1, concat}, "$toLower": {1, 1, cased}, "$toUpper": {1, 1, cased}, "$strLenCP": {1, 1, length},
		"$strLenBytes": {1, 1, length}, "$toString": {1, 1, toString}, "$split": {2, 2, split},
		"$size": {1, 1, size}, "$arrayElemAt": {2, 2, elementAt}, "$first": {1, 1, elementAt},
		"$last": {1, 1, elementAt},
		"$in":   {2, 2, isIn}, "$isArray": {1, 1, isArray}, "$concatArrays": {1, -1, concatArrays},
		"$type": {1, 1, typeOf},
		"$sum":  {1, -1, accumulated}, "$avg": {1, -1, accumulated}, "$min": {1, -1, accumulated},
		"$max": {1, -1, accumulated}, "$mergeObjects": {1, -1, merged}, "$objectToArray": {1, 1, toArray},
		"$year": {1, 1, datePart}, "$month": {1, 1, datePart}, "$dayOfMonth": {1, 1, datePart},
		"$hour":   {1, 1, datePart},
		"$minute": {1, 1, datePart}, "$second": {1, 1, datePart}, "$millisecond": {1, 1, datePart},
		"$dayOfWeek": {1, 1, datePart}, "$dayOfYear": {1, 1, datePart},
	}
}

func add(name string, in []bson.RawValue) (bson.RawValue, error) {
	var at *bson.RawValue
	var list []bson.RawValue
	for i, v := range in {
		if v.Type == bson.TypeDateTime {
			if at != nil {
				return null, Refuse(16612, "Location16612", "only one date allowed in an $add expression")
			}
			at = &in[i]
			continue
		}
		list = append(list, v)
	}
	ok, anyNull := numbers(list)
	if !ok {
		return null, Refuse(14, "TypeMismatch", "$add only supports numeric or date types")
	}
	if anyNull {
		return null, nil
	}
	s := newSum()
	for _, v := range list {
		s.add(v)
	}
	if at != nil {
		return valueOf(bson.DateTime(at.DateTime() + int64(math.Round(float(s.value()))))), nil
	}
	return s.value(), nil
}

func subtract(_ string, in []bson.RawValue) (bson.RawValue, error) {
	a, b := in[0], in[1]
	switch {
	case nullish(a) || nullish(b):
		return null, nil
	case a.Type == bson.TypeDateTime && b.Type == bson.TypeDateTime:
		return valueOf(a.DateTime() - b.DateTime()), nil
	case a.Type == bson.TypeDateTime && isNumber(b.Type):
		return valueOf(bson.DateTime(a.DateTime() - int64(math.Round(float(b))))), nil
	case !isNumber(a.Type) || !isNumber(b.Type):
		return null, Refuse(14, "TypeMismatch", "can't $subtract %s from %s", typeName(b.Type), typeName(a.Type))
	}
	s := newSum()
	s.add(a)
	s.add(multiply([]bson.RawValue{b, valueOf(int32(-1))}))
	return s.value(), nil
}

func product(_ string, in []bson.RawValue) (bson.RawValue, error) {
	ok, anyNull := numbers(in)
	switch {
	case !ok:
		return null, Refuse(14, "TypeMismatch", "$multiply only supports numeric types")
	case anyNull:
		return null, nil
	}
	return multiply(in), nil
}

func quotient(name string, in []bson.RawValue) (bson.RawValue, error) {
	ok, anyNull := numbers(in)
	switch {
	case anyNull:
		return null, nil
	case !ok:
		return null, Refuse(14, "TypeMismatch", "%s only supports numeric types, not %s and %s", name,
			typeName(in[0].Type),
			typeName(in[1].Type))
	case name == "$mod":
		return remainder(in[0], in[1])
	}
	return divide(in[0], in[1])
}

func rounded(name string, in []bson.RawValue) (bson.RawValue, error) {
	v := in[0]
	switch {
	case nullish(v):
		return null, nil
	case !isNumber(v.Type):
		return null, Refuse(28765, "Location28765", "%s only supports numeric types, not %s", name, typeName(v.Type))
	case v.Type == bson.TypeDecimal128:
		return null, notHere("%s of decimal numbers", name)
	}
	if n, ok := whole(v); ok && v.Type != bson.TypeDouble && name != "$sqrt" {
		if name == "$abs" && n < 0 {
			return multiply([]bson.RawValue{v, valueOf(int32(-1))}), nil
		}
		return v, nil
	}
	f := float(v)
	switch name {
	case "$abs":
		f = math.Abs(f)
	case "$ceil":
		f = math.Ceil(f)
	case "$floor":
		f = math.Floor(f)
	case "$trunc":
		f = math.Trunc(f)
	case "$sqrt":
		if f < 0 {
			return null, Refuse(28714, "Location28714", "$sqrt's argument must be greater than or equal to 0")
		}
		f = math.Sqrt(f)
	}
	return valueOf(f), nil
}

// compared compares any two values; what is missing is before null.
func compared(name string, in []bson.RawValue) (bson.RawValue, error) {
	a, b := in[0], in[1]
	c := Compare(a, b)
	if c == 0 && (a.Type == 0) != (b.Type == 0) && nullish(a) && nullish(b) {
		c = 1
		if a.Type == 0 {
			c = -1
		}
	}
	switch name {
	case "$eq":
		return boolean(c == 0), nil
	case "$ne":
		return boolean(c != 0), nil
	case "$gt":
		return boolean(c > 0), nil
	case "$gte":
		return boolean(c >= 0), nil
	case "$lt":
		return boolean(c < 0), nil
	case "$lte":
		return boolean(c <= 0), nil
	}
	return valueOf(int32(max(-1, min(1, c)))), nil
}

// logical is $not; $and and $or are evaluated by junctionOf.
func logical(_ string, in []bson.RawValue) (bson.RawValue, error) {
	return boolean(!truthy(in[0])), nil
}

func ifNull(_ string, in []bson.RawValue) (bson.RawValue, error) {
	for _, v := range in[:len(in)-1] {
		if !nullish(v) {
			return v, nil
		}
	}
	return in[len(in)-1], nil
}

func concat(_ string, in []bson.RawValue) (bson.RawValue, error) {
	var b strings.Builder
	for _, v := range in {
		if nullish(v) {
			return null, nil
		}
		if !isText(v) {
			return null, Refuse(16702, "Location16702", "$concat only supports strings, not %s", typeName(v.Type))
		}
		b.WriteString(text(v))
	}
	return valueOf(b.String()), nil
}

func cased(name string, in []bson.RawValue) (bson.RawValue, error) {
	if nullish(in[0]) {
		return valueOf(""), nil
	}
	if !isText(in[0]) {
		return null, notHere("%s of %s", name, typeName(in[0].Type))
	}
	// ASCII letters only, as servers do.
	up := name == "$toUpper"
	return valueOf(strings.Map(func(r rune) rune {
		switch {
		case up && r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case !up && r >= 'A' && r <= 'Z':
			return r - 'A' + 'a'
		}
		return r
	}, text(in[0]))), nil
}

func length(name string, in []bson.RawValue) (bson.RawValue, error) {
	if !isText(in[0]) {
		return null, Refuse(34471, "Location34471", "%s requires a string argument, found: %s", name,
			typeName(in[0].Type))
	}
	n := len(text(in[0]))
	if name == "$strLenCP" {
		n = utf8.RuneCountInString(text(in[0]))
	}
	return valueOf(int32(n)), nil
}

func toString(_ string, in []bson.RawValue) (bson.RawValue, error) {
	v := in[0]
	switch v.Type {
	case 0, bson.TypeNull, bson.TypeUndefined:
		return null, nil
	case bson.TypeString:
		return v, nil
	case bson.TypeObjectID:
		return valueOf(v.ObjectID().Hex()), nil
	case bson.TypeBoolean:
		return valueOf(map[bool]string{true: "true", false: "false"}[v.Boolean()]), nil
	case bson.TypeInt32, bson.TypeInt64:
		r, _ := exact(v)
		return valueOf(r.Num().String()), nil
	case bson.TypeDecimal128:
		return valueOf(v.Decimal128().String()), nil
	case bson.TypeDateTime:
		return valueOf(v.Time().UTC().Format("2006-01-02T15:04:05.000Z")), nil
	}
	return null, notHere("$toString of %s", typeName(v.Type))
}

func split(_ string, in []bson.RawValue) (bson.RawValue, error) {
	if nullish(in[0]) || nullish(in[1]) {
		return null, nil
	}
	if !isText(in[0]) || !isText(in[1]) || text(in[1]) == "" {
		return null, Refuse(40085, "Location40085", "$split requires two strings, the second not empty")
	}
	var out []bson.RawValue
	for _, s := range strings.Split(text(in[0]), text(in[1])) {
		out = append(out, valueOf(s))
	}
	return array(out), nil
}

func size(_ string, in []bson.RawValue) (bson.RawValue, error) {
	if in[0].Type != bson.TypeArray {
		return null, Refuse(17124, "Location17124", "The argument to $size must be an array, but was of type: %s",
			typeName(in[0].Type))
	}
	return valueOf(int32(len(values(in[0])))), nil
}

func elementAt(name string, in []bson.RawValue) (bson.RawValue, error) {
	if nullish(in[0]) {
		return null, nil
	}
	if in[0].Type != bson.TypeArray {
		return null, Refuse(28689, "Location28689", "%s's first argument must be an array, but is %s", name,
			typeName(in[0].Type))
	}
	list := values(in[0])
	n := int64(0)
	switch name {
	case "$last":
		n = -1
	case "$arrayElemAt":
		if nullish(in[1]) {
			return null, nil
		}
		var ok bool
		if n, ok = whole(in[1]); !ok {
			return null, Refuse(28690, "Location28690", "$arrayElemAt's second argument must be a whole number")
		}
	}
	if n < 0 {
		n += int64(len(list))
	}
	if n < 0 || n >= int64(len(list)) {
		return bson.RawValue{}, nil
	}
	return list[n], nil
}

func isIn(_ string, in []bson.RawValue) (bson.RawValue, error) {
	if in[1].Type != bson.TypeArray {
		return null, Refuse(40081, "Location40081", "$in requires an array as a second argument, found: %s",
			typeName(in[1].Type))
	}
	for _, e := range values(in[1]) {
		if Compare(e, in[0]) == 0 {
			return boolean(true), nil
		}
	}
	return boolean(false), nil
}

func isArray(_ string, in []bson.RawValue) (bson.RawValue, error) {
	return boolean(in[0].Type == bson.TypeArray), nil
}

func concatArrays(_ string, in []bson.RawValue) (bson.RawValue, error) {
	var out []bson.RawValue
	for _, v := range in {
		if nullish(v) {
			return null, nil
		}
		if v.Type != bson.TypeArray {
			return null, Refuse(28664, "Location28664", "$concatArrays only supports arrays, not %s", typeName(v.Type))
		}
		out = append(out, values(v)...)
	}
	return array(out), nil
}

func typeOf(_ string, in []bson.RawValue) (bson.RawValue, error) {
	return valueOf(typeName(in[0].Type)), nil
}

// accumulated is an accumulator used as an expression: over its arguments, or the elements of
// the one array.
func accumulated(name string, in []bson.RawValue) (bson.RawValue, error) {
	if len(in) == 1 && in[0].Type == bson.TypeArray {
		in = values(in[0])
	}
	acc := accumulators[name]()
	for _, v := range in {
		if err := acc.add(v); err != nil {
			return null, err
		}
	}
	return acc.value(), nil
}

func merged(_ string, in []bson.RawValue) (bson.RawValue, error) {
	var fs []field
	for _, v := range in {
		if nullish(v) {
			continue
		}
		if v.Type != bson.TypeEmbeddedDocument {
			return null, Refuse(40400, "Location40400", "$mergeObjects requires object inputs, but input is of type %s",
				typeName(v.Type))
		}
		for _, f := range fieldsOf(v.Document()) {
			if i := indexOf(fs, f.name); i >= 0 {
				fs[i] = f
			} else {
				fs = append(fs, f)
			}
		}
	}
	return docValue(document(fs...)), nil
}

func toArray(_ string, in []bson.RawValue) (bson.RawValue, error) {
	if nullish(in[0]) {
		return null, nil
	}
	if in[0].Type != bson.TypeEmbeddedDocument {
		return null, Refuse(40390, "Location40390", "$objectToArray requires a document input, found: %s",
			typeName(in[0].Type))
	}
	var out []bson.RawValue
	for _, f := range fieldsOf(in[0].Document()) {
		out = append(out, docValue(document(field{"k", valueOf(f.name)}, field{"v", f.v})))
	}
	return array(out), nil
}

func datePart(name string, in []bson.RawValue) (bson.RawValue, error) {
	var t time.Time
	switch in[0].Type {
	case 0, bson.TypeNull, bson.TypeUndefined:
		return null, nil
	case bson.TypeDateTime:
		t = in[0].Time().UTC()
	case bson.TypeTimestamp:
		s, _ := in[0].Timestamp()
		t = time.Unix(int64(s), 0).UTC()
	case bson.TypeObjectID:
		t = in[0].ObjectID().Timestamp().UTC()
	default:
		return null, Refuse(16006, "Location16006",
			"can't convert from %s to Date, or it has a time zone, which is not "+
				"evaluated here", typeName(in[0].Type))
	}
	n := map[string]int{"$year": t.Year(), "$month": int(t.Month()), "$dayOfMonth": t.Day(), "$hour": t.Hour(),
		"$minute": t.Minute(), "$second": t.Second(), "$millisecond": t.Nanosecond() / 1e6,
		"$dayOfWeek": int(t.Weekday()) + 1, "$dayOfYear": t.YearDay()}[name]
	return valueOf(int32(n)), nil
}

// named reads the named arguments of an operator, all of which must be known.
func named(op string, arg bson.RawValue, known ...string) (map[string]bson.RawValue, error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, Refuse(28646, "Location28646", "%s needs an object as its argument, found: %s", op,
			typeName(arg.Type))
	}
	out := map[string]bson.RawValue{}
	for _, f := range fieldsOf(arg.Document()) {
		ok := false
		for _, k := range known {
			ok = ok || k == f.name
		}
		if !ok {
			return nil, Refuse(28647, "Location28647", "Unrecognized parameter to %s: %s", op, f.name)
		}
		out[f.name] = f.v
	}
	return out, nil
}

func conditional(arg bson.RawValue) (expression, error) {
	var parts []bson.RawValue
	if arg.Type == bson.TypeArray {
		parts = values(arg)
	} else {
		m, err := named("$cond", arg, "if", "then", "else")
		if err != nil {
			return nil, err
		}
		for _, k := range []string{"if", "then", "else"} {
			if v, ok := m[k]; ok {
				parts = append(parts, v)
			}
		}
	}
	if len(parts) != 3 {
		return nil, Refuse(16020, "Location16020", "Expression $cond takes exactly 3 arguments. %d were passed in.",
			len(parts))
	}
	list, err := compileList(parts)
	if err != nil {
		return nil, err
	}
	return func(s scope) (bson.RawValue, error) {
		v, err := list[0](s)
		if err != nil {
			return v, err
		}
		if truthy(v) {
			return list[1](s)
		}
		return list[2](s)
	}, nil
}

func switched(arg bson.RawValue) (expression, error) {
	m, err := named("$switch", arg, "branches", "default")
	if err != nil {
		return nil, err
	}
	var cases, thens []expression
	for _, b := range values(m["branches"]) {
		one, err := named("$switch", b, "case", "then")
		if err != nil {
			return nil, err
		}
		if len(one) != 2 {
			return nil, Refuse(40067, "Location40067", "$switch requires each branch to have 'case' and 'then'")
		}
		list, err := compileList([]bson.RawValue{one["case"], one["then"]})
		if err != nil {
			return nil, err
		}
		cases, thens = append(cases, list[0]), append(thens, list[1])
	}
	if len(cases) == 0 {
		return nil, Refuse(40068, "Location40068", "$switch requires at least one branch")
	}
	var other expression
	if d, ok := m["default"]; ok {
		if other, err = compileExpression(d); err != nil {
			return nil, err
		}
	}
	return func(s scope) (bson.RawValue, error) {
		for i, c := range cases {
			v, err := c(s)
			if err != nil {
				return v, err
			}
			if truthy(v) {
				return thens[i](s)
			}
		}
		if other == nil {
			return null, Refuse(40066, "Location40066",
				"$switch could not find a matching branch for an input, and no default "+
					"was specified.")
		}
		return other(s)
	}, nil
}

func let(arg bson.RawValue) (expression, error) {
	m, err := named("$let", arg, "vars", "in")
	if err != nil {
		return nil, err
	}
	if m["vars"].Type != bson.TypeEmbeddedDocument || m["in"].Type == 0 {
		return nil, Refuse(16876, "Location16876", "Missing 'vars' or 'in' parameter to $let")
	}
	vars := fieldsOf(m["vars"].Document())
	list := make([]expression, len(vars))
	for i, v := range vars {
		if list[i], err = compileExpression(v.v); err != nil {
			return nil, err
		}
	}
	in, err := compileExpression(m["in"])
	if err != nil {
		return nil, err
	}
	return func(s scope) (bson.RawValue, error) {
		inner := s
		for i, x := range list {
			v, err := x(s)
			if err != nil {
				return v, err
			}
			inner = inner.with(vars[i].name, v)
		}
		return in(inner)
	}, nil
}

// overArray compiles $map, $filter and $reduce.
func overArray(name string, arg bson.RawValue) (expression, error) {
	known := map[string][]string{"$map": {"input", "as", "in"}, "$filter": {"input", "as", "cond", "limit"},
		"$reduce": {"input", "initialValue", "in"}}[name]
	m, err := named(name, arg, known...)
	if err != nil {
		return nil, err
	}
	if m["limit"].Type != 0 {
		return nil, notHere("the limit of $filter")
	}
	body := m["in"]
	if name == "$filter" {
		body = m["cond"]
	}
	if m["input"].Type == 0 || body.Type == 0 {
		return nil, Refuse(16880, "Location16880", "Missing 'input' or what is done with it in %s", name)
	}
	as := "this"
	if v, ok := m["as"]; ok {
		if as, ok = v.StringValueOK(); !ok {
			return nil, badValue("'as' of %s must be a string", name)
		}
	}
	list, err := compileList([]bson.RawValue{m["input"], body})
	if err != nil {
		return nil, err
	}
	initial := constant(null)
	if v, ok := m["initialValue"]; ok {
		if initial, err = compileExpression(v); err != nil {
			return nil, err
		}
	}
	return func(s scope) (bson.RawValue, error) {
		in, err := list[0](s)
		if err != nil || nullish(in) {
			return null, err
		}
		if in.Type != bson.TypeArray {
			return null, Refuse(16883, "Location16883", "input to %s must be an array not %s", name, typeName(in.Type))
		}
		var out []bson.RawValue
		total, err := initial(s)
		if err != nil {
			return null, err
		}
		for _, e := range values(in) {
			inner := s.with(as, e)
			if name == "$reduce" {
				inner = inner.with("value", total)
			}
			v, err := list[1](inner)
			if err != nil {
				return null, err
			}
			switch {
			case name == "$reduce":
				total = v
			case name == "$map":
				out = append(out, v)
			case truthy(v):
				out = append(out, e)
			}
		}
		if name == "$reduce" {
			return total, nil
		}
		return array(out), nil
	}, nil
}
