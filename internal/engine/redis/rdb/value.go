package rdb

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
)

// Types of values in the form.
const (
	typeString        = 0
	typeList          = 1
	typeSet           = 2
	typeZset          = 3
	typeHash          = 4
	typeZset2         = 5
	typeModule        = 6
	typeModule2       = 7
	typeHashZipmap    = 9
	typeListZiplist   = 10
	typeSetIntset     = 11
	typeZsetZiplist   = 12
	typeHashZiplist   = 13
	typeQuicklist     = 14
	typeStream        = 15
	typeHashListpack  = 16
	typeZsetListpack  = 17
	typeQuicklist2    = 18
	typeStream2       = 19
	typeSetListpack   = 20
	typeStream3       = 21
	quicklistPlain    = 1
	quicklistListpack = 2
)

// kinds are the types that are known, by what they are to clients.
var kinds = map[byte]Kind{
	typeString: String, typeList: List, typeListZiplist: List, typeQuicklist: List,
	typeQuicklist2: List,
	typeSet:        Set, typeSetIntset: Set, typeSetListpack: Set,
	typeZset: SortedSet, typeZset2: SortedSet, typeZsetZiplist: SortedSet, typeZsetListpack: SortedSet,
	typeHash: Hash, typeHashZipmap: Hash, typeHashZiplist: Hash, typeHashListpack: Hash,
	typeStream: Stream, typeStream2: Stream, typeStream3: Stream,
}

// ReadValue reads a key's value.
func (d *Reader) ReadValue(db int, key []byte, typ byte, expires int64) error {
	k, ok := kinds[typ]
	if !ok {
		if typ == typeModule || typ == typeModule2 {
			return fmt.Errorf("%w: a module's", ErrType)
		}
		if typ >= 22 && typ <= 25 {
			return fmt.Errorf("%w: a hash of which fields expire", ErrType)
		}
		return fmt.Errorf("%w: number %d", ErrType, typ)
	}
	if err := d.Sink.Begin(db, key, k, expires); err != nil {
		return err
	}
	if err := d.content(typ); err != nil {
		return err
	}
	return d.Sink.End()
}

// content reads a value of a type, element by element.
func (d *Reader) content(typ byte) error {
	switch typ {
	case typeString:
		return d.pieces(PieceBytes, func(b []byte) error { return d.Sink.Piece(b) })
	case typeList, typeSet:
		return d.each(func() error {
			d.release()
			v, err := d.lent()
			if err != nil {
				return err
			}
			return d.element(v)
		})
	case typeHash:
		return d.each(func() error {
			d.release()
			f, err := d.lent()
			if err != nil {
				return err
			}
			v, err := d.lent()
			if err != nil {
				return err
			}
			return d.element(f, v)
		})
	case typeZset, typeZset2:
		return d.each(func() error {
			d.release()
			m, err := d.lent()
			if err != nil {
				return err
			}
			score, err := d.score(typ == typeZset2)
			if err != nil {
				return err
			}
			return d.element(score, m)
		})
	case typeStream, typeStream2, typeStream3:
		return d.stream(typ)
	case typeQuicklist, typeQuicklist2:
		return d.each(func() error { return d.listNode(typ) })
	}
	return d.packed(typ)
}

// element hands an element on.
func (d *Reader) element(args ...[]byte) error {
	d.args = append(d.args[:0], args...)
	return d.Sink.Element(d.args...)
}

// listNode reads a node of a large list.
func (d *Reader) listNode(typ byte) error {
	form := uint64(quicklistListpack)
	var err error
	if typ == typeQuicklist2 {
		if form, err = d.length(); err != nil {
			return err
		}
	}
	d.release()
	b, err := d.lent()
	if err != nil {
		return err
	}
	switch {
	case form == quicklistPlain:
		return d.element(b)
	case form != quicklistListpack:
		return fmt.Errorf("%w: list node of form %d", ErrDamaged, form)
	}
	list, err := d.unpackList(b, typ == typeQuicklist)
	if err != nil {
		return err
	}
	for i := range list {
		if err := d.Sink.Element(list[i : i+1]...); err != nil {
			return err
		}
	}
	return nil
}

// packed reads a value that is one string with all its elements.
func (d *Reader) packed(typ byte) error {
	d.release()
	b, err := d.lent()
	if err != nil {
		return err
	}
	var list [][]byte
	step := 1
	switch typ {
	case typeSetIntset:
		list, err = d.unpackInts(b)
	case typeHashZipmap:
		list, err = unpackZipmap(b)
		step = 2
	case typeListZiplist:
		list, err = d.unpackList(b, true)
	case typeSetListpack:
		list, err = d.unpackList(b, false)
	case typeHashZiplist, typeZsetZiplist:
		list, err = d.unpackList(b, true)
		step = 2
	case typeHashListpack, typeZsetListpack:
		list, err = d.unpackList(b, false)
		step = 2
	}
	if err != nil {
		return err
	}
	if len(list)%step != 0 {
		return fmt.Errorf("%w: an odd number of parts", ErrDamaged)
	}
	for i := 0; i < len(list); i += step {
		e := list[i : i+step]
		if typ == typeZsetZiplist || typ == typeZsetListpack {
			score, err := d.canonical(e[1])
			if err != nil {
				return err
			}
			e[0], e[1] = score, e[0]
		}
		if err := d.Sink.Element(e...); err != nil {
			return err
		}
	}
	return nil
}

