// Package extsort sorts more than fits into memory.
package extsort

import (
	"bufio"
	"bytes"
	"cmp"
	"container/heap"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/klauspost/compress/zstd"

	"dexamen/internal/core/tempfile"
)

// Sorter puts items in order of their keys; items of one key stay in the order
// they came in. It holds up to a bound of bytes in memory and writes sorted
// runs to temporary files beyond that. Input that is in order already is never
// sorted, and its runs are read back one after the other.
//
// The files are unlinked as soon as they are open: nothing is left behind by a
// process that is killed.
type Sorter struct {
	dir    string
	bound  int
	chunks [][]byte // what items hold, in blocks: one that grows would be copied again and again
	free   [][]byte
	open   int // the block that is being filled
	used   int
	items  []sortItem
	common int // bytes with which all keys in memory begin
	sorted bool
	runs   []*run
	count  int64
	keyBuf []byte // of AddTo
}

// sortItem is where an item lies. Its prefix is of the first bytes of its key in which
// keys differ: most are put in order by it, without a look at where they lie.
type sortItem struct {
	prefix     uint64
	chunk, off uint32
	key, val   uint32
	came       uint32 // in which order, since the last were written out
}

// chunkBytes is the size of a block; what is larger than a quarter of it has one of its own.
const chunkBytes = 1 << 20

type run struct {
	file *os.File
}

// maxRuns is how many runs are merged at once; more are merged in steps, so
// that neither files nor buffers grow with the data.
const maxRuns = 48

// New makes a sorter that uses at most about bound bytes of memory and
// temporary files in dir (the system's folder when empty).
func New(dir string, bound int) *Sorter {
	return &Sorter{dir: dir, bound: max(bound, 1<<10), sorted: true}
}

// Len returns the number of items added.
func (s *Sorter) Len() int64 { return s.count }

// Add takes an item, copying its bytes.
func (s *Sorter) Add(key, value []byte) error {
	const overhead = 32
	size := len(key) + len(value)
	if len(s.items) > 0 && s.used+size+(len(s.items)+1)*overhead > s.bound {
		if err := s.spill(); err != nil {
			return err
		}
	}
	if n := len(s.items); n == 0 {
		s.common = len(key)
	} else {
		s.common = commonBytes(key, s.key(&s.items[0]), s.common)
		s.sorted = s.sorted && bytes.Compare(s.key(&s.items[n-1]), key) <= 0
	}
	at := s.room(size)
	c := s.chunks[at]
	s.items = append(s.items, sortItem{chunk: uint32(at), off: uint32(len(c)), key: uint32(len(key)),
		val: uint32(len(value)), came: uint32(len(s.items))})
	s.chunks[at] = append(append(c, key...), value...)
	s.used += size
	s.count++
	return nil
}

// room returns the block that takes the next bytes.
func (s *Sorter) room(size int) int {
	if n := len(s.chunks); n > 0 && len(s.chunks[s.open])+size <= cap(s.chunks[s.open]) {
		return s.open
	}
	block := s.blockBytes()
	if size > block/4 {
		s.chunks = append(s.chunks, make([]byte, 0, size))
		return len(s.chunks) - 1
	}
	if n := len(s.free); n > 0 {
		s.chunks = append(s.chunks, s.free[n-1])
		s.free = s.free[:n-1]
	} else {
		s.chunks = append(s.chunks, make([]byte, 0, block))
	}
	s.open = len(s.chunks) - 1
	return s.open
}

func (s *Sorter) blockBytes() int { return min(chunkBytes, max(s.bound/8, 1<<10)) }

// empty lets go of what is in memory, and keeps blocks to be filled again.
func (s *Sorter) empty() {
	for _, c := range s.chunks {
		if cap(c) == s.blockBytes() {
			s.free = append(s.free, c[:0])
		}
	}
	s.chunks, s.open, s.used = s.chunks[:0], 0, 0
	s.items, s.sorted = s.items[:0], true
}

