package etcd

import (
	"encoding/binary"

	"dexamen/internal/core/record"
)

// place is a position taken apart.
type place struct {
	// epoch tells histories apart of which one is no continuation of the other:
	// milliseconds since 1970, zero for the first.
	epoch uint64
	rev   int64
	// idle is a time in milliseconds until which nothing came after the revision; or
	// zero.
	idle uint64
}

// laterHistory marks positions that have an epoch: after all that have none, as no
// revision is negative.
const laterHistory = uint64(1) << 63

func (p place) position() record.Position {
	var b []byte
	if p.epoch > 0 {
		b = binary.BigEndian.AppendUint64(b, laterHistory|p.epoch)
	}
	b = binary.BigEndian.AppendUint64(b, uint64(p.rev))
	if p.idle > 0 {
		b = binary.BigEndian.AppendUint64(b, p.idle)
	}
	return record.Position(b)
}

func placeOf(pos record.Position) (p place, ok bool) {
	b := []byte(pos)
	if len(b) < 8 || len(b)%8 > 0 {
		return p, false
	}
	if first := binary.BigEndian.Uint64(b); first&laterHistory != 0 {
		p.epoch, b = first&^laterHistory, b[8:]
	}
	if len(b) != 8 && len(b) != 16 {
		return place{}, false
	}
	p.rev = int64(binary.BigEndian.Uint64(b))
	if len(b) == 16 {
		p.idle = binary.BigEndian.Uint64(b[8:])
	}
	return p, true
}

// revision returns the revision of a position, zero where it is none.
func revision(pos record.Position) int64 {
	p, _ := placeOf(pos)
	return p.rev
}
