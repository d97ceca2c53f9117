package sealed

import (
	"crypto/subtle"

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
	h, err := blake3.NewKeyed(r.vouching[:])
	if err != nil {
		panic(err) // the length is right
	}
	for _, p := range parts {
		var n [8]byte
		for i := range n {
			n[i] = byte(len(p) >> (8 * (7 - i)))
		}
		_, _ = h.Write(n[:])
		_, _ = h.Write(p)
	}
	return h.Sum(nil)[:VouchSize]
}

// vouched reports whether a vouch is what vouch returns for the parts.
func (r *keyring) vouched(vouch []byte, parts ...[]byte) bool {
	want := r.vouch(parts...)
	return want != nil && subtle.ConstantTimeCompare(want, vouch) == 1
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
