package docquery

import (
	"math/rand/v2"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Documents calls fn with documents until it returns false; their bytes stay as they are.
type Documents func(fn func(bson.Raw) (more bool, err error)) error

// stage reads documents and gives others.
type stage func(in Documents, out func(bson.Raw) (more bool, err error)) error

// Sources gives the documents of other collections of a database, for $lookup.
type Sources func(collection string) (Documents, error)

// Pipeline is an aggregation pipeline.
type Pipeline struct {
	stages []stage
	// Match is the filter that it begins with, nil where it does not: whoever has an index
	// reads no more than that.
	Match bson.Raw
}

// CompilePipeline reads a pipeline ("Aggregation Stages").
func CompilePipeline(list []bson.RawValue, sources Sources) (*Pipeline, error) {
	p := &Pipeline{}
	for i, v := range list {
		if v.Type != bson.TypeEmbeddedDocument {
			return nil, Refuse(14, "TypeMismatch", "Each element of the 'pipeline' array must be an object")
		}
		fs := fieldsOf(v.Document())
		if len(fs) != 1 {
			return nil, Refuse(40323, "Location40323",
				"A pipeline stage specification object must contain exactly one field.")
		}
		s, err := compileStage(fs[0].name, fs[0].v, sources)
		if err != nil {
			return nil, err
		}
		if i == 0 && fs[0].name == "$match" {
			p.Match = fs[0].v.Document()
		}
		p.stages = append(p.stages, s)
	}
	return p, nil
}

// Run passes documents through the pipeline.
func (p *Pipeline) Run(in Documents, out func(bson.Raw) (more bool, err error)) error {
	for _, s := range p.stages {
		before := in
		in = func(fn func(bson.Raw) (bool, error)) error { return s(before, fn) }
	}
	return in(out)
}

// each makes a stage that makes of each document another one.
func each(fn func(bson.Raw) (bson.Raw, error)) stage {
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		return in(func(d bson.Raw) (bool, error) {
			made, err := fn(d)
			if err != nil {
				return false, err
			}
			return out(made)
		})
	}
}

func wantDocument(op string, arg bson.RawValue) (bson.Raw, error) {
	if arg.Type != bson.TypeEmbeddedDocument {
		return nil, Refuse(15959, "Location15959", "the %s specification must be an object", op)
	}
	return arg.Document(), nil
}

func compileStage(op string, arg bson.RawValue, sources Sources) (stage, error) {
	switch op {
	case "$match":
		d, err := wantDocument(op, arg)
		if err != nil {
			return nil, err
		}
		f, err := CompileFilter(d)
		return func(in Documents, out func(bson.Raw) (bool, error)) error {
			return in(func(d bson.Raw) (bool, error) {
				ok, err := f.Fits(d)
				if err != nil || !ok {
					return err == nil, err
				}
				return out(d)
			})
		}, err
	case "$project":
		d, err := wantDocument(op, arg)
		if err != nil {
			return nil, err
		}
		p, err := compileProjection(d, nil, true)
		if err != nil {
			return nil, err
		}
		return each(p.Apply), nil
	case "$addFields", "$set":
		d, err := wantDocument(op, arg)
		if err != nil {
			return nil, err
		}
		add, err := compileAddFields(d)
		return each(add), err
	case "$unset":
		return unset(arg)
	case "$group":
		d, err := wantDocument(op, arg)
		if err != nil {
			return nil, err
		}
		return compileGroup(d)
	case "$sort":
		d, err := wantDocument(op, arg)
		if err != nil {
			return nil, err
		}
		s, err := CompileSort(d)
		if err != nil || len(s.keys) == 0 {
			return nil, Refuse(15976, "Location15976", "$sort stage must have at least one sort key: %v", err)
		}
		return sorted(s), nil
	case "$skip", "$limit":
		return counted(op, arg)
	case "$count":
		name, ok := arg.StringValueOK()
		if !ok || name == "" || strings.ContainsAny(name, ".$") {
			return nil, Refuse(40156, "Location40156", "the count field must be a non-empty string")
		}
		return func(in Documents, out func(bson.Raw) (bool, error)) error {
			n := int64(0)
			if err := in(func(bson.Raw) (bool, error) { n++; return true, nil }); err != nil || n == 0 {
				return err
			}
			_, err := out(document(field{name, integerOf(n)}))
			return err
		}, nil
	case "$unwind":
		return unwind(arg)
	case "$replaceRoot", "$replaceWith":
		return replaceRoot(op, arg)
	case "$sortByCount":
		group, err := compileGroup(document(field{"_id", arg},
			field{"count", docValue(document(field{"$sum", valueOf(int32(1))}))}))
		if err != nil {
			return nil, err
		}
		s := sorted(&Sort{[]sortKey{{path{"count"}, true}}})
		return func(in Documents, out func(bson.Raw) (bool, error)) error {
			return s(func(fn func(bson.Raw) (bool, error)) error { return group(in, fn) }, out)
		}, nil
	case "$sample":
		return sample(arg)
	case "$facet":
		return facet(arg, sources)
	case "$lookup":
		return lookup(arg, sources)
	}
	if !strings.HasPrefix(op, "$") {
		return nil, Refuse(40324, "Location40324", "Unrecognized pipeline stage name: '%s'", op)
	}
	return nil, Refuse(40324, "Location40324", "the pipeline stage %s is unknown, or not evaluated here", op)
}

