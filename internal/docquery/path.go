package docquery

import (
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// path is a dotted path.
type path []string

func parsePath(s string) path { return strings.Split(s, ".") }

func (p path) String() string { return strings.Join(p, ".") }

// elementName is the field by which an element of an array is asked for: it counts as it is,
// also where it is an array.
const elementName = "\x01element"

// leaf is a value that a path leads to.
type leaf struct {
	v bson.RawValue
	// missing: there is nothing there. element: it is an element of an array that is there.
	missing, element bool
}

// each calls fn with what a path leads to in a document ("Query an Array", "Query an Array of
// Embedded Documents"): through every document of an array on the way, by its index where the
// path has one; of an array at the end its elements, then itself. It ends where fn returns
// false, and reports whether it came to the end.
func (p path) each(doc bson.Raw, fn func(leaf) bool) bool {
	v, err := doc.LookupErr(p[0])
	if err != nil {
		return fn(leaf{missing: true})
	}
	if p[0] == elementName {
		return fn(leaf{v: v})
	}
	return p[1:].eachOf(v, fn)
}

// eachOf goes on at a value.
func (p path) eachOf(v bson.RawValue, fn func(leaf) bool) bool {
	if len(p) == 0 {
		if v.Type == bson.TypeArray {
			for _, e := range values(v) {
				if !fn(leaf{v: e, element: true}) {
					return false
				}
			}
		}
		return fn(leaf{v: v})
	}
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		return p.each(v.Document(), fn)
	case bson.TypeArray:
		list := values(v)
		if n, err := strconv.Atoi(p[0]); err == nil && n >= 0 && n < len(list) && strconv.Itoa(n) == p[0] {
			if !p[1:].eachOf(list[n], fn) {
				return false
			}
		}
		for _, e := range list {
			if e.Type == bson.TypeEmbeddedDocument && !p.each(e.Document(), fn) {
				return false
			}
		}
		return true
	}
	return fn(leaf{missing: true})
}

// any reports whether fn returns true of anything that a path leads to.
func (p path) any(doc bson.Raw, fn func(leaf) bool) bool {
	return !p.each(doc, func(l leaf) bool { return !fn(l) })
}

// Values returns the values that a path leads to, of arrays at its end the elements.
func Values(doc bson.Raw, dotted string) (out []bson.RawValue) {
	parsePath(dotted).each(doc, func(l leaf) bool {
		if !l.missing && (l.element || l.v.Type != bson.TypeArray) {
			out = append(out, l.v)
		}
		return true
	})
	return out
}

// First returns the first value that a path leads to, an array as it is; a zero value where
// there is none.
func First(doc bson.Raw, dotted string) (v bson.RawValue) {
	parsePath(dotted).each(doc, func(l leaf) bool {
		if !l.missing && !l.element {
			v = l.v
			return false
		}
		return true
	})
	return v
}
