package extsort

import (
	"encoding/binary"
	"iter"
)

// AddTo takes an item of a group, copying its bytes. Groups come in order of their
// numbers, the items of each in order of their keys; a sorter that is filled by
// AddTo must not be filled by Add.
func (s *Sorter) AddTo(group int, key, value []byte) error {
	s.keyBuf = append(binary.BigEndian.AppendUint32(s.keyBuf[:0], uint32(group)), key...)
	return s.Add(s.keyBuf, value)
}

// SplitGroup takes the key of an item that AddTo was given apart.
func SplitGroup(k []byte) (group int, key []byte) {
	return int(binary.BigEndian.Uint32(k)), k[4:]
}

// Item is one item of a sorter.
type Item struct{ Key, Value []byte }

// All returns the items that are left, in order. Their bytes are valid until the
// next one. An error ends it.
func (it *Items) All() iter.Seq2[Item, error] {
	return func(yield func(Item, error) bool) {
		for {
			k, v, ok, err := it.Next()
			if err != nil {
				yield(Item{}, err)
				return
			}
			if !ok || !yield(Item{k, v}, nil) {
				return
			}
		}
	}
}
