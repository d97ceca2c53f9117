package tree

import (
	"bytes"
	"context"
	"errors"

	"dexamen/internal/core/record"
)

// Difference is one key at which two trees differ. A side that does not hold
// the key has a nil value.
type Difference struct {
	Key  []byte
	A, B []byte
}

// Side is a tree and where its nodes are.
type Side struct {
	Source Source
	Root   Root
}

// Diff calls fn with every key whose value differs between a and b, in key
// order. Stretches that are the same are not read: the cost is in proportion
// to the difference. Bytes are valid until fn returns.
func Diff(ctx context.Context, a, b Side, fn func(Difference) error) error {
	return diff(ctx, newDiffSide(a), newDiffSide(b), fn)
}

// DiffWithin is Diff of a tree a and that stretch of b which goes from the key first to the key last, both of
// which a holds as its first and its last: what b has before and after it is no difference, and is not
// read.
func DiffWithin(ctx context.Context, a, b Side, first, last []byte, fn func(Difference) error) error {
	r := newDiffSide(b)
	r.from = first
	if err := r.cur.seek(ctx, first); err != nil {
		return err
	}
	err := diff(ctx, newDiffSide(a), r, func(d Difference) error {
		if bytes.Compare(d.Key, last) > 0 {
			return errStopped
		}
		return fn(d)
	})
	if errors.Is(err, errStopped) {
		return nil
	}
	return err
}

func diff(ctx context.Context, l, r *diffSide, fn func(Difference) error) error {
	for {
		// While both stand before nodes, skip what is equal and go down where
		// it is not, always on the side that stands higher.
		for l.idle() && r.idle() {
			ln, ll, lok := l.cur.peek()
			rn, rl, rok := r.cur.peek()
			if !lok || !rok {
				break
			}
			switch {
			case ln.hash == rn.hash:
				l.cur.skip()
				r.cur.skip()
			case ll == 0 && rl == 0:
				if err := l.open(ctx); err != nil {
					return err
				}
				if err := r.open(ctx); err != nil {
					return err
				}
			default:
				if ll >= rl {
					if err := l.cur.enter(ctx); err != nil {
						return err
					}
				}
				if rl >= ll {
					if err := r.cur.enter(ctx); err != nil {
						return err
					}
				}
			}
		}
		lok, err := l.fill(ctx)
		if err != nil {
			return err
		}
		rok, err := r.fill(ctx)
		if err != nil {
			return err
		}
		if !lok && !rok {
			return nil
		}
		order := 0
		switch {
		case !rok:
			order = -1
		case !lok:
			order = 1
		default:
			order = bytes.Compare(l.entry.key, r.entry.key)
		}
		d := Difference{}
		if order <= 0 {
			d.Key = l.entry.key
		} else {
			d.Key = r.entry.key
		}
		if order != 0 || !bytes.Equal(l.leaf.body, r.leaf.body) {
			if order <= 0 {
				if d.A, err = l.entry.load(ctx, l.cur.src); err != nil {
					return err
				}
				d.A = present(d.A)
			}
			if order >= 0 {
				if d.B, err = r.entry.load(ctx, r.cur.src); err != nil {
					return err
				}
				d.B = present(d.B)
			}
			if err := fn(d); err != nil {
				return err
			}
		}
		if order <= 0 {
			l.have = false
		}
		if order >= 0 {
			r.have = false
		}
	}
}

// present makes an empty value different from an absent one.
func present(v []byte) []byte {
	if v == nil {
		return []byte{}
	}
	return v
}

type diffSide struct {
	cur   *cursor
	leaf  leafReader
	entry entry
	have  bool
	from  []byte // what comes before is left out
}

func newDiffSide(s Side) *diffSide { return &diffSide{cur: newCursor(s.Source, s.Root)} }

// idle reports that the side stands before a node, with no records pending.
func (d *diffSide) idle() bool { return !d.have && len(d.leaf.rest) == 0 }

func (d *diffSide) open(ctx context.Context) error {
	n, _, _ := d.cur.peek()
	b, err := d.cur.src.Node(ctx, n.hash)
	if err != nil {
		return err
	}
	d.cur.skip()
	d.leaf, err = newLeafReader(b)
	return err
}

// fill makes the next record pending, going down where needed.
func (d *diffSide) fill(ctx context.Context) (bool, error) {
	for !d.have {
		if len(d.leaf.rest) > 0 {
			ok, err := d.leaf.next(&d.entry)
			if err != nil {
				return false, err
			}
			d.have = ok && bytes.Compare(d.entry.key, d.from) >= 0
			continue
		}
		_, level, ok := d.cur.peek()
		if !ok {
			return false, nil
		}
		var err error
		if level > 0 {
			err = d.cur.enter(ctx)
		} else {
			err = d.open(ctx)
		}
		if err != nil {
			return false, err
		}
	}
	return true, nil
}

// Iterator returns a tree's records one by one, in key order.
type Iterator struct{ side *diffSide }

// NewIterator makes an iterator that stands before the first record.
func NewIterator(src Source, root Root) *Iterator {
	return &Iterator{newDiffSide(Side{src, root})}
}

// Next returns the next record, or ok false at the end. Its bytes are valid
// until the call after.
func (it *Iterator) Next(ctx context.Context) (r record.Record, ok bool, err error) {
	it.side.have = false
	ok, err = it.side.fill(ctx)
	if err != nil || !ok {
		return r, false, err
	}
	r, err = it.side.entry.record(ctx, it.side.cur.src)
	return r, err == nil, err
}
