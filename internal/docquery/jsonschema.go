package docquery

import (
	"math/big"
	"regexp"
	"slices"
	"unicode/utf8"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// schema reports whether a value is as a schema says.
type schema func(v bson.RawValue) bool

// compileSchema reads a $jsonSchema ("JSON Schema" of draft 4, with bsonType). What says nothing
// about a value's type holds for values of other types.
func compileSchema(arg bson.RawValue) (schema, error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, Refuse(14, "TypeMismatch", "$jsonSchema must be an object")
	}
	var all []schema
	d := arg.Document()
	for _, f := range fieldsOf(d) {
		one, err := schemaKeyword(d, f.name, f.v)
		if err != nil {
			return nil, err
		}
		if one != nil {
			all = append(all, one)
		}
	}
	return func(v bson.RawValue) bool {
		return !slices.ContainsFunc(all, func(s schema) bool { return !s(v) })
	}, nil
}

func schemaType(keyword string) error {
	return Refuse(14, "TypeMismatch", "$jsonSchema keyword '%s' has a value of the wrong type", keyword)
}

// schemaKeyword compiles one keyword; nil where it says nothing by itself.
func schemaKeyword(all bson.Raw, name string, arg bson.RawValue) (schema, error) {
	switch name {
	case "title", "description":
		if arg.Type != bson.TypeString {
			return nil, schemaType(name)
		}
		return nil, nil
	case "exclusiveMinimum", "exclusiveMaximum":
		other := map[string]string{"exclusiveMinimum": "minimum", "exclusiveMaximum": "maximum"}[name]
		if arg.Type != bson.TypeBoolean || all.Lookup(other).Type == 0 {
			return nil, Refuse(9, "FailedToParse", "$jsonSchema keyword '%s' needs '%s', and is a boolean", name, other)
		}
		return nil, nil
	case "bsonType", "type":
		return schemaTypes(name, arg)
	case "enum":
		return schemaEnum(arg)
	case "allOf", "anyOf", "oneOf":
		return schemaJunction(name, arg)
	case "not":
		s, err := compileSchema(arg)
		return func(v bson.RawValue) bool { return !s(v) }, err
	case "minimum", "maximum", "multipleOf":
		return schemaNumber(all, name, arg)
	case "minLength", "maxLength", "minItems", "maxItems", "minProperties", "maxProperties":
		return schemaSize(name, arg)
	case "pattern":
		re, err := schemaPattern(name, arg)
		return func(v bson.RawValue) bool { return !isText(v) || re.MatchString(text(v)) }, err
	case "items", "additionalItems", "uniqueItems":
		return schemaItems(all, name, arg)
	case "properties", "patternProperties", "additionalProperties", "required", "dependencies":
		return schemaProperties(all, name, arg)
	case "$ref", "$schema", "default", "definitions", "format", "id":
		return nil, Refuse(9, "FailedToParse", "$jsonSchema keyword '%s' is not currently supported", name)
	}
	return nil, Refuse(9, "FailedToParse", "Unknown $jsonSchema keyword: %s", name)
}

// jsonTypes are the types of JSON.
var jsonTypes = map[string][]bson.Type{"object": {bson.TypeEmbeddedDocument}, "array": {bson.TypeArray},
	"number": {bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128}, "boolean": {bson.TypeBoolean},
	"string": {bson.TypeString}, "null": {bson.TypeNull}}

func schemaTypes(name string, arg bson.RawValue) (schema, error) {
	list := []bson.RawValue{arg}
	if arg.Type == bson.TypeArray {
		list = values(arg)
	}
	want := map[bson.Type]bool{}
	for _, v := range list {
		s, ok := v.StringValueOK()
		if !ok {
			return nil, schemaType(name)
		}
		types := jsonTypes[s]
		if name == "bsonType" {
			if t, ok := typeNames[s]; ok {
				types = []bson.Type{t}
			} else if s != "number" {
				types = nil
			}
		}
		if len(types) == 0 {
			return nil, badValue("Unknown type name alias: %s", s)
		}
		for _, t := range types {
			want[t] = true
		}
	}
	if len(want) == 0 {
		return nil, Refuse(9, "FailedToParse", "$jsonSchema keyword '%s' must name at least one type", name)
	}
	return func(v bson.RawValue) bool { return want[v.Type] }, nil
}

func schemaEnum(arg bson.RawValue) (schema, error) {
	if arg.Type != bson.TypeArray || len(values(arg)) == 0 {
		return nil, schemaType("enum")
	}
	known := map[string]bool{}
	for _, v := range values(arg) {
		known[string(canonical(nil, v))] = true
	}
	return func(v bson.RawValue) bool { return known[string(canonical(nil, v))] }, nil
}

