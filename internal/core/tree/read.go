package tree

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"sort"

	"dexamen/internal/core/record"
)

// cursor walks a tree from left to right, node by node. At any time it stands
// before one node (peek), which can be skipped as a whole or entered.
type cursor struct {
	src   Source
	stack []cursorLevel
}

type cursorLevel struct {
	level    int // of the children: 0 for leaves
	children []child
}

func newCursor(src Source, root Root) *cursor {
	c := &cursor{src: src}
	if root.Records > 0 {
		c.stack = []cursorLevel{{root.Level, []child{{hash: root.Hash, records: root.Records, bytes: root.Bytes}}}}
	}
	return c
}

// peek returns the node the cursor stands before, and its level.
func (c *cursor) peek() (n child, level int, ok bool) {
	for len(c.stack) > 0 {
		top := &c.stack[len(c.stack)-1]
		if len(top.children) > 0 {
			return top.children[0], top.level, true
		}
		c.stack = c.stack[:len(c.stack)-1]
	}
	return child{}, 0, false
}

// skip passes over the node the cursor stands before.
func (c *cursor) skip() {
	top := &c.stack[len(c.stack)-1]
	top.children = top.children[1:]
}

// enter goes down into the inner node the cursor stands before.
func (c *cursor) enter(ctx context.Context) error {
	n, level, _ := c.peek()
	b, err := c.src.Node(ctx, n.hash)
	if err != nil {
		return err
	}
	got, children, err := readInner(b)
	if err != nil {
		return err
	}
	if got != level {
		return fmt.Errorf("%w: level %d where %d belongs", ErrNode, got, level)
	}
	c.skip()
	c.stack = append(c.stack, cursorLevel{level - 1, children})
	return nil
}

// nextLeaf passes over the next leaf and gives its entry. The entry of a tree
// that is one leaf has no last key; leafLast finds it.
func (c *cursor) nextLeaf(ctx context.Context) (child, bool, error) {
	for {
		n, level, ok := c.peek()
		if !ok {
			return child{}, false, nil
		}
		if level > 0 {
			if err := c.enter(ctx); err != nil {
				return child{}, false, err
			}
			continue
		}
		c.skip()
		if n.last == nil {
			var err error
			if n.last, err = leafLast(ctx, c.src, n.hash); err != nil {
				return child{}, false, err
			}
		}
		return n, true, nil
	}
}

func leafLast(ctx context.Context, src Source, h Hash) (last []byte, err error) {
	b, err := src.Node(ctx, h)
	if err == nil {
		err = eachEntry(b, func(e *entry) error { last = append(last[:0], e.key...); return nil })
	}
	return last, err
}

// NamesPieces reports whether a node is a leaf with values that lie outside it.
func NamesPieces(node []byte) bool {
	if len(node) == 0 || node[0] != leafNode {
		return false
	}
	const makesNoSense = true // it is looked at too
	// It is asked of each leaf that is written, so that no key is put together.
	key := uint64(0) // length of the last one
	for b := node[1:]; len(b) > 0; {
		shared, n := binary.Uvarint(b)
		if n <= 0 || shared > key {
			return makesNoSense
		}
		b = b[n:]
		l, n := binary.Uvarint(b)
		if n <= 0 || l > uint64(len(b)-n) {
			return makesNoSense
		}
		key, b = shared+l, b[n+int(l):]
		v, n := binary.Uvarint(b)
		if n <= 0 || v&1 == 1 || v>>1 > uint64(len(b)-n) {
			return true
		}
		b = b[n+int(v>>1):]
	}
	return false
}

// Walk calls fn with every record of the tree in key order. The record's bytes
// are valid until fn returns.
func Walk(ctx context.Context, src Source, root Root, fn func(record.Record) error) error {
	cur := newCursor(src, root)
	ahead := newAhead(ctx, src)
	defer ahead.end()
	for {
		leaf, ok, err := cur.nextLeaf(ctx)
		if err != nil || !ok {
			return err
		}
		b, err := ahead.node(ctx, leaf.hash, cur.stack)
		if err == nil {
			err = walkLeafBytes(ctx, src, b, fn)
		}
		if err != nil {
			return err
		}
	}
}

// Keys calls fn with the key of every record in order, without reading values that lie
// outside of leaves. A key is valid until fn returns.
func Keys(ctx context.Context, src Source, root Root, fn func(key []byte) error) error {
	cur := newCursor(src, root)
	ahead := newAhead(ctx, src)
	defer ahead.end()
	for {
		leaf, ok, err := cur.nextLeaf(ctx)
		if err != nil || !ok {
			return err
		}
		b, err := ahead.node(ctx, leaf.hash, cur.stack)
		if err == nil {
			err = eachEntry(b, func(e *entry) error { return fn(e.key) })
		}
		if err != nil {
			return err
		}
	}
}

// KeysFrom returns the keys of the tree from one on, as Keys does. What comes before it is
// not read. A key is valid until the next one.
func KeysFrom(ctx context.Context, src Source, root Root, from []byte) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		side := newDiffSide(Side{src, root})
		if err := side.cur.seek(ctx, from); err != nil {
			yield(nil, err)
			return
		}
		for {
			side.have = false
			ok, err := side.fill(ctx)
			if err != nil {
				yield(nil, err)
				return
			}
			if !ok || bytes.Compare(side.entry.key, from) >= 0 && !yield(side.entry.key, nil) {
				return
			}
		}
	}
}

