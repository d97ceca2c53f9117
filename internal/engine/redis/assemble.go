package redis

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/record"
	"dexamen/internal/engine/redis/rdb"
	"dexamen/internal/engine/redis/resp"
)

// A key is one record when it is small: its value is the commands, in the
// servers' protocol, that make it, in an order that hangs on the content alone,
// so that equal content has equal bytes whichever way a server packs it. A large
// key is a record that says so and one for each element or piece, so that no
// step holds all of it.
//
// A record's key is the key below its namespace's prefix, with 00 as 00 FF, then
// 00 01, which ends the unit; for the parts of a large key there follow the part's
// class and place.
const (
	// largeBytes is the size from which a key is kept in parts: its elements'
	// bytes, and sizeEach for every one.
	largeBytes = 256 << 10
	sizeEach   = 16
	// chunkBytes is about how much of a large list is in a record.
	chunkBytes = 64 << 10
	// placeBytes is how much of an element is its place; a longer one has its
	// hash besides.
	placeBytes = 512
)

// Classes of the parts of a large key.
const (
	classElement = 1
	classAfter   = 2
	classExpiry  = 3
)

// unitKey returns the key of a key's first record, with which all others begin.
func unitKey(key []byte) []byte {
	out := make([]byte, 0, len(key)+2)
	for _, c := range key {
		if out = append(out, c); c == 0 {
			out = append(out, 0xFF)
		}
	}
	return append(out, 0, 1)
}

// unitOf returns the beginning of a record's key that its whole unit has, and the
// key of the server it stands for.
func unitOf(k []byte) (unit, key []byte, err error) {
	for i := 0; i+1 < len(k); i++ {
		if k[i] != 0 {
			key = append(key, k[i])
			continue
		}
		switch k[i+1] {
		case 0xFF:
			key = append(key, 0)
			i++
		case 1:
			return k[:i+2], key, nil
		default:
			return nil, nil, fmt.Errorf("record key %x is none of a key of a server", k)
		}
	}
	return nil, nil, fmt.Errorf("record key %x is none of a key of a server", k)
}

// assembler makes records of what is read. It implements sink, for which it says
// to which namespace and by which name a key belongs.
type assembler struct {
	// name gives the namespace of a key and the part of it that names it there;
	// ok false leaves it out.
	name func(db int, key []byte) (ns string, short []byte, ok bool)
	emit func(ns string, r record.Record) error
	// code takes libraries of functions.
	code func([]byte) error

	ns      string
	key     []byte
	unit    []byte
	typ     rdb.Kind
	expires int64
	skip    bool
	large   bool
	size    int
	parts   [][][]byte // held elements; each its arguments
	order   []sortable // scratch
	string_ []byte
	afters  [][][]byte
	index   uint64 // of the next list element or piece, or part after
	buf     []byte
	keyBuf  []byte
}

type sortable struct {
	place []byte
	args  [][]byte
}

func (a *assembler) Begin(db int, key []byte, typ rdb.Kind, expires int64) error {
	ns, short, ok := a.name(db, key)
	*a = assembler{name: a.name, emit: a.emit, code: a.code, ns: ns, key: bytes.Clone(short), typ: typ,
		expires: expires, skip: !ok,
		parts: a.parts[:0], order: a.order[:0], buf: a.buf[:0], keyBuf: a.keyBuf[:0]}
	if ok {
		a.unit = unitKey(short)
	}
	return nil
}

func (a *assembler) Function(code []byte) error { return a.code(code) }

func (a *assembler) Piece(b []byte) error {
	if a.skip {
		return nil
	}
	a.string_ = append(a.string_, b...)
	for len(a.string_) > rdb.PieceBytes || a.large && len(a.string_) == rdb.PieceBytes {
		if err := a.grow(); err != nil {
			return err
		}
		if err := a.stringPiece(a.string_[:rdb.PieceBytes]); err != nil {
			return err
		}
		a.string_ = a.string_[rdb.PieceBytes:]
	}
	return nil
}

func (a *assembler) stringPiece(b []byte) error {
	verb := "APPEND"
	if a.index == 0 {
		verb = "SET"
	}
	err := a.part(classElement, binary.BigEndian.AppendUint64(nil, a.index), []byte(verb), a.key, b)
	a.index++
	return err
}

// typeVerb begins the head of a large key.
const typeVerb = "TYPE"

// grow turns the key into a large one.
func (a *assembler) grow() error {
	if a.large {
		return nil
	}
	a.large = true
	// What it is; the parts say what it holds.
	a.buf = resp.AppendCommand(a.buf[:0], []byte(typeVerb), a.key, []byte(a.typ))
	return a.emit(a.ns, record.Record{Key: a.unit, Value: a.buf})
}

func (a *assembler) part(class byte, place []byte, args ...[]byte) error {
	a.keyBuf = append(append(append(a.keyBuf[:0], a.unit...), class), place...)
	a.buf = resp.AppendCommand(a.buf[:0], args...)
	return a.emit(a.ns, record.Record{Key: a.keyBuf, Value: a.buf})
}

// verbs are the commands that add an element.
var verbs = map[rdb.Kind]string{rdb.List: "RPUSH", rdb.Set: "SADD", rdb.Hash: "HSET", rdb.SortedSet: "ZADD",
	rdb.Stream: "XADD"}

