package sealed

import (
	"crypto/subtle"
	"encoding/binary"
	"encoding/hex"
	"slices"

	"github.com/zeebo/blake3"
)

// Who can read a store vouches for what it makes: with a key that comes from the secret half
// of the content key, which holders that only write do not have. What such a holder makes
// is used where that must be, and never takes the place of what a reader made.

// VouchSize is how many bytes a vouch has.
const VouchSize = 32

// newVouchKey derives the key to vouch with from the secret half of the content key.
func newVouchKey(content string) (key [32]byte) {
	blake3.DeriveKey("dexamen store vouch", []byte(content), key[:])
	return key
}

// vouch returns what stands for the parts, each with its length; nil where the keyring
// cannot read.
func (r *keyring) vouch(parts ...[]byte) []byte {
	if r == nil || r.content == nil {
		return nil
	}
	return vouchWith(r.vouching, parts)
}

func vouchWith(key [32]byte, parts [][]byte) []byte {
	h, err := blake3.NewKeyed(key[:])
	if err != nil {
		panic(err) // the length is right
	}
	for _, p := range parts {
		_, _ = h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(p))))
		_, _ = h.Write(p)
	}
	return h.Sum(nil)[:VouchSize]
}

func vouches(key [32]byte, vouch []byte, parts ...[]byte) bool {
	return key != [32]byte{} && subtle.ConstantTimeCompare(vouchWith(key, parts), vouch) == 1
}

// vouched reports whether a vouch is what vouch returns for the parts, or did before the content key
// was renewed.
func (r *keyring) vouched(vouch []byte, parts ...[]byte) bool {
	if r == nil || r.content == nil {
		return false
	}
	return vouches(r.vouching, vouch, parts...) || slices.ContainsFunc(r.older,
		func(was olderKey) bool { return vouches(was.vouching, vouch, parts...) })
}

// Vouch returns what lets others who can read see that somebody who can has made an
// object: 32 bytes over its name and what is said of it; nil in a plain store, and where
// the key lets write only.
func (s *Objects) Vouch(name string, what []byte) []byte {
	return s.Keyring.vouch([]byte(name), what)
}

// Doubts reports whether nobody who can read the store has made an object; false also where
// that cannot be told: in a plain store, and with a key that lets write only.
func (s *Objects) Doubts(name string, what, vouch []byte) bool {
	if s.Keyring == nil || s.Keyring.content == nil {
		return false
	}
	return !s.Keyring.vouched(vouch, []byte(name), what)
}

// Sees returns what stands for what can be told of who made an object, as hexadecimal digits: two that
// open the store and can tell the same get the same.
func (s *Objects) Sees() string {
	h := blake3.NewDeriveKey("dexamen store reader")
	if r := s.Keyring; r != nil && r.content != nil {
		_, _ = h.Write(r.vouching[:])
		for _, was := range r.older {
			_, _ = h.Write(was.vouching[:])
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}
