// Package rdb reads the form in which Redis servers send and keep their content: keys
// of every type, streams and functions.
package rdb

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc64"
	"io"
	"math"
	"strconv"

	"dexamen/internal/engine/redis/resp"
)

// Errors of reading a server's own form of its content.
var (
	// ErrVersion: the form is of a version that is not known.
	ErrVersion = errors.New("the server sends its content in a form that is not known")
	// ErrType: a value is of a type that is not known.
	ErrType = errors.New("a value is of a type that is not known")
	// ErrDamaged: the bytes make no sense, or are not what their checksum says.
	ErrDamaged = errors.New("the content sent is damaged")
)

// Known reports whether a version of the form is known: those of Redis up to 8.0, and that
// of Valkey 9. What is new in the newest is refused by its type.
func Known(version int) bool { return version >= 1 && version <= 12 || version == firstOfValkey }

// firstOfValkey is the first version that is not of Redis.
const firstOfValkey = 80

// Marks in the form. They are those of the servers' published source.
const (
	opSlotInfo  = 244
	opFunction  = 245
	opModuleAux = 247
	opIdle      = 248
	opFreq      = 249
	opAux       = 250
	opResize    = 251
	opExpireMS  = 252
	opExpire    = 253
	opSelect    = 254
	opEnd       = 255
)

// Sink takes what is read. The bytes given are there during the call alone.
type Sink interface {
	// Begin announces a key; expires is in milliseconds, zero without.
	Begin(db int, key []byte, typ Kind, expires int64) error
	// Piece is the next part of a string's bytes.
	Piece(b []byte) error
	// Element is one of a collection: a list's or set's element, a hash's field
	// and value, a sorted set's score and member, a stream's id, fields and
	// values.
	Element(args ...[]byte) error
	// After is a command that completes a stream, without its key's name: name
	// it by nil.
	After(args ...[]byte) error
	End() error
	// Function is the code of a library of functions.
	Function(code []byte) error
}

// PieceBytes is how a large string is cut.
const PieceBytes = 256 << 10

// Kind is the type of a key.
type Kind string

// The types of keys.
const (
	String    Kind = "string"
	List      Kind = "list"
	Set       Kind = "set"
	Hash      Kind = "hash"
	SortedSet Kind = "zset"
	Stream    Kind = "stream"
)

// Reader reads the form in which servers send and keep their content. It reads ahead:
// what it has and did not need is Unread.
type Reader struct {
	R    io.Reader
	Sink Sink
	// StreamDB is the database of the replication stream that follows.
	StreamDB int

	buf     []byte
	at, end int // what is in buf and was not read
	sum     uint64
	summed  int // up to which of buf the sum goes
	key     []byte
	held    []byte // strings that are lent
	list    [][]byte
	numbers []byte
	scored  []byte
	window  []byte // of what was compressed
	args    [][]byte
}

// readAhead is how many bytes a Reader asks for at once.
const readAhead = 128 << 10

// NewReader returns a Reader of what is there already.
func NewReader(b []byte, to Sink) *Reader { return &Reader{buf: b, end: len(b), Sink: to} }

// Reset has a Reader of what is there already read other bytes.
func (d *Reader) Reset(b []byte) { d.buf, d.at, d.end = b, 0, len(b) }

// The polynomial that servers use, reflected.
var crcTable = crc64.MakeTable(0x95ac9329ac4bc9b5)

func crc(sum uint64, b []byte) uint64 { return ^crc64.Update(^sum, crcTable, b) }

// fill reads on until there are n bytes at least; n is at most some dozens.
func (d *Reader) fill(n int) error {
	if d.R == nil {
		return io.ErrUnexpectedEOF
	}
	if d.buf == nil {
		d.buf = make([]byte, readAhead)
	}
	d.sum = crc(d.sum, d.buf[d.summed:d.at])
	d.end = copy(d.buf, d.buf[d.at:d.end])
	d.at, d.summed = 0, 0
	for empty := 0; d.end < n; {
		m, err := d.R.Read(d.buf[d.end:])
		if d.end += m; d.end >= n {
			return nil // an error comes again
		}
		if err != nil {
			return resp.Eof(err)
		}
		if empty++; m > 0 {
			empty = 0
		}
		if empty > 100 {
			return io.ErrNoProgress
		}
	}
	return nil
}

