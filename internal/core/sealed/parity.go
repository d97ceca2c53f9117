package sealed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/klauspost/reedsolomon"
	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
)

// Parity of an object is an object of its own, made before it: the object is
// cut into k pieces, and m more are kept, so that any m damaged pieces of the
// k+m can be made again (Reed and Solomon). It is of the bytes as stored and
// needs no key.
const (
	parityMagic = "DXPR\x01\x00\x00\x00"
)

type parityHead struct {
	Name         string `json:"name"`
	Size         int    `json:"size"`  // of the object
	Piece        int    `json:"piece"` // bytes of each piece, the last padded with zeros
	DataPieces   int    `json:"data_pieces"`
	ParityPieces int    `json:"parity_pieces"`
	// Sums are the first 16 bytes of BLAKE3 of each piece.
	Sums [][]byte `json:"sums"`
}

// HasSecondCopy reports which objects have parity in every store, as one piece and one
// more: without them nothing else can be read.
func HasSecondCopy(name string) bool {
	return KindOf(name).twice
}

// ParityOf reports into how many pieces an object is cut; more is zero where it has
// no parity.
func (s *Objects) ParityOf(name string) (data, more int) {
	switch {
	case HasSecondCopy(name):
		return 1, 1
	case s.parityData > 0 && KindOf(name).parity:
		return s.parityData, s.parityMore
	}
	return 0, 0
}

// putTwice makes an object that has parity in every store.
func putTwice(ctx context.Context, b blob.Backend, name string, v any) error {
	data, err := EncodeManifest(nil, name, v)
	if err != nil {
		return err
	}
	more, err := EncodeParity(name, data, 1, 1)
	if err != nil {
		return err
	}
	if err := b.Create(ctx, ParityPrefix+name, more); err != nil && !errors.Is(err, blob.ErrExists) {
		return err
	}
	return b.Create(ctx, name, data)
}

// getTwice reads a manifest that is not encrypted, from its parity where it is
// damaged and has some.
func getTwice(ctx context.Context, b blob.Backend, name string, v any) error {
	err := getManifest(ctx, b, nil, name, v)
	if errors.Is(err, ErrDamaged) || errors.Is(err, blob.ErrNotFound) && HasSecondCopy(name) {
		if whole, rerr := RebuildFromParity(ctx, b, name); rerr == nil {
			return DecodeManifest(nil, whole, name, v)
		}
	}
	return err
}

// parseParity reads "8+2".
func parseParity(text string) (data, more int, err error) {
	if text == "" {
		return 0, 0, nil
	}
	var rest string
	n, _ := fmt.Sscanf(text, "%d+%d%s", &data, &more, &rest)
	if n != 2 || data < 1 || data > 64 || more < 1 || more > 16 {
		return 0, 0, fmt.Errorf("parity %q: write it as pieces and further pieces, such as 8+2 (up to 64+16)", text)
	}
	return data, more, nil
}

func pieceSum(b []byte) []byte {
	h := blake3.Sum256(b)
	return h[:16]
}

// maxPieces is how many pieces of either kind the code can have.
const maxPieces = 255