func integerOf(n int64) bson.RawValue {
	if n == int64(int32(n)) {
		return valueOf(int32(n))
	}
	return valueOf(n)
}

func sorted(s *Sort) stage {
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		var list []bson.Raw
		held := 0
		err := in(func(d bson.Raw) (bool, error) {
			list = append(list, d)
			if held += len(d) + 100; held > maxHeld {
				return false, tooMuch("a sort")
			}
			return true, nil
		})
		if err != nil {
			return err
		}
		s.Order(list)
		for _, d := range list {
			if more, err := out(d); err != nil || !more {
				return err
			}
		}
		return nil
	}
}

func counted(op string, arg bson.RawValue) (stage, error) {
	n, ok := whole(arg)
	if !ok || n < 0 || op == "$limit" && n == 0 {
		return nil, Refuse(15958, "Location15958", "the argument of %s must be a positive whole number", op)
	}
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		seen := int64(0)
		return in(func(d bson.Raw) (bool, error) {
			seen++
			if op == "$skip" {
				if seen <= n {
					return true, nil
				}
				return out(d)
			}
			more, err := out(d)
			return more && seen < n, err
		})
	}, nil
}

func unset(arg bson.RawValue) (stage, error) {
	list := []bson.RawValue{arg}
	if arg.Type == bson.TypeArray {
		list = values(arg)
	}
	var fs []field
	for _, v := range list {
		s, ok := v.StringValueOK()
		if !ok {
			return nil, Refuse(31120, "Location31120", "$unset specification must be a string or an array of strings")
		}
		fs = append(fs, field{s, valueOf(int32(0))})
	}
	p, err := compileProjection(document(fs...), nil, true)
	if err != nil {
		return nil, err
	}
	return each(p.Apply), nil
}

func unwind(arg bson.RawValue) (stage, error) {
	var at, index string
	keep := false
	if s, ok := arg.StringValueOK(); ok {
		at = s
	} else {
		m, err := named("$unwind", arg, "path", "includeArrayIndex", "preserveNullAndEmptyArrays")
		if err != nil {
			return nil, err
		}
		at, _ = m["path"].StringValueOK()
		index, _ = m["includeArrayIndex"].StringValueOK()
		keep = truthy(m["preserveNullAndEmptyArrays"])
	}
	if !strings.HasPrefix(at, "$") || len(at) < 2 {
		return nil, Refuse(28818, "Location28818", "path option to $unwind stage should be prefixed with a '$': %s", at)
	}
	p := parsePath(at[1:])
	with := func(d bson.Raw, v, i bson.RawValue) bson.Raw {
		d = replaced(d, p, v)
		if index != "" {
			d = replaced(d, parsePath(index), i)
		}
		return d
	}
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		return in(func(d bson.Raw) (bool, error) {
			v := straight(docValue(d), p)
			if v.Type != bson.TypeArray {
				if nullish(v) && !keep {
					return true, nil
				}
				if index != "" {
					d = replaced(d, parsePath(index), null)
				}
				return out(d)
			}
			list := values(v)
			if len(list) == 0 && keep {
				return out(with(d, bson.RawValue{}, null))
			}
			for i, e := range list {
				if more, err := out(with(d, e, valueOf(int64(i)))); err != nil || !more {
					return false, err
				}
			}
			return true, nil
		})
	}, nil
}

// straight follows a path through documents only.
func straight(v bson.RawValue, p path) bson.RawValue {
	for _, name := range p {
		if v.Type != bson.TypeEmbeddedDocument {
			return bson.RawValue{}
		}
		next, err := v.Document().LookupErr(name)
		if err != nil {
			return bson.RawValue{}
		}
		v = next
	}
	return v
}

// replaced returns a document with a value at a path; a zero one takes it away.
func replaced(d bson.Raw, p path, v bson.RawValue) bson.Raw {
	fs := fieldsOf(d)
	i := indexOf(fs, p[0])
	if len(p) > 1 {
		below := document()
		if i >= 0 && fs[i].v.Type == bson.TypeEmbeddedDocument {
			below = fs[i].v.Document()
		}
		v = docValue(replaced(below, p[1:], v))
	}
	if i >= 0 {
		fs[i].v = v
	} else {
		fs = append(fs, field{p[0], v})
	}
	return document(fs...)
}

