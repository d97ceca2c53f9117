package document

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/fold"
)

// An update entry comes in one of two forms: operators ({$v: 1, $set: {...},
// $unset: {...}}, with dotted paths) or a diff ({$v: 2, diff: {...}}, nested
// like the document). Both are applied here to raw BSON: what an update does
// not touch stays as it was, byte for byte.

// field is one element of a document being changed.
type field struct {
	name string
	val  bsoncore.Value
}

func parseFields(doc []byte) ([]field, error) {
	elems, err := bsoncore.Document(doc).Elements()
	if err != nil {
		return nil, fmt.Errorf("malformed document: %w", err)
	}
	fs := make([]field, len(elems), len(elems)+4)
	for i, e := range elems {
		fs[i] = field{e.Key(), e.Value()}
	}
	return fs, nil
}

func buildFields(fs []field) []byte {
	at, dst := bsoncore.AppendDocumentStart(nil)
	for _, f := range fs {
		dst = bsoncore.AppendValueElement(dst, f.name, f.val)
	}
	dst, _ = bsoncore.AppendDocumentEnd(dst, at) // fails only on a bad start
	return dst
}

func buildArray(vals []bsoncore.Value) []byte {
	fs := make([]field, len(vals))
	for i, v := range vals {
		fs[i] = field{strconv.Itoa(i), v}
	}
	return buildFields(fs)
}

func indexOf(fs []field, name string) int {
	for i := range fs {
		if fs[i].name == name {
			return i
		}
	}
	return -1
}

func isDocument(v bsoncore.Value) bool { return byte(v.Type) == byte(bson.TypeEmbeddedDocument) }
func isArray(v bsoncore.Value) bool    { return byte(v.Type) == byte(bson.TypeArray) }

var nullValue = bsoncore.Value{Type: bsoncore.Type(bson.TypeNull)}

func docValue(b []byte) bsoncore.Value {
	return bsoncore.Value{Type: bsoncore.Type(bson.TypeEmbeddedDocument), Data: b}
}

func arrayValue(b []byte) bsoncore.Value {
	return bsoncore.Value{Type: bsoncore.Type(bson.TypeArray), Data: b}
}

// misfit answers an update that does not fit the document it is for. Where the
// document may be of a later moment that is to be expected: a later entry sets
// what this one would have.
func misfit(loose bool, format string, args ...any) error {
	if loose {
		return nil
	}
	return fmt.Errorf("%w: "+format, append([]any{fold.ErrDiverged}, args...)...)
}

// applyUpdate applies an update entry's o document.
func applyUpdate(old, update []byte, loose bool) ([]byte, error) {
	fs, err := parseFields(old)
	if err != nil {
		return nil, err
	}
	u, err := parseFields(update)
	if err != nil {
		return nil, err
	}
	for _, op := range u {
		switch op.name {
		case "$v":
		case "diff":
			if !isDocument(op.val) {
				return nil, fmt.Errorf("update entry: diff is no document")
			}
			if fs, err = applyDiff(fs, op.val.Data, loose); err != nil {
				return nil, err
			}
		case "$set", "$unset":
			if !isDocument(op.val) {
				return nil, fmt.Errorf("update entry: %s is no document", op.name)
			}
			paths, err := parseFields(op.val.Data)
			if err != nil {
				return nil, err
			}
			for _, p := range paths {
				parts := strings.Split(p.name, ".")
				if op.name == "$set" {
					fs, err = setPath(fs, parts, p.val, loose)
				} else {
					fs, err = unsetPath(fs, parts)
				}
				if err != nil {
					return nil, fmt.Errorf("update entry: %s %s: %w", op.name, p.name, err)
				}
			}
		default:
			return nil, fmt.Errorf("update entry: unknown operator %q; a newer server may have written it", op.name)
		}
	}
	return buildFields(fs), nil
}