// commonBytes is how many bytes of at most n two keys begin with alike.
func commonBytes(a, b []byte, n int) int {
	n = min(n, len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

func (s *Sorter) key(i *sortItem) []byte { return s.chunks[i.chunk][i.off : i.off+i.key] }
func (s *Sorter) value(i *sortItem) []byte {
	from := i.off + i.key
	return s.chunks[i.chunk][from : from+i.val : from+i.val]
}

func (s *Sorter) order() {
	if s.sorted {
		return
	}
	var head [8]byte
	for i := range s.items {
		it := &s.items[i]
		head = [8]byte{}
		copy(head[:], s.key(it)[s.common:])
		it.prefix = binary.BigEndian.Uint64(head[:])
	}
	// Equal keys stay in the order in which they came, which is that of their numbers: a sort that
	// keeps order by itself takes twice as long.
	slices.SortFunc(s.items, func(a, b sortItem) int {
		if a.prefix != b.prefix {
			return cmp.Compare(a.prefix, b.prefix)
		}
		if c := bytes.Compare(s.key(&a)[s.common:], s.key(&b)[s.common:]); c != 0 {
			return c
		}
		return cmp.Compare(a.came, b.came)
	})
	s.sorted = true
}

func (s *Sorter) spill() error {
	s.order()
	if len(s.runs) >= maxRuns {
		merged, err := writeRun(s.dir, func(put func(k, v []byte) error) error {
			m, err := newMergeReader(s.runs, nil)
			if err != nil {
				return err
			}
			defer m.close()
			for {
				k, v, ok, err := m.next()
				if err != nil || !ok {
					return err
				}
				if err := put(k, v); err != nil {
					return err
				}
			}
		})
		if err != nil {
			return err
		}
		closeRuns(s.runs)
		s.runs = append(s.runs[:0], merged)
	}
	r, err := writeRun(s.dir, func(put func(k, v []byte) error) error {
		for i := range s.items {
			if err := put(s.key(&s.items[i]), s.value(&s.items[i])); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.runs = append(s.runs, r)
	s.empty()
	return nil
}

func writeRun(dir string, fill func(put func(k, v []byte) error) error) (*run, error) {
	f, err := tempfile.New(dir, "dexamen-sort-*")
	if err != nil {
		return nil, fmt.Errorf("sorting on disk: %w", err)
	}
	z, err := zstd.NewWriter(f, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(64<<10),
		zstd.WithEncoderConcurrency(1))
	if err == nil {
		w := bufio.NewWriterSize(z, 64<<10)
		var head []byte
		err = fill(func(k, v []byte) error {
			head = binary.AppendUvarint(head[:0], uint64(len(k)))
			head = binary.AppendUvarint(head, uint64(len(v)))
			_, _ = w.Write(head)
			_, _ = w.Write(k)
			_, err := w.Write(v)
			return err
		})
		err = errors.Join(err, w.Flush(), z.Close())
	}
	if err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("sorting on disk: %w", err)
	}
	return &run{file: f}, nil
}

func closeRuns(runs []*run) {
	for _, r := range runs {
		_ = r.file.Close()
	}
}

// Close removes the temporary files. It may be called at any time, and
// more than once.
func (s *Sorter) Close() {
	closeRuns(s.runs)
	s.runs, s.chunks, s.free, s.items = nil, nil, nil, nil
}

// Sorted returns the items in order. Nothing may be added afterwards; Sorted may
// be called again to begin anew.
func (s *Sorter) Sorted() (*Items, error) {
	s.order()
	m, err := newMergeReader(s.runs, s)
	if err != nil {
		return nil, err
	}
	return &Items{m: m}, nil
}

// Items reads a sorter's items in order.
type Items struct{ m *mergeReader }

// Next returns the next item; its bytes are valid until the call after.
func (it *Items) Next() (key, value []byte, ok bool, err error) { return it.m.next() }

// Close ends reading.
func (it *Items) Close() { it.m.close() }

// mergeReader merges runs and, last, the items in memory.
type mergeReader struct {
	sources []*runReader
	first   *runReader // the one whose item was handed out last
}

type runReader struct {
	age      int
	z        *zstd.Decoder
	in       *bufio.Reader
	mem      *Sorter
	pos      int
	buf      []byte
	key, val []byte
}

func newMergeReader(runs []*run, mem *Sorter) (*mergeReader, error) {
	m := &mergeReader{}
	for i, r := range runs {
		// A section of its own lets several readers use one file.
		z, err := zstd.NewReader(io.NewSectionReader(r.file, 0, 1<<62), zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderLowmem(true))
		if err != nil {
			m.close()
			return nil, fmt.Errorf("sorting on disk: %w", err)
		}
		m.sources = append(m.sources, &runReader{age: i, z: z, in: bufio.NewReaderSize(z, 32<<10)})
	}
	if mem != nil && len(mem.items) > 0 {
		m.sources = append(m.sources, &runReader{age: len(runs), mem: mem})
	}
	alive := m.sources[:0:0]
	for _, s := range m.sources {
		ok, err := s.advance()
		if err != nil {
			m.close()
			return nil, err
		}
		if ok {
			alive = append(alive, s)
		}
	}
	m.sources = alive
	heap.Init((*runHeap)(&m.sources))
	return m, nil
}

func (r *runReader) advance() (bool, error) {
	if r.mem != nil {
		if r.pos == len(r.mem.items) {
			return false, nil
		}
		it := &r.mem.items[r.pos]
		r.pos++
		r.key, r.val = r.mem.key(it), r.mem.value(it)
		return true, nil
	}
	k, err := binary.ReadUvarint(r.in)
	if errors.Is(err, io.EOF) {
		r.z.Close()
		return false, nil
	}
	v, err2 := binary.ReadUvarint(r.in)
	if err := errors.Join(err, err2); err != nil {
		return false, fmt.Errorf("sorting on disk: %w", err)
	}
	r.buf = slices.Grow(r.buf[:0], int(k+v))[:k+v]
	if _, err := io.ReadFull(r.in, r.buf); err != nil {
		return false, fmt.Errorf("sorting on disk: %w", err)
	}
	r.key, r.val = r.buf[:k:k], r.buf[k:]
	return true, nil
}

func (m *mergeReader) next() (key, value []byte, ok bool, err error) {
	if m.first != nil {
		more, err := m.first.advance()
		if err != nil {
			return nil, nil, false, err
		}
		if more {
			heap.Fix((*runHeap)(&m.sources), 0)
		} else {
			heap.Pop((*runHeap)(&m.sources))
		}
		m.first = nil
	}
	if len(m.sources) == 0 {
		return nil, nil, false, nil
	}
	m.first = m.sources[0]
	return m.first.key, m.first.val, true, nil
}

func (m *mergeReader) close() {
	for _, s := range m.sources {
		if s.z != nil {
			s.z.Close()
		}
	}
	m.sources, m.first = nil, nil
}

type runHeap []*runReader

func (h runHeap) Len() int { return len(h) }
func (h runHeap) Less(i, j int) bool {
	c := bytes.Compare(h[i].key, h[j].key)
	return c < 0 || c == 0 && h[i].age < h[j].age
}
func (h runHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *runHeap) Push(x any)   { *h = append(*h, x.(*runReader)) }
func (h *runHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// PutEdits turns sorted items into edits that put them, the last of a key
// winning; with Remove set, into edits that remove the records of their keys.
type PutEdits struct {
	Items      *Items
	Remove     bool
	key, value []byte
	nk, nv     []byte
	more       bool
	begun      bool
}

func (p *PutEdits) pull() (err error) {
	var k, v []byte
	k, v, p.more, err = p.Items.Next()
	p.nk, p.nv = append(p.nk[:0], k...), append(p.nv[:0], v...)
	return err
}

// NextKey implements Edits.
func (p *PutEdits) NextKey(context.Context) ([]byte, bool, error) {
	if !p.begun {
		p.begun = true
		if err := p.pull(); err != nil {
			return nil, false, err
		}
	}
	if !p.more {
		return nil, false, nil
	}
	p.key = append(p.key[:0], p.nk...)
	for {
		p.value = append(p.value[:0], p.nv...)
		if err := p.pull(); err != nil {
			return nil, false, err
		}
		if !p.more || !bytes.Equal(p.nk, p.key) {
			return p.key, true, nil
		}
	}
}

// Blind implements tree.Blind: what a key had is not looked at.
func (p *PutEdits) Blind() {}

// Edit implements Edits.
func (p *PutEdits) Edit(context.Context, []byte, bool) ([]byte, bool, error) {
	return p.value, !p.Remove, nil
}
