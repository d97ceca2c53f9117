package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
)

// Objects reads and writes the objects of a store as they are to lie there: in
// checked frames, encrypted, with parity, locked. Its methods may be called from
// many goroutines.
type Objects struct {
	Descriptor
	blob blob.Backend
	opt  Options
	keys *keyring // nil in a plain store

	sessionMu sync.Mutex
	session   *Lease // that this store writes; taken with the first write

	parityData, parityMore int // zero without parity
}

// openObjects reads what a store is, and its keys.
func openObjects(ctx context.Context, b blob.Backend, opt Options) (*Objects, error) {
	d, err := readDescriptor(ctx, b)
	if errors.Is(err, blob.ErrNotFound) {
		return nil, fmt.Errorf("%s: %w", b, ErrNoStore)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	if d.Format > FormatVersion {
		return nil, fmt.Errorf("%s: %w: the store has format %d, this version reads up to %d; use a newer dexamen", b, ErrTooNew, d.Format, FormatVersion)
	}
	o := &Objects{Descriptor: d, blob: b, opt: opt.withDefaults()}
	if o.parityData, o.parityMore, err = parseParity(d.Parity); err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	if c, ok := b.(blob.Claimer); ok && d.Claims {
		c.UseClaims()
	}
	if a, ok := b.(blob.Anchored); ok {
		if err := a.Anchor(ctx, descriptorName, parityPrefix+descriptorName, repairedPrefix+descriptorName); err != nil {
			return nil, fmt.Errorf("%s: %w", b, err)
		}
	}
	if l, ok := b.(blob.Locker); ok && d.KeepLocked > 0 {
		l.UseLocks()
	}
	switch d.Protection {
	case "":
	case "aes-256-gcm":
		if o.keys, err = unlock(ctx, b, d.ID, opt.Unlock); err != nil {
			return nil, fmt.Errorf("%s: %w", b, err)
		}
	default:
		return nil, fmt.Errorf("%s: %w: its protection is %q; use a newer dexamen", b, ErrTooNew, d.Protection)
	}
	return o, nil
}

// Place returns where the store lies.
func (s *Objects) Place() blob.Backend { return s.blob }

// Location returns where the store lies, without secrets.
func (s *Objects) Location() string { return s.blob.String() }

// create makes an object, its parity before it.
func (s *Objects) create(ctx context.Context, name string, data []byte) error {
	if k, m := s.parityOf(name); m > 0 {
		more, err := encodeParity(name, data, k, m)
		if err != nil {
			return err
		}
		err = s.blob.Create(ctx, parityPrefix+name, more)
		if errors.Is(err, blob.ErrExists) {
			// Of an attempt that ended here, or of one that goes on: who makes
			// the object decides, and mending makes parity that does not fit anew.
			err = nil
		}
		if err != nil {
			return err
		}
	}
	if err := s.blob.Create(ctx, name, data); err != nil {
		return err
	}
	return s.lock(ctx, name)
}

// put writes v as JSON in a checked frame.
func (s *Objects) put(ctx context.Context, k *frame.Key, name string, v any) error {
	data, err := encodeManifest(k, v)
	if err != nil {
		return err
	}
	return s.create(ctx, name, data)
}

// get reads what put wrote under the list key.
func (s *Objects) get(ctx context.Context, name string, v any) error {
	err := getManifest(ctx, s.blob, s.ring(), name, v)
	if errors.Is(err, ErrDamaged) {
		if data, rerr := s.rescue(ctx, name); rerr == nil {
			return decodeManifest(s.ring(), data, name, v)
		}
	}
	return err
}

func encodeManifest(k *frame.Key, v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return k.Append([]byte(manifestMagic), frame.Manifest, raw), nil
}

func getManifest(ctx context.Context, b blob.Backend, ring frame.Ring, name string, v any) error {
	data, err := b.Read(ctx, name)
	if err != nil {
		return err
	}
	return decodeManifest(ring, data, name, v)
}

func decodeManifest(ring frame.Ring, data []byte, name string, v any) error {
	if len(data) < len(manifestMagic) || string(data[:len(manifestMagic)]) != manifestMagic {
		return fmt.Errorf("%s: %w: does not begin as it should", name, ErrDamaged)
	}
	raw, rest, err := frame.OpenWith(ring, data[len(manifestMagic):], frame.Manifest)
	if err != nil {
		return fmt.Errorf("%s: %w", name, damaged(err))
	}
	if len(rest) > 0 {
		return fmt.Errorf("%s: %w: %d bytes too many", name, ErrDamaged, len(rest))
	}
	if err := json.Unmarshal(raw, v); err != nil {
		return fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	return nil
}

// damaged reports damage from a key that is not at hand.
func damaged(err error) error {
	if errors.Is(err, frame.ErrLocked) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// newID returns n random bytes in hexadecimal.
func newID(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails, by its contract
	return hex.EncodeToString(b)
}

// named returns damage where an object says that it is another one.
func named(name, own string) error {
	if name != own {
		return fmt.Errorf("%w: it is a copy of %s", ErrDamaged, own)
	}
	return nil
}
