package content

import (
	"encoding/binary"
	"fmt"

	"dexamen/internal/core/frame"
	"dexamen/internal/core/sealed"
)

const indexMagic = "DXIX\x01\x00\x00\x00"

// FileName returns the name of the content file of an id.
func FileName(id string) string { return sealed.ContentPrefix + id[:2] + "/" + id }

type fileListing struct {
	Name   string
	Footer []byte
}

func encodeIndex(k *frame.Key, files []fileListing) []byte {
	var raw []byte
	for _, p := range files {
		raw = binary.AppendUvarint(raw, uint64(len(p.Name)))
		raw = append(raw, p.Name...)
		raw = binary.AppendUvarint(raw, uint64(len(p.Footer)))
		raw = append(raw, p.Footer...)
	}
	return k.Append([]byte(indexMagic), frame.Index, raw)
}

func DecodeIndex(ring frame.Ring, data []byte) ([]fileListing, error) {
	if len(data) < len(indexMagic) || string(data[:len(indexMagic)]) != indexMagic {
		return nil, fmt.Errorf("%w: does not begin as an index", sealed.ErrDamaged)
	}
	raw, _, err := frame.OpenWith(ring, data[len(indexMagic):], frame.Index)
	if err != nil {
		return nil, sealed.AsDamage(err)
	}
	var out []fileListing
	for len(raw) > 0 {
		var f [2][]byte
		for i := range f {
			n, l := binary.Uvarint(raw)
			if l <= 0 || n > uint64(len(raw)-l) {
				return nil, fmt.Errorf("%w: index cut short", sealed.ErrDamaged)
			}
			f[i], raw = raw[l:l+int(n)], raw[l+int(n):]
		}
		out = append(out, fileListing{string(f[0]), f[1]})
	}
	return out, nil
}