func replaceRoot(op string, arg bson.RawValue) (stage, error) {
	if op == "$replaceRoot" {
		m, err := named(op, arg, "newRoot")
		if err != nil {
			return nil, err
		}
		arg = m["newRoot"]
	}
	x, err := compileExpression(arg)
	return each(func(d bson.Raw) (bson.Raw, error) {
		v, err := x(scopeOf(d))
		if err == nil && v.Type != bson.TypeEmbeddedDocument {
			err = Refuse(40228, "Location40228",
				"'newRoot' expression must evaluate to an object, but resulting value was of "+
					"type %s", typeName(v.Type))
		}
		return v.Value, err
	}), err
}

func sample(arg bson.RawValue) (stage, error) {
	m, err := named("$sample", arg, "size")
	if err != nil {
		return nil, err
	}
	n, ok := whole(m["size"])
	if !ok || n < 0 || n > 1<<20 {
		return nil, Refuse(28746, "Location28746", "size argument to $sample must be a number")
	}
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		var list []bson.Raw
		seen := int64(0)
		err := in(func(d bson.Raw) (bool, error) {
			if seen++; int64(len(list)) < n {
				list = append(list, d)
			} else if i := rand.Int64N(seen); i < n {
				list[i] = d
			}
			return true, nil
		})
		for _, d := range list {
			if err != nil {
				break
			}
			var more bool
			if more, err = out(d); !more {
				break
			}
		}
		return err
	}, nil
}

func facet(arg bson.RawValue, sources Sources) (stage, error) {
	d, err := wantDocument("$facet", arg)
	if err != nil {
		return nil, err
	}
	var names []string
	var list []*Pipeline
	for _, f := range fieldsOf(d) {
		if f.v.Type != bson.TypeArray {
			return nil, Refuse(40170, "Location40170", "arguments to $facet must be arrays")
		}
		p, err := CompilePipeline(values(f.v), sources)
		if err != nil {
			return nil, err
		}
		names, list = append(names, f.name), append(list, p)
	}
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		var fs []field
		held := 0
		for i, p := range list { // each reads them again: none is held
			var got []bson.RawValue
			err := p.Run(in, func(d bson.Raw) (bool, error) {
				got = append(got, docValue(d))
				if held += len(d); held > maxHeld {
					return false, tooMuch("$facet")
				}
				return true, nil
			})
			if err != nil {
				return err
			}
			fs = append(fs, field{names[i], array(got)})
		}
		_, err := out(document(fs...))
		return err
	}, nil
}

func lookup(arg bson.RawValue, sources Sources) (stage, error) {
	m, err := named("$lookup", arg, "from", "localField", "foreignField", "as", "pipeline", "let")
	if err != nil {
		return nil, err
	}
	if m["pipeline"].Type != 0 || m["let"].Type != 0 {
		return nil, notHere("$lookup with a pipeline")
	}
	text := map[string]string{}
	for _, k := range []string{"from", "localField", "foreignField", "as"} {
		s, ok := m[k].StringValueOK()
		if !ok || s == "" {
			return nil, Refuse(4572, "Location4572", "$lookup requires %s, a string", k)
		}
		text[k] = s
	}
	local, foreign, as := parsePath(text["localField"]), parsePath(text["foreignField"]), parsePath(text["as"])
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		// By what they have in the foreign field, arrays by each element and as a whole.
		byValue := map[string][]bson.RawValue{}
		held := 0
		from, err := sources(text["from"])
		if err != nil {
			return err
		}
		err = from(func(d bson.Raw) (bool, error) {
			seen := map[string]bool{}
			foreign.each(d, func(l leaf) bool {
				v := l.v
				if l.missing {
					v = null
				}
				if k := string(canonical(nil, v)); !seen[k] {
					seen[k] = true
					byValue[k] = append(byValue[k], docValue(d))
				}
				return true
			})
			if held += len(d) + 100; held > maxHeld {
				return false, tooMuch("$lookup")
			}
			return true, nil
		})
		if err != nil {
			return err
		}
		return in(func(d bson.Raw) (bool, error) {
			got, seen := []bson.RawValue{}, map[*byte]bool{}
			local.each(d, func(l leaf) bool {
				if !l.missing && !l.element && l.v.Type == bson.TypeArray {
					return true // its elements count
				}
				v := l.v
				if l.missing {
					v = null
				}
				for _, f := range byValue[string(canonical(nil, v))] {
					if p := &f.Value[0]; !seen[p] {
						seen[p] = true
						got = append(got, f)
					}
				}
				return true
			})
			return out(replaced(d, as, array(got)))
		})
	}, nil
}
