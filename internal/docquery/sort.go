package docquery

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Sort orders documents.
type Sort struct{ keys []sortKey }

type sortKey struct {
	path path
	desc bool
}

// CompileSort reads a sort specification.
func CompileSort(spec bson.Raw) (*Sort, error) {
	els, err := spec.Elements()
	if err != nil {
		return nil, badValue("a sort that is not readable: %v", err)
	}
	s := &Sort{}
	for _, e := range els {
		if e.Value().Type == bson.TypeEmbeddedDocument {
			return nil, notHere("sorting by %s", e.Value().String())
		}
		n, ok := whole(e.Value())
		if !ok || n != 1 && n != -1 {
			return nil, Refuse(15975, "Location15975",
				"$sort key ordering must be 1 (for ascending) or -1 (for descending)")
		}
		if e.Key() == "" || e.Key() == "$natural" && len(els) > 1 {
			return nil, badValue("there is no sort by %q with others", e.Key())
		}
		s.keys = append(s.keys, sortKey{parsePath(e.Key()), n < 0})
	}
	return s, nil
}

// Natural reports whether documents are given as they are kept; backward, from the last on.
func (s *Sort) Natural() (natural, backward bool) {
	if len(s.keys) == 0 {
		return true, false
	}
	return len(s.keys) == 1 && len(s.keys[0].path) == 1 && s.keys[0].path[0] == "$natural", s.keys[0].desc
}

// ByID reports whether it is by _id alone.
func (s *Sort) ByID() (byID, backward bool) {
	return len(s.keys) == 1 && len(s.keys[0].path) == 1 && s.keys[0].path[0] == "_id", len(s.keys) == 1 &&
		s.keys[0].desc
}

// key returns what a document is sorted by: of an array the least element, backward the
// greatest; an empty array is before null.
func (k *sortKey) key(doc bson.Raw) (best bson.RawValue) {
	found := false
	take := func(v bson.RawValue) {
		if c := Compare(v, best); !found || k.desc && c > 0 || !k.desc && c < 0 {
			best, found = v, true
		}
	}
	k.path.each(doc, func(l leaf) bool {
		switch {
		case l.missing:
			take(null)
		case l.element:
			take(l.v)
		case l.v.Type != bson.TypeArray:
			take(l.v)
		case len(values(l.v)) == 0:
			take(bson.RawValue{Type: bson.TypeUndefined})
		}
		return true
	})
	if !found {
		return null
	}
	return best
}

// Keys returns what a document is sorted by.
func (s *Sort) Keys(doc bson.Raw) []bson.RawValue {
	out := make([]bson.RawValue, len(s.keys))
	for i := range s.keys {
		out[i] = s.keys[i].key(doc)
	}
	return out
}

// Compare orders what two documents are sorted by.
func (s *Sort) Compare(a, b []bson.RawValue) int {
	for i := range s.keys {
		if c := Compare(a[i], b[i]); c != 0 {
			if s.keys[i].desc {
				return -c
			}
			return c
		}
	}
	return 0
}

// Order sorts documents; those that are equal stay as they are.
func (s *Sort) Order(list []bson.Raw) {
	type keyed struct {
		doc  bson.Raw
		keys []bson.RawValue
	}
	all := make([]keyed, len(list))
	for i, d := range list {
		all[i] = keyed{d, s.Keys(d)}
	}
	slices.SortStableFunc(all, func(a, b keyed) int { return s.Compare(a.keys, b.keys) })
	for i := range all {
		list[i] = all[i].doc
	}
}
