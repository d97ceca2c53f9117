package docsim

import (
	"bytes"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// toD and toRaw turn documents between raw and changeable form. Values stay as
// raw values at every level that is not touched.
func toD(raw bson.Raw) bson.D {
	elems, _ := raw.Elements()
	d := make(bson.D, len(elems))
	for i, e := range elems {
		d[i] = bson.E{Key: e.Key(), Value: e.Value()}
	}
	return d
}

func toRaw(d bson.D) bson.Raw {
	if d == nil {
		d = bson.D{}
	}
	b, err := bson.Marshal(d)
	if err != nil {
		panic(err) // made of raw values
	}
	return b
}

func value(x any) bson.RawValue {
	if v, ok := x.(bson.RawValue); ok {
		return v
	}
	return toRaw(bson.D{{Key: "v", Value: x}}).Lookup("v")
}

// at returns the value at a path of a document, and set makes one there. Arrays
// are entered by index.
func setAt(v bson.RawValue, path []string, to *bson.RawValue) (bson.RawValue, error) {
	if len(path) == 0 {
		return *to, nil
	}
	switch v.Type {
	case bson.TypeArray:
		n, err := strconv.Atoi(path[0])
		if err != nil || n < 0 || n > 1_500_000 {
			return v, refuse(28, "PathNotViable", "cannot create field %q in an array", path[0])
		}
		vals, _ := v.Array().Values()
		a := bson.A{}
		for _, e := range vals {
			a = append(a, e)
		}
		if to == nil && n >= len(a) {
			return v, nil
		}
		for len(a) <= n {
			a = append(a, nil)
		}
		if to == nil && len(path) == 1 {
			a[n] = nil
			return value(a), nil
		}
		sub, err := setAt(value(a[n]), path[1:], to)
		a[n] = sub
		return value(a), err
	case bson.TypeEmbeddedDocument, 0:
		var d bson.D
		if v.Type != 0 {
			d = toD(v.Document())
		}
		i := slices.IndexFunc(d, func(e bson.E) bool { return e.Key == path[0] })
		if to == nil {
			if i < 0 {
				return v, nil
			}
			if len(path) == 1 {
				return value(slices.Delete(d, i, i+1)), nil
			}
		}
		var old bson.RawValue
		if i >= 0 {
			old = value(d[i].Value)
		}
		sub, err := setAt(old, path[1:], to)
		if err != nil {
			return v, err
		}
		if i >= 0 {
			d[i].Value = sub
		} else {
			d = append(d, bson.E{Key: path[0], Value: sub})
		}
		return value(d), nil
	}
	if to == nil {
		return v, nil
	}
	return v, refuse(28, "PathNotViable", "cannot create field %q in a value that is neither document nor array",
		path[0])
}

// update returns what an update makes of a document ("Update Operators"). A
// document without operators replaces.
func update(old, u bson.Raw, inserting bool) (bson.Raw, error) {
	elems, err := u.Elements()
	if err != nil {
		return nil, err
	}
	if len(elems) == 0 || !strings.HasPrefix(elems[0].Key(), "$") {
		d := toD(u)
		if id, err := u.LookupErr("_id"); err != nil {
			d = append(bson.D{{Key: "_id", Value: old.Lookup("_id")}}, d...)
		} else if Compare(id, old.Lookup("_id")) != 0 {
			return nil, refuse(66, "ImmutableField", "the _id field cannot be changed")
		}
		return toRaw(d), nil
	}
	root := bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: old}
	type change struct {
		op, path string
		arg      bson.RawValue
	}
	var changes []change
	for _, op := range elems {
		args, ok := op.Value().DocumentOK()
		if !ok {
			return nil, refuse(9, "FailedToParse", "modifiers operate on fields, %s got another type", op.Key())
		}
		fields, _ := args.Elements()
		for _, f := range fields {
			changes = append(changes, change{op.Key(), f.Key(), f.Value()})
		}
	}
	// Fields are changed in order of their names, whatever the operator
	// ("Update Operators Behavior").
	sort.SliceStable(changes, func(i, j int) bool { return changes[i].path < changes[j].path })
	for _, c := range changes {
		path := strings.Split(c.path, ".")
		cur := getAt(root, path)
		to, unset, err := modify(c.op, cur, c.arg, inserting)
		if err != nil {
			return nil, err
		}
		switch {
		case unset:
			root, err = setAt(root, path, nil)
		case c.op == "$rename":
			if cur.Type == 0 {
				continue
			}
			if root, err = setAt(root, path, nil); err == nil {
				root, err = setAt(root, strings.Split(c.arg.StringValue(), "."), &cur)
			}
		case to != nil:
			root, err = setAt(root, path, to)
		}
		if err != nil {
			return nil, err
		}
	}
	out := root.Document()
	if Compare(out.Lookup("_id"), old.Lookup("_id")) != 0 {
		return nil, refuse(66, "ImmutableField", "the _id field cannot be changed")
	}
	return out, nil
}

