package sortedfile

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
)

// Writer writes a file. Its memory is a block for each height of the tree.
type Writer struct {
	form   Form
	w      *bufio.Writer
	blocks uint32 // written
	count  int64
	levels []*level // of records, of names of those, and so on
	last   []byte   // key of the last record
}

// level is the block of one height that is being filled.
type level struct {
	b     block
	n     int
	first int64
}

// NewWriter returns a writer of a file that is empty.
func NewWriter(w io.Writer, form Form) *Writer {
	return &Writer{form: form, w: bufio.NewWriterSize(w, 64*BlockSize)}
}

// Add adds a record; its key is not less than that of the one before.
func (w *Writer) Add(record []byte) error {
	key := record[:w.form.Key]
	if w.count > 0 && bytes.Compare(key, w.last) < 0 {
		return fmt.Errorf("sorted file: a record that comes before the last one")
	}
	w.last = append(w.last[:0], key...)
	if err := w.put(0, record[:w.form.Record], nil); err != nil {
		return err
	}
	w.count++
	return nil
}

// put adds an item, in two parts, to the block of a height; where that is full it is written
// and named in one above.
func (w *Writer) put(height int, item, more []byte) error {
	if height == len(w.levels) {
		w.levels = append(w.levels, &level{b: make(block, BlockSize)})
	}
	l := w.levels[height]
	size := len(item) + len(more)
	if (l.n+1)*size > roomSize {
		if err := w.end(height); err != nil {
			return err
		}
	}
	if l.n == 0 {
		l.first = w.count
	}
	at := headSize + l.n*size
	copy(l.b[at:], item)
	copy(l.b[at+len(item):], more)
	l.n++
	return nil
}

// end writes the block of a height and names it above.
func (w *Writer) end(height int) error {
	l := w.levels[height]
	kind := byte(kindRecords)
	if height > 0 {
		kind = kindNames
	}
	var number [4]byte
	binary.BigEndian.PutUint32(number[:], w.blocks)
	key := l.b[headSize : headSize+w.form.Key : headSize+w.form.Key]
	if err := w.write(l.b, kind, height, l.n, l.first); err != nil {
		return err
	}
	if err := w.put(height+1, key, number[:]); err != nil {
		return err
	}
	clear(l.b)
	l.n = 0
	return nil
}

func (w *Writer) write(b block, kind byte, height, n int, first int64) error {
	if w.blocks == math.MaxUint32 {
		return fmt.Errorf("sorted file: more than %d blocks", w.blocks)
	}
	b.seal(kind, byte(height), n, first)
	w.blocks++
	_, err := w.w.Write(b)
	return err
}

// Close writes what is left, and where the tree begins.
func (w *Writer) Close() error {
	last := make(block, BlockSize)
	copy(last[headSize:], magic)
	for h := 0; h < len(w.levels); h++ {
		if h > 0 && h == len(w.levels)-1 && w.levels[h].n == 1 {
			// One block is below: the tree begins there.
			copy(last[headSize+len(magic):], w.levels[h].b[headSize+w.form.Key:headSize+w.form.Key+4])
			break
		}
		if w.levels[h].n > 0 {
			if err := w.end(h); err != nil {
				return err
			}
		}
	}
	at := headSize + len(magic) + 4
	binary.BigEndian.PutUint32(last[at:], uint32(w.form.Record))
	binary.BigEndian.PutUint32(last[at+4:], uint32(w.form.Key))
	if err := w.write(last, kindEnd, 0, 0, w.count); err != nil {
		return err
	}
	return w.w.Flush()
}