func setPath(fs []field, path []string, v bsoncore.Value, loose bool) ([]field, error) {
	i := indexOf(fs, path[0])
	if len(path) == 1 {
		if i >= 0 {
			fs[i].val = v
			return fs, nil
		}
		return append(fs, field{path[0], v}), nil
	}
	if i < 0 {
		below, err := setPath(nil, path[1:], v, loose)
		return append(fs, field{path[0], docValue(buildFields(below))}), err
	}
	switch {
	case isDocument(fs[i].val):
		below, err := parseFields(fs[i].val.Data)
		if err != nil {
			return nil, err
		}
		if below, err = setPath(below, path[1:], v, loose); err != nil {
			return nil, err
		}
		fs[i].val = docValue(buildFields(below))
	case isArray(fs[i].val):
		n, err := strconv.Atoi(path[1])
		if err != nil || n < 0 || n > 1<<24 {
			return fs, misfit(loose, "%q is no index of an array", path[1])
		}
		vals, err := bsoncore.Array(fs[i].val.Data).Values()
		if err != nil {
			return nil, err
		}
		for len(vals) <= n {
			vals = append(vals, nullValue)
		}
		// Through a document of one field, so that the rest of the path is
		// followed as everywhere.
		one, err := setPath([]field{{path[1], vals[n]}}, path[1:], v, loose)
		if err != nil {
			return nil, err
		}
		vals[n] = one[0].val
		fs[i].val = arrayValue(buildArray(vals))
	default:
		return fs, misfit(loose, "%q holds neither document nor array", path[0])
	}
	return fs, nil
}

func unsetPath(fs []field, path []string) ([]field, error) {
	i := indexOf(fs, path[0])
	if i < 0 {
		return fs, nil
	}
	if len(path) == 1 {
		return append(fs[:i], fs[i+1:]...), nil
	}
	switch {
	case isDocument(fs[i].val):
		below, err := parseFields(fs[i].val.Data)
		if err != nil {
			return nil, err
		}
		if below, err = unsetPath(below, path[1:]); err != nil {
			return nil, err
		}
		fs[i].val = docValue(buildFields(below))
	case isArray(fs[i].val):
		n, err := strconv.Atoi(path[1])
		if err != nil || n < 0 {
			return fs, nil
		}
		vals, err := bsoncore.Array(fs[i].val.Data).Values()
		if err != nil {
			return nil, err
		}
		if n >= len(vals) {
			return fs, nil
		}
		if len(path) == 2 {
			vals[n] = nullValue // an array keeps its length
		} else {
			one, err := unsetPath([]field{{path[1], vals[n]}}, path[1:])
			if err != nil {
				return nil, err
			}
			vals[n] = one[0].val
		}
		fs[i].val = arrayValue(buildArray(vals))
	}
	return fs, nil
}

// applyDiff applies a version-2 diff to a document: d deletes fields, u sets
// them in place, i adds them at the end, b changes bytes of theirs, and sNAME
// goes down into NAME.
func applyDiff(fs []field, diff []byte, loose bool) ([]field, error) {
	sections, err := parseFields(diff)
	if err != nil {
		return nil, err
	}
	for _, s := range sections {
		switch {
		case s.name == "d" || s.name == "u" || s.name == "i" || s.name == "b":
			if !isDocument(s.val) {
				return nil, fmt.Errorf("diff: section %q is no document", s.name)
			}
			items, err := parseFields(s.val.Data)
			if err != nil {
				return nil, err
			}
			for _, it := range items {
				i := indexOf(fs, it.name)
				switch {
				case s.name == "b":
					if err := applyBytes(fs, it, loose); err != nil {
						return nil, err
					}
				case s.name == "u" && i >= 0:
					fs[i].val = it.val
				case s.name == "d" && i < 0:
				case s.name == "d":
					fs = append(fs[:i], fs[i+1:]...)
				default:
					// An added field goes to the end, also when it is there:
					// then the document is of a later moment, and entries to
					// come put the others after it.
					if i >= 0 {
						fs = append(fs[:i], fs[i+1:]...)
					}
					fs = append(fs, it)
				}
			}
		case strings.HasPrefix(s.name, "s"):
			if !isDocument(s.val) {
				return nil, fmt.Errorf("diff: section %q is no document", s.name)
			}
			i := indexOf(fs, s.name[1:])
			if i < 0 {
				if err := misfit(loose, "diff goes down into %q, which is not there", s.name[1:]); err != nil {
					return nil, err
				}
				continue
			}
			if fs[i].val, err = applySubDiff(fs[i].val, s.val.Data, s.name[1:], loose); err != nil {
				return nil, err
			}
		default:
			return nil, fmt.Errorf("diff: unknown section %q; a newer server may have written it", s.name)
		}
	}
	return fs, nil
}

