// Package frame is the one envelope in which all bytes of a store lie: a short
// header, a checksum, and the payload, compressed where that helps.
//
// A frame is checked before it is believed: a flipped bit anywhere in header
// or payload is an error that wraps [ErrDamaged], never wrong bytes. The layout
// is specified in docs/reference/format.md.
package frame

import (
	"encoding/binary"
	"errors"
	"fmt"
	"sync"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// Kind describes what a frame holds.
type Kind byte

// Kinds of frames. Their numbers are part of the store format.
const (
	Leaf     Kind = 1 // one tree node or piece, alone
	Shared   Kind = 2 // several small nodes or patches, one after the other
	Footer   Kind = 3 // the list of a pack's objects
	Index    Kind = 4 // the lists of several packs
	Manifest Kind = 5 // a point or the store's own description, as JSON
	Changes  Kind = 6 // encoded changes of a journal segment
	Segment  Kind = 7 // a journal segment's header
	Parity   Kind = 8 // what parity is of, as JSON
)

const (
	// HeaderSize is the length in bytes of a frame before its payload.
	HeaderSize = 28
	// MaxRaw bounds what a frame may claim to hold, so that damage to a
	// length cannot make a reader allocate without end.
	MaxRaw = 1 << 30

	version   = 1
	codecRaw  = 0
	codecZstd = 1
)

// ErrDamaged means that stored bytes are not what was written.
var ErrDamaged = errors.New("damaged frame")

// ErrTooNew means that a frame was written in a way this version cannot read.
var ErrTooNew = errors.New("frame of a later format")

// Effort is how much work goes into making a frame small. Any is read the same way.
type Effort int

// What the levels of zstd are called that are used.
const (
	Fast   Effort = iota // fastest
	Middle               // better
	Small                // best
)

// Most frames are of some 100 KiB: a window of the usual size would cost 8 MiB
// for each processor, and find nothing more.
var encoders = [...]func() *zstd.Encoder{Fast: newEncoder(zstd.SpeedFastest),
	Middle: newEncoder(zstd.SpeedBetterCompression), Small: newEncoder(zstd.SpeedBestCompression)}

func newEncoder(level zstd.EncoderLevel) func() *zstd.Encoder {
	return sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderCRC(false),
			zstd.WithWindowSize(1<<20))
		if err != nil {
			panic(err) // the options are constants
		}
		return e
	})
}

var decoder = sync.OnceValue(func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(MaxRaw), zstd.WithDecoderConcurrency(0))
	if err != nil {
		panic(err) // the options are constants
	}
	return d
})

// Header describes a frame. Lengths are in bytes.
type Header struct {
	Kind      Kind
	Encrypted bool
	codec     byte
	Raw       int // length of the content
	Stored    int // length of the payload as stored, without the header
	sum       [16]byte
}

// Append makes a frame of raw at the end of dst, encrypted unless the key is
// nil. It may be called from many goroutines at once.
func (k *Key) Append(dst []byte, kind Kind, raw []byte) []byte {
	return k.AppendWith(Fast, dst, kind, raw)
}

// AppendWith does what Append does, with an effort.
func (k *Key) AppendWith(e Effort, dst []byte, kind Kind, raw []byte) []byte {
	start := len(dst)
	var h [HeaderSize]byte
	dst = append(dst, h[:]...)
	dst = encoders[e]().EncodeAll(raw, dst)
	codec := byte(codecZstd)
	if len(dst)-start-HeaderSize >= len(raw) {
		dst = append(dst[:start+HeaderSize], raw...)
		codec = codecRaw
	}
	f := dst[start:]
	f[0], f[1], f[2], f[3] = byte(kind), codec, plain, version
	putLengths(f, len(raw), len(f)-HeaderSize)
	if k != nil {
		f[2] = xaes256gcm
		f = k.seal(f)
		dst = append(dst[:start], f...)
		f = dst[start:]
	}
	sum := checksum(f)
	copy(f[12:], sum[:])
	return dst
}

