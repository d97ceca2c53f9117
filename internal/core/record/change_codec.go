package record

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrTruncated means that encoded bytes end before what they announce.
var ErrTruncated = errors.New("record: bytes end too early")

// AppendChange appends the change in the journal's encoding (docs/reference/format.md,
// "Changes"): op, wall and then length-prefixed fields.
func AppendChange(dst []byte, c *Change) []byte {
	dst = append(dst, byte(c.Op))
	dst = binary.AppendVarint(dst, c.Wall)
	for _, f := range [...]string{string(c.At), c.Namespace, c.To} {
		dst = binary.AppendUvarint(dst, uint64(len(f)))
		dst = append(dst, f...)
	}
	for _, f := range [...][]byte{c.Ident, c.Key, c.Value} {
		dst = binary.AppendUvarint(dst, uint64(len(f)))
		dst = append(dst, f...)
	}
	return dst
}

// ReadChange decodes one change from the front of b and returns the rest. The
// change's byte slices point into b.
func ReadChange(b []byte) (c Change, rest []byte, err error) {
	if len(b) < 1 {
		return c, nil, ErrTruncated
	}
	c.Op = Op(b[0])
	if c.Op < Put || c.Op > Unknown {
		return c, nil, fmt.Errorf("record: change of unknown operation %d; a newer version may have written it", b[0])
	}
	b = b[1:]
	wall, n := binary.Varint(b)
	if n <= 0 {
		return c, nil, ErrTruncated
	}
	c.Wall, b = wall, b[n:]
	var fields [6][]byte
	for i := range fields {
		l, n := binary.Uvarint(b)
		if n <= 0 || l > uint64(len(b)-n) {
			return c, nil, ErrTruncated
		}
		b = b[n:]
		fields[i], b = b[:l:l], b[l:]
	}
	c.At, c.Namespace, c.To = Position(fields[0]), string(fields[1]), string(fields[2])
	c.Ident, c.Key, c.Value = nonEmpty(fields[3]), nonEmpty(fields[4]), nonEmpty(fields[5])
	return c, b, nil
}

func nonEmpty(b []byte) []byte {
	if len(b) == 0 {
		return nil
	}
	return b
}
