package tree

import (
	"bytes"
	"context"
	"sync"

	"dexamen/internal/core/extsort"
	"dexamen/internal/core/record"
)

// Loader builds a tree from records that come in several partitions at once,
// each mostly in order. What is in order goes straight into leaves, in
// parallel; what is not is sorted aside and merged in at the end. Order
// therefore costs nothing where there is order.
type Loader struct {
	sink  Sink
	src   Source
	near  Root
	mu    sync.Mutex
	late  *extsort.Sorter
	dir   string
	parts []*Part
}

// NewLoader makes a loader that writes to sink. Src must give the nodes that
// sink has taken, and those of near: an older tree of the same namespace, or
// the zero Root. Late records use up to bound bytes of memory, then dir.
func NewLoader(src Source, sink Sink, near Root, dir string, bound int) *Loader {
	return &Loader{src: src, sink: sink, near: near, late: extsort.New(dir, bound), dir: dir}
}

// Part begins the next partition. Its keys should come after those of the
// parts begun before; where they do not, the result is the same and costs
// more. Parts may be filled from a goroutine each.
func (l *Loader) Part() *Part {
	p := &Part{loader: l, b: NewBuilder(l.sink), leaves: leafList{dir: l.dir}}
	if l.near.Records > 0 {
		p.b.Near(l.src, l.near)
	}
	p.aligned = len(l.parts) == 0
	p.b.collect = &p.leaves
	l.parts = append(l.parts, p)
	return p
}

// Part is one partition of a load.
type Part struct {
	loader  *Loader
	b       *Builder
	head    leafWriter // records before the first cut that holds whatever came before
	aligned bool
	first   []byte
	leaves  leafList
	// Of the records so far, how many came in order, and how many late.
	straight, late int64
}

// Add takes a record. Of records with the same key the one added last wins.
func (p *Part) Add(ctx context.Context, r record.Record) error {
	if p.b.any && bytes.Compare(r.Key, p.b.last) <= 0 || p.late > 64+p.straight/8 {
		// Where many come late there is no order to make use of: leaves made of
		// the few that happen to ascend would be written in vain.
		p.late++
		p.loader.mu.Lock()
		defer p.loader.mu.Unlock()
		return p.loader.late.Add(r.Key, r.Value)
	}
	p.straight++
	if p.first == nil {
		p.first = append([]byte{}, r.Key...)
	}
	if p.aligned {
		return p.b.Add(ctx, r)
	}
	// Where the leaf before ends is not known here. A cut made by a key's
	// hash stands whatever came before it: leaves are certain from there on.
	e, err := p.b.external(ctx, r)
	if err != nil {
		return err
	}
	if p.head.buf == nil {
		p.head.reset(leafRoom)
	}
	p.head.add(&e)
	p.b.last, p.b.any = append(p.b.last[:0], r.Key...), true
	if p.aligned = p.b.cuts.afterRecord(e.key, len(e.key)+bodySize(&e)); p.aligned || len(p.head.buf) < maxLeaf {
		return nil
	}
	// Keys can be chosen so that no cut comes: they are sorted in with the late ones.
	p.loader.mu.Lock()
	defer p.loader.mu.Unlock()
	head := p.head.buf
	p.head, p.first = leafWriter{}, nil
	return walkLeafBytes(ctx, p.loader.src, head,
		func(r record.Record) error { return p.loader.late.Add(r.Key, r.Value) })
}

// Close gives up what was set aside, where it is not finished.
func (l *Loader) Close() {
	l.late.Close()
	for _, p := range l.parts {
		p.leaves.close()
	}
}

// Finish joins the partitions and gives the root of the whole.
func (l *Loader) Finish(ctx context.Context) (Root, error) {
	defer l.Close()
	b := NewBuilder(l.sink)
	if l.near.Records > 0 {
		b.Near(l.src, l.near)
	}
	for _, p := range l.parts {
		if p.first == nil {
			continue
		}
		if b.any && bytes.Compare(p.first, b.last) <= 0 {
			if err := l.setAside(ctx, p); err != nil {
				return Root{}, err
			}
			continue
		}
		if err := readd(ctx, b, p.head.buf); err != nil {
			return Root{}, err
		}
		if err := p.leaves.each(func(c child) error { return b.reuse(ctx, c) }); err != nil {
			return Root{}, err
		}
		if p.b.leaf.records > 0 {
			if err := readd(ctx, b, p.b.leaf.buf); err != nil {
				return Root{}, err
			}
		}
	}
	root, err := b.Finish(ctx)
	if err != nil || l.late.Len() == 0 {
		return root, err
	}
	items, err := l.late.Sorted()
	if err != nil {
		return Root{}, err
	}
	defer items.Close()
	near := l.near
	if near.Records == 0 {
		near = root
	}
	return merge(ctx, l.src, root, near, &extsort.PutEdits{Items: items}, l.sink)
}

// readd feeds an unfinished leaf's entries to b.
func readd(ctx context.Context, b *Builder, leaf []byte) error {
	if leaf == nil {
		return nil
	}
	return eachEntry(leaf, func(e *entry) error { return b.add(ctx, e) })
}

// setAside returns all records of a part to the sorter: it overlaps with the
// parts before it.
func (l *Loader) setAside(ctx context.Context, p *Part) error {
	put := func(r record.Record) error { return l.late.Add(r.Key, r.Value) }
	if p.head.buf != nil {
		if err := walkLeafBytes(ctx, l.src, p.head.buf, put); err != nil {
			return err
		}
	}
	if err := p.leaves.each(func(c child) error { return walkLeaf(ctx, l.src, c.hash, put) }); err != nil {
		return err
	}
	return walkLeafBytes(ctx, l.src, p.b.leaf.buf, put)
}
