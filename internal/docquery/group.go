package docquery

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// accumulator gathers values of a group.
type accumulator interface {
	add(v bson.RawValue) error
	value() bson.RawValue
}

var accumulators = map[string]func() accumulator{
	"$sum":   func() accumulator { return &summed{s: newSum()} },
	"$avg":   func() accumulator { return &summed{s: newSum(), mean: true} },
	"$min":   func() accumulator { return &extreme{sign: -1} },
	"$max":   func() accumulator { return &extreme{sign: 1} },
	"$first": func() accumulator { return &end{} }, "$last": func() accumulator { return &end{last: true} },
	"$push":     func() accumulator { return &pushed{} },
	"$addToSet": func() accumulator { return &pushed{set: map[string]bool{}} },
	"$count":    func() accumulator { return &summed{s: newSum(), ones: true} },
}

// summed is $sum, $avg and $count: what is no number counts for nothing.
type summed struct {
	s          *sum
	n          int64
	mean, ones bool
}

func (a *summed) add(v bson.RawValue) error {
	if a.ones {
		v = valueOf(int32(1))
	}
	if isNumber(v.Type) {
		a.s.add(v)
		a.n++
	}
	return nil
}

func (a *summed) value() bson.RawValue {
	if !a.mean {
		return a.s.value()
	}
	if a.n == 0 {
		return null
	}
	v, err := divide(a.s.value(), valueOf(a.n))
	if err != nil {
		return null
	}
	return v
}

type extreme struct {
	sign int
	best bson.RawValue
}

func (a *extreme) add(v bson.RawValue) error {
	if !nullish(v) && (a.best.Type == 0 || Compare(v, a.best)*a.sign > 0) {
		a.best = v
	}
	return nil
}

func (a *extreme) value() bson.RawValue {
	if a.best.Type == 0 {
		return null
	}
	return a.best
}

type end struct {
	last, any bool
	v         bson.RawValue
}

func (a *end) add(v bson.RawValue) error {
	if a.last || !a.any {
		a.v, a.any = v, true
	}
	return nil
}

func (a *end) value() bson.RawValue {
	if a.v.Type == 0 {
		return null
	}
	return a.v
}

type pushed struct {
	set  map[string]bool
	list []bson.RawValue
	size int
}

func (a *pushed) add(v bson.RawValue) error {
	if v.Type == 0 {
		return nil
	}
	if a.set != nil {
		k := string(canonical(nil, v))
		if a.set[k] {
			return nil
		}
		a.set[k] = true
	}
	a.list = append(a.list, v)
	if a.size += len(v.Value); a.size > maxHeld {
		return tooMuch("a group")
	}
	return nil
}

func (a *pushed) value() bson.RawValue { return array(a.list) }

// maxHeld is how many bytes a stage holds at most.
const maxHeld = 100 << 20

func tooMuch(what string) error {
	return Refuse(292, "QueryExceededMemoryLimitNoDiskUseAllowed", "%s needs more than %d MiB of memory", what,
		maxHeld>>20)
}

// compileGroup reads a $group.
func compileGroup(spec bson.Raw) (stage, error) {
	var id expression
	var names []string
	var makes []func() accumulator
	var of []expression
	for _, f := range fieldsOf(spec) {
		if f.name == "_id" {
			x, err := compileExpression(f.v)
			if err != nil {
				return nil, err
			}
			id = x
			continue
		}
		if strings.Contains(f.name, ".") || strings.HasPrefix(f.name, "$") {
			return nil, Refuse(40235, "Location40235", "The field name '%s' cannot contain '.' or begin with '$'",
				f.name)
		}
		if f.v.Type != bson.TypeEmbeddedDocument {
			return nil, Refuse(40234, "Location40234", "The field '%s' must be an accumulator object", f.name)
		}
		ops := fieldsOf(f.v.Document())
		if len(ops) != 1 {
			return nil, Refuse(40238, "Location40238", "The field '%s' must specify one accumulator", f.name)
		}
		make, ok := accumulators[ops[0].name]
		if !ok {
			return nil, notHere("the accumulator %s", ops[0].name)
		}
		x, err := compileExpression(ops[0].v)
		if err != nil {
			return nil, err
		}
		names, makes, of = append(names, f.name), append(makes, make), append(of, x)
	}
	if id == nil {
		return nil, Refuse(15955, "Location15955", "a group specification must include an _id")
	}
	return func(in Documents, out func(bson.Raw) (bool, error)) error {
		type group struct {
			id   bson.RawValue
			accs []accumulator
		}
		groups := map[string]*group{}
		var order []*group
		held := 0
		err := in(func(doc bson.Raw) (bool, error) {
			s := scopeOf(doc)
			v, err := id(s)
			if err != nil {
				return false, err
			}
			if v.Type == 0 {
				v = null
			}
			k := string(canonical(nil, v))
			g := groups[k]
			if g == nil {
				g = &group{id: v}
				for _, m := range makes {
					g.accs = append(g.accs, m())
				}
				groups[k] = g
				order = append(order, g)
				if held += 2*len(k) + len(v.Value) + 200; held > maxHeld {
					return false, tooMuch("$group")
				}
			}
			for i, a := range g.accs {
				v, err := of[i](s)
				if err == nil {
					err = a.add(v)
				}
				if err != nil {
					return false, err
				}
			}
			return true, nil
		})
		if err != nil {
			return err
		}
		for _, g := range order {
			fs := []field{{"_id", g.id}}
			for i, a := range g.accs {
				fs = append(fs, field{names[i], a.value()})
			}
			if more, err := out(document(fs...)); err != nil || !more {
				return err
			}
		}
		return nil
	}, nil
}
