package document

import (
	"bytes"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
)

// Settles implements [fold.Settler]. Servers before 5.0 log a field as set without saying whether it was there: one
// that was unset and set again would come after others that were added later, were both applied to a document that
// shows all of it. A diff, as newer servers log it, puts what it inserts at the end each time, and may be applied
// again.
func (model) Settles(patch *record.Change) bool {
	return bson.Raw(patch.Value).Lookup("diff").Type == 0
}

// Shown implements [fold.Settler]. Where the document looks the same at several of the moments, and the order of its
// fields does not tell them apart either, the last one counts.
func (model) Shown(old []byte, patches []record.Change) int {
	shown, doc := 0, old
	o := fieldOrder{set: map[string]int{}, unset: map[string]bool{}, added: map[string]int{}}
	for i := range patches {
		made, err := applyUpdate(doc, patches[i].Value, true)
		if err != nil {
			return 0
		}
		o.take(patches[i].Value)
		if doc = made; sameValues(docValue(doc), docValue(old)) && o.fits(old) {
			shown = i + 1
		}
	}
	return shown
}

// sameValues reports whether two values are the same but for the order of fields.
func sameValues(a, b bsoncore.Value) bool {
	if a.Type != b.Type {
		return false
	}
	if bytes.Equal(a.Data, b.Data) {
		return true
	}
	if !isDocument(a) && !isArray(a) {
		return false
	}
	of, err := parseFields(a.Data)
	if err != nil {
		return false
	}
	others, err := parseFields(b.Data)
	if err != nil || len(of) != len(others) {
		return false
	}
	for i, f := range of {
		k := i
		if others[k].name != f.name {
			if k = indexOf(others, f.name); k < 0 {
				return false
			}
		}
		if !sameValues(f.val, others[k].val) {
			return false
		}
	}
	return true
}

// fieldOrder is what is known of the order of fields, by their paths, from updates.
type fieldOrder struct {
	// set has the number of the first operation on a path if that set it, else 0; added that of the last
	// one that set it after it had been unset.
	set, added map[string]int
	unset      map[string]bool
	n          int
}

// take goes through the next update.
func (o *fieldOrder) take(update []byte) {
	ops, _ := parseFields(update)
	for _, op := range ops {
		if op.name != "$set" && op.name != "$unset" {
			continue
		}
		paths, _ := parseFields(op.val.Data)
		for _, p := range paths {
			o.n++
			if _, known := o.set[p.name]; !known {
				o.set[p.name] = 0
				if op.name == "$set" {
					o.set[p.name] = o.n
				}
			}
			if op.name == "$set" && o.unset[p.name] {
				o.added[p.name] = o.n
			}
			o.unset[p.name] = op.name == "$unset"
			// What is below it is as it is given.
			for q := range o.added {
				if strings.HasPrefix(q, p.name+".") {
					delete(o.added, q)
				}
			}
		}
	}
}

// fits reports whether a document may be one that shows all updates: what comes after a field that was added was
// added later, or may have been.
func (o *fieldOrder) fits(doc []byte) bool {
	for path, n := range o.added {
		parent, name := "", path
		siblings := doc
		if i := strings.LastIndexByte(path, '.'); i >= 0 {
			parent, name = path[:i+1], path[i+1:]
			sub, err := bsoncore.Document(doc).LookupErr(strings.Split(path[:i], ".")...)
			if err != nil || !isDocument(sub) {
				continue
			}
			siblings = sub.Data
		}
		fs, err := parseFields(siblings)
		if err != nil {
			return false
		}
		if i := indexOf(fs, name); i >= 0 {
			for _, later := range fs[i+1:] {
				if !o.addedAfter(parent+later.name, n) {
					return false
				}
			}
		}
	}
	return true
}

// addedAfter reports whether a field may have come to be by an operation after one.
func (o *fieldOrder) addedAfter(path string, n int) bool {
	if o.added[path] > n || o.set[path] > n {
		return true
	}
	for p, first := range o.set {
		if first > n && strings.HasPrefix(p, path+".") {
			return true
		}
	}
	return false
}
