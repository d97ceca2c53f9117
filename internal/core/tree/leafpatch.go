package tree

import (
	"bytes"
	"encoding/binary"
	"fmt"
)

// A patch says how to make one node's bytes from another's, of two leaves or of two
// pieces of a value. It is a way to store a node, and no part of what the node is.
//
// A leaf patch says how to make one leaf's bytes from another's: a run of
// instructions over the base's entries.
//
//	uvarint n<<1       keep the next n entries of the base
//	uvarint n<<1|1     drop the next n entries of the base, and
//	                   uvarint m, then m entries as put: key length, key, body length, body

//
// A piece patch is runs, each of
//
//	uvarint n          keep the next n bytes of the base
//	uvarint m, m bytes put in the place of as many of the base
//
// and ends with its last run; what of the base comes after that is dropped.

// EncodePatch returns a patch that makes node from base, or ok false when it
// would be longer than limit bytes or they are not two leaves or two pieces.
func EncodePatch(base, node []byte, limit int) (patch []byte, ok bool) {
	if len(base) > 0 && len(node) > 0 && base[0] == pieceNode && node[0] == pieceNode {
		return encodePiecePatch(base, node, limit)
	}
	return encodeLeafPatch(base, node, limit)
}

func encodeLeafPatch(base, leaf []byte, limit int) (patch []byte, ok bool) {
	br, err := newLeafReader(base)
	if err != nil {
		return nil, false
	}
	lr, err := newLeafReader(leaf)
	if err != nil {
		return nil, false
	}
	var be, le entry
	bok, err1 := br.next(&be)
	lok, err2 := lr.next(&le)
	if err1 != nil || err2 != nil {
		return nil, false
	}
	var keep, drop, puts uint64
	var put []byte
	flush := func() {
		if keep > 0 {
			patch = binary.AppendUvarint(patch, keep<<1)
		}
		if drop > 0 || puts > 0 {
			patch = binary.AppendUvarint(patch, drop<<1|1)
			patch = binary.AppendUvarint(patch, puts)
			patch = append(patch, put...)
		}
		keep, drop, puts, put = 0, 0, 0, put[:0]
	}
	for bok || lok {
		if len(patch)+len(put) > limit {
			return nil, false
		}
		order := 0
		switch {
		case !lok:
			order = -1
		case !bok:
			order = 1
		default:
			order = bytes.Compare(be.key, le.key)
		}
		same := order == 0 && bytes.Equal(br.body, lr.body)
		if same {
			if drop > 0 || puts > 0 {
				flush()
			}
			keep++
		} else {
			if keep > 0 && drop == 0 && puts == 0 {
				patch = binary.AppendUvarint(patch, keep<<1)
				keep = 0
			}
			if order <= 0 {
				drop++
			}
			if order >= 0 {
				puts++
				put = binary.AppendUvarint(put, uint64(len(le.key)))
				put = append(put, le.key...)
				put = binary.AppendUvarint(put, uint64(len(lr.body)))
				put = append(put, lr.body...)
			}
		}
		if order <= 0 {
			if bok, err1 = br.next(&be); err1 != nil {
				return nil, false
			}
		}
		if order >= 0 {
			if lok, err2 = lr.next(&le); err2 != nil {
				return nil, false
			}
		}
	}
	flush()
	return patch, len(patch) <= limit
}

// minKeep is how many equal bytes make a run of their own.
const minKeep = 32

func encodePiecePatch(base, piece []byte, limit int) (patch []byte, ok bool) {
	same := func(i, j int) bool { return bytes.Equal(base[i:j], piece[i:j]) }
	shared := min(len(base), len(piece))
	for at := 0; at < len(piece); {
		from := at
		for at < shared && base[at] == piece[at] {
			at++
		}
		keep := at - from
		begin := at
		for at < len(piece) && (at+minKeep > shared || !same(at, at+minKeep)) {
			at++
		}
		patch = binary.AppendUvarint(patch, uint64(keep))
		patch = binary.AppendUvarint(patch, uint64(at-begin))
		if patch = append(patch, piece[begin:at]...); len(patch) > limit {
			return nil, false
		}
	}
	return patch, len(patch) <= limit
}

func applyPiecePatch(base, patch []byte) ([]byte, error) {
	piece := make([]byte, 0, len(base))
	for len(patch) > 0 {
		var f [2]uint64
		for i := range f {
			v, n := binary.Uvarint(patch)
			if n <= 0 || v > MaxInline+1 {
				return nil, fmt.Errorf("%w: patch cut short", ErrNode)
			}
			f[i], patch = v, patch[n:]
		}
		keep, put := int(f[0]), int(f[1])
		if len(piece)+keep > len(base) && keep > 0 || put > len(patch) || len(piece)+keep+put > MaxInline+1 {
			return nil, fmt.Errorf("%w: patch goes past its base", ErrNode)
		}
		if keep > 0 {
			piece = append(piece, base[len(piece):len(piece)+keep]...)
		}
		piece, patch = append(piece, patch[:put]...), patch[put:]
	}
	return piece, nil
}

// ApplyPatch makes the node that [EncodePatch] was given.
func ApplyPatch(base, patch []byte) ([]byte, error) {
	if len(base) > 0 && base[0] == pieceNode {
		return applyPiecePatch(base, patch)
	}
	return applyLeafPatch(base, patch)
}

func applyLeafPatch(base, patch []byte) ([]byte, error) {
	bad := func(what string) error { return fmt.Errorf("%w: patch %s", ErrNode, what) }
	r, err := newLeafReader(base)
	if err != nil {
		return nil, err
	}
	var w leafWriter
	w.reset(leafRoom)
	var e entry
	for len(patch) > 0 {
		v, n := binary.Uvarint(patch)
		if n <= 0 {
			return nil, bad("cut short")
		}
		patch = patch[n:]
		for range v >> 1 {
			ok, err := r.next(&e)
			if err != nil {
				return nil, err
			}
			if !ok {
				return nil, bad("goes past its base")
			}
			if v&1 == 0 {
				w.addRaw(e.key, r.body)
			}
		}
		if v&1 == 0 {
			continue
		}
		puts, n := binary.Uvarint(patch)
		if n <= 0 {
			return nil, bad("cut short")
		}
		patch = patch[n:]
		for range puts {
			var f [2][]byte
			for i := range f {
				l, n := binary.Uvarint(patch)
				if n <= 0 || l > uint64(len(patch)-n) {
					return nil, bad("cut short")
				}
				f[i], patch = patch[n:n+int(l)], patch[n+int(l):]
			}
			w.addRaw(f[0], f[1])
		}
	}
	return w.buf, nil
}
