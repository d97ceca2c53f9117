package sealed

import (
	"encoding/base32"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/remedy"
)

// Identity returns what tells this store from every other: a hash over its descriptor and,
// where it is encrypted, over its keys, as text. Nobody can make another store of the same
// identity, nor change what the descriptor says: that it is encrypted, has parity, locks.
func (s *Objects) Identity() string {
	raw, err := json.Marshal(s.Descriptor)
	if err != nil {
		panic(err) // it was read from JSON
	}
	h := blake3.NewDeriveKey("dexamen store identity")
	_, _ = h.Write(raw)
	if k := s.Keyring; k != nil {
		_, _ = h.Write(k.secret.List)
		_, _ = h.Write([]byte(k.secret.Public))
	}
	text := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(h.Sum(nil)[:20]))
	var parts []string
	for ; len(text) > 0; text = text[8:] {
		parts = append(parts, text[:8])
	}
	return strings.Join(parts, "-")
}

// SameDescriptor reports whether a descriptor is this store's.
func (s *Objects) SameDescriptor(d Descriptor) bool {
	if !d.Created.Equal(s.Created) {
		return false
	}
	d.Created = s.Created
	return d == s.Descriptor
}

// expected returns an error where the store is not the one that opt describes.
func (s *Objects) expected(opt Options) error {
	if len(opt.Unlock) > 0 && s.Keyring == nil {
		return remedy.With(fmt.Errorf("%s: %w: what was written there could be read by anybody", s.Blob, ErrPlain),
			remedy.StoreIdentity, "")
	}
	if is := s.Identity(); opt.Identity != "" && opt.Identity != is {
		return remedy.With(fmt.Errorf("%s: %w: its identity is %s, expected is %s", s.Blob, ErrUnexpectedStore, is,
			opt.Identity), remedy.StoreIdentity, "")
	}
	return nil
}
