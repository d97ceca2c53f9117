package files

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
)

// Item is what is stored of a file as one record: its entry, with all of its content where
// that is small, or a piece of its content.
type Item struct {
	Path       string
	Kind       Kind
	Mode       uint32
	UID, GID   uint32
	Size       int64 // bytes, of regular files
	MTime      int64 // nanoseconds since 1970
	Target     string
	Attributes []Attribute
	Sparse     bool
	// LinkTo is the path of the first file, in order of keys, that this one is a hard link
	// of; it has no content of its own then.
	LinkTo string
	// Piece: it is a piece of the file's content, from Offset on, and has nothing else.
	// Pieces of zeros are not stored.
	Piece  bool
	Offset int64
	Data   []byte
}

const (
	entryTag byte = 'E'
	pieceTag byte = 'P'
)

// Prefix is what the keys of all records of a file begin with, and no others.
func Prefix(path string) []byte { return append([]byte(path), 0) }

// PrefixOf returns the part of a record's key that is its file's.
func PrefixOf(key []byte) []byte {
	for i, c := range key {
		if c == 0 {
			return key[: i+1 : i+1]
		}
	}
	return key
}

// Key returns the key of a record: the path and a zero byte; of a piece its offset too, in
// eight bytes.
func (it *Item) Key() []byte {
	k := Prefix(it.Path)
	if it.Piece {
		k = binary.BigEndian.AppendUint64(k, uint64(it.Offset))
	}
	return k
}

// Append appends a record's value: the content, what describes it, and the length of that
// in four bytes. Content comes first, so that equal content is cut into equal pieces.
func (it *Item) Append(dst []byte) []byte {
	dst = append(dst, it.Data...)
	at := len(dst)
	text := func(s string) {
		dst = binary.AppendUvarint(dst, uint64(len(s)))
		dst = append(dst, s...)
	}
	number := func(n uint64) { dst = binary.AppendUvarint(dst, n) }
	if it.Piece {
		dst = append(dst, pieceTag)
		text(it.Path)
		number(uint64(it.Offset))
	} else {
		dst = append(dst, entryTag, byte(it.Kind))
		text(it.Path)
		number(uint64(it.Mode))
		number(uint64(it.UID))
		number(uint64(it.GID))
		number(uint64(it.Size))
		dst = binary.BigEndian.AppendUint64(dst, uint64(it.MTime))
		sparse := uint64(0)
		if it.Sparse {
			sparse = 1
		}
		number(sparse)
		text(it.Target)
		text(it.LinkTo)
		number(uint64(len(it.Attributes)))
		for _, a := range it.Attributes {
			text(a.Name)
			text(a.Value)
		}
	}
	return binary.BigEndian.AppendUint32(dst, uint32(len(dst)-at))
}

// ErrRecord is returned when a value is no record of a file.
var ErrRecord = errors.New("it is no record of a file")

type fieldReader struct {
	b   []byte
	bad bool
}

func (r *fieldReader) number() uint64 {
	n, l := binary.Uvarint(r.b)
	if l <= 0 {
		r.b, r.bad = nil, true
		return 0
	}
	r.b = r.b[l:]
	return n
}

func (r *fieldReader) bytes(n uint64) []byte {
	if n > uint64(len(r.b)) {
		r.b, r.bad = nil, true
		return nil
	}
	b := r.b[:n]
	r.b = r.b[n:]
	return b
}

func (r *fieldReader) text() string { return string(r.bytes(r.number())) }

// Parse reads a record's value. Data lies in it.
func Parse(value []byte) (Item, error) {
	var it Item
	n := len(value) - 4
	if n < 1 {
		return it, ErrRecord
	}
	l := int64(binary.BigEndian.Uint32(value[n:]))
	if l < 1 || l > int64(n) {
		return it, ErrRecord
	}
	it.Data = value[: int64(n)-l : int64(n)-l]
	r := &fieldReader{b: value[int64(n)-l : n]}
	switch tag := r.bytes(1)[0]; tag {
	case pieceTag:
		it.Piece, it.Path, it.Offset = true, r.text(), int64(r.number())
	case entryTag:
		if k := r.bytes(1); len(k) == 1 {
			it.Kind = Kind(k[0])
		}
		it.Path = r.text()
		it.Mode, it.UID, it.GID = uint32(r.number()), uint32(r.number()), uint32(r.number())
		it.Size = int64(r.number())
		if t := r.bytes(8); t != nil {
			it.MTime = int64(binary.BigEndian.Uint64(t))
		}
		it.Sparse = r.number() != 0
		it.Target, it.LinkTo = r.text(), r.text()
		for n := r.number(); n > 0 && !r.bad; n-- {
			it.Attributes = append(it.Attributes, Attribute{r.text(), r.text()})
		}
	default:
		r.bad = true
	}
	if r.bad || len(r.b) > 0 || it.Offset < 0 || it.Size < 0 {
		return it, ErrRecord
	}
	return it, errors.Join(checkPath(it.Path), checkPath(it.LinkTo))
}

// checkPath refuses paths that could lead out of a folder.
func checkPath(p string) error {
	if p == "" {
		return nil
	}
	if strings.ContainsRune(p, 0) {
		return fmt.Errorf("%w: its path has a zero byte", ErrRecord)
	}
	for el := range strings.SplitSeq(p, "/") {
		if el == "" || el == "." || el == ".." {
			return fmt.Errorf("%w: its path %q leads elsewhere", ErrRecord, p)
		}
	}
	return nil
}
