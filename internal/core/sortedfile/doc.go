// Package sortedfile keeps records of one size in the order of their keys, in files that are
// written once. A lookup reads a block or two, however many records there are, and almost
// nothing stays in memory.
//
//	write.go   Writer: records in order become a file
//	read.go    File: records by their key, or all of them
//	merge.go   the records of several files as one sequence
//
// A file is blocks of BlockSize bytes. Blocks of records and blocks that name others lie
// between each other, as they became full; the last one says where the tree of names begins.
// Each block ends with a checksum, so that whatever a disk does is found.
package sortedfile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
)

// BlockSize is how many bytes are read at once.
const BlockSize = 4 << 10

// ErrDamaged is returned when a file is not as it was written.
var ErrDamaged = errors.New("sorted file damaged")

// Form is what the records of a file are like: each has Record bytes, of which the first Key
// are its key. Several records may have the same key.
type Form struct{ Record, Key int }

// What a block holds.
const (
	kindRecords = 1 + iota
	kindNames   // keys and numbers of blocks
	kindEnd
)

// A block is its kind, its height above the records, the number of its items, the number that
// its first record has in the file, the items, and a checksum.
const (
	headSize = 1 + 1 + 2 + 8
	sumSize  = 4
	roomSize = BlockSize - headSize - sumSize
)

const magic = "DXSORT1\x00"

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// block is a block's bytes.
type block []byte

func (b block) kind() byte   { return b[0] }
func (b block) height() int  { return int(b[1]) }
func (b block) len() int     { return int(binary.BigEndian.Uint16(b[2:])) }
func (b block) first() int64 { return int64(binary.BigEndian.Uint64(b[4:])) }

// item returns one of a block's items.
func (b block) item(i, size int) []byte {
	return b[headSize+i*size : headSize+(i+1)*size : headSize+(i+1)*size]
}

// seal completes a block.
func (b block) seal(kind, height byte, n int, first int64) {
	b[0], b[1] = kind, height
	binary.BigEndian.PutUint16(b[2:], uint16(n))
	binary.BigEndian.PutUint64(b[4:], uint64(first))
	binary.BigEndian.PutUint32(b[BlockSize-sumSize:], crc32.Checksum(b[:BlockSize-sumSize], castagnoli))
}

// check returns an error where a block is not what seal made of it.
func (b block) check(size int) error {
	if crc32.Checksum(b[:BlockSize-sumSize], castagnoli) != binary.BigEndian.Uint32(b[BlockSize-sumSize:]) {
		return fmt.Errorf("%w: checksum", ErrDamaged)
	}
	if b.kind() != kindEnd && b.len()*size > roomSize {
		return fmt.Errorf("%w: too many items", ErrDamaged)
	}
	return nil
}

// itemSize returns the size of a block's items.
func (o Form) itemSize(b block) int {
	if b.kind() == kindNames {
		return o.Key + 4
	}
	return o.Record
}
