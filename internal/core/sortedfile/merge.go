package sortedfile

import (
	"bytes"
	"container/heap"
)

// Source hands out records in the order of their keys, each valid until the next.
type Source interface {
	Next() (record []byte, ok bool, err error)
}

// Records is a source of records that lie one after the other, and are in order.
type Records struct {
	Bytes []byte
	Size  int // of a record
}

// Next implements [Source].
func (r *Records) Next() ([]byte, bool, error) {
	if len(r.Bytes) < r.Size {
		return nil, false, nil
	}
	record := r.Bytes[:r.Size:r.Size]
	r.Bytes = r.Bytes[r.Size:]
	return record, true, nil
}

// Merge is the records of several sources as one.
type Merge struct {
	heads
	begun bool
}

// NewMerge returns the records of sources in the order of keys of a size in bytes; of those with the
// same key, those of earlier sources come first.
func NewMerge(keySize int, sources ...Source) *Merge {
	m := &Merge{heads: heads{key: keySize}}
	for i, s := range sources {
		m.list = append(m.list, &head{Source: s, order: i})
	}
	return m
}

// Next implements [Source].
func (m *Merge) Next() ([]byte, bool, error) {
	if !m.begun {
		m.begun = true
		list := m.list
		m.list = nil
		for _, x := range list {
			record, ok, err := x.Next()
			if err != nil {
				return nil, false, err
			}
			if x.record = record; ok {
				m.list = append(m.list, x)
			}
		}
		heap.Init(&m.heads)
	} else if len(m.list) > 0 {
		// The record that was handed out last is done with.
		record, ok, err := m.list[0].Next()
		switch {
		case err != nil:
			return nil, false, err
		case ok:
			m.list[0].record = record
			heap.Fix(&m.heads, 0)
		default:
			heap.Pop(&m.heads)
		}
	}
	if len(m.list) == 0 {
		return nil, false, nil
	}
	return m.list[0].record, true, nil
}

// head is the next record of a source.
type head struct {
	Source
	record []byte
	order  int
}

// heads is a heap of them.
type heads struct {
	key  int
	list []*head
}

func (h *heads) Len() int      { return len(h.list) }
func (h *heads) Swap(i, j int) { h.list[i], h.list[j] = h.list[j], h.list[i] }
func (h *heads) Less(i, j int) bool {
	a, b := h.list[i], h.list[j]
	c := bytes.Compare(a.record[:h.key], b.record[:h.key])
	return c < 0 || c == 0 && a.order < b.order
}
func (h *heads) Push(x any) { h.list = append(h.list, x.(*head)) }
func (h *heads) Pop() any {
	x := h.list[len(h.list)-1]
	h.list = h.list[:len(h.list)-1]
	return x
}
