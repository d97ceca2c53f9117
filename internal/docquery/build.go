package docquery

import (
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// field is a field of a document that is being built.
type field struct {
	name string
	v    bson.RawValue
}

// document builds a document; fields without a value are left out.
func document(fields ...field) bson.Raw {
	at, dst := bsoncore.AppendDocumentStart(nil)
	for _, f := range fields {
		if f.v.Type != 0 {
			dst = bsoncore.AppendValueElement(dst, f.name,
				bsoncore.Value{Type: bsoncore.Type(f.v.Type), Data: f.v.Value})
		}
	}
	dst, _ = bsoncore.AppendDocumentEnd(dst, at) // fails only on a bad start
	return dst
}

func docValue(d bson.Raw) bson.RawValue {
	return bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: d}
}

// array builds an array; what is missing is null in it.
func array(list []bson.RawValue) bson.RawValue {
	fields := make([]field, len(list))
	for i, v := range list {
		if v.Type == 0 {
			v = null
		}
		fields[i] = field{strconv.Itoa(i), v}
	}
	return bson.RawValue{Type: bson.TypeArray, Value: document(fields...)}
}

// fieldsOf takes a document apart.
func fieldsOf(d bson.Raw) []field {
	els, _ := d.Elements()
	out := make([]field, len(els))
	for i, e := range els {
		out[i] = field{e.Key(), e.Value()}
	}
	return out
}

func indexOf(fs []field, name string) int {
	for i := range fs {
		if fs[i].name == name {
			return i
		}
	}
	return -1
}