// errStopped ends a walk whose caller wants no more.
var errStopped = errors.New("stopped")

// Records returns every record of the tree in key order. A record's bytes are valid
// until the next one. An error ends the sequence.
func Records(ctx context.Context, src Source, root Root) iter.Seq2[record.Record, error] {
	return func(yield func(record.Record, error) bool) {
		err := Walk(ctx, src, root, func(r record.Record) error {
			if !yield(r, nil) {
				return errStopped
			}
			return nil
		})
		if err != nil && !errors.Is(err, errStopped) {
			yield(record.Record{}, err)
		}
	}
}

// RecordsFrom returns the records of the tree from a key on, as Records does. What
// comes before the key is not read.
func RecordsFrom(ctx context.Context, src Source, root Root, from []byte) iter.Seq2[record.Record, error] {
	return func(yield func(record.Record, error) bool) {
		it := NewIterator(src, root)
		if err := it.side.cur.seek(ctx, from); err != nil {
			yield(record.Record{}, err)
			return
		}
		for {
			r, ok, err := it.Next(ctx)
			if err != nil {
				yield(record.Record{}, err)
				return
			}
			if !ok || bytes.Compare(r.Key, from) >= 0 && !yield(r, nil) {
				return
			}
		}
	}
}

// seek goes to the leaf in which a key would be; to the end where there is none.
func (c *cursor) seek(ctx context.Context, key []byte) error {
	for {
		n, level, ok := c.peek()
		switch {
		case !ok:
			return nil
		case n.last != nil && bytes.Compare(n.last, key) < 0:
			c.skip()
		case level > 0:
			if err := c.enter(ctx); err != nil {
				return err
			}
		default:
			return nil
		}
	}
}

func walkLeaf(ctx context.Context, src Source, h Hash, fn func(record.Record) error) error {
	b, err := src.Node(ctx, h)
	if err != nil {
		return err
	}
	return walkLeafBytes(ctx, src, b, fn)
}

func walkLeafBytes(ctx context.Context, src Source, b []byte, fn func(record.Record) error) error {
	return eachEntry(b, func(e *entry) error {
		rec, err := e.record(ctx, src)
		if err != nil {
			return err
		}
		return fn(rec)
	})
}

// Get looks up one record; ok is false when there is none with this key.
func Get(ctx context.Context, src Source, root Root, key []byte) (value []byte, ok bool, err error) {
	if root.Records == 0 {
		return nil, false, nil
	}
	h := root.Hash
	for level := root.Level; level > 0; level-- {
		b, err := src.Node(ctx, h)
		if err != nil {
			return nil, false, err
		}
		_, children, err := readInner(b)
		if err != nil {
			return nil, false, err
		}
		i := sort.Search(len(children), func(i int) bool { return bytes.Compare(children[i].last, key) >= 0 })
		if i == len(children) {
			return nil, false, nil
		}
		h = children[i].hash
	}
	b, err := src.Node(ctx, h)
	if err != nil {
		return nil, false, err
	}
	r, err := newLeafReader(b)
	if err != nil {
		return nil, false, err
	}
	var e entry
	for {
		ok, err := r.next(&e)
		if err != nil || !ok {
			return nil, false, err
		}
		switch bytes.Compare(e.key, key) {
		case 0:
			v, err := e.load(ctx, src)
			return v, err == nil, err
		case 1:
			return nil, false, nil
		}
	}
}

// NodeInfo is what a node's parent says of it.
type NodeInfo struct {
	Hash    Hash
	Level   int // 0 of a leaf, -1 of a piece of a value
	Records int64
	Bytes   int64 // keys and values
}

// Nodes calls fn with every node of the tree, pieces included, parents before
// children. When fn answers false the node is not read, and what is below it is
// left out.
func Nodes(ctx context.Context, src Source, root Root, fn func(NodeInfo) (bool, error)) error {
	if root.Records == 0 && root.Hash.IsZero() {
		return nil
	}
	return nodesBelow(ctx, src, NodeInfo{root.Hash, root.Level, root.Records, root.Bytes}, fn)
}

func nodesBelow(ctx context.Context, src Source, n NodeInfo, fn func(NodeInfo) (bool, error)) error {
	if ok, err := fn(n); err != nil || !ok {
		return err
	}
	level := n.Level
	b, err := src.Node(ctx, n.Hash)
	if err != nil {
		return err
	}
	if level > 0 {
		got, children, err := readInner(b)
		if err != nil {
			return err
		}
		if got != level {
			return fmt.Errorf("%w: level %d where %d belongs", ErrNode, got, level)
		}
		for _, c := range children {
			if err := nodesBelow(ctx, src, NodeInfo{c.hash, level - 1, c.records, c.bytes}, fn); err != nil {
				return err
			}
		}
		return nil
	}
	return eachEntry(b, func(e *entry) error {
		for _, p := range e.pieces {
			ok, err := fn(NodeInfo{Hash: p, Level: -1})
			if err == nil && ok {
				_, err = src.Node(ctx, p)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}