// Unread is how many bytes were read ahead and not used.
func (d *Reader) Unread() int { return d.end - d.at }

// Tail reads the n bytes that follow the content, and are no part of it; n is at most
// some dozens.
func (d *Reader) Tail(n int) ([]byte, error) { return d.fixed(n) }

func (d *Reader) byte() (byte, error) {
	if d.at == d.end {
		if err := d.fill(1); err != nil {
			return 0, err
		}
	}
	d.at++
	return d.buf[d.at-1], nil
}

// fixed reads n bytes, which are there until the next are read.
func (d *Reader) fixed(n int) ([]byte, error) {
	if d.end-d.at < n {
		if err := d.fill(n); err != nil {
			return nil, err
		}
	}
	d.at += n
	return d.buf[d.at-n : d.at], nil
}

// take appends n bytes. Memory grows with what comes, not with what is claimed.
func (d *Reader) take(dst []byte, n int) ([]byte, error) {
	for n > 0 {
		if d.at == d.end {
			if err := d.fill(1); err != nil {
				return dst, err
			}
		}
		m := min(n, d.end-d.at)
		dst = append(dst, d.buf[d.at:d.at+m]...)
		d.at += m
		n -= m
	}
	return dst, nil
}

// ReadAll reads everything there is, the checksum included.
func (d *Reader) ReadAll() error {
	version, err := d.header()
	if err != nil {
		return err
	}
	db, expires := 0, int64(0)
	for {
		op, err := d.byte()
		if err != nil {
			return err
		}
		switch op {
		case opEnd:
			return d.checksum(version)
		case opSelect:
			db, err = d.database()
		case opExpire:
			var b []byte
			if b, err = d.fixed(4); err == nil {
				expires = int64(binary.LittleEndian.Uint32(b)) * 1000
			}
		case opExpireMS:
			var b []byte
			if b, err = d.fixed(8); err == nil {
				expires = int64(binary.LittleEndian.Uint64(b))
			}
		case opSlotInfo, opResize, opFreq, opIdle, opAux, opFunction, opModuleAux:
			err = d.about(op)
		default:
			err = d.keyed(db, op, expires)
			expires = 0
		}
		if err != nil {
			return err
		}
	}
}

// header reads what everything begins with, and returns the version of the form.
func (d *Reader) header() (version int, err error) {
	head, err := d.fixed(9)
	if err != nil {
		return 0, err
	}
	digits, redis := bytes.CutPrefix(head, []byte("REDIS"))
	valkey := false
	if !redis {
		digits, valkey = bytes.CutPrefix(head, []byte("VALKEY"))
	}
	if !redis && !valkey {
		return 0, fmt.Errorf("%w: it begins with %q", ErrVersion, head)
	}
	version, err = strconv.Atoi(string(digits))
	if err != nil || !Known(version) || valkey != (version >= firstOfValkey) {
		return 0, fmt.Errorf("%w: version %q (known are those of Redis up to 8.0 and Valkey up to 9)", ErrVersion,
			digits)
	}
	return version, nil
}

// checksum reads the end, and compares the sum of all that came before.
func (d *Reader) checksum(version int) error {
	sum := crc(d.sum, d.buf[d.summed:d.at])
	if version < 5 {
		return nil
	}
	b, err := d.fixed(8)
	if err != nil {
		return err
	}
	// Zero: the server was told to add none.
	if want := binary.LittleEndian.Uint64(b); want != 0 && want != sum {
		return fmt.Errorf("%w: its checksum is %x and should be %x", ErrDamaged, sum, want)
	}
	return nil
}

func (d *Reader) database() (int, error) {
	n, err := d.length()
	if err == nil && n > 1<<20 {
		err = fmt.Errorf("%w: database %d", ErrDamaged, n)
	}
	return int(n), err
}

