package docquery

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// scope is what an expression is evaluated in.
type scope struct {
	root bson.Raw
	vars map[string]bson.RawValue
}

func scopeOf(doc bson.Raw) scope { return scope{root: doc} }

// with returns a scope that has a variable more.
func (s scope) with(name string, v bson.RawValue) scope {
	vars := make(map[string]bson.RawValue, len(s.vars)+1)
	for k, x := range s.vars {
		vars[k] = x
	}
	vars[name] = v
	return scope{s.root, vars}
}

// expression gives a value; a zero one stands for what is missing.
type expression func(scope) (bson.RawValue, error)

func constant(v bson.RawValue) expression {
	return func(scope) (bson.RawValue, error) { return v, nil }
}

// compileExpression reads an expression ("Aggregation Operators").
func compileExpression(arg bson.RawValue) (expression, error) {
	switch arg.Type {
	case bson.TypeString:
		s := arg.StringValue()
		switch {
		case strings.HasPrefix(s, "$$"):
			return variable(s[2:])
		case strings.HasPrefix(s, "$"):
			return fieldPath(s[1:])
		}
	case bson.TypeArray:
		list, err := compileList(values(arg))
		if err != nil {
			return nil, err
		}
		return func(s scope) (bson.RawValue, error) {
			out, err := evaluate(s, list)
			return array(out), err
		}, nil
	case bson.TypeEmbeddedDocument:
		return objectExpression(arg.Document())
	}
	return constant(arg), nil
}

func compileList(list []bson.RawValue) ([]expression, error) {
	out := make([]expression, len(list))
	for i, v := range list {
		var err error
		if out[i], err = compileExpression(v); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func evaluate(s scope, list []expression) ([]bson.RawValue, error) {
	out := make([]bson.RawValue, len(list))
	for i, x := range list {
		var err error
		if out[i], err = x(s); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func variable(name string) (expression, error) {
	head, rest, more := strings.Cut(name, ".")
	var base expression
	switch head {
	case "ROOT", "CURRENT":
		base = func(s scope) (bson.RawValue, error) { return docValue(s.root), nil }
	case "REMOVE":
		base = func(scope) (bson.RawValue, error) { return bson.RawValue{}, nil }
	case "NOW", "CLUSTER_TIME", "USER_ROLES", "SEARCH_META":
		return nil, notHere("the variable $$%s", head)
	default:
		base = func(s scope) (bson.RawValue, error) {
			v, ok := s.vars[head]
			if !ok {
				return v, Refuse(17276, "Location17276", "Use of undefined variable: %s", head)
			}
			return v, nil
		}
	}
	if !more {
		return base, nil
	}
	p := parsePath(rest)
	return func(s scope) (bson.RawValue, error) {
		v, err := base(s)
		return p.through(v), err
	}, nil
}

func fieldPath(dotted string) (expression, error) {
	if dotted == "" || strings.HasPrefix(dotted, ".") || strings.HasSuffix(dotted, ".") ||
		strings.Contains(dotted, "..") {
		return nil, Refuse(40353, "Location40353", "FieldPath '%s' is not one", dotted)
	}
	p := parsePath(dotted)
	return func(s scope) (bson.RawValue, error) { return p.through(docValue(s.root)), nil }, nil
}

// through follows a path as expressions do: of an array it gives the array of what its
// documents have there.
func (p path) through(v bson.RawValue) bson.RawValue {
	if len(p) == 0 {
		return v
	}
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		next, err := v.Document().LookupErr(p[0])
		if err != nil {
			return bson.RawValue{}
		}
		return p[1:].through(next)
	case bson.TypeArray:
		out := []bson.RawValue{}
		for _, e := range values(v) {
			if e.Type == bson.TypeEmbeddedDocument || e.Type == bson.TypeArray {
				if got := p.through(e); got.Type != 0 {
					out = append(out, got)
				}
			}
		}
		return array(out)
	}
	return bson.RawValue{}
}

// objectExpression reads an operator, or a document of expressions.
func objectExpression(doc bson.Raw) (expression, error) {
	els, err := doc.Elements()
	if err != nil {
		return nil, badValue("an expression that is not readable: %v", err)
	}
	if len(els) > 0 && strings.HasPrefix(els[0].Key(), "$") {
		if len(els) != 1 {
			return nil, Refuse(15983, "Location15983",
				"An object representing an expression must have exactly one field: %s", doc)
		}
		return function(els[0].Key(), els[0].Value())
	}
	names := make([]string, len(els))
	list := make([]expression, len(els))
	for i, e := range els {
		if strings.Contains(e.Key(), ".") || strings.HasPrefix(e.Key(), "$") {
			return nil, Refuse(16412, "Location16412",
				"FieldPath field names may not contain '.' or begin with '$': %s", e.Key())
		}
		names[i] = e.Key()
		if list[i], err = compileExpression(e.Value()); err != nil {
			return nil, err
		}
	}
	return func(s scope) (bson.RawValue, error) {
		fs := make([]field, len(list))
		for i, x := range list {
			v, err := x(s)
			if err != nil {
				return v, err
			}
			fs[i] = field{names[i], v}
		}
		return docValue(document(fs...)), nil
	}, nil
}

// nullish reports whether a value is null or missing.
func nullish(v bson.RawValue) bool {
	return v.Type == 0 || v.Type == bson.TypeNull || v.Type == bson.TypeUndefined
}

func boolean(b bool) bson.RawValue { return valueOf(b) }
