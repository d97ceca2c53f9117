package etcd

import (
	"dexamen/internal/core/record"
	"dexamen/internal/engine/keyprefix"
)

// KeyValue is a key as clients know it.
type KeyValue struct {
	Key, Value []byte
	Lease      int64 // 0 is none
}

// Whole returns the key that a record of a namespace is.
func Whole(namespace string, r record.Record) (kv KeyValue, err error) {
	prefix, err := Prefix(namespace)
	if err != nil {
		return kv, err
	}
	_, kv.Value, kv.Lease, err = readValue(r.Value)
	kv.Key = append(append([]byte{}, prefix...), r.Key...)
	return kv, err
}

// Prefix returns what all keys of a namespace begin with, which their records leave out.
func Prefix(namespace string) ([]byte, error) {
	prefix, _, err := keyprefix.Cut{Sep: '/'}.Range(namespace)
	return prefix, err
}

// Revision returns the revision of a position.
func Revision(p record.Position) int64 { return revision(p) }