// columnType is the subtype of a packed column of a time series' bucket, which ends with a zero byte ("BSON Types:
// Binary Data").
const columnType = 7

// applyBytes changes a field of bytes from an offset to its end: {o, d}. Buckets of time series are written so from 8.0
// on. Whether it is understood shows on a user's own servers (trial series.more), and here: the bytes must be there, be
// of the same kind, and a column must end as columns do.
func applyBytes(fs []field, it field, loose bool) error {
	doc, _ := it.val.DocumentOK()
	from, ok := doc.Lookup("o").AsInt64OK()
	subtype, data, binary := doc.Lookup("d").BinaryOK()
	elems, _ := doc.Elements()
	if !ok || !binary || from < 0 || len(elems) != 2 {
		return fmt.Errorf("diff: what section \"b\" says of %q is not understood; a newer server may have written it",
			it.name)
	}
	i := indexOf(fs, it.name)
	if i < 0 {
		return misfit(loose, "diff changes bytes of %q, which is not there", it.name)
	}
	was, old, binary := fs[i].val.BinaryOK()
	if !binary || was != subtype || from > int64(len(old)) {
		return misfit(loose, "diff changes bytes of %q from %d on, which it has not", it.name, from)
	}
	if subtype == columnType && (len(data) == 0 || data[len(data)-1] != 0) {
		return fmt.Errorf("diff: what section \"b\" makes of %q is no column; a newer server may have written it",
			it.name)
	}
	fs[i].val = bsoncore.Value{Type: bsoncore.TypeBinary,
		Data: bsoncore.AppendBinary(nil, subtype, append(slices.Clone(old[:from]), data...))}
	return nil
}

// applySubDiff applies a diff to a value that is a document or an array.
func applySubDiff(v bsoncore.Value, diff []byte, name string, loose bool) (bsoncore.Value, error) {
	_, err := bsoncore.Document(diff).LookupErr("a")
	array := err == nil
	switch {
	case array && isArray(v):
		return applyArrayDiff(v, diff, loose)
	case !array && isDocument(v):
		fs, err := parseFields(v.Data)
		if err != nil {
			return v, err
		}
		if fs, err = applyDiff(fs, diff, loose); err != nil {
			return v, err
		}
		return docValue(buildFields(fs)), nil
	}
	return v, misfit(loose, "diff goes down into %q, which is of another type", name)
}

// applyArrayDiff applies a diff to an array: l is its new length, uN sets
// element N, sN goes down into it.
func applyArrayDiff(v bsoncore.Value, diff []byte, loose bool) (bsoncore.Value, error) {
	vals, err := bsoncore.Array(v.Data).Values()
	if err != nil {
		return v, err
	}
	items, err := parseFields(diff)
	if err != nil {
		return v, err
	}
	for _, it := range items {
		switch {
		case it.name == "a":
		case it.name == "l":
			n, ok := it.val.AsInt64OK()
			if !ok || n < 0 || n > 1<<24 {
				return v, fmt.Errorf("array diff: bad length")
			}
			for int64(len(vals)) < n {
				vals = append(vals, nullValue)
			}
			vals = vals[:n]
		case strings.HasPrefix(it.name, "u") || strings.HasPrefix(it.name, "s"):
			n, err := strconv.Atoi(it.name[1:])
			if err != nil || n < 0 || n > 1<<24 {
				return v, fmt.Errorf("array diff: bad element %q", it.name)
			}
			if it.name[0] == 'u' {
				for len(vals) <= n {
					vals = append(vals, nullValue)
				}
				vals[n] = it.val
				continue
			}
			if !isDocument(it.val) {
				return v, fmt.Errorf("array diff: section %q is no document", it.name)
			}
			if n >= len(vals) {
				if err := misfit(loose, "array diff goes down into element %d of %d", n, len(vals)); err != nil {
					return v, err
				}
				continue
			}
			if vals[n], err = applySubDiff(vals[n], it.val.Data, it.name[1:], loose); err != nil {
				return v, err
			}
		default:
			return v, fmt.Errorf("array diff: unknown section %q; a newer server may have written it", it.name)
		}
	}
	return arrayValue(buildArray(vals)), nil
}