func (d *Reader) each(fn func() error) error {
	n, err := d.count()
	for ; n > 0 && err == nil; n-- {
		err = fn()
	}
	return err
}

// score reads a sorted set's score, as text that reads back as the same number.
func (d *Reader) score(binaryForm bool) ([]byte, error) {
	if binaryForm {
		b, err := d.fixed(8)
		if err != nil {
			return nil, err
		}
		return d.scoreText(math.Float64frombits(binary.LittleEndian.Uint64(b))), nil
	}
	n, err := d.byte()
	if err != nil {
		return nil, err
	}
	switch n {
	case 255:
		return d.scoreText(math.Inf(-1)), nil
	case 254:
		return d.scoreText(math.Inf(1)), nil
	case 253:
		return nil, fmt.Errorf("%w: a score that is no number", ErrDamaged)
	}
	b, err := d.take(nil, int(n))
	if err != nil {
		return nil, err
	}
	return d.canonical(b)
}

// canonical is CanonicalScore; the text is there until the next score.
func (d *Reader) canonical(b []byte) (_ []byte, err error) {
	d.scored, err = appendCanonical(d.scored[:0], b)
	return d.scored, err
}

func (d *Reader) scoreText(f float64) []byte {
	d.scored = appendScore(d.scored[:0], f)
	return d.scored
}

// CanonicalScore returns a score as it is written, of whatever text a server gives for it.
func CanonicalScore(b []byte) ([]byte, error) { return appendCanonical(nil, b) }

func appendCanonical(dst, b []byte) ([]byte, error) {
	f, err := strconv.ParseFloat(string(b), 64)
	if err != nil || math.IsNaN(f) {
		return nil, fmt.Errorf("%w: score %q", ErrDamaged, b)
	}
	return appendScore(dst, f), nil
}

// appendScore appends a score as it is written. Servers lose the sign of a zero where a
// set is small, and take both for equal.
func appendScore(dst []byte, f float64) []byte {
	switch {
	case f == 0:
		return append(dst, '0')
	case math.IsInf(f, 1):
		return append(dst, "inf"...)
	case math.IsInf(f, -1):
		return append(dst, "-inf"...)
	}
	return strconv.AppendFloat(dst, f, 'g', -1, 64)
}

// unpackInts takes a set of whole numbers apart, which are there until the next list is.
func (d *Reader) unpackInts(b []byte) ([][]byte, error) {
	if len(b) < 8 {
		return nil, fmt.Errorf("%w: a set of numbers", ErrDamaged)
	}
	width, n := int(binary.LittleEndian.Uint32(b)), int(binary.LittleEndian.Uint32(b[4:]))
	b = b[8:]
	if width != 2 && width != 4 && width != 8 || n*width != len(b) {
		return nil, fmt.Errorf("%w: a set of %d numbers", ErrDamaged, n)
	}
	out := d.list[:0]
	d.numbers = d.numbers[:0]
	for i := range n {
		p := b[i*width:]
		var v int64
		switch width {
		case 2:
			v = int64(int16(binary.LittleEndian.Uint16(p)))
		case 4:
			v = int64(int32(binary.LittleEndian.Uint32(p)))
		default:
			v = int64(binary.LittleEndian.Uint64(p))
		}
		out = append(out, d.number(v))
	}
	d.list = out
	return out, nil
}

// unpackZipmap takes a hash of very old servers apart.
func unpackZipmap(b []byte) ([][]byte, error) {
	bad := fmt.Errorf("%w: a hash of the oldest form", ErrDamaged)
	if len(b) < 2 {
		return nil, bad
	}
	b = b[1:]
	var out [][]byte
	for {
		if len(b) == 0 {
			return nil, bad
		}
		if b[0] == 255 {
			return out, nil
		}
		n := int(b[0])
		b = b[1:]
		if n == 254 {
			if len(b) < 4 {
				return nil, bad
			}
			n, b = int(binary.LittleEndian.Uint32(b)), b[4:]
		}
		free := 0
		if len(out)%2 == 1 { // a value, with room after it
			if len(b) == 0 {
				return nil, bad
			}
			free, b = int(b[0]), b[1:]
		}
		if n+free > len(b) {
			return nil, bad
		}
		out, b = append(out, b[:n:n]), b[n+free:]
	}
}