func schemaList(name string, arg bson.RawValue) (list []schema, err error) {
	if arg.Type != bson.TypeArray || len(values(arg)) == 0 {
		return nil, schemaType(name)
	}
	for _, v := range values(arg) {
		s, err := compileSchema(v)
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	return list, nil
}

func schemaJunction(name string, arg bson.RawValue) (schema, error) {
	list, err := schemaList(name, arg)
	return func(v bson.RawValue) bool {
		n := 0
		for _, s := range list {
			if s(v) {
				n++
			}
		}
		return map[string]bool{"allOf": n == len(list), "anyOf": n > 0, "oneOf": n == 1}[name]
	}, err
}

func schemaNumber(all bson.Raw, name string, arg bson.RawValue) (schema, error) {
	if !isNumber(arg.Type) {
		return nil, schemaType(name)
	}
	if name == "multipleOf" {
		by, _ := exact(arg)
		if by == nil || by.Sign() <= 0 {
			return nil, Refuse(9, "FailedToParse", "$jsonSchema keyword 'multipleOf' must have a positive value")
		}
		return func(v bson.RawValue) bool {
			if !isNumber(v.Type) {
				return true
			}
			n, _ := exact(v)
			return n != nil && new(big.Rat).Quo(n, by).IsInt()
		}, nil
	}
	strict, _ := all.Lookup(map[string]string{"minimum": "exclusiveMinimum", "maximum": "exclusiveMaximum"}[name]).
		BooleanOK()
	return func(v bson.RawValue) bool {
		if !isNumber(v.Type) {
			return true
		}
		if isNaN(v) || isNaN(arg) {
			return isNaN(v) && isNaN(arg) && !strict
		}
		c := Compare(v, arg)
		if name == "maximum" {
			c = -c
		}
		return c > 0 || c == 0 && !strict
	}, nil
}

// schemaSize compiles bounds of how long a text is in code points, and of how many elements or
// fields there are.
func schemaSize(name string, arg bson.RawValue) (schema, error) {
	bound, ok := whole(arg)
	if !ok || bound < 0 {
		return nil, schemaType(name)
	}
	return func(v bson.RawValue) bool {
		n := int64(-1)
		switch {
		case name[3:] == "Length" && isText(v):
			n = int64(utf8.RuneCountInString(text(v)))
		case name[3:] == "Items" && v.Type == bson.TypeArray:
			n = int64(len(values(v)))
		case name[3:] == "Properties" && v.Type == bson.TypeEmbeddedDocument:
			n = int64(len(fieldsOf(v.Document())))
		}
		return n < 0 || name[:3] == "min" && n >= bound || name[:3] == "max" && n <= bound
	}, nil
}

func schemaPattern(name string, arg bson.RawValue) (*regexp.Regexp, error) {
	s, ok := arg.StringValueOK()
	if !ok {
		return nil, schemaType(name)
	}
	return regexOf(s, "")
}

// booleanOrSchema compiles what may be a boolean: everything, or nothing.
func booleanOrSchema(arg bson.RawValue) (schema, error) {
	if b, ok := arg.BooleanOK(); ok {
		return func(bson.RawValue) bool { return b }, nil
	}
	return compileSchema(arg)
}

func schemaItems(all bson.Raw, name string, arg bson.RawValue) (schema, error) {
	onItems := func(fits func(list []bson.RawValue) bool) schema {
		return func(v bson.RawValue) bool { return v.Type != bson.TypeArray || fits(values(v)) }
	}
	each := func(s schema, from int) schema {
		return onItems(func(list []bson.RawValue) bool {
			return !slices.ContainsFunc(list[min(from, len(list)):], func(e bson.RawValue) bool { return !s(e) })
		})
	}
	switch {
	case name == "uniqueItems":
		want, ok := arg.BooleanOK()
		if !ok {
			return nil, schemaType(name)
		}
		return onItems(func(list []bson.RawValue) bool {
			seen := map[string]bool{}
			for _, e := range list {
				seen[string(canonical(nil, e))] = true
			}
			return !want || len(seen) == len(list)
		}), nil
	case name == "additionalItems":
		s, err := booleanOrSchema(arg)
		items := all.Lookup("items")
		if err != nil || items.Type != bson.TypeArray {
			return nil, err // it is for what comes after a list of schemas
		}
		return each(s, len(values(items))), nil
	case arg.Type == bson.TypeArray:
		list, err := schemaList(name, arg)
		return onItems(func(items []bson.RawValue) bool {
			for i, s := range list {
				if i < len(items) && !s(items[i]) {
					return false
				}
			}
			return true
		}), err
	}
	s, err := compileSchema(arg)
	return each(s, 0), err
}

// namedSchemas compiles a document of schemas.
func namedSchemas(name string, arg bson.RawValue) (names []string, list []schema, err error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, nil, schemaType(name)
	}
	for _, f := range fieldsOf(arg.Document()) {
		s, err := compileSchema(f.v)
		if err != nil {
			return nil, nil, err
		}
		names, list = append(names, f.name), append(list, s)
	}
	return names, list, nil
}

