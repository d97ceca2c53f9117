// Package sealed reads and writes the objects of a store as they lie in its place: in
// checked frames, encrypted, with parity, locked, created once and never changed.
//
//	descriptor.go  what a store is; making one
//	kinds.go       the folders of a store, and how each kind of object is treated
//	objects.go     making, reading and removing objects
//	keys.go        the keys content is under; holders.go who can open a store
//	vouch.go       what somebody vouches for who can read
//	identity.go    which store it is
//	parity.go      what makes damaged objects again
//	lock.go        locks of objects against removal
//	claim.go       which process is at which work
//	mark.go        what must not be forgotten about a cluster
//	memo.go        small objects remembered
//	check.go       whether a place is fit for a store
package sealed

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/tree"
)

// Objects reads and writes the objects of a store as they are to lie there: in
// checked frames, encrypted, with parity, locked. Its methods may be called from
// many goroutines.
type Objects struct {
	Descriptor
	Blob    blob.Backend
	Limits  Options
	Keyring *keyring // nil in a plain store

	SessionMu sync.Mutex
	Session   *Claim // that this store writes; taken with the first write

	parityData, parityMore int // zero without parity
	cuts                   tree.Cuts
}

// Open reads what a store is, and its keys.
func Open(ctx context.Context, b blob.Backend, opt Options) (*Objects, error) {
	d, err := ReadDescriptor(ctx, b)
	if errors.Is(err, blob.ErrNotFound) {
		return nil, fmt.Errorf("%s: %w", b, ErrNoStore)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	if d.Format > FormatVersion {
		return nil, fmt.Errorf("%s: %w: the store has format %d, this version reads up to %d; use a newer dexamen", b,
			ErrTooNew, d.Format, FormatVersion)
	}
	if d.Format < FormatVersion {
		return nil, fmt.Errorf("%s: the store has format %d, of a version before the first release: nothing reads it",
			b, d.Format)
	}
	o := &Objects{Descriptor: d, Blob: b, Limits: opt.withDefaults()}
	if o.parityData, o.parityMore, err = parseParity(d.Parity); err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	if c, ok := b.(blob.Reserver); ok && d.NoConditions {
		c.UseReservations()
	}
	if a, ok := b.(blob.Anchored); ok {
		if err := a.Anchor(ctx, DescriptorName, ParityPrefix+DescriptorName,
			RepairedPrefix+DescriptorName); err != nil {
			return nil, fmt.Errorf("%s: %w", b, err)
		}
	}
	if l, ok := b.(blob.Locker); ok && d.ImmutableFor > 0 {
		l.UseLocks()
	}
	switch d.Protection {
	case "":
	case "aes-256-gcm":
		if o.Keyring, err = openKeyring(ctx, b, d.ID, d.ImmutableFor > 0, opt.Unlock); err != nil {
			return nil, fmt.Errorf("%s: %w", b, err)
		}
	default:
		return nil, fmt.Errorf("%s: %w: its protection is %q; use a newer dexamen", b, ErrTooNew, d.Protection)
	}
	switch {
	case d.Cuts == keyedCuts && o.Keyring != nil:
		o.cuts = cutsOf(o.Keyring.secret.List)
	case d.Cuts == keyedCuts:
		o.cuts = cutsOf([]byte(d.ID))
	case d.Cuts != "":
		return nil, fmt.Errorf("%s: %w: its nodes end by %q; use a newer dexamen", b, ErrTooNew, d.Cuts)
	}
	return o, o.expected(opt)
}

// Place returns where the store lies.
func (s *Objects) Place() blob.Backend { return s.Blob }

// Location returns where the store lies, without secrets.
func (s *Objects) Location() string { return s.Blob.String() }

// CreateObject makes an object, its parity before it.
func (s *Objects) CreateObject(ctx context.Context, name string, data []byte) error {
	var parity []byte
	met := false
	if k, m := s.ParityOf(name); m > 0 {
		var err error
		if parity, err = EncodeParity(name, data, k, m); err != nil {
			return err
		}
		if met, err = s.createParity(ctx, name, parity); err != nil {
			return err
		}
	}
	if err := s.Blob.Create(ctx, name, data); err != nil {
		return err
	}
	if met {
		// Who makes the object decides: another one that was at it may have put his.
		if err := s.replaceParity(ctx, name, parity); err != nil {
			return err
		}
	}
	return s.LockObject(ctx, name)
}

// createParity makes the parity of an object that is about to be made. Where there is some, of an
// attempt that ended here or goes on, met is true.
func (s *Objects) createParity(ctx context.Context, name string, parity []byte) (met bool, err error) {
	err = s.Blob.Create(ctx, ParityPrefix+name, parity)
	if !errors.Is(err, blob.ErrExists) {
		return false, err
	}
	if _, err := s.Blob.ReadAt(ctx, name, 0, 1); !errors.Is(err, blob.ErrNotFound) {
		return true, err // the object is there, and its parity is of it
	}
	return true, s.replaceParity(ctx, name, parity)
}

// replaceParity has an object's parity be this.
func (s *Objects) replaceParity(ctx context.Context, name string, parity []byte) error {
	is, err := s.Blob.Read(ctx, ParityPrefix+name)
	if err == nil && bytes.Equal(is, parity) {
		return nil
	}
	if err == nil || errors.Is(err, blob.ErrDamaged) {
		err = s.Blob.Remove(ctx, ParityPrefix+name)
	}
	if err == nil || errors.Is(err, blob.ErrNotFound) {
		err = s.Blob.Create(ctx, ParityPrefix+name, parity)
	}
	if errors.Is(err, blob.ErrExists) || errors.Is(err, blob.ErrLocked) {
		return nil // somebody is at the same object now; a scrub finds what does not fit
	}
	return err
}

// PutObject writes v as JSON in a checked frame.
func (s *Objects) PutObject(ctx context.Context, k *frame.Key, name string, v any) error {
	data, err := EncodeManifest(k, name, v)
	if err != nil {
		return err
	}
	return s.CreateObject(ctx, name, data)
}

// GetObject reads what put wrote under the list key.
func (s *Objects) GetObject(ctx context.Context, name string, v any) error {
	err := getManifest(ctx, s.Blob, s.Ring(ctx), name, v)
	if errors.Is(err, ErrDamaged) {
		if data, rerr := s.RebuildObject(ctx, name); rerr == nil {
			return DecodeManifest(s.Ring(ctx), data, name, v)
		}
	}
	return err
}

// EncodeManifest writes v as JSON in a checked frame. The name it is to bear is sealed with
// it: what is copied or moved to another name is found out.
func EncodeManifest(k *frame.Key, name string, v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	named := append(binary.AppendUvarint(nil, uint64(len(name))), name...)
	return k.Append([]byte(manifestMagic), frame.Manifest, append(named, raw...)), nil
}

func getManifest(ctx context.Context, b blob.Backend, ring frame.Ring, name string, v any) error {
	data, err := b.Read(ctx, name)
	if err != nil {
		return err
	}
	return DecodeManifest(ring, data, name, v)
}

// DecodeManifest reads what EncodeManifest wrote for the same name.
func DecodeManifest(ring frame.Ring, data []byte, name string, v any) error {
	if len(data) < len(manifestMagic) || string(data[:len(manifestMagic)]) != manifestMagic {
		return fmt.Errorf("%s: %w: does not begin as it should", name, ErrDamaged)
	}
	raw, rest, err := frame.OpenWith(ring, data[len(manifestMagic):], frame.Manifest)
	if err != nil {
		return fmt.Errorf("%s: %w", name, AsDamage(err))
	}
	if len(rest) > 0 {
		return fmt.Errorf("%s: %w: %d bytes too many", name, ErrDamaged, len(rest))
	}
	n, l := binary.Uvarint(raw)
	if l <= 0 || n > uint64(len(raw)-l) {
		return fmt.Errorf("%s: %w: it does not say what it is", name, ErrDamaged)
	}
	if own := string(raw[l : l+int(n)]); own != strings.TrimPrefix(name, RepairedPrefix) {
		return fmt.Errorf("%s: %w: it is a copy of %q", name, ErrDamaged, own)
	}
	if err := json.Unmarshal(raw[l+int(n):], v); err != nil {
		return fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	return nil
}

// AsDamage reports damage from a key that is not at hand.
func AsDamage(err error) error {
	if errors.Is(err, frame.ErrLocked) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// NewID returns n random bytes in hexadecimal.
func NewID(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails, by its contract
	return hex.EncodeToString(b)
}

// CheckOwnName returns damage where an object says that it is another one.
func CheckOwnName(name, own string) error {
	if name != own {
		return fmt.Errorf("%w: it is a copy of %s", ErrDamaged, own)
	}
	return nil
}
