package tree

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"

	"dexamen/internal/core/tempfile"
)

// spillAt is how many bytes of a list of leaves are held in memory before it goes to a file: that is of
// some GiB of records.
var spillAt = 4 << 20

// leafList is the leaves of a part, in order: in memory, and in a file without a name once there are
// many.
type leafList struct {
	dir  string
	mem  []child
	size int // bytes in mem
	file *os.File
	out  *bufio.Writer
}

// add appends a leaf.
func (l *leafList) add(c child) error {
	l.mem = append(l.mem, c)
	if l.size += len(c.last) + 72; l.size < spillAt {
		return nil
	}
	if l.file == nil {
		f, err := tempfile.New(l.dir, "dexamen-leaves-*")
		if err != nil {
			return fmt.Errorf("list of leaves: %w", err)
		}
		l.file, l.out = f, bufio.NewWriterSize(f, 1<<16)
	}
	var buf []byte
	for i := range l.mem {
		buf = appendChild(buf[:0], &l.mem[i])
		if _, err := l.out.Write(binary.AppendUvarint(nil, uint64(len(buf)))); err != nil {
			return fmt.Errorf("list of leaves: %w", err)
		}
		if _, err := l.out.Write(buf); err != nil {
			return fmt.Errorf("list of leaves: %w", err)
		}
	}
	clear(l.mem) // what they refer to
	l.mem, l.size = l.mem[:0], 0
	return nil
}

// each calls fn with the leaves.
func (l *leafList) each(fn func(child) error) error {
	if l.file != nil {
		if err := l.out.Flush(); err != nil {
			return fmt.Errorf("list of leaves: %w", err)
		}
		if _, err := l.file.Seek(0, io.SeekStart); err != nil {
			return fmt.Errorf("list of leaves: %w", err)
		}
		r := bufio.NewReaderSize(l.file, 1<<16)
		for {
			n, err := binary.ReadUvarint(r)
			if errors.Is(err, io.EOF) {
				break
			}
			raw := make([]byte, n)
			if err == nil {
				_, err = io.ReadFull(r, raw)
			}
			var c child
			if err == nil {
				c, _, err = readChild(raw)
			}
			if err != nil {
				return fmt.Errorf("list of leaves: %w", err)
			}
			c.last = bytes.Clone(c.last)
			if err := fn(c); err != nil {
				return err
			}
		}
	}
	for _, c := range l.mem {
		if err := fn(c); err != nil {
			return err
		}
	}
	return nil
}

func (l *leafList) close() {
	if l.file != nil {
		_ = l.file.Close()
	}
}