func schemaNames(name string, arg bson.RawValue) (out []string, err error) {
	if arg.Type != bson.TypeArray || len(values(arg)) == 0 {
		return nil, schemaType(name)
	}
	for _, v := range values(arg) {
		s, ok := v.StringValueOK()
		if !ok || slices.Contains(out, s) {
			return nil, schemaType(name)
		}
		out = append(out, s)
	}
	return out, nil
}

func schemaProperties(all bson.Raw, name string, arg bson.RawValue) (schema, error) {
	on := func(fits func(d bson.Raw) bool) schema {
		return func(v bson.RawValue) bool { return v.Type != bson.TypeEmbeddedDocument || fits(v.Document()) }
	}
	has := func(d bson.Raw, names []string) bool {
		return !slices.ContainsFunc(names, func(n string) bool { return d.Lookup(n).Type == 0 })
	}
	switch name {
	case "required":
		names, err := schemaNames(name, arg)
		return on(func(d bson.Raw) bool { return has(d, names) }), err
	case "properties":
		names, list, err := namedSchemas(name, arg)
		return on(func(d bson.Raw) bool {
			for i, n := range names {
				if v := d.Lookup(n); v.Type != 0 && !list[i](v) {
					return false
				}
			}
			return true
		}), err
	case "patternProperties":
		patterns, list, err := schemaPatterns(arg)
		return on(func(d bson.Raw) bool {
			for _, f := range fieldsOf(d) {
				for i, re := range patterns {
					if re.MatchString(f.name) && !list[i](f.v) {
						return false
					}
				}
			}
			return true
		}), err
	case "additionalProperties":
		return schemaAdditional(all, arg, on)
	}
	return schemaDependencies(arg, on, has)
}

func schemaPatterns(arg bson.RawValue) (out []*regexp.Regexp, list []schema, err error) {
	names, list, err := namedSchemas("patternProperties", arg)
	for _, n := range names {
		re, err := regexOf(n, "")
		if err != nil {
			return nil, nil, err
		}
		out = append(out, re)
	}
	return out, list, err
}

// schemaAdditional compiles what holds of the fields that neither properties nor
// patternProperties name.
func schemaAdditional(all bson.Raw, arg bson.RawValue, on func(func(bson.Raw) bool) schema) (schema, error) {
	s, err := booleanOrSchema(arg)
	if err != nil {
		return nil, err
	}
	named := map[string]bool{}
	if p := all.Lookup("properties"); p.Type == bson.TypeEmbeddedDocument {
		for _, f := range fieldsOf(p.Document()) {
			named[f.name] = true
		}
	}
	var patterns []*regexp.Regexp
	if p := all.Lookup("patternProperties"); p.Type != 0 {
		if patterns, _, err = schemaPatterns(p); err != nil {
			return nil, err
		}
	}
	return on(func(d bson.Raw) bool {
		for _, f := range fieldsOf(d) {
			if !named[f.name] && !s(f.v) &&
				!slices.ContainsFunc(patterns, func(re *regexp.Regexp) bool { return re.MatchString(f.name) }) {
				return false
			}
		}
		return true
	}), nil
}

func schemaDependencies(arg bson.RawValue, on func(func(bson.Raw) bool) schema,
	has func(bson.Raw, []string) bool) (schema, error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, schemaType("dependencies")
	}
	var all []schema
	for _, f := range fieldsOf(arg.Document()) {
		if f.v.Type == bson.TypeArray {
			names, err := schemaNames("dependencies", f.v)
			if err != nil {
				return nil, err
			}
			all = append(all, on(func(d bson.Raw) bool { return d.Lookup(f.name).Type == 0 || has(d, names) }))
			continue
		}
		s, err := compileSchema(f.v)
		if err != nil {
			return nil, err
		}
		all = append(all, on(func(d bson.Raw) bool { return d.Lookup(f.name).Type == 0 || s(docValue(d)) }))
	}
	return func(v bson.RawValue) bool {
		return !slices.ContainsFunc(all, func(s schema) bool { return !s(v) })
	}, nil
}
