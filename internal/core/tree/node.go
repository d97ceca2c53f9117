package tree

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/record"
)

// Hash names a node: BLAKE3-256 of its bytes.
type Hash [32]byte

// HashOf returns the name of a node's bytes.
func HashOf(b []byte) Hash { return blake3.Sum256(b) }

// IsZero reports whether h names nothing.
func (h Hash) IsZero() bool { return h == Hash{} }

// String returns the hash in hexadecimal.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// Short returns the first 12 hexadecimal digits, for people.
func (h Hash) Short() string { return hex.EncodeToString(h[:6]) }

// MarshalText implements encoding.TextMarshaler.
func (h Hash) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (h *Hash) UnmarshalText(b []byte) error {
	if n, err := hex.Decode(h[:], b); err != nil || n != len(h) || len(b) != 2*len(h) {
		return fmt.Errorf("tree: %q is no hash", b)
	}
	return nil
}

// Root is a whole tree: the name of its top node and what is below it.
type Root struct {
	Hash    Hash  `json:"hash"`
	Records int64 `json:"records"`
	// Bytes is the logical size: keys and values, before any compression.
	Bytes int64 `json:"bytes"`
	Level int   `json:"level"`
}

// Kinds of node, the first byte of each.
const (
	leafNode  = 'L'
	innerNode = 'N'
	pieceNode = 'P'
)

// MaxInline is the largest value in bytes that lies within a leaf. A larger
// one is cut into pieces of this size, and the leaf names them.
const MaxInline = 128 << 10

// Source returns nodes by name. A node that is not there or not what its name
// says is an error; the returned bytes must not be changed.
type Source interface {
	Node(ctx context.Context, h Hash) ([]byte, error)
}

// Sink takes finished nodes. It may keep the bytes. Near, where not zero,
// names a node of similar content, against which it may be stored as a patch.
type Sink interface {
	PutNode(ctx context.Context, h Hash, node []byte, near Hash) error
	// Cuts says where the nodes end of all trees that are kept there.
	Cuts() Cuts
}

// ErrNode means that a node's bytes make no sense, though they are what their
// hash says: a fault of the writer or an attack, not of the disk.
var ErrNode = errors.New("tree: malformed node")

// child is an inner node's entry for one node below it.
type child struct {
	hash    Hash
	records int64
	bytes   int64
	last    []byte // the last key below
}

func appendChild(dst []byte, c *child) []byte {
	dst = append(dst, c.hash[:]...)
	dst = binary.AppendUvarint(dst, uint64(c.records))
	dst = binary.AppendUvarint(dst, uint64(c.bytes))
	dst = binary.AppendUvarint(dst, uint64(len(c.last)))
	return append(dst, c.last...)
}

// readChild decodes what appendChild wrote. The key points into b.
func readChild(b []byte) (c child, rest []byte, err error) {
	if len(b) < len(c.hash) {
		return c, nil, fmt.Errorf("%w: inner node cut short", ErrNode)
	}
	copy(c.hash[:], b)
	b = b[len(c.hash):]
	var f [3]uint64
	for i := range f {
		v, n := binary.Uvarint(b)
		if n <= 0 {
			return c, nil, fmt.Errorf("%w: inner node cut short", ErrNode)
		}
		f[i], b = v, b[n:]
	}
	if f[2] > uint64(len(b)) {
		return c, nil, fmt.Errorf("%w: inner node cut short", ErrNode)
	}
	c.records, c.bytes = int64(f[0]), int64(f[1])
	c.last, b = b[:f[2]:f[2]], b[f[2]:]
	return c, b, nil
}

// readInner decodes an inner node. The children's keys point into b.
func readInner(b []byte) (level int, children []child, err error) {
	if len(b) < 2 || b[0] != innerNode || b[1] == 0 {
		return 0, nil, fmt.Errorf("%w: no inner node", ErrNode)
	}
	level, b = int(b[1]), b[2:]
	for len(b) > 0 {
		var c child
		if c, b, err = readChild(b); err != nil {
			return 0, nil, err
		}
		children = append(children, c)
	}
	if len(children) == 0 {
		return 0, nil, fmt.Errorf("%w: inner node without children", ErrNode)
	}
	return level, children, nil
}

// entry is a leaf's record; a large value is named, not held.
type entry struct {
	key    []byte
	value  []byte // nil when external
	size   int64  // length of the value
	pieces []Hash // of an external value
}

func (e *entry) external() bool { return e.pieces != nil }

// body returns what stands for the value in a leaf, as it is encoded.
func appendBody(dst []byte, e *entry) []byte {
	if !e.external() {
		dst = binary.AppendUvarint(dst, uint64(len(e.value))<<1)
		return append(dst, e.value...)
	}
	dst = binary.AppendUvarint(dst, uint64(e.size)<<1|1)
	for i := range e.pieces {
		dst = append(dst, e.pieces[i][:]...)
	}
	return dst
}

func bodySize(e *entry) int {
	if e.external() {
		return 8 + len(e.pieces)*len(Hash{})
	}
	return len(e.value)
}

