package content

import (
	"bytes"
	"fmt"
	"math"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"dexamen/internal/core/sortedfile"
	"dexamen/internal/core/tree"
)

// NodeSet is a set of nodes. Of those that lie in the index's tables when the set is made it holds a bit each; the
// names of the others, which the index has in memory too, or learns later. It is not for several goroutines.
type NodeSet struct {
	x      *Index
	tables []*table          // as they are; a merge of them leaves these files alone
	bits   []*roaring.Bitmap // by table, of the first record of each node
	others map[tree.Hash]struct{}
	n      int
}

// NewNodeSet returns an empty set.
func (x *Index) NewNodeSet() *NodeSet {
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	s := &NodeSet{x: x, tables: x.tables, others: map[tree.Hash]struct{}{}}
	for range x.tables {
		s.bits = append(s.bits, roaring.New())
	}
	return s
}

// where returns the table that holds a node, and the number of its first record there; no table: -1.
func (s *NodeSet) where(h tree.Hash) (table int, number uint32, err error) {
	for i, t := range s.tables {
		at := int64(-1)
		err := t.nodes.Find(h[:], func(n int64, _ []byte) bool {
			at = n
			return false
		})
		if err == nil && at > math.MaxUint32 {
			return 0, 0, fmt.Errorf("index of nodes: a table of more than %d records", uint32(math.MaxUint32))
		}
		if err != nil {
			s.x.broken.Store(true)
			s.x.rebuild()
			return 0, 0, fmt.Errorf("index of nodes: %w; it has been made anew, so run this again", err)
		}
		if at >= 0 {
			return i, uint32(at), nil
		}
	}
	return -1, 0, nil
}

// Add adds a node, and reports whether it was not in the set.
func (s *NodeSet) Add(h tree.Hash) (added bool, err error) {
	i, number, err := s.where(h)
	switch {
	case err != nil:
		return false, err
	case i >= 0:
		added = s.bits[i].CheckedAdd(number)
	default:
		_, was := s.others[h]
		s.others[h] = struct{}{}
		added = !was
	}
	if added {
		s.n++
	}
	return added, nil
}

// Has reports whether a node is in the set.
func (s *NodeSet) Has(h tree.Hash) (bool, error) {
	if s.n == 0 {
		return false, nil
	}
	if _, ok := s.others[h]; ok {
		return true, nil
	}
	i, number, err := s.where(h)
	return err == nil && i >= 0 && s.bits[i].Contains(number), err
}

// Len returns the number of nodes in the set.
func (s *NodeSet) Len() int { return s.n }

// Names returns the names of the nodes, in order, as records of which each is one.
func (s *NodeSet) Names() sortedfile.Source {
	names := make([]byte, 0, len(s.others)*hashSize)
	for h := range s.others {
		names = append(names, h[:]...)
	}
	list := slices.Collect(slices.Chunk(names, hashSize))
	slices.SortFunc(list, bytes.Compare)
	sources := []sortedfile.Source{&sortedfile.Records{Bytes: bytes.Join(list, nil), Size: hashSize}}
	for i, t := range s.tables {
		if !s.bits[i].IsEmpty() {
			sources = append(sources, &marked{t.nodes.Cursor(), s.bits[i].Iterator(), 0})
		}
	}
	return sortedfile.NewMerge(hashSize, sources...)
}

// marked is the names of those records of which the numbers are given.
type marked struct {
	sortedfile.Source
	numbers roaring.IntPeekable
	next    uint32 // number of the next record
}

// Next implements [sortedfile.Source].
func (m *marked) Next() ([]byte, bool, error) {
	if !m.numbers.HasNext() {
		return nil, false, nil
	}
	want := m.numbers.Next()
	for {
		r, ok, err := m.Source.Next()
		m.next++
		if err != nil || !ok || m.next > want {
			return r[:min(hashSize, len(r))], ok, err
		}
	}
}