// placeOf returns where an element belongs among its like: a hash's by its field, a
// sorted set's by its member.
func (a *assembler) placeOf(args [][]byte) []byte {
	e := args[0]
	if a.typ == rdb.SortedSet {
		e = args[1]
	}
	if len(e) <= placeBytes {
		return e
	}
	sum := blake3.Sum256(e)
	return append(bytes.Clone(e[:placeBytes]), sum[:]...)
}

func (a *assembler) Element(args ...[]byte) error {
	if a.skip {
		return nil
	}
	held := make([][]byte, len(args))
	for i, v := range args {
		held[i] = bytes.Clone(v)
		a.size += len(v) + sizeEach
	}
	a.parts = append(a.parts, held)
	if a.size <= largeBytes && !a.large {
		return nil
	}
	if err := a.grow(); err != nil {
		return err
	}
	if a.typ == rdb.List {
		return a.listChunks(false)
	}
	for _, args := range a.parts {
		if err := a.elementPart(args); err != nil {
			return err
		}
	}
	a.parts = a.parts[:0]
	return nil
}

func (a *assembler) elementPart(args [][]byte) error {
	place := a.placeOf(args)
	if a.typ == rdb.Stream {
		id, err := parseID(args[0])
		if err != nil {
			return err
		}
		place = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, id.Ms), id.Seq)
	}
	return a.part(classElement, place, append([][]byte{[]byte(verbs[a.typ]), a.key}, args...)...)
}

func parseID(b []byte) (rdb.StreamID, error) {
	ms, seq, ok := bytes.Cut(b, []byte("-"))
	m, err1 := strconv.ParseUint(string(ms), 10, 64)
	s, err2 := strconv.ParseUint(string(seq), 10, 64)
	if !ok || err1 != nil || err2 != nil {
		return rdb.StreamID{}, fmt.Errorf("%w: stream id %q", rdb.ErrDamaged, b)
	}
	return rdb.StreamID{Ms: m, Seq: s}, nil
}

// listChunks returns out what is held of a large list, in records that end where
// the bytes since the last end pass a bound: the same however it was read.
func (a *assembler) listChunks(all bool) error {
	size, from := 0, 0
	for i, e := range a.parts {
		size += len(e[0]) + sizeEach
		if size < chunkBytes && !(all && i == len(a.parts)-1) {
			continue
		}
		args := [][]byte{[]byte("RPUSH"), a.key}
		for _, p := range a.parts[from : i+1] {
			args = append(args, p[0])
		}
		if err := a.part(classElement, binary.BigEndian.AppendUint64(nil, a.index), args...); err != nil {
			return err
		}
		a.index += uint64(i + 1 - from)
		size, from = 0, i+1
	}
	a.parts = append(a.parts[:0], a.parts[from:]...)
	return nil
}

func (a *assembler) After(args ...[]byte) error {
	if a.skip {
		return nil
	}
	held := make([][]byte, len(args))
	for i, v := range args {
		if held[i] = bytes.Clone(v); v == nil {
			held[i] = a.key
		}
		a.size += len(v) + sizeEach
	}
	if !a.large && a.size > largeBytes {
		if err := a.grow(); err != nil {
			return err
		}
		for _, e := range a.parts {
			if err := a.elementPart(e); err != nil {
				return err
			}
		}
		a.parts = a.parts[:0]
		for _, e := range a.afters {
			if err := a.afterPart(e); err != nil {
				return err
			}
		}
		a.afters = nil
	}
	if a.large {
		return a.afterPart(held)
	}
	a.afters = append(a.afters, held)
	return nil
}

func (a *assembler) afterPart(args [][]byte) error {
	err := a.part(classAfter, binary.BigEndian.AppendUint64(nil, a.index), args...)
	a.index++
	return err
}

func (a *assembler) End() error {
	if a.skip {
		return nil
	}
	if a.large {
		return a.endLarge()
	}
	a.buf = a.buf[:0]
	switch a.typ {
	case rdb.String:
		a.buf = resp.AppendCommand(a.buf, []byte("SET"), a.key, a.string_)
	case rdb.Stream:
		for _, e := range a.parts {
			a.buf = resp.AppendCommand(a.buf, append([][]byte{[]byte("XADD"), a.key}, e...)...)
		}
		for _, e := range a.afters {
			a.buf = resp.AppendCommand(a.buf, e...)
		}
	default:
		if a.typ != rdb.List {
			for _, e := range a.parts {
				a.order = append(a.order, sortable{a.placeOf(e), e})
			}
			slices.SortFunc(a.order, func(x, y sortable) int { return bytes.Compare(x.place, y.place) })
			for i := range a.order {
				a.parts[i] = a.order[i].args
			}
		}
		args := [][]byte{[]byte(verbs[a.typ]), a.key}
		for _, e := range a.parts {
			args = append(args, e...)
		}
		if len(a.parts) == 0 {
			return nil // no server has it: an empty collection is gone
		}
		a.buf = resp.AppendCommand(a.buf, args...)
	}
	if a.expires > 0 {
		a.buf = resp.AppendCommand(a.buf, resp.Command("PEXPIREAT", a.key, a.expires)...)
	}
	return a.emit(a.ns, record.Record{Key: a.unit, Value: a.buf})
}

func (a *assembler) endLarge() error {
	switch a.typ {
	case rdb.String:
		if len(a.string_) > 0 {
			if err := a.stringPiece(a.string_); err != nil {
				return err
			}
		}
	case rdb.List:
		if err := a.listChunks(true); err != nil {
			return err
		}
	}
	if a.expires > 0 {
		return a.part(classExpiry, nil, resp.Command("PEXPIREAT", a.key, a.expires)...)
	}
	return nil
}
