package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// A content file is: packMagic, frames, the footer frame, and a trailer of fixed size
// that says where the footer is.
const (
	FileMagic    = "DXPK\x01\x00\x00\x00"
	trailerMagic = "DXPKEND\x01"
	TrailerSize  = 8 + 4 + 4 + len(trailerMagic)
	// maxFooter is the most bytes that a footer's frame has: what a trailer asks for is read
	// before anything else can tell whether it is right.
	maxFooter = 64 << 20
)

// Entry is a content file's entry for one node.
type Entry struct {
	Name tree.Hash
	// The frame that holds it, and where in the frame's content it lies.
	FrameOff, FrameLen uint32
	Off, Len           uint32
	// Base, where not zero, is the leaf this one is stored as a patch of.
	Base tree.Hash
	// NamesPieces: it is a leaf that names pieces, or may be one.
	NamesPieces bool
}

// What the byte after an object's place says.
const (
	flagPatch  = 1
	flagPieces = 2
)

// Footer is what a content file says of itself.
type Footer struct {
	Entries []Entry
	// Vouch is what somebody vouched with who can read; empty where nobody did.
	Vouch []byte
	// vouched is the bytes that the vouch is for.
	vouched []byte
}

// idOf returns the bytes of a content file's name that are its own.
func idOf(name string) []byte {
	id, _ := hex.DecodeString(name[strings.LastIndexByte(name, '/')+1:])
	return id
}

func appendFooter(dst []byte, name string, objects []Entry) []byte {
	dst = append(dst, idOf(name)...)
	dst = binary.AppendUvarint(dst, uint64(len(objects)))
	for i := range objects {
		o := &objects[i]
		dst = append(dst, o.Name[:]...)
		for _, v := range [...]uint32{o.FrameOff, o.FrameLen, o.Off, o.Len} {
			dst = binary.AppendUvarint(dst, uint64(v))
		}
		flags := byte(0)
		if o.NamesPieces {
			flags |= flagPieces
		}
		if !o.Base.IsZero() {
			dst = append(dst, flags|flagPatch)
			dst = append(dst, o.Base[:]...)
		} else {
			dst = append(dst, flags)
		}
	}
	return dst
}

// DecodeFooter reads the list of the content file of a name.
func DecodeFooter(name string, b []byte) (*Footer, error) {
	bad := fmt.Errorf("%s: %w: list of objects cut short", name, sealed.ErrDamaged)
	whole, id := b, idOf(name)
	if len(id) == 0 || !bytes.HasPrefix(b, id) {
		return nil, fmt.Errorf("%s: %w: its list of objects is another file's", name, sealed.ErrDamaged)
	}
	b = b[len(id):]
	n, l := binary.Uvarint(b)
	if l <= 0 || n > uint64(len(b))/37 {
		return nil, bad
	}
	b = b[l:]
	out := make([]Entry, n)
	for i := range out {
		o := &out[i]
		if len(b) < 32 {
			return nil, bad
		}
		b = b[copy(o.Name[:], b):]
		for _, p := range [...]*uint32{&o.FrameOff, &o.FrameLen, &o.Off, &o.Len} {
			v, l := binary.Uvarint(b)
			if l <= 0 || v > 1<<32-1 {
				return nil, bad
			}
			*p, b = uint32(v), b[l:]
		}
		if len(b) < 1 || b[0] > flagPatch|flagPieces || b[0]&flagPatch != 0 && len(b) < 33 {
			return nil, bad
		}
		flags := b[0]
		o.NamesPieces = flags&flagPieces != 0
		if flags&flagPatch != 0 {
			copy(o.Base[:], b[1:])
			b = b[32:]
		}
		b = b[1:]
	}
	if len(b) != 0 && len(b) != sealed.VouchSize {
		return nil, bad
	}
	return &Footer{Entries: out, Vouch: b, vouched: whole[:len(whole)-len(b)]}, nil
}

// Believed reports whether the list of a content file can be relied on without reading
// what it lists: not where it could be told that somebody who can read made it, and
// is not so.
func (s *Content) Believed(name string, f *Footer) bool {
	return !s.Doubts(name, f.vouched, f.Vouch)
}