func getAt(v bson.RawValue, path []string) bson.RawValue {
	for _, p := range path {
		switch v.Type {
		case bson.TypeEmbeddedDocument:
			v = v.Document().Lookup(p)
		case bson.TypeArray:
			n, err := strconv.Atoi(p)
			vals, _ := v.Array().Values()
			if err != nil || n < 0 || n >= len(vals) {
				return bson.RawValue{}
			}
			v = vals[n]
		default:
			return bson.RawValue{}
		}
	}
	return v
}

func modify(op string, cur, arg bson.RawValue, inserting bool) (to *bson.RawValue, unset bool, err error) {
	set := func(x any) (*bson.RawValue, bool, error) { v := value(x); return &v, false, nil }
	switch op {
	case "$set":
		return &arg, false, nil
	case "$setOnInsert":
		if inserting {
			return &arg, false, nil
		}
		return nil, false, nil
	case "$unset":
		return nil, true, nil
	case "$rename":
		return nil, false, nil
	case "$inc", "$mul":
		if cur.Type == 0 {
			if op == "$inc" {
				return &arg, false, nil
			}
			return set(int32(0))
		}
		if !isNumber(cur.Type) || !isNumber(arg.Type) {
			return nil, false, refuse(14, "TypeMismatch", "cannot apply %s to a value that is no number", op)
		}
		if cur.Type == bson.TypeDouble || arg.Type == bson.TypeDouble {
			a, b := asFloat(cur), asFloat(arg)
			if op == "$mul" {
				return set(a * b)
			}
			return set(a + b)
		}
		a, _ := cur.AsInt64OK()
		b, _ := arg.AsInt64OK()
		n := a + b
		if op == "$mul" {
			n = a * b
		}
		if cur.Type == bson.TypeInt32 && arg.Type == bson.TypeInt32 && n >= math.MinInt32 && n <= math.MaxInt32 {
			return set(int32(n))
		}
		return set(n)
	case "$min", "$max":
		if c := Compare(arg, cur); cur.Type == 0 || op == "$min" && c < 0 || op == "$max" && c > 0 {
			return &arg, false, nil
		}
		return nil, false, nil
	case "$currentDate":
		return set(time.Now())
	case "$push", "$addToSet", "$pull", "$pop":
		v, err := modifyArray(op, cur, arg)
		return v, false, err
	}
	return nil, false, refuse(9, "FailedToParse", "Unknown modifier: %s", op)
}

func asFloat(v bson.RawValue) float64 {
	if v.Type == bson.TypeDouble {
		return v.Double()
	}
	n, _ := v.AsInt64OK()
	return float64(n)
}

func modifyArray(op string, cur, arg bson.RawValue) (*bson.RawValue, error) {
	if cur.Type != 0 && cur.Type != bson.TypeArray {
		return nil, refuse(2, "BadValue", "the field must be an array for %s", op)
	}
	var vals []bson.RawValue
	if cur.Type != 0 {
		vals, _ = cur.Array().Values()
	} else if op == "$pull" || op == "$pop" {
		return nil, nil
	}
	items := []bson.RawValue{arg}
	if arg.Type == bson.TypeEmbeddedDocument {
		if each, ok := arg.Document().Lookup("$each").ArrayOK(); ok {
			items, _ = each.Values()
		}
	}
	switch op {
	case "$push":
		vals = append(vals, items...)
	case "$addToSet":
		for _, it := range items {
			if !slices.ContainsFunc(vals, func(v bson.RawValue) bool { return Compare(v, it) == 0 }) {
				vals = append(vals, it)
			}
		}
	case "$pull":
		vals = slices.DeleteFunc(vals, func(v bson.RawValue) bool {
			if arg.Type == bson.TypeEmbeddedDocument {
				if v.Type == bson.TypeEmbeddedDocument {
					ok, _ := matches(v.Document(), arg.Document())
					return ok
				}
				if fits, err := docquery.ElementFits(arg); err == nil {
					ok, _ := fits(v)
					return ok
				}
			}
			return Compare(v, arg) == 0
		})
	case "$pop":
		if n, _ := arg.AsInt64OK(); len(vals) > 0 && n < 0 {
			vals = vals[1:]
		} else if len(vals) > 0 {
			vals = vals[:len(vals)-1]
		}
	}
	a := bson.A{}
	for _, v := range vals {
		a = append(a, v)
	}
	v := value(a)
	return &v, nil
}

