package tree

import (
	"bytes"
	"context"

	"dexamen/internal/core/record"
)

// Edits are changes to a tree, given key by key in ascending order.
type Edits interface {
	// NextKey returns the next key to be edited, or ok false at the end.
	NextKey(ctx context.Context) (key []byte, ok bool, err error)
	// Edit returns the value at the key just returned by NextKey; old is nil
	// and present false where the tree holds none. keep false removes the
	// record. It is called exactly once per key.
	Edit(ctx context.Context, old []byte, present bool) (value []byte, keep bool, err error)
}

// Blind are Edits that do not look at the value a key has: it is not read for them.
type Blind interface {
	Edits
	Blind()
}

// Merge builds the tree that is base with the edits applied. Leaves without
// edits are neither read nor written. The result is what a Builder fed with
// the resulting records would give.
func Merge(ctx context.Context, src Source, base Root, edits Edits, sink Sink) (Root, error) {
	return merge(ctx, src, base, base, edits, sink)
}

// merge is Merge with another tree to take bases for patches from.
func merge(ctx context.Context, src Source, base, near Root, edits Edits, sink Sink) (Root, error) {
	b := NewBuilder(sink).Near(src, near)
	m := &merger{edits: edits, emit: b}
	if err := m.advance(ctx); err != nil {
		return Root{}, err
	}
	cur := newCursor(src, base)
	for {
		leaf, ok, err := cur.nextLeaf(ctx)
		if err != nil {
			return Root{}, err
		}
		if !ok {
			break
		}
		_, _, more := cur.peek()
		untouched := !m.have || bytes.Compare(m.key, leaf.last) > 0 && more
		if untouched && b.atCut() {
			if err := b.reuse(ctx, leaf); err != nil {
				return Root{}, err
			}
			continue
		}
		node, err := src.Node(ctx, leaf.hash)
		if err != nil {
			return Root{}, err
		}
		r, err := newLeafReader(node)
		if err != nil {
			return Root{}, err
		}
		if err := m.leaf(ctx, src, r); err != nil {
			return Root{}, err
		}
	}
	if err := m.rest(ctx); err != nil {
		return Root{}, err
	}
	return b.Finish(ctx)
}

type merger struct {
	edits Edits
	key   []byte
	have  bool
	emit  *Builder
}

func (m *merger) advance(ctx context.Context) (err error) {
	m.key, m.have, err = m.edits.NextKey(ctx)
	return err
}

// apply settles the pending edit.
func (m *merger) apply(ctx context.Context, old []byte, present bool) error {
	v, keep, err := m.edits.Edit(ctx, old, present)
	if err != nil {
		return err
	}
	if keep {
		if err := m.emit.Add(ctx, record.Record{Key: m.key, Value: v}); err != nil {
			return err
		}
	}
	return m.advance(ctx)
}

func (m *merger) leaf(ctx context.Context, src Source, r leafReader) error {
	var e entry
	for {
		ok, err := r.next(&e)
		if err != nil || !ok {
			return err
		}
		for m.have && bytes.Compare(m.key, e.key) < 0 {
			if err := m.apply(ctx, nil, false); err != nil {
				return err
			}
		}
		if m.have && bytes.Equal(m.key, e.key) {
			var old []byte
			if _, blind := m.edits.(Blind); !blind {
				if old, err = e.load(ctx, src); err != nil {
					return err
				}
			}
			m.emit.similar = e.pieces
			if err := m.apply(ctx, old, true); err != nil {
				return err
			}
			m.emit.similar = nil
			continue
		}
		if err := m.emit.add(ctx, &e); err != nil {
			return err
		}
	}
}

// rest settles the edits after the last record.
func (m *merger) rest(ctx context.Context) error {
	for m.have {
		if err := m.apply(ctx, nil, false); err != nil {
			return err
		}
	}
	return nil
}