// about reads what is no key: hints for the server that loads it, functions.
func (d *Reader) about(op byte) error {
	switch op {
	case opSlotInfo, opResize:
		n := 2
		if op == opSlotInfo {
			n = 3 // the slot, its keys, those that expire
		}
		for range n {
			if _, err := d.length(); err != nil {
				return err
			}
		}
		return nil
	case opFreq:
		_, err := d.byte()
		return err
	case opIdle:
		_, err := d.length()
		return err
	case opAux:
		name, err := d.str()
		if err != nil {
			return err
		}
		value, err := d.str()
		if err != nil || string(name) != "repl-stream-db" {
			return err
		}
		if d.StreamDB, err = strconv.Atoi(string(value)); err != nil {
			return fmt.Errorf("%w: repl-stream-db %q", ErrDamaged, value)
		}
		return nil
	case opFunction:
		code, err := d.str()
		if err != nil {
			return err
		}
		return d.Sink.Function(code)
	}
	return fmt.Errorf("%w: a module keeps content of its own in the server", ErrType)
}

// keyed reads a key and its value.
func (d *Reader) keyed(db int, typ byte, expires int64) error {
	key, err := d.lent()
	if err != nil {
		return err
	}
	d.key = append(d.key[:0], key...)
	if err := d.ReadValue(db, d.key, typ, expires); err != nil {
		return fmt.Errorf("db%d, key %s: %w", db, resp.Text(d.key, 100), err)
	}
	return nil
}

// Encodings of a string's length.
const (
	len6   = 0
	len14  = 1
	lenBig = 2
	lenEnc = 3

	len32 = 0x80
	len64 = 0x81

	encInt8  = 0
	encInt16 = 1
	encInt32 = 2
	encLZF   = 3
)

func (d *Reader) length() (uint64, error) {
	n, enc, err := d.lengthOrEncoding()
	if err == nil && enc {
		return 0, fmt.Errorf("%w: an encoding where a length belongs", ErrDamaged)
	}
	return n, err
}

func (d *Reader) lengthOrEncoding() (n uint64, encoded bool, err error) {
	b, err := d.byte()
	if err != nil {
		return 0, false, err
	}
	switch b >> 6 {
	case len6:
		return uint64(b & 0x3F), false, nil
	case len14:
		low, err := d.byte()
		return uint64(b&0x3F)<<8 | uint64(low), false, err
	case lenEnc:
		return uint64(b & 0x3F), true, nil
	}
	switch b {
	case len32:
		v, err := d.fixed(4)
		if err != nil {
			return 0, false, err
		}
		return uint64(binary.BigEndian.Uint32(v)), false, nil
	case len64:
		v, err := d.fixed(8)
		if err != nil {
			return 0, false, err
		}
		return binary.BigEndian.Uint64(v), false, nil
	}
	return 0, false, fmt.Errorf("%w: length mark %x", ErrDamaged, b)
}

// count reads the number of elements; each takes at least a byte, so that a wrong
// one is found by what is missing.
func (d *Reader) count() (uint64, error) { return d.length() }

// str reads a string whole; the bytes are the caller's.
func (d *Reader) str() ([]byte, error) {
	b, err := d.whole(nil)
	if b == nil {
		b = []byte{}
	}
	return b, err
}

// lent reads a string whole; the bytes are there until release.
func (d *Reader) lent() ([]byte, error) {
	from := len(d.held)
	b, err := d.whole(d.held)
	d.held = b
	return b[from:len(b):len(b)], err
}

// release ends what was lent.
func (d *Reader) release() {
	if cap(d.held) > 1<<20 {
		d.held = nil
	}
	d.held = d.held[:0]
}

// whole appends a string.
func (d *Reader) whole(dst []byte) ([]byte, error) {
	n, encoded, err := d.lengthOrEncoding()
	if err != nil {
		return dst, err
	}
	if !encoded {
		if n > resp.MaxString {
			return dst, fmt.Errorf("%w: a string of %d bytes", ErrDamaged, n)
		}
		return d.take(dst, int(n))
	}
	err = d.encoded(n, math.MaxInt, func(b []byte) error {
		dst = append(dst, b...)
		return nil
	})
	return dst, err
}