// sealFile ends a content file's bytes and gives the footer's content too.
func (s *Content) sealFile(name string, file []byte, objects []Entry) (whole, footer []byte) {
	footer = appendFooter(nil, name, objects)
	return endFile(s.ListKey(), file, append(footer, s.Vouch(name, footer)...))
}

func endFile(k *frame.Key, file, footer []byte) (whole, _ []byte) {
	at := len(file)
	file = k.Append(file, frame.Footer, footer)
	n := len(file) - at
	var t [TrailerSize]byte
	binary.BigEndian.PutUint64(t[:], uint64(at))
	binary.BigEndian.PutUint32(t[8:], uint32(n))
	copy(t[16:], trailerMagic)
	return append(file, t[:]...), footer
}

// Renamed returns the bytes of a content file as they are under another name. All of the file
// must have been checked. It is vouched for where it was.
func (s *Content) Renamed(ctx context.Context, name, to string, file []byte) ([]byte, error) {
	raw, err := s.FooterOf(ctx, name, file)
	if err != nil {
		return nil, err
	}
	f, err := DecodeFooter(name, raw)
	if err != nil {
		return nil, err
	}
	at, _, err := ReadTrailer(file[len(file)-TrailerSize:])
	if err != nil {
		return nil, err
	}
	if !s.Believed(name, f) {
		whole, _ := endFile(s.ListKey(), bytes.Clone(file[:at]), appendFooter(nil, to, f.Entries))
		return whole, nil
	}
	whole, _ := s.sealFile(to, bytes.Clone(file[:at]), f.Entries)
	return whole, nil
}

// ReadFooter gets a content file's list of objects from the content file itself.
func (s *Content) ReadFooter(ctx context.Context, name string) ([]byte, error) {
	raw, err := s.FooterAt(ctx, name, func(off int64, n int) ([]byte, error) {
		return s.Blob.ReadAt(ctx, name, off, n)
	})
	if errors.Is(err, sealed.ErrDamaged) {
		if whole, rerr := s.RebuildObject(ctx, name); rerr == nil {
			return s.FooterOf(ctx, name, whole)
		}
	}
	return raw, err
}

// FooterOf gets a content file's list of objects from its bytes.
func (s *Content) FooterOf(ctx context.Context, name string, file []byte) ([]byte, error) {
	return s.FooterAt(ctx, name, func(off int64, n int) ([]byte, error) {
		if off < 0 {
			off += int64(len(file))
		}
		if off < 0 || off+int64(n) > int64(len(file)) {
			return nil, blob.ErrRange
		}
		return file[off : off+int64(n)], nil
	})
}

// FooterAt gets a content file's list of objects by reading parts of it.
func (s *Content) FooterAt(ctx context.Context, name string,
	read func(off int64, n int) ([]byte, error)) ([]byte, error) {
	t, err := read(int64(-TrailerSize), TrailerSize)
	if err != nil {
		return nil, shorter(name, err)
	}
	at, n, err := ReadTrailer(t)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	f, err := read(at, n)
	if err != nil {
		return nil, shorter(name, err)
	}
	raw, _, err := frame.OpenWith(s.Ring(ctx), f, frame.Footer)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, sealed.AsDamage(err))
	}
	return raw, nil
}

// shorter makes damage of an object that ends before it should.
func shorter(name string, err error) error {
	if errors.Is(err, blob.ErrRange) {
		return fmt.Errorf("%s: %w: %w", name, sealed.ErrDamaged, err)
	}
	return err
}

// ReadTrailer returns where a content file's footer frame begins and how long it is.
func ReadTrailer(t []byte) (at int64, n int, err error) {
	if string(t[16:]) != trailerMagic || binary.BigEndian.Uint32(t[12:]) != 0 {
		return 0, 0, fmt.Errorf("%w: does not end as a content file", sealed.ErrDamaged)
	}
	end, size := binary.BigEndian.Uint64(t), binary.BigEndian.Uint32(t[8:])
	if end > blob.MaxObject || size > maxFooter {
		return 0, 0, fmt.Errorf("%w: does not end as a content file", sealed.ErrDamaged)
	}
	return int64(end), int(size), nil
}
