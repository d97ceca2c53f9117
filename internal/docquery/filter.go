package docquery

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Filter chooses documents.
type Filter struct{ all []predicate }

// predicate reports whether a document fits one condition.
type predicate func(doc bson.Raw) (bool, error)

// CompileFilter reads a filter ("Query and Projection Operators"); an empty one takes all.
func CompileFilter(filter bson.Raw) (*Filter, error) {
	els, err := filter.Elements()
	if err != nil {
		return nil, badValue("a filter that is not readable: %v", err)
	}
	f := &Filter{}
	for _, e := range els {
		p, err := condition(e.Key(), e.Value())
		if err != nil {
			return nil, err
		}
		if p != nil {
			f.all = append(f.all, p)
		}
	}
	return f, nil
}

// Fits reports whether a document fits.
func (f *Filter) Fits(doc bson.Raw) (bool, error) {
	for _, p := range f.all {
		if ok, err := p(doc); err != nil || !ok {
			return false, err
		}
	}
	return true, nil
}

// All reports whether every document fits.
func (f *Filter) All() bool { return len(f.all) == 0 }

// condition compiles one element of a filter; nil where it says nothing.
func condition(key string, arg bson.RawValue) (predicate, error) {
	switch key {
	case "$and", "$or", "$nor":
		return junction(key, arg)
	case "$comment":
		return nil, nil
	case "$alwaysTrue":
		return func(bson.Raw) (bool, error) { return true, nil }, nil
	case "$alwaysFalse":
		return func(bson.Raw) (bool, error) { return false, nil }, nil
	case "$expr":
		x, err := compileExpression(arg)
		if err != nil {
			return nil, err
		}
		return func(doc bson.Raw) (bool, error) {
			v, err := x(scopeOf(doc))
			return truthy(v), err
		}, nil
	case "$jsonSchema":
		s, err := compileSchema(arg)
		return func(doc bson.Raw) (bool, error) { return s(docValue(doc)), nil }, err
	case "$where", "$text", "$sampleRate":
		return nil, notHere("%s", key)
	}
	if strings.HasPrefix(key, "$") {
		return nil, badValue("unknown top level operator: %s. If you have a field name that starts with a '$' symbol, "+
			"consider using $getField or $setField.", key)
	}
	p := parsePath(key)
	ops, isOps, err := operators(arg)
	if err != nil {
		return nil, err
	}
	if !isOps {
		return equals(p, arg)
	}
	return conditions(p, ops, arg.Document())
}

// operators returns the operators of a condition; ok is false where it is a value to be equal
// to.
func operators(arg bson.RawValue) (ops []bson.RawElement, ok bool, err error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, false, nil
	}
	els, err := arg.Document().Elements()
	if err != nil || len(els) == 0 || !strings.HasPrefix(els[0].Key(), "$") {
		return nil, false, err
	}
	if k := els[0].Key(); k == "$ref" || k == "$id" || k == "$db" {
		return nil, false, nil // a reference to another document
	}
	return els, true, nil
}

// conditions compiles several operators on one path, all of which must fit.
func conditions(p path, ops []bson.RawElement, all bson.Raw) (predicate, error) {
	var list []predicate
	for _, op := range ops {
		one, err := operator(p, op.Key(), op.Value(), all)
		if err != nil {
			return nil, err
		}
		if one != nil {
			list = append(list, one)
		}
	}
	return func(doc bson.Raw) (bool, error) {
		for _, one := range list {
			if ok, err := one(doc); err != nil || !ok {
				return false, err
			}
		}
		return true, nil
	}, nil
}

func junction(key string, arg bson.RawValue) (predicate, error) {
	if arg.Type != bson.TypeArray {
		return nil, badValue("%s must be an array", key)
	}
	var list []*Filter
	for _, v := range values(arg) {
		if v.Type != bson.TypeEmbeddedDocument {
			return nil, badValue("$or/$and/$nor entries need to be full objects")
		}
		f, err := CompileFilter(v.Document())
		if err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	if len(list) == 0 {
		return nil, badValue("$and/$or/$nor must be a nonempty array")
	}
	return func(doc bson.Raw) (bool, error) {
		for _, f := range list {
			ok, err := f.Fits(doc)
			if err != nil {
				return false, err
			}
			if key == "$and" && !ok {
				return false, nil
			}
			if key != "$and" && ok {
				return key == "$or", nil
			}
		}
		return key != "$or", nil
	}, nil
}