// leafWriter encodes entries; each key is written as the length it shares with
// the one before, and the rest.
type leafWriter struct {
	buf     []byte
	lastKey []byte
	records int64
	bytes   int64
}

// leafRoom is what a leaf takes that others come before.
const leafRoom = targetLeaf + targetLeaf/2

// reset begins a leaf with room for some bytes.
func (w *leafWriter) reset(room int) {
	w.buf = append(make([]byte, 0, room), leafNode)
	w.lastKey, w.records, w.bytes = w.lastKey[:0], 0, 0
}

// next begins a leaf that takes its room when something is added.
func (w *leafWriter) next() {
	w.buf = nil
	w.lastKey, w.records, w.bytes = w.lastKey[:0], 0, 0
}

func (w *leafWriter) add(e *entry) {
	w.addKey(e.key)
	w.buf = appendBody(w.buf, e)
	w.records++
	w.bytes += int64(len(e.key)) + e.size
}

// addRaw appends an entry whose body is encoded already.
func (w *leafWriter) addRaw(key, body []byte) {
	w.addKey(key)
	w.buf = append(w.buf, body...)
}

func (w *leafWriter) addKey(key []byte) {
	if w.buf == nil {
		w.buf = append(make([]byte, 0, leafRoom), leafNode)
	}
	shared := 0
	for shared < len(w.lastKey) && shared < len(key) && w.lastKey[shared] == key[shared] {
		shared++
	}
	w.buf = binary.AppendUvarint(w.buf, uint64(shared))
	w.buf = binary.AppendUvarint(w.buf, uint64(len(key)-shared))
	w.buf = append(w.buf, key[shared:]...)
	w.lastKey = append(w.lastKey[:0], key...)
}

// leafReader decodes entries one by one. Values point into the node; a key is
// valid until the next call.
type leafReader struct {
	rest []byte
	key  []byte
	body []byte // the encoded body of the entry just read
}

// errShort is made once, as a leaf has many records.
var errShort = fmt.Errorf("%w: leaf cut short", ErrNode)

func newLeafReader(b []byte) (leafReader, error) {
	if len(b) < 1 || b[0] != leafNode {
		return leafReader{}, fmt.Errorf("%w: no leaf", ErrNode)
	}
	return leafReader{rest: b[1:]}, nil
}

func (r *leafReader) next(e *entry) (bool, error) {
	if len(r.rest) == 0 {
		return false, nil
	}
	shared, n := binary.Uvarint(r.rest)
	if n <= 0 || shared > uint64(len(r.key)) {
		return false, errShort
	}
	r.rest = r.rest[n:]
	l, n := binary.Uvarint(r.rest)
	if n <= 0 || l > uint64(len(r.rest)-n) {
		return false, errShort
	}
	r.key = append(r.key[:shared], r.rest[n:n+int(l)]...)
	r.rest = r.rest[n+int(l):]
	v, n := binary.Uvarint(r.rest)
	if n <= 0 {
		return false, errShort
	}
	size := v >> 1
	*e = entry{key: r.key, size: int64(size)}
	stored := size
	if v&1 == 1 {
		count := (size + MaxInline - 1) / MaxInline
		if size <= MaxInline || count > uint64(len(r.rest))/uint64(len(Hash{})) {
			return false, errShort
		}
		stored = count * uint64(len(Hash{}))
	}
	if stored > uint64(len(r.rest)-n) {
		return false, errShort
	}
	end := n + int(stored)
	r.body = r.rest[:end:end]
	if v&1 == 1 {
		for b := r.rest[n:end]; len(b) > 0; b = b[len(Hash{}):] {
			e.pieces = append(e.pieces, Hash(b[:len(Hash{})]))
		}
	} else {
		e.value = r.rest[n:end:end]
	}
	r.rest = r.rest[end:]
	return true, nil
}

// eachEntry calls fn with every entry of a leaf's bytes; the entry is valid
// until fn returns.
func eachEntry(leaf []byte, fn func(*entry) error) error {
	r, err := newLeafReader(leaf)
	if err != nil {
		return err
	}
	var e entry
	for {
		ok, err := r.next(&e)
		if err != nil || !ok {
			return err
		}
		if err := fn(&e); err != nil {
			return err
		}
	}
}

// load returns an entry's value, fetching its pieces where it lies outside the
// leaf.
func (e *entry) load(ctx context.Context, src Source) ([]byte, error) {
	if !e.external() {
		return e.value, nil
	}
	v := make([]byte, 0, e.size)
	for _, h := range e.pieces {
		p, err := src.Node(ctx, h)
		if err != nil {
			return nil, err
		}
		if len(p) < 1 || p[0] != pieceNode {
			return nil, fmt.Errorf("%w: no piece", ErrNode)
		}
		v = append(v, p[1:]...)
	}
	if int64(len(v)) != e.size {
		return nil, fmt.Errorf("%w: value of %d bytes has pieces of %d", ErrNode, e.size, len(v))
	}
	return v, nil
}

func (e *entry) record(ctx context.Context, src Source) (record.Record, error) {
	v, err := e.load(ctx, src)
	return record.Record{Key: e.key, Value: v}, err
}