// pieces reads a string, giving at most size bytes at a time, which are there until
// the next are read.
func (d *Reader) pieces(size int, fn func([]byte) error) error {
	n, encoded, err := d.lengthOrEncoding()
	if err != nil {
		return err
	}
	if encoded {
		return d.encoded(n, size, fn)
	}
	if n > resp.MaxString {
		return fmt.Errorf("%w: a string of %d bytes", ErrDamaged, n)
	}
	for n > 0 {
		if d.at == d.end {
			if err := d.fill(1); err != nil {
				return err
			}
		}
		m := min(int(n), size, d.end-d.at)
		b := d.buf[d.at : d.at+m]
		d.at += m
		n -= uint64(m)
		if err := fn(b); err != nil {
			return err
		}
	}
	return nil
}

// encoded reads a string that is kept as a number, or compressed.
func (d *Reader) encoded(n uint64, size int, fn func([]byte) error) error {
	var v int64
	switch n {
	case encInt8:
		b, err := d.fixed(1)
		if err != nil {
			return err
		}
		v = int64(int8(b[0]))
	case encInt16:
		b, err := d.fixed(2)
		if err != nil {
			return err
		}
		v = int64(int16(binary.LittleEndian.Uint16(b)))
	case encInt32:
		b, err := d.fixed(4)
		if err != nil {
			return err
		}
		v = int64(int32(binary.LittleEndian.Uint32(b)))
	case encLZF:
		packed, err := d.length()
		if err != nil {
			return err
		}
		whole, err := d.length()
		if err != nil {
			return err
		}
		if packed > resp.MaxString || whole > resp.MaxString {
			return fmt.Errorf("%w: a compressed string of %d bytes", ErrDamaged, whole)
		}
		return unpack(d, int(packed), int(whole), size, fn)
	default:
		return fmt.Errorf("%w: string encoding %d", ErrDamaged, n)
	}
	d.numbers = strconv.AppendInt(d.numbers[:0], v, 10)
	return fn(d.numbers)
}

// unpack reads a string compressed with LZF: bytes as they are, and references
// to at most 8 KiB before, so that it needs no more memory than that.
func unpack(d *Reader, packed, whole, size int, fn func([]byte) error) error {
	const window = 8192
	buf := d.window[:0] // what is not given yet, after up to a window that is
	defer func() {
		if d.window = buf; cap(buf) > 1<<20 {
			d.window = nil
		}
	}()
	given, total := 0, 0
	flush := func(last bool) error {
		for len(buf)-given >= size || last && len(buf) > given {
			n := min(size, len(buf)-given)
			if err := fn(buf[given : given+n]); err != nil {
				return err
			}
			given += n
		}
		if keep := given - window; keep > 1<<16 {
			buf = append(buf[:0], buf[keep:]...)
			given = window
		}
		return nil
	}
	next := func() (byte, error) {
		if packed == 0 {
			return 0, fmt.Errorf("%w: a compressed string ends too early", ErrDamaged)
		}
		packed--
		return d.byte()
	}
	for packed > 0 {
		ctrl, err := next()
		if err != nil {
			return err
		}
		if ctrl < 32 {
			n := int(ctrl) + 1
			if n > packed {
				return fmt.Errorf("%w: a compressed string ends too early", ErrDamaged)
			}
			packed -= n
			if buf, err = d.take(buf, n); err != nil {
				return err
			}
			total += n
		} else {
			n := int(ctrl >> 5)
			if n == 7 {
				b, err := next()
				if err != nil {
					return err
				}
				n += int(b)
			}
			low, err := next()
			if err != nil {
				return err
			}
			back := int(ctrl&0x1F)<<8 + int(low) + 1
			if back > len(buf) {
				return fmt.Errorf("%w: a compressed string refers to before its beginning", ErrDamaged)
			}
			for range n + 2 {
				buf = append(buf, buf[len(buf)-back])
			}
			total += n + 2
		}
		if total > whole {
			break
		}
		if err := flush(false); err != nil {
			return err
		}
	}
	if total != whole || packed != 0 {
		return fmt.Errorf("%w: a compressed string has not the length it should have", ErrDamaged)
	}
	return flush(true)
}
