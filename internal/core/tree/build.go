package tree

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"dexamen/internal/core/record"
)

// Sizes were chosen by BenchmarkLeafSize: smaller leaves compress worse,
// larger ones cost more to patch and to look into.
const (
	targetLeaf = 1 << 17        // bytes, before compression
	maxLeaf    = 8 * targetLeaf // a leaf is cut here at the latest
	innerFan   = 64             // children of an inner node, on average
	maxFan     = 8 * innerFan
	maxLevel   = 32
)

// targetBits is the power of two of targetLeaf; only the benchmark that chose it
// changes it.
var targetBits = 17

// ErrOrder means that a record did not come after the one before it.
var ErrOrder = errors.New("tree: records out of order")

// Builder makes a tree from records in ascending key order.
type Builder struct {
	sink  Sink
	cuts  Cuts
	near  *nearby
	leaf  leafWriter
	last  []byte
	any   bool
	upper []*innerLevel
	total Root
	// similar are the pieces of an older value of the record that is added next, as bases
	// for patches.
	similar []Hash
	// collect, where set, takes finished leaves instead of the inner levels.
	collect *leafList
}

type innerLevel struct {
	children []child
}

// NewBuilder makes a builder that writes to sink, and ends nodes where that says; [Nowhere] gives
// the root alone, storing nothing.
func NewBuilder(sink Sink) *Builder {
	b := &Builder{sink: sink, cuts: sink.Cuts()}
	b.leaf.reset(512) // many trees are small
	return b
}

// Near names a tree of similar content, whose leaves are offered to the sink
// as bases for patches.
func (b *Builder) Near(src Source, root Root) *Builder {
	if root.Records > 0 {
		b.near = &nearby{cur: newCursor(src, root)}
	}
	return b
}

// Add appends a record. Its bytes are copied.
func (b *Builder) Add(ctx context.Context, r record.Record) error {
	e, err := b.external(ctx, r)
	if err != nil {
		return err
	}
	return b.add(ctx, &e)
}

// external makes a record a leaf's entry, writing a large value's pieces.
func (b *Builder) external(ctx context.Context, r record.Record) (entry, error) {
	e := entry{key: r.Key, value: r.Value, size: int64(len(r.Value))}
	if len(r.Value) <= MaxInline {
		return e, nil
	}
	e.value = nil
	similar := b.similarTo(ctx, r.Key)
	for rest := r.Value; len(rest) > 0; {
		n := min(len(rest), MaxInline)
		node := append(append(make([]byte, 0, n+1), pieceNode), rest[:n]...)
		h := HashOf(node)
		var near Hash
		if i := len(e.pieces); i < len(similar) {
			near = similar[i]
		}
		if err := b.sink.PutNode(ctx, h, node, near); err != nil {
			return e, err
		}
		e.pieces = append(e.pieces, h)
		rest = rest[n:]
	}
	return e, nil
}

// similarTo returns the pieces of the value that a key had in the older tree.
func (b *Builder) similarTo(ctx context.Context, key []byte) []Hash {
	if s := b.similar; s != nil || b.near == nil {
		b.similar = nil
		return s
	}
	return b.near.pieces(ctx, key)
}

func (b *Builder) add(ctx context.Context, e *entry) error {
	if b.any && bytes.Compare(e.key, b.last) <= 0 {
		return fmt.Errorf("%w: key %x after %x", ErrOrder, e.key, b.last)
	}
	b.last, b.any = append(b.last[:0], e.key...), true
	b.leaf.add(e)
	if b.cuts.afterRecord(e.key, len(e.key)+bodySize(e)) || len(b.leaf.buf) >= maxLeaf {
		return b.endLeaf(ctx)
	}
	return nil
}

// atCut reports that a leaf has just ended (or none has begun), so that a leaf
// of another tree that begins here is also a leaf of this one.
func (b *Builder) atCut() bool { return b.leaf.records == 0 }

func (b *Builder) endLeaf(ctx context.Context) error {
	c := child{hash: HashOf(b.leaf.buf), records: b.leaf.records, bytes: b.leaf.bytes,
		last: bytes.Clone(b.leaf.lastKey)}
	var near Hash
	if b.near != nil {
		var err error
		if near, err = b.near.leafFor(ctx, c.last); ctx.Err() != nil {
			return context.Cause(ctx)
		} else if err != nil {
			b.near = nil // damage of the older tree is no reason to fail
		}
	}
	if err := b.sink.PutNode(ctx, c.hash, b.leaf.buf, near); err != nil {
		return err
	}
	b.leaf.next()
	if b.collect != nil {
		return b.collect.add(c)
	}
	return b.addChild(ctx, 1, c)
}

