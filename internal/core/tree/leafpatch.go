package tree

import (
	"bytes"
	"encoding/binary"
	"fmt"
)

// A leaf patch says how to make one leaf's bytes from another's: a run of
// instructions over the base's entries. It is a way to store a leaf, and no
// part of what the leaf is.
//
//	uvarint n<<1       keep the next n entries of the base
//	uvarint n<<1|1     drop the next n entries of the base, and
//	                   uvarint m, then m entries as put: key length, key, body length, body

// EncodePatch returns a patch that makes leaf from base, or ok false when it
// would be longer than limit bytes or either is no leaf.
func EncodePatch(base, leaf []byte, limit int) (patch []byte, ok bool) {
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

// ApplyPatch makes the leaf that [EncodePatch] was given.
func ApplyPatch(base, patch []byte) ([]byte, error) {
	bad := func(what string) error { return fmt.Errorf("%w: patch %s", ErrNode, what) }
	r, err := newLeafReader(base)
	if err != nil {
		return nil, err
	}
	var w leafWriter
	w.reset()
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
