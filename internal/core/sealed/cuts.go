package sealed

import (
	"encoding/binary"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/tree"
)

// Cuts returns where nodes end in the store.
func (s *Objects) Cuts() tree.Cuts { return s.cuts }

// cutsOf returns the cuts that come from what only this store has.
func cutsOf(own []byte) tree.Cuts {
	var key [16]byte
	blake3.DeriveKey("dexamen store cuts", own, key[:])
	return tree.KeyedCuts(binary.LittleEndian.Uint64(key[:8]), binary.LittleEndian.Uint64(key[8:]))
}