// reuse takes a whole leaf of another tree; allowed only at a cut.
func (b *Builder) reuse(ctx context.Context, c child) error {
	c.last = bytes.Clone(c.last)
	b.last, b.any = append(b.last[:0], c.last...), true
	return b.addChild(ctx, 1, c)
}

func (b *Builder) addChild(ctx context.Context, level int, c child) error {
	if level > maxLevel {
		return fmt.Errorf("tree: more than %d levels", maxLevel)
	}
	if level == 1 {
		b.total.Records += c.records
		b.total.Bytes += c.bytes
	}
	for len(b.upper) < level {
		b.upper = append(b.upper, &innerLevel{})
	}
	l := b.upper[level-1]
	l.children = append(l.children, c)
	if b.cuts.afterChild(c.last, level) || len(l.children) >= maxFan {
		return b.endInner(ctx, level)
	}
	return nil
}

func (b *Builder) endInner(ctx context.Context, level int) error {
	l := b.upper[level-1]
	node := []byte{innerNode, byte(level)}
	var up child
	for i := range l.children {
		node = appendChild(node, &l.children[i])
		up.records += l.children[i].records
		up.bytes += l.children[i].bytes
	}
	up.hash, up.last = HashOf(node), l.children[len(l.children)-1].last
	if err := b.sink.PutNode(ctx, up.hash, node, Hash{}); err != nil {
		return err
	}
	l.children = l.children[:0]
	return b.addChild(ctx, level+1, up)
}

// Finish ends the tree and gives its root. The builder is spent.
func (b *Builder) Finish(ctx context.Context) (Root, error) {
	if b.leaf.records > 0 {
		if err := b.endLeaf(ctx); err != nil {
			return Root{}, err
		}
	}
	if len(b.upper) == 0 {
		h := HashOf(b.leaf.buf) // the empty leaf stands for the empty tree
		return Root{Hash: h}, b.sink.PutNode(ctx, h, b.leaf.buf, Hash{})
	}
	for level := 1; ; level++ {
		l := b.upper[level-1]
		if level == len(b.upper) && len(l.children) == 1 {
			b.total.Hash, b.total.Level = l.children[0].hash, level-1
			return b.total, nil
		}
		if len(l.children) > 0 {
			if err := b.endInner(ctx, level); err != nil {
				return Root{}, err
			}
		}
	}
}

// nearby walks the leaves of an older tree alongside a build.
type nearby struct {
	cur  *cursor
	last child
	// opened is the leaf that external holds the entries of, of values outside it.
	opened   Hash
	external []entry
}

// pieces returns the pieces of a key's value in the older tree; none where it has none,
// or cannot be read. Keys must ascend.
func (n *nearby) pieces(ctx context.Context, key []byte) []Hash {
	leaf, err := n.leafFor(ctx, key)
	if err != nil || leaf.IsZero() {
		return nil
	}
	if leaf != n.opened {
		node, err := n.cur.src.Node(ctx, leaf)
		if err != nil {
			return nil
		}
		n.opened, n.external = leaf, nil
		_ = eachEntry(node, func(e *entry) error {
			if e.external() {
				n.external = append(n.external, entry{key: bytes.Clone(e.key), pieces: slices.Clone(e.pieces)})
			}
			return nil
		})
	}
	i, ok := slices.BinarySearchFunc(n.external, key, func(e entry, k []byte) int { return bytes.Compare(e.key, k) })
	if !ok {
		return nil
	}
	return n.external[i].pieces
}

// leafFor returns the older leaf in which key lies, or the last one before it.
// Keys must ascend.
func (n *nearby) leafFor(ctx context.Context, key []byte) (Hash, error) {
	for n.last.hash.IsZero() || bytes.Compare(n.last.last, key) < 0 {
		c, ok, err := n.cur.nextLeaf(ctx)
		if err != nil {
			return Hash{}, err
		}
		if !ok {
			break
		}
		n.last = c
	}
	return n.last.hash, nil
}
