package store

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/tree"
)

// A pack is: packMagic, frames, the footer frame, and a trailer of fixed size
// that says where the footer is.
const (
	packMagic    = "DXPK\x01\x00\x00\x00"
	trailerMagic = "DXPKEND\x01"
	trailerSize  = 8 + 4 + 4 + len(trailerMagic)
)

// object is a pack's entry for one node.
type object struct {
	name tree.Hash
	// The frame that holds it, and where in the frame's content it lies.
	frameOff, frameLen uint32
	off, len           uint32
	// base, where not zero, is the leaf this one is stored as a patch of.
	base tree.Hash
	// pieces: it is a leaf that names pieces, or may be one.
	pieces bool
}

// What the byte after an object's place says.
const (
	flagPatch  = 1
	flagPieces = 2
	flagLooked = 4 // whether it names pieces was looked at; format 1 does not say
)

func appendFooter(dst []byte, objects []object) []byte {
	dst = binary.AppendUvarint(dst, uint64(len(objects)))
	for i := range objects {
		o := &objects[i]
		dst = append(dst, o.name[:]...)
		for _, v := range [...]uint32{o.frameOff, o.frameLen, o.off, o.len} {
			dst = binary.AppendUvarint(dst, uint64(v))
		}
		flags := byte(flagLooked)
		if o.pieces {
			flags |= flagPieces
		}
		if !o.base.IsZero() {
			dst = append(dst, flags|flagPatch)
			dst = append(dst, o.base[:]...)
		} else {
			dst = append(dst, flags)
		}
	}
	return dst
}

func readFooter(b []byte) ([]object, error) {
	bad := fmt.Errorf("%w: list of objects cut short", ErrDamaged)
	n, l := binary.Uvarint(b)
	if l <= 0 || n > uint64(len(b))/37 {
		return nil, bad
	}
	b = b[l:]
	out := make([]object, n)
	for i := range out {
		o := &out[i]
		if len(b) < 32 {
			return nil, bad
		}
		b = b[copy(o.name[:], b):]
		for _, p := range [...]*uint32{&o.frameOff, &o.frameLen, &o.off, &o.len} {
			v, l := binary.Uvarint(b)
			if l <= 0 || v > 1<<32-1 {
				return nil, bad
			}
			*p, b = uint32(v), b[l:]
		}
		if len(b) < 1 || b[0] > flagPatch|flagPieces|flagLooked || b[0]&flagPatch != 0 && len(b) < 33 {
			return nil, bad
		}
		flags := b[0]
		o.pieces = flags&flagPieces != 0 || flags&flagLooked == 0
		if flags&flagPatch != 0 {
			copy(o.base[:], b[1:])
			b = b[32:]
		}
		b = b[1:]
	}
	if len(b) != 0 {
		return nil, bad
	}
	return out, nil
}

// sealPack ends a pack's bytes and gives the footer's content too.
func sealPack(k *frame.Key, pack []byte, objects []object) (whole, footer []byte) {
	footer = appendFooter(nil, objects)
	at := len(pack)
	pack = k.Append(pack, frame.Footer, footer)
	n := len(pack) - at
	var t [trailerSize]byte
	binary.BigEndian.PutUint64(t[:], uint64(at))
	binary.BigEndian.PutUint32(t[8:], uint32(n))
	copy(t[16:], trailerMagic)
	return append(pack, t[:]...), footer
}

// readPackFooter gets a pack's list of objects from the pack itself.
func (s *Content) readPackFooter(ctx context.Context, name string) ([]byte, error) {
	raw, err := s.footerAt(name, func(off int64, n int) ([]byte, error) { return s.blob.ReadAt(ctx, name, off, n) })
	if errors.Is(err, ErrDamaged) {
		if whole, rerr := s.rescue(ctx, name); rerr == nil {
			return s.footerOf(name, whole)
		}
	}
	return raw, err
}

// footerOf gets a pack's list of objects from its bytes.
func (s *Content) footerOf(name string, pack []byte) ([]byte, error) {
	return s.footerAt(name, func(off int64, n int) ([]byte, error) {
		if off < 0 {
			off += int64(len(pack))
		}
		if off < 0 || off+int64(n) > int64(len(pack)) {
			return nil, blob.ErrRange
		}
		return pack[off : off+int64(n)], nil
	})
}

func (s *Content) footerAt(name string, read func(off int64, n int) ([]byte, error)) ([]byte, error) {
	t, err := read(int64(-trailerSize), trailerSize)
	if err != nil {
		return nil, shorter(name, err)
	}
	at, n, err := readTrailer(t)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	f, err := read(at, n)
	if err != nil {
		return nil, shorter(name, err)
	}
	raw, _, err := frame.OpenWith(s.ring(), f, frame.Footer)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, damaged(err))
	}
	return raw, nil
}

// shorter makes damage of an object that ends before it should.
func shorter(name string, err error) error {
	if errors.Is(err, blob.ErrRange) {
		return fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	return err
}

// readTrailer returns where a pack's footer frame begins and how long it is.
func readTrailer(t []byte) (at int64, n int, err error) {
	if string(t[16:]) != trailerMagic || binary.BigEndian.Uint32(t[12:]) != 0 {
		return 0, 0, fmt.Errorf("%w: does not end as a pack", ErrDamaged)
	}
	end, size := binary.BigEndian.Uint64(t), binary.BigEndian.Uint32(t[8:])
	if end > 1<<40 || size > 1<<31-1 {
		return 0, 0, fmt.Errorf("%w: does not end as a pack", ErrDamaged)
	}
	return int64(end), int(size), nil
}
