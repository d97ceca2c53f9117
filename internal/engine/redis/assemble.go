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
func unitKey(key []byte) []byte { return appendUnitKey(make([]byte, 0, len(key)+2), key) }

func appendUnitKey(out, key []byte) []byte {
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
	key, n, err := appendKeyOf(nil, k)
	if err != nil {
		return nil, nil, err
	}
	return k[:n], key, nil
}

// appendKeyOf appends the key of the server that a record's key stands for, and returns the
// length of the beginning that the whole unit has.
func appendKeyOf(key, k []byte) (_ []byte, unit int, err error) {
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
			return key, i + 2, nil
		default:
			return nil, 0, fmt.Errorf("record key %x is none of a key of a server", k)
		}
	}
	return nil, 0, fmt.Errorf("record key %x is none of a key of a server", k)
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
	// alive, where not zero, leaves out keys that expired before, in milliseconds.
	alive int64

	ns      string
	key     []byte
	unit    []byte
	typ     rdb.Kind
	expires int64
	skip    bool
	large   bool
	size    int
	parts   [][][]byte // held elements; each its arguments
	text    []byte     // of a string, from its last piece on
	afters  [][][]byte
	index   uint64 // of the next list element or piece, or part after

	// What is used again for every key: for what is held, and to put records together.
	held   []byte
	args   [][]byte
	order  []sortable
	buf    []byte
	keyBuf []byte
	number [20]byte
}

type sortable struct {
	place []byte
	args  [][]byte
}

func (a *assembler) Begin(db int, key []byte, typ rdb.Kind, expires int64) error {
	ns, short, ok := a.name(db, key)
	a.ns, a.typ, a.expires, a.skip = ns, typ, expires, !ok || expires > 0 && expires <= a.alive
	a.large, a.size, a.index = false, 0, 0
	a.text, a.afters = a.text[:0], nil
	a.dropParts()
	if cap(a.text) > 2*rdb.PieceBytes {
		a.text = nil
	}
	a.key = append(a.key[:0], short...)
	a.unit = appendUnitKey(a.unit[:0], short)
	return nil
}

// dropParts ends what parts hold.
func (a *assembler) dropParts() {
	a.parts, a.args, a.held = a.parts[:0], a.args[:0], a.held[:0]
}

// hold keeps arguments until dropParts.
func (a *assembler) hold(args [][]byte) [][]byte {
	first := len(a.args)
	for _, v := range args {
		from := len(a.held)
		a.held = append(a.held, v...)
		a.args = append(a.args, a.held[from:len(a.held):len(a.held)])
		a.size += len(v) + sizeEach
	}
	return a.args[first:len(a.args):len(a.args)]
}

func (a *assembler) Function(code []byte) error { return a.code(code) }

func (a *assembler) Piece(b []byte) error {
	if a.skip {
		return nil
	}
	for len(b) > 0 {
		// A piece goes when it is full and something follows it, for a string that is one
		// piece is a small key.
		if len(a.text) == rdb.PieceBytes {
			if err := a.grow(); err != nil {
				return err
			}
			if err := a.stringPiece(a.text); err != nil {
				return err
			}
			a.text = a.text[:0]
		}
		n := min(len(b), rdb.PieceBytes-len(a.text))
		a.text = append(a.text, b[:n]...)
		b = b[n:]
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
var verbs = map[rdb.Kind][]byte{rdb.List: []byte("RPUSH"), rdb.Set: []byte("SADD"), rdb.Hash: []byte("HSET"),
	rdb.SortedSet: []byte("ZADD"), rdb.Stream: []byte("XADD")}

var verbSet, verbExpire = []byte("SET"), []byte("PEXPIREAT")

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
	a.parts = append(a.parts, a.hold(args))
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
	a.dropParts()
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
	return a.part(classElement, place, append([][]byte{verbs[a.typ], a.key}, args...)...)
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
	if rest := a.parts[from:]; len(rest) == 0 {
		a.dropParts()
	} else if from > 0 {
		// What stays is held anew, for what goes is to leave memory.
		var list [][]byte
		for _, p := range rest {
			list = append(list, bytes.Clone(p[0]))
		}
		a.dropParts()
		size := a.size
		for _, v := range list {
			a.parts = append(a.parts, a.hold([][]byte{v}))
		}
		a.size = size
	}
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
		a.dropParts()
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
		a.buf = resp.AppendCommand(a.buf, verbSet, a.key, a.text)
	case rdb.Stream:
		for _, e := range a.parts {
			a.buf = resp.AppendCommand(a.buf, append([][]byte{verbs[rdb.Stream], a.key}, e...)...)
		}
		for _, e := range a.afters {
			a.buf = resp.AppendCommand(a.buf, e...)
		}
	default:
		if len(a.parts) == 0 {
			return nil // no server has it: an empty collection is gone
		}
		if a.typ != rdb.List {
			a.order = a.order[:0]
			for _, e := range a.parts {
				a.order = append(a.order, sortable{a.placeOf(e), e})
			}
			slices.SortFunc(a.order, func(x, y sortable) int { return bytes.Compare(x.place, y.place) })
			for i := range a.order {
				a.parts[i] = a.order[i].args
			}
		}
		n := 2
		for _, e := range a.parts {
			n += len(e)
		}
		a.buf = resp.AppendArgument(resp.AppendArgument(resp.AppendHead(a.buf, n), verbs[a.typ]), a.key)
		for _, e := range a.parts {
			for _, v := range e {
				a.buf = resp.AppendArgument(a.buf, v)
			}
		}
	}
	if a.expires > 0 {
		a.buf = resp.AppendCommand(a.buf, verbExpire, a.key, strconv.AppendInt(a.number[:0], a.expires, 10))
	}
	return a.emit(a.ns, record.Record{Key: a.unit, Value: a.buf})
}

func (a *assembler) endLarge() error {
	switch a.typ {
	case rdb.String:
		if len(a.text) > 0 {
			if err := a.stringPiece(a.text); err != nil {
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