func sameValue(a, b bson.RawValue) bool { return a.Type == b.Type && bytes.Equal(a.Value, b.Value) }

// diff describes how new comes from old in the log's version-2 form: d names
// deleted fields, u changed ones, i added ones, and sNAME goes down. Ok is
// false where the order of fields cannot be had that way.
func diff(old, new bson.Raw) (d bson.D, ok bool) {
	od, nd := toD(old), toD(new)
	var del, upd, ins, packed, sub bson.D
	at := 0
	added := false
	for _, e := range nd {
		i := slices.IndexFunc(od, func(o bson.E) bool { return o.Key == e.Key })
		nv := value(e.Value)
		if i < 0 {
			ins, added = append(ins, e), true
			continue
		}
		if i < at || added {
			return nil, false
		}
		at = i + 1
		ov := value(od[i].Value)
		if sameValue(ov, nv) {
			continue
		}
		if s, ok := subDiff(ov, nv); ok {
			sub = append(sub, bson.E{Key: "s" + e.Key, Value: s})
		} else if s, ok := packedDiff(ov, nv); ok {
			packed = append(packed, bson.E{Key: e.Key, Value: s})
		} else {
			upd = append(upd, e)
		}
	}
	for _, o := range od {
		if !slices.ContainsFunc(nd, func(e bson.E) bool { return e.Key == o.Key }) {
			del = append(del, bson.E{Key: o.Key, Value: false})
		}
	}
	if del != nil {
		d = append(d, bson.E{Key: "d", Value: del})
	}
	if upd != nil {
		d = append(d, bson.E{Key: "u", Value: upd})
	}
	if ins != nil {
		d = append(d, bson.E{Key: "i", Value: ins})
	}
	if packed != nil {
		d = append(d, bson.E{Key: "b", Value: packed})
	}
	return append(d, sub...), true
}

func subDiff(ov, nv bson.RawValue) (bson.D, bool) {
	switch {
	case ov.Type == bson.TypeEmbeddedDocument && nv.Type == bson.TypeEmbeddedDocument:
		return diff(ov.Document(), nv.Document())
	case ov.Type == bson.TypeArray && nv.Type == bson.TypeArray:
		a, _ := ov.Array().Values()
		b, _ := nv.Array().Values()
		d := bson.D{{Key: "a", Value: true}}
		if len(b) < len(a) {
			d = append(d, bson.E{Key: "l", Value: int32(len(b))})
		}
		for i, v := range b {
			if i < len(a) && sameValue(a[i], v) {
				continue
			}
			if i < len(a) {
				if s, ok := subDiff(a[i], v); ok {
					d = append(d, bson.E{Key: "s" + strconv.Itoa(i), Value: s})
					continue
				}
			}
			d = append(d, bson.E{Key: "u" + strconv.Itoa(i), Value: v})
		}
		return d, len(d) < 1+(len(b)+1)
	}
	return nil, false
}

// operators describes the same in the older form, $set and $unset with dotted
// paths. Ok is false where that form cannot tell.
func operators(old, new bson.Raw) (bson.D, bool) {
	var set, unset bson.D
	var walk func(prefix string, o, n bson.Raw) bool
	walk = func(prefix string, o, n bson.Raw) bool {
		od, nd := toD(o), toD(n)
		at, added := 0, ""
		for _, e := range nd {
			i := slices.IndexFunc(od, func(x bson.E) bool { return x.Key == e.Key })
			nv := value(e.Value)
			if i < 0 {
				if e.Key < added {
					return false // added fields come in order of their names
				}
				added = e.Key
				set = append(set, bson.E{Key: prefix + e.Key, Value: nv})
				continue
			}
			if i < at || added != "" {
				return false
			}
			at = i + 1
			ov := value(od[i].Value)
			switch {
			case sameValue(ov, nv):
			case ov.Type == bson.TypeEmbeddedDocument && nv.Type == bson.TypeEmbeddedDocument &&
				!strings.Contains(e.Key, "."):
				if !walk(prefix+e.Key+".", ov.Document(), nv.Document()) {
					return false
				}
			default:
				set = append(set, bson.E{Key: prefix + e.Key, Value: nv})
			}
		}
		for _, x := range od {
			if !slices.ContainsFunc(nd, func(e bson.E) bool { return e.Key == x.Key }) {
				unset = append(unset, bson.E{Key: prefix + x.Key, Value: true})
			}
		}
		return true
	}
	if !walk("", old, new) {
		return nil, false
	}
	d := bson.D{{Key: "$v", Value: int32(1)}}
	if unset != nil {
		d = append(d, bson.E{Key: "$unset", Value: unset})
	}
	if set != nil {
		d = append(d, bson.E{Key: "$set", Value: set})
	}
	return d, true
}