// number returns a number as text, which is there until the next list is taken apart.
func (d *Reader) number(v int64) []byte {
	from := len(d.numbers)
	d.numbers = strconv.AppendInt(d.numbers, v, 10)
	return d.numbers[from:len(d.numbers):len(d.numbers)]
}

// unpackList takes a list in one piece apart, of the older (ziplist) or the newer
// form (listpack). What it returns is there until the next is.
func (d *Reader) unpackList(b []byte, old bool) ([][]byte, error) {
	head := 6
	if old {
		head = 10
	}
	if len(b) < head+1 || int(binary.LittleEndian.Uint32(b)) != len(b) {
		return nil, fmt.Errorf("%w: a packed list of %d bytes", ErrDamaged, len(b))
	}
	b = b[head:]
	out := d.list[:0]
	d.numbers = d.numbers[:0]
	for {
		if len(b) == 0 {
			return nil, fmt.Errorf("%w: a packed list has no end", ErrDamaged)
		}
		if b[0] == 0xFF {
			if len(b) != 1 {
				return nil, fmt.Errorf("%w: a packed list ends too early", ErrDamaged)
			}
			d.list = out
			return out, nil
		}
		var v []byte
		var n int
		if old {
			v, n = d.zipEntry(b)
		} else {
			v, n = d.packEntry(b)
		}
		if n <= 0 || n > len(b) {
			return nil, fmt.Errorf("%w: an entry of a packed list", ErrDamaged)
		}
		out, b = append(out, v), b[n:]
	}
}

// intOf returns a whole number of w bytes, small end first.
func intOf(b []byte, w int) int64 {
	var u uint64
	for i := w - 1; i >= 0; i-- {
		u = u<<8 | uint64(b[i])
	}
	shift := 64 - 8*w
	return int64(u<<shift) >> shift
}

// zipEntry reads an entry of the older form; n is zero where it is broken.
func (d *Reader) zipEntry(b []byte) (v []byte, n int) {
	at := 1 // the length of the entry before
	if b[0] == 254 {
		at = 5
	}
	if len(b) < at+6 && len(b) <= at {
		return nil, 0
	}
	need := func(n int) bool { return len(b) >= at+n }
	if !need(1) {
		return nil, 0
	}
	c := b[at]
	size := 0
	switch {
	case c>>6 == 0:
		size, at = int(c&0x3F), at+1
	case c>>6 == 1:
		if !need(2) {
			return nil, 0
		}
		size, at = int(c&0x3F)<<8|int(b[at+1]), at+2
	case c>>6 == 2:
		if !need(5) {
			return nil, 0
		}
		size, at = int(binary.BigEndian.Uint32(b[at+1:])), at+5
	default:
		width := 0
		switch c {
		case 0xC0:
			width = 2
		case 0xD0:
			width = 4
		case 0xE0:
			width = 8
		case 0xF0:
			width = 3
		case 0xFE:
			width = 1
		default:
			if c < 0xF1 || c > 0xFD {
				return nil, 0
			}
			return d.number(int64(c&0x0F) - 1), at + 1
		}
		if !need(1 + width) {
			return nil, 0
		}
		return d.number(intOf(b[at+1:], width)), at + 1 + width
	}
	if size < 0 || !need(size) {
		return nil, 0
	}
	return b[at : at+size : at+size], at + size
}

// packEntry reads an entry of the newer form; n is zero where it is broken. After
// each entry stands its length, for reading backwards.
func (d *Reader) packEntry(b []byte) (v []byte, n int) {
	c := b[0]
	head, size, width := 1, 0, 0
	switch {
	case c < 0x80:
		return d.number(int64(c)), 1 + backLen(1)
	case c < 0xC0:
		size = int(c & 0x3F)
	case c < 0xE0:
		if len(b) < 2 {
			return nil, 0
		}
		u := int64(c&0x1F)<<8 | int64(b[1])
		if u >= 1<<12 {
			u -= 1 << 13
		}
		return d.number(u), 2 + backLen(2)
	case c < 0xF0:
		if len(b) < 2 {
			return nil, 0
		}
		head, size = 2, int(c&0x0F)<<8|int(b[1])
	case c == 0xF0:
		if len(b) < 5 {
			return nil, 0
		}
		head, size = 5, int(binary.LittleEndian.Uint32(b[1:]))
	default:
		switch c {
		case 0xF1, 0xF2, 0xF3:
			width = int(c-0xF1) + 2
		case 0xF4:
			width = 8
		}
		if width == 0 || len(b) < 1+width {
			return nil, 0
		}
		return d.number(intOf(b[1:], width)), 1 + width + backLen(1+width)
	}
	if size < 0 || len(b) < head+size {
		return nil, 0
	}
	return b[head : head+size : head+size], head + size + backLen(head+size)
}

func backLen(n int) int {
	switch {
	case n < 1<<7:
		return 1
	case n < 1<<14:
		return 2
	case n < 1<<21:
		return 3
	case n < 1<<28:
		return 4
	}
	return 5
}
