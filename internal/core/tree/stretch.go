package tree

import (
	"bytes"
	"context"

	"dexamen/internal/core/record"
)

// Stretch is a run of a tree's records, by their keys.
type Stretch struct {
	// From is its first possible key, To the first that it has no more; empty without an end.
	From []byte `json:"from,omitempty"`
	To   []byte `json:"to,omitempty"`
}

// Through returns the stretch from one to the end of one that follows it, of the same list.
func (s Stretch) Through(last Stretch) Stretch { return Stretch{s.From, last.To} }

// Stretches cuts a tree into at most n stretches of about the same size, without reading leaves: fewer where it
// has fewer nodes. At, where not nil, moves a key at which it could be cut to one before it at which
// it may be.
func Stretches(ctx context.Context, src Source, root Root, n int, at func(key []byte) []byte) ([]Stretch, error) {
	level := []child{{hash: root.Hash, records: root.Records, bytes: root.Bytes}}
	for l := root.Level; l > 0 && len(level) < 4*n; l-- {
		var below []child
		for _, c := range level {
			b, err := src.Node(ctx, c.hash)
			if err != nil {
				return nil, err
			}
			_, children, err := readInner(b)
			if err != nil {
				return nil, err
			}
			below = append(below, children...)
		}
		level = below
	}
	out := []Stretch{{}}
	var size int64
	for i, c := range level[:len(level)-1] {
		size += c.bytes
		if size*int64(n) < root.Bytes*int64(len(out)) || len(out) == n {
			continue
		}
		cut := bytes.Clone(level[i].last)
		if at != nil {
			cut = at(cut)
		}
		if bytes.Compare(cut, out[len(out)-1].From) > 0 {
			out[len(out)-1].To = cut
			out = append(out, Stretch{From: cut})
		}
	}
	return out, nil
}

// WalkStretch calls fn with the records of a stretch, as [Walk] does with all.
func WalkStretch(ctx context.Context, src Source, root Root, s Stretch, fn func(record.Record) error) error {
	for r, err := range RecordsFrom(ctx, src, root, s.From) {
		if err != nil {
			return err
		}
		if len(s.To) > 0 && bytes.Compare(r.Key, s.To) >= 0 {
			return nil
		}
		if err := fn(r); err != nil {
			return err
		}
	}
	return nil
}

// Ends returns the first and the last key of a tree that has any.
func Ends(ctx context.Context, src Source, root Root) (first, last []byte, err error) {
	if first, err = firstKey(ctx, src, root); err != nil {
		return nil, nil, err
	}
	n := child{hash: root.Hash}
	for l := root.Level; l > 0; l-- {
		b, err := src.Node(ctx, n.hash)
		if err != nil {
			return nil, nil, err
		}
		_, children, err := readInner(b)
		if err != nil {
			return nil, nil, err
		}
		n = children[len(children)-1]
	}
	last, err = leafLast(ctx, src, n.hash)
	return bytes.Clone(first), last, err
}
