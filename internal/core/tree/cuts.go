package tree

import (
	"context"
	"math/bits"

	"github.com/cespare/xxhash/v2"
	"github.com/dchest/siphash"

	"dexamen/internal/core/record"
)

// Cuts says where nodes end: by a hash of keys, so that the same records make the same nodes
// whatever was there before. With a key of its own nobody who chooses the records' keys chooses
// the nodes too, nor tells from their lengths what is in them. The zero Cuts has no key.
//
// Trees with different cuts can be read and compared; only one with the same cuts takes over
// another's nodes.
type Cuts struct {
	k0, k1 uint64
	keyed  bool
}

// KeyedCuts returns the cuts of a key of 128 secret bits.
func KeyedCuts(k0, k1 uint64) Cuts { return Cuts{k0, k1, true} }

// afterRecord reports whether a leaf ends after a record: a hash of its key decides,
// weighted by its size so that leaves have about the same number of bytes
// whatever the records are like. The size counts in powers of two, so that a
// value that grows a little hardly ever moves a boundary.
func (c Cuts) afterRecord(key []byte, size int) bool {
	n := bits.Len(uint(size - 1)) // size rounded up to 2^n
	if n >= targetBits {
		return true
	}
	return c.hash(key, 0) < 1<<(64-targetBits+n)
}

// afterChild reports whether an inner node of a level ends after a child.
func (c Cuts) afterChild(lastKey []byte, level int) bool {
	return c.hash(lastKey, level) < 1<<(64-6) // 1 in innerFan
}

func (c Cuts) hash(key []byte, level int) uint64 {
	if c.keyed {
		return siphash.Hash(c.k0, c.k1^uint64(level), key)
	}
	if level == 0 {
		return xxhash.Sum64(key)
	}
	var d xxhash.Digest
	d.ResetWithSeed(uint64(level))
	_, _ = d.Write(key)
	return d.Sum64()
}

// Nowhere is a sink that keeps nothing, for the root alone.
type Nowhere Cuts

// PutNode implements [Sink].
func (Nowhere) PutNode(context.Context, Hash, []byte, Hash) error { return nil }

// Cuts implements [Sink].
func (n Nowhere) Cuts() Cuts { return Cuts(n) }

// RootWith returns the root that a tree's records have with other cuts; all of them are read.
func RootWith(ctx context.Context, src Source, root Root, cuts Cuts) (Root, error) {
	b := NewBuilder(Nowhere(cuts))
	if err := Walk(ctx, src, root, func(r record.Record) error { return b.Add(ctx, r) }); err != nil {
		return Root{}, err
	}
	return b.Finish(ctx)
}