// Append makes a frame that is not encrypted.
func Append(dst []byte, kind Kind, raw []byte) []byte { return (*Key)(nil).Append(dst, kind, raw) }

func putLengths(f []byte, raw, stored int) {
	binary.BigEndian.PutUint32(f[4:], uint32(raw))
	binary.BigEndian.PutUint32(f[8:], uint32(stored))
}

func headerRaw(f []byte) int { return int(binary.BigEndian.Uint32(f[4:])) }

func checksum(f []byte) (sum [16]byte) {
	h := blake3.New()
	_, _ = h.Write(f[:12])
	_, _ = h.Write(f[HeaderSize:])
	copy(sum[:], h.Sum(nil))
	return sum
}

// ReadHeader reads a frame's header; b holds at least [HeaderSize] bytes. The
// payload is only proven by Open.
func ReadHeader(b []byte) (Header, error) {
	var h Header
	if len(b) < HeaderSize {
		return h, fmt.Errorf("%w: %d bytes where a frame begins", ErrDamaged, len(b))
	}
	if b[3] > version || b[2] > xaes256gcm {
		// A later frame, or a flipped bit: only the checksum of the whole
		// could tell, and this version cannot open either.
		return h, fmt.Errorf("%w (version %d, protection %d), or %w", ErrTooNew, b[3], b[2], ErrDamaged)
	}
	h.Kind, h.codec, h.Encrypted = Kind(b[0]), b[1], b[2] != plain
	raw, stored := binary.BigEndian.Uint32(b[4:]), binary.BigEndian.Uint32(b[8:])
	if b[3] != version || h.codec > codecZstd || raw > MaxRaw || stored > MaxRaw ||
		h.codec == codecRaw && !h.Encrypted && raw != stored {
		return h, fmt.Errorf("%w: impossible header", ErrDamaged)
	}
	h.Raw, h.Stored = int(raw), int(stored)
	copy(h.sum[:], b[12:])
	return h, nil
}

// Check checks the frame at the front of b against its checksum, without
// opening it, and gives its header and the bytes after it. It needs no key.
func Check(b []byte) (h Header, rest []byte, err error) {
	if h, err = ReadHeader(b); err != nil {
		return h, nil, err
	}
	end := HeaderSize + h.Stored
	if end > len(b) {
		return h, nil, fmt.Errorf("%w: %d bytes stored, %d there", ErrDamaged, end, len(b))
	}
	if checksum(b[:end]) != h.sum {
		return h, nil, fmt.Errorf("%w: checksum differs", ErrDamaged)
	}
	return h, b[end:], nil
}

// Open checks a frame that is not encrypted at the front of b and gives its
// content and the bytes after it. The content may share memory with b.
func Open(b []byte, want Kind) (raw, rest []byte, err error) { return OpenWith(nil, b, want) }

// OpenWith is Open with the keys of a store.
func OpenWith(ring Ring, b []byte, want Kind) (raw, rest []byte, err error) {
	h, rest, err := Check(b)
	if err != nil {
		return nil, nil, err
	}
	if h.Kind != want {
		return nil, nil, fmt.Errorf("%w: kind %d where %d belongs", ErrDamaged, h.Kind, want)
	}
	end := len(b) - len(rest)
	raw = b[HeaderSize:end:end]
	switch {
	case h.Encrypted:
		if raw, err = open(ring, b[:end:end]); err != nil {
			return nil, nil, err
		}
	case ring != nil:
		return nil, nil, fmt.Errorf("%w: not encrypted, in a store that is", ErrDamaged)
	}
	if h.codec == codecZstd {
		raw, err = decoder().DecodeAll(raw, make([]byte, 0, h.Raw))
	}
	if err == nil && len(raw) != h.Raw {
		err = fmt.Errorf("%d came out", len(raw))
	}
	if err != nil {
		return nil, nil, fmt.Errorf("%w: content does not decompress to %d bytes: %w", ErrDamaged, h.Raw, err)
	}
	return raw, rest, nil
}
