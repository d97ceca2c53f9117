package docquery

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// positional compiles a projection `array.$`: of an array the first element that fits what the
// filter asks of it ("$ (projection)"). A filter that asks several things of the array leaves
// open which of them counts: it is refused, as is one that asks nothing.
func positional(p path, filter bson.Raw) (func(bson.RawValue) (bson.RawValue, error), error) {
	var fits []func(bson.RawValue) (bool, error)
	var look func(d bson.Raw) error
	look = func(d bson.Raw) error {
		for _, f := range fieldsOf(d) {
			if f.name == "$and" && f.v.Type == bson.TypeArray {
				for _, v := range values(f.v) {
					if sub, ok := v.DocumentOK(); ok {
						if err := look(sub); err != nil {
							return err
						}
					}
				}
				continue
			}
			if strings.HasPrefix(f.name, "$") && mentions(f.v, p) {
				return notHere("a positional projection beside %s", f.name)
			}
			rest, of := below(parsePath(f.name), p)
			if !of {
				continue
			}
			one, err := elementCondition(rest, f.v)
			if err != nil {
				return err
			}
			fits = append(fits, one)
		}
		return nil
	}
	if err := look(filter); err != nil {
		return nil, err
	}
	none := Refuse(51246, "Location51246", "positional operator '.$' couldn't find a matching element in the array")
	switch len(fits) {
	case 0:
		return nil, none
	case 1:
	default:
		return nil, notHere("a positional projection where the filter asks several things of the array ($elemMatch " +
			"asks one)")
	}
	return func(v bson.RawValue) (bson.RawValue, error) {
		if v.Type != bson.TypeArray {
			return v, nil
		}
		for _, e := range values(v) {
			if ok, err := fits[0](e); err != nil || ok {
				return array([]bson.RawValue{e}), err
			}
		}
		return v, none
	}, nil
}

// below returns what is left of a path after another one that it begins with.
func below(full, head path) (rest path, ok bool) {
	if len(full) < len(head) {
		return nil, false
	}
	for i := range head {
		if full[i] != head[i] {
			return nil, false
		}
	}
	return full[len(head):], true
}

// mentions reports whether a value has conditions on a path.
func mentions(v bson.RawValue, p path) bool {
	switch v.Type {
	case bson.TypeArray:
		for _, e := range values(v) {
			if mentions(e, p) {
				return true
			}
		}
	case bson.TypeEmbeddedDocument:
		for _, f := range fieldsOf(v.Document()) {
			if _, of := below(parsePath(f.name), p); of || mentions(f.v, p) {
				return true
			}
		}
	}
	return false
}

// elementCondition compiles what a filter asks of an array as a condition on its elements: of
// those themselves where rest is empty, else of what is below them.
func elementCondition(rest path, arg bson.RawValue) (func(bson.RawValue) (bool, error), error) {
	ops, isOps, err := operators(arg)
	if err != nil {
		return nil, err
	}
	if len(rest) == 0 && isOps && len(ops) == 1 && ops[0].Key() == "$elemMatch" {
		return elementFits(ops[0].Value())
	}
	at := rest
	if len(rest) == 0 {
		at = path{elementName}
	}
	one, err := equals(at, arg)
	if isOps {
		one, err = conditions(at, ops, arg.Document())
	}
	if err != nil {
		return nil, err
	}
	return func(e bson.RawValue) (bool, error) {
		if len(rest) == 0 {
			return one(document(field{elementName, e}))
		}
		if e.Type != bson.TypeEmbeddedDocument {
			return false, nil
		}
		return one(e.Document())
	}, nil
}
