package docsim

import (
	"bytes"
	"strconv"
	"strings"
	"sync"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// lookupPath follows a dotted path; through an array it gives the first
// element that has the rest, as sorting and uniqueness need it.
func lookupPath(raw bson.Raw, path string) bson.RawValue {
	for _, v := range pathValues(raw, path) {
		return v
	}
	return bson.RawValue{}
}

// pathValues returns all values a dotted path leads to ("Query an Array").
func pathValues(raw bson.Raw, path string) []bson.RawValue {
	head, rest, more := strings.Cut(path, ".")
	v, err := raw.LookupErr(head)
	if err != nil {
		return nil
	}
	if !more {
		return []bson.RawValue{v}
	}
	return below(v, rest)
}

func below(v bson.RawValue, rest string) []bson.RawValue {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		return pathValues(v.Document(), rest)
	case bson.TypeArray:
		vals, _ := v.Array().Values()
		head, tail, more := strings.Cut(rest, ".")
		if n, err := strconv.Atoi(head); err == nil && n >= 0 && n < len(vals) {
			if !more {
				return []bson.RawValue{vals[n]}
			}
			return below(vals[n], tail)
		}
		var out []bson.RawValue
		for _, e := range vals {
			if e.Type == bson.TypeEmbeddedDocument {
				out = append(out, pathValues(e.Document(), rest)...)
			}
		}
		return out
	}
	return nil
}

// compiled keeps what queries were compiled to: one is asked of many documents.
type compiled[T any] struct {
	mu   sync.Mutex
	made map[string]T
}

func (c *compiled[T]) of(raw bson.Raw, make func(bson.Raw) (T, error)) (T, error) {
	const most = 500
	c.mu.Lock()
	defer c.mu.Unlock()
	if x, ok := c.made[string(raw)]; ok {
		return x, nil
	}
	x, err := make(raw)
	if err != nil {
		return x, err
	}
	if c.made == nil || len(c.made) > most {
		c.made = map[string]T{}
	}
	c.made[string(raw)] = x
	return x, nil
}

var (
	filters     compiled[*docquery.Filter]
	projections compiled[*docquery.Projection]
)

// matches reports whether a document fits a filter.
func matches(doc, filter bson.Raw) (bool, error) {
	f, err := filters.of(filter, docquery.CompileFilter)
	if err != nil {
		return false, err
	}
	return f.Fits(doc)
}

// project makes of a document what is wanted of it, by a find's projection, if it has one.
func project(doc, find bson.Raw) (bson.Raw, error) {
	spec, _ := find.Lookup("projection").DocumentOK()
	if els, _ := spec.Elements(); len(els) == 0 {
		return doc, nil
	}
	filter, _ := find.Lookup("filter").DocumentOK()
	key := spec
	if bytes.Contains(spec, []byte(".$")) { // then it hangs on the filter, too
		key = append(bytes.Clone(spec), filter...)
	}
	p, err := projections.of(key, func(bson.Raw) (*docquery.Projection, error) {
		return docquery.CompileProjection(spec, filter)
	})
	if err != nil {
		return nil, err
	}
	return p.Apply(doc)
}

// sortBy orders documents by a sort specification.
func sortBy(list []bson.Raw, spec bson.Raw) error {
	s, err := docquery.CompileSort(spec)
	if err != nil {
		return err
	}
	if natural, _ := s.Natural(); !natural {
		s.Order(list)
	}
	return nil
}

// Compare orders two values as servers do.
func Compare(a, b bson.RawValue) int { return docquery.Compare(a, b) }

func isNumber(t bson.Type) bool { return docquery.Rank(t) == docquery.Rank(bson.TypeInt32) }

// truthy reports whether an option of a command is set.
func truthy(v bson.RawValue) bool {
	if b, ok := v.BooleanOK(); ok {
		return b
	}
	n, ok := v.AsInt64OK()
	return ok && n != 0
}

// checkQuery returns an error where a filter is none, also where no document is met.
func checkQuery(filter bson.Raw) error {
	_, err := filters.of(filter, docquery.CompileFilter)
	return err
}
