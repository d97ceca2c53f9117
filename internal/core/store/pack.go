package store

import (
	"context"
	"encoding/binary"
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
}

func appendFooter(dst []byte, objects []object) []byte {
	dst = binary.AppendUvarint(dst, uint64(len(objects)))
	for i := range objects {
		o := &objects[i]
		dst = append(dst, o.name[:]...)
		for _, v := range [...]uint32{o.frameOff, o.frameLen, o.off, o.len} {
			dst = binary.AppendUvarint(dst, uint64(v))
		}
		if o.base.IsZero() {
			dst = append(dst, 0)
		} else {
			dst = append(dst, 1)
			dst = append(dst, o.base[:]...)
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
		if len(b) < 1 || b[0] > 1 || b[0] == 1 && len(b) < 33 {
			return nil, bad
		}
		if b[0] == 1 {
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
func sealPack(pack []byte, objects []object) (whole, footer []byte) {
	footer = appendFooter(nil, objects)
	at := len(pack)
	pack = frame.Append(pack, frame.Footer, footer)
	n := len(pack) - at
	var t [trailerSize]byte
	binary.BigEndian.PutUint64(t[:], uint64(at))
	binary.BigEndian.PutUint32(t[8:], uint32(n))
	copy(t[16:], trailerMagic)
	return append(pack, t[:]...), footer
}

// readPackFooter gets a pack's list of objects from the pack itself.
func readPackFooter(ctx context.Context, b blob.Backend, name string) ([]byte, error) {
	t, err := b.ReadAt(ctx, name, int64(-trailerSize), trailerSize)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	if string(t[16:]) != trailerMagic {
		return nil, fmt.Errorf("%s: %w: does not end as a pack", name, ErrDamaged)
	}
	n := binary.BigEndian.Uint32(t[8:])
	f, err := b.ReadAt(ctx, name, int64(binary.BigEndian.Uint64(t[:])), int(n))
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	raw, _, err := frame.Open(f, frame.Footer)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	return raw, nil
}
