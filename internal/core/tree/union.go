package tree

import (
	"bytes"
	"context"
	"encoding/binary"
	"slices"

	"dexamen/internal/core/record"
)

// UnionPart is a tree of which all or some records belong to a union.
type UnionPart struct {
	Root Root
	// Keep, where set, chooses by value.
	Keep func(value []byte) (bool, error)
}

// Union builds the tree of the records of several. Records that share a key
// are all kept: in order of their values the first has the key itself, the
// others, each, that of [AgainKey]. So the result does not depend on which part
// holds which record.
func Union(ctx context.Context, src Source, parts []UnionPart, sink Sink) (Root, error) {
	if len(parts) == 1 && parts[0].Keep == nil {
		return parts[0].Root, nil
	}
	b := NewBuilder(sink)
	var heads []*unionHead
	for _, p := range parts {
		h := &unionHead{it: NewIterator(src, p.Root), keep: p.Keep}
		if err := h.advance(ctx); err != nil {
			return Root{}, err
		}
		if h.have {
			heads = append(heads, h)
		}
	}
	var group [][]byte
	for len(heads) > 0 {
		key := heads[0].rec.Key
		for _, h := range heads[1:] {
			if bytes.Compare(h.rec.Key, key) < 0 {
				key = h.rec.Key
			}
		}
		key = bytes.Clone(key)
		group = group[:0]
		for i := 0; i < len(heads); i++ {
			h := heads[i]
			if !bytes.Equal(h.rec.Key, key) {
				continue
			}
			group = append(group, bytes.Clone(h.rec.Value))
			if err := h.advance(ctx); err != nil {
				return Root{}, err
			}
			if !h.have {
				heads = slices.Delete(heads, i, i+1)
				i--
			}
		}
		if len(group) > 1 {
			slices.SortFunc(group, bytes.Compare)
		}
		for i, v := range group {
			if err := b.Add(ctx, record.Record{Key: AgainKey(key, i), Value: v}); err != nil {
				return Root{}, err
			}
		}
	}
	return b.Finish(ctx)
}

// AgainKey returns the key of the nth (from zero) record that has a key in
// common with others. No key is the beginning of another, so it sorts right
// after the key.
func AgainKey(key []byte, n int) []byte {
	if n == 0 {
		return key
	}
	return binary.BigEndian.AppendUint32(slices.Clip(bytes.Clone(key)), uint32(n))
}

type unionHead struct {
	it   *Iterator
	keep func([]byte) (bool, error)
	rec  record.Record
	have bool
}

func (h *unionHead) advance(ctx context.Context) (err error) {
	for {
		if h.rec, h.have, err = h.it.Next(ctx); err != nil || !h.have || h.keep == nil {
			return err
		}
		if ok, err := h.keep(h.rec.Value); err != nil || ok {
			return err
		}
	}
}