func EncodeParity(name string, object []byte, data, more int) ([]byte, error) {
	h := parityHead{Name: name, Size: len(object), Piece: max(1, (len(object)+data-1)/data), DataPieces: data,
		ParityPieces: more}
	pieces := cut(object, h)
	rs, err := reedsolomon.New(data, more)
	if err == nil {
		err = rs.Encode(pieces)
	}
	if err != nil {
		return nil, fmt.Errorf("parity of %s: %w", name, err)
	}
	for _, p := range pieces {
		h.Sums = append(h.Sums, pieceSum(p))
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	out := frame.Append([]byte(parityMagic), frame.Parity, raw)
	for _, p := range pieces[data:] {
		out = append(out, p...)
	}
	return out, nil
}

// cut returns an object's pieces, and empty ones for those to come.
func cut(object []byte, h parityHead) [][]byte {
	padded := make([]byte, h.Piece*(h.DataPieces+h.ParityPieces))
	copy(padded[:h.Piece*h.DataPieces], object)
	pieces := make([][]byte, h.DataPieces+h.ParityPieces)
	for i := range pieces {
		pieces[i] = padded[i*h.Piece : (i+1)*h.Piece]
	}
	return pieces
}

func decodeParity(b []byte) (h parityHead, more [][]byte, err error) {
	if len(b) < len(parityMagic) || string(b[:len(parityMagic)]) != parityMagic {
		return h, nil, fmt.Errorf("%w: does not begin as parity", ErrDamaged)
	}
	raw, rest, err := frame.Open(b[len(parityMagic):], frame.Parity)
	if err == nil {
		err = json.Unmarshal(raw, &h)
	}
	if err != nil {
		return h, nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	// Sizes are compared with what is there before room is made for them.
	if h.DataPieces < 1 || h.ParityPieces < 1 || h.DataPieces > maxPieces || h.ParityPieces > maxPieces ||
		h.Size < 0 || h.Size > blob.MaxObject || h.Piece != max(1, (h.Size+h.DataPieces-1)/h.DataPieces) ||
		len(h.Sums) != h.DataPieces+h.ParityPieces || len(rest) != h.Piece*h.ParityPieces {
		return h, nil, fmt.Errorf("%w: parity of another shape than it says", ErrDamaged)
	}
	for i := range h.ParityPieces {
		more = append(more, rest[i*h.Piece:(i+1)*h.Piece])
	}
	return h, more, nil
}

// CheckParity sees that parity is whole and of this object; it gives what is
// wrong, or nil.
func CheckParity(name string, parity, object []byte) error {
	h, more, err := decodeParity(parity)
	if err != nil {
		return err
	}
	if h.Name != name || object != nil && h.Size != len(object) {
		return fmt.Errorf("%w: parity of another object", ErrDamaged)
	}
	for i, p := range more {
		if string(pieceSum(p)) != string(h.Sums[h.DataPieces+i]) {
			return fmt.Errorf("%w: a piece of the parity", ErrDamaged)
		}
	}
	if object == nil {
		return nil
	}
	for i, p := range cut(object, h)[:h.DataPieces] {
		if string(pieceSum(p)) != string(h.Sums[i]) {
			return fmt.Errorf("%w: parity of other bytes", ErrDamaged)
		}
	}
	return nil
}

// Fingerprint is 16 bytes of BLAKE3 over an object's size and the sums of its pieces: an object
// and its parity have the same one.
type Fingerprint [16]byte

func (h *parityHead) fingerprint(sums [][]byte) (f Fingerprint) {
	d := blake3.New()
	_, _ = fmt.Fprintf(d, "%d/%d", h.Size, len(sums))
	for _, s := range sums {
		_, _ = d.Write(s)
	}
	copy(f[:], d.Sum(nil))
	return f
}

// FingerprintOf returns the fingerprint of an object that is cut into so many pieces.
func FingerprintOf(object []byte, pieces int) Fingerprint {
	h := parityHead{Size: len(object), Piece: max(1, (len(object)+pieces-1)/pieces), DataPieces: pieces}
	var sums [][]byte
	for _, p := range cut(object, h)[:pieces] {
		sums = append(sums, pieceSum(p))
	}
	return h.fingerprint(sums)
}

// FingerprintIn returns the fingerprint of the object that parity was made of.
func FingerprintIn(parity []byte) (Fingerprint, error) {
	h, _, err := decodeParity(parity)
	if err != nil {
		return Fingerprint{}, err
	}
	return h.fingerprint(h.Sums[:h.DataPieces]), nil
}

var errNoParity = errors.New("nothing to make it again from")

// rebuild makes an object again from what is left of it and its parity.
func rebuild(name string, object, parity []byte) ([]byte, error) {
	h, more, err := decodeParity(parity)
	if err != nil {
		return nil, err
	}
	if h.Name != name {
		return nil, fmt.Errorf("%w: parity of another object", ErrDamaged)
	}
	if len(object) > h.Size {
		object = object[:h.Size]
	}
	pieces := cut(object, h)
	copy(pieces[h.DataPieces:], more)
	for i, p := range pieces {
		if string(pieceSum(p)) != string(h.Sums[i]) {
			pieces[i] = nil
		}
	}
	rs, err := reedsolomon.New(h.DataPieces, h.ParityPieces)
	if err == nil {
		err = rs.ReconstructData(pieces)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", errNoParity, name, err)
	}
	out := make([]byte, 0, h.Piece*h.DataPieces)
	for i, p := range pieces[:h.DataPieces] {
		if string(pieceSum(p)) != string(h.Sums[i]) {
			return nil, fmt.Errorf("%w: %s", errNoParity, name)
		}
		out = append(out, p...)
	}
	return out[:h.Size], nil
}

// RebuildObject returns a damaged object's right bytes from its parity, without
// changing anything.
func (s *Objects) RebuildObject(ctx context.Context, name string) ([]byte, error) {
	if _, more := s.ParityOf(name); more == 0 {
		return nil, errNoParity
	}
	return RebuildFromParity(ctx, s.Blob, name)
}

func RebuildFromParity(ctx context.Context, b blob.Backend, name string) ([]byte, error) {
	parity, err := b.Read(ctx, ParityPrefix+name)
	if err != nil {
		return nil, err
	}
	object, err := b.Read(ctx, name)
	if err != nil && !errors.Is(err, blob.ErrNotFound) && !errors.Is(err, ErrDamaged) {
		return nil, err
	}
	return rebuild(name, object, parity)
}

// listTwice lists objects of which there is a second copy, those too of which
// only that is left.
func listTwice(ctx context.Context, b blob.Backend, prefix string, fn func(blob.Info) error) error {
	seen := map[string]bool{}
	err := b.List(ctx, prefix, func(i blob.Info) error {
		seen[i.Name] = true
		return fn(i)
	})
	if err != nil {
		return err
	}
	return b.List(ctx, ParityPrefix+prefix, func(i blob.Info) error {
		if i.Name = strings.TrimPrefix(i.Name, ParityPrefix); seen[i.Name] {
			return nil
		}
		return fn(i)
	})
}

// RemoveObject takes an object away, and then its parity. Of what there is a second
// copy the copy goes first: alone it would still count.
func (s *Objects) RemoveObject(ctx context.Context, name string) error {
	if HasSecondCopy(name) {
		if err := s.Blob.Remove(ctx, ParityPrefix+name); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
		return s.Blob.Remove(ctx, name)
	}
	if err := s.Blob.Remove(ctx, name); err != nil {
		return err
	}
	if _, more := s.ParityOf(name); more == 0 {
		return nil
	}
	err := s.Blob.Remove(ctx, ParityPrefix+name)
	if errors.Is(err, blob.ErrNotFound) {
		return nil
	}
	return err
}
