package tree

import (
	"bytes"
	"context"

	"dexamen/internal/core/record"
)

// Join builds the tree of the records of several trees, such as those of the partitions of a
// namespace, that whoever read them has made. Of records with the same key that of the later tree
// counts. Where each tree's keys come after those of the trees before it only leaves at the seams
// are read; a tree of which that is not so is read whole, and the result is the same. Near is as
// [NewLoader] has it.
func Join(ctx context.Context, src Source, parts []Root, near Root, sink Sink) (Root, error) {
	b := NewBuilder(sink).Near(src, near)
	var across []Root // those that do not come after the ones before them
	for _, part := range parts {
		if part.Records == 0 {
			continue
		}
		if b.any {
			first, err := firstKey(ctx, src, part)
			if err != nil {
				return Root{}, err
			}
			if bytes.Compare(first, b.last) <= 0 {
				across = append(across, part)
				continue
			}
		}
		if err := b.takeOver(ctx, src, part); err != nil {
			return Root{}, err
		}
	}
	root, err := b.Finish(ctx)
	for _, part := range across {
		if err != nil {
			break
		}
		root, err = merge(ctx, src, root, root, &putAll{it: NewIterator(src, part)}, sink)
	}
	return root, err
}

// takeOver adds another tree's records, which come after all that the builder has: its leaves as
// they are, but where its first and its last one end otherwise in the whole.
func (b *Builder) takeOver(ctx context.Context, src Source, part Root) error {
	cur := newCursor(src, part)
	for {
		leaf, ok, err := cur.nextLeaf(ctx)
		if err != nil || !ok {
			return err
		}
		_, _, more := cur.peek()
		if b.atCut() && more {
			if err := b.reuse(ctx, leaf); err != nil {
				return err
			}
			continue
		}
		node, err := src.Node(ctx, leaf.hash)
		if err != nil {
			return err
		}
		if err := readd(ctx, b, node); err != nil {
			return err
		}
	}
}

func firstKey(ctx context.Context, src Source, root Root) ([]byte, error) {
	r, _, err := NewIterator(src, root).Next(ctx)
	return r.Key, err
}

// putAll are edits that put all records of a tree.
type putAll struct {
	it  *Iterator
	rec record.Record
}

// NextKey implements [Edits].
func (p *putAll) NextKey(ctx context.Context) (key []byte, more bool, err error) {
	p.rec, more, err = p.it.Next(ctx)
	return p.rec.Key, more, err
}

// Edit implements [Edits].
func (p *putAll) Edit(context.Context, []byte, bool) ([]byte, bool, error) {
	return p.rec.Value, true, nil
}

// Blind implements [Blind].
func (*putAll) Blind() {}
