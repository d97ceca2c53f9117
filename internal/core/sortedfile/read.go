package sortedfile

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"sync"
)

// keptHeight: blocks this high stay in memory; one of them stands for more than a million
// records of 64 bytes.
const keptHeight = 2

// Reader is what a file is read from.
type Reader interface{ io.ReaderAt }

// File is a file that a [Writer] has written. Its methods may be called from many goroutines.
type File struct {
	form  Form
	r     Reader
	root  uint32
	count int64
	last  uint32 // number of the block at the end

	mu   sync.Mutex
	kept map[uint32]block
}

// Open opens a file of a size in bytes.
func Open(r Reader, size int64, form Form) (*File, error) {
	f := &File{form: form, r: r, kept: map[uint32]block{}}
	if size < BlockSize || size%BlockSize != 0 {
		return nil, fmt.Errorf("%w: %d bytes", ErrDamaged, size)
	}
	f.last = uint32(size/BlockSize - 1)
	b := make(block, BlockSize)
	if err := f.read(f.last, b); err != nil {
		return nil, err
	}
	at := headSize + len(magic)
	if b.kind() != kindEnd || string(b[headSize:at]) != magic ||
		binary.BigEndian.Uint32(b[at+4:]) != uint32(form.Record) ||
		binary.BigEndian.Uint32(b[at+8:]) != uint32(form.Key) {
		return nil, fmt.Errorf("%w: does not end as one", ErrDamaged)
	}
	f.root, f.count = binary.BigEndian.Uint32(b[at:]), b.first()
	return f, nil
}

// Len returns the number of records.
func (f *File) Len() int64 { return f.count }

var buffers = sync.Pool{New: func() any { b := make(block, BlockSize); return &b }}

// Find calls visit with each record of a key, and its number in the file, until visit returns
// false. The record is valid until visit returns.
func (f *File) Find(key []byte, visit func(n int64, record []byte) bool) error {
	if f.count == 0 {
		return nil
	}
	buf := buffers.Get().(*block)
	defer buffers.Put(buf)
	at := f.root
	for {
		b, err := f.block(at, *buf)
		if err != nil {
			return err
		}
		if b.kind() == kindRecords {
			return f.visit(b, at, key, visit)
		}
		if b.kind() != kindNames || b.len() == 0 {
			return fmt.Errorf("%w: block %d", ErrDamaged, at)
		}
		// Records of the key may begin in the last block whose first key is less.
		size := f.form.itemSize(b)
		i := below(b, size, key)
		next := binary.BigEndian.Uint32(b.item(max(i-1, 0), size)[f.form.Key:])
		if next >= at {
			return fmt.Errorf("%w: block %d names one that comes after it", ErrDamaged, at)
		}
		at = next
	}
}

// below returns how many of a block's items have a key that is less.
func below(b block, size int, key []byte) int {
	lo, hi := 0, b.len()
	for lo < hi {
		mid := (lo + hi) / 2
		if bytes.Compare(b.item(mid, size)[:len(key)], key) < 0 {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo
}

// visit calls visit with the records of a key, from a block on.
func (f *File) visit(b block, at uint32, key []byte, visit func(int64, []byte) bool) error {
	for {
		if b.kind() == kindRecords {
			for i := below(b, f.form.Record, key); i < b.len(); i++ {
				record := b.item(i, f.form.Record)
				if !bytes.Equal(record[:len(key)], key) || !visit(b.first()+int64(i), record) {
					return nil
				}
			}
		}
		// Others of the key may begin the next block of records.
		at++
		if at >= f.last {
			return nil
		}
		if err := f.read(at, b); err != nil {
			return err
		}
	}
}

// block reads a block, or returns it where it was kept.
func (f *File) block(at uint32, buf block) (block, error) {
	f.mu.Lock()
	b, ok := f.kept[at]
	f.mu.Unlock()
	if ok {
		return b, nil
	}
	if err := f.read(at, buf); err != nil {
		return nil, err
	}
	if buf.kind() == kindNames && buf.height() >= keptHeight {
		f.mu.Lock()
		f.kept[at] = bytes.Clone(buf)
		f.mu.Unlock()
	}
	return buf, nil
}

func (f *File) read(at uint32, buf block) error {
	if at > f.last {
		return fmt.Errorf("%w: block %d of %d", ErrDamaged, at, f.last+1)
	}
	if _, err := f.r.ReadAt(buf, int64(at)*BlockSize); err != nil {
		return fmt.Errorf("sorted file: block %d: %w", at, err)
	}
	if err := buf.check(f.form.itemSize(buf)); err != nil {
		return fmt.Errorf("block %d: %w", at, err)
	}
	return nil
}

// Cursor goes through the records of a file in the order of their keys.
type Cursor struct {
	f     *File
	at    uint32 // next block to read
	buf   []byte
	b     block // of records, being gone through
	i     int
	ahead []byte // blocks that were read and not looked at
	seen  int64
}

// Cursor returns one before the first record.
func (f *File) Cursor() *Cursor { return &Cursor{f: f, buf: make([]byte, 16*BlockSize)} }

// Next implements [Source].
func (c *Cursor) Next() ([]byte, bool, error) {
	size := c.f.form.Record
	for c.b == nil || c.i == c.b.len() {
		if len(c.ahead) == 0 && c.at == c.f.last {
			if c.seen != c.f.count {
				return nil, false, fmt.Errorf("%w: %d records of %d", ErrDamaged, c.seen, c.f.count)
			}
			return nil, false, nil
		}
		if len(c.ahead) == 0 {
			n := min(len(c.buf)/BlockSize, int(c.f.last-c.at))
			if _, err := c.f.r.ReadAt(c.buf[:n*BlockSize], int64(c.at)*BlockSize); err != nil {
				return nil, false, fmt.Errorf("sorted file: block %d: %w", c.at, err)
			}
			c.ahead = c.buf[:n*BlockSize]
			c.at += uint32(n)
		}
		b := block(c.ahead[:BlockSize])
		c.ahead, c.b = c.ahead[BlockSize:], nil
		if err := b.check(c.f.form.itemSize(b)); err != nil {
			return nil, false, err
		}
		if b.kind() == kindRecords {
			c.b, c.i = b, 0
		}
	}
	c.i++
	c.seen++
	return c.b.item(c.i-1, size), true, nil
}
