package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
)

// FormatVersion is the version of the store's layout that this code writes.
const FormatVersion = 2

const (
	descriptorName = "dexamen-store"
	manifestMagic  = "DXMF\x01\x00\x00\x00"
)

// Errors of opening and reading a store.
var (
	// ErrNoStore: there is no store at the location.
	ErrNoStore = errors.New("no store there")
	// ErrStoreExists: Create found a store, or other files, at the location.
	ErrStoreExists = errors.New("there is something there already")
	// ErrMissing: a node that should be in the store is not.
	ErrMissing = errors.New("missing from the store")
	// ErrDamaged: what is stored is not what was written, or cannot be read.
	ErrDamaged = blob.ErrDamaged
	// ErrTooNew: a later version made it.
	ErrTooNew = errors.New("made by a later version")
)

// Descriptor says what a store is.
type Descriptor struct {
	ID      string    `json:"id"`
	Format  int       `json:"format"`
	Created time.Time `json:"created"`
	Tool    string    `json:"tool"`
	// Protection is "aes-256-gcm"; empty where content lies as it is.
	Protection string `json:"protection,omitempty"`
	// Parity is into how many pieces objects are cut and how many more are
	// kept, such as "8+2"; empty without.
	Parity string `json:"parity,omitempty"`
	// KeepLocked is for how long objects are locked against removal, in
	// seconds.
	KeepLocked int64 `json:"immutable_for,omitempty"`
	// Claims says that objects are made by the protocol for places that heed
	// no conditions (docs/format.md).
	Claims bool `json:"claims,omitempty"`
}

// CreateOptions say what a new store is to be like.
type CreateOptions struct {
	Tool string
	// Holders can open the store; Plain leaves it open to all. One of the two
	// must be given.
	Holders    []Holder
	Plain      bool
	Parity     string
	KeepLocked time.Duration
	Claims     bool
}

// Options bound what a store uses of the machine. The zero value is usable.
type Options struct {
	// CacheBytes bounds decompressed frames held for reading (default 32 MiB).
	CacheBytes int
	// Workers compress in parallel (default: one per processor, at most 8).
	Workers int
	// WriteBytes bounds the packs that a writer holds, the one being filled and
	// those on their way (default 54 MiB).
	WriteBytes int
	// PackBytes is the size at which a pack is closed (default 16 MiB, less where
	// three would not fit into WriteBytes).
	PackBytes int
	// Temp is the folder for temporary files (the system's when empty).
	Temp string
	// Memo, where not nil, is shared by stores opened at this place.
	Memo *Memo
	// Unlock opens an encrypted store: see ParseSecret.
	Unlock []age.Identity
}

// Store is an open store. Its methods may be called from many goroutines.
type Store struct {
	Descriptor
	blob  blob.Backend
	opt   Options
	index *index
	cache *frameCache
	keys  *keyring // nil in a plain store

	futile atomic.Int64 // when looking for a node anew was in vain, in Unix nanoseconds

	ahead ahead

	headMu sync.Mutex
	heads  map[string]head // by cluster, as this process last wrote them

	// ownLists has where nodes lie be read from the content files themselves, not
	// from the copies of their lists.
	ownLists atomic.Bool

	distrusted sync.Map // names of content files in which reading found damage, not recorded yet

	sessionMu sync.Mutex
	session   *Lease // that this store writes; taken with the first write

	parityData, parityMore int // zero without parity
}

// Create makes a new store at an empty location.
func Create(ctx context.Context, b blob.Backend, o CreateOptions) (Descriptor, error) {
	d := Descriptor{ID: newID(16), Format: FormatVersion, Created: time.Now().UTC().Truncate(time.Second), Tool: o.Tool,
		Parity: o.Parity, KeepLocked: int64(o.KeepLocked / time.Second), Claims: o.Claims}
	if o.Plain == (len(o.Holders) > 0) {
		return d, fmt.Errorf("a store is encrypted for somebody, or plain: say which")
	}
	if _, _, err := parseParity(o.Parity); err != nil {
		return d, err
	}
	if _, ok := b.(blob.Locker); !ok && o.KeepLocked > 0 {
		return d, fmt.Errorf("%s: objects cannot be locked there", b)
	}
	if _, err := readDescriptor(ctx, b); err == nil {
		return d, fmt.Errorf("%s: %w: a store", b, ErrStoreExists)
	}
	err := b.List(ctx, "", func(i blob.Info) error {
		if name := strings.TrimPrefix(i.Name, parityPrefix); always(name) {
			return nil // of an attempt that ended before the store was there
		}
		return fmt.Errorf("%s: %w: %s", b, ErrStoreExists, i.Name)
	})
	if err != nil {
		return d, err
	}
	if !o.Plain {
		d.Protection = "aes-256-gcm"
		if err := createKeys(ctx, b, d.ID, o.Holders); err != nil {
			return d, err
		}
	}
	return d, putTwice(ctx, b, descriptorName, d)
}

// Open opens the store at a location.
func Open(ctx context.Context, b blob.Backend, opt Options) (*Store, error) {
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
	if opt.CacheBytes <= 0 {
		opt.CacheBytes = 32 << 20
	}
	if opt.WriteBytes <= 0 {
		opt.WriteBytes = 54 << 20
	}
	if opt.PackBytes <= 0 {
		opt.PackBytes = min(16<<20, max(1<<20, opt.WriteBytes*8/27))
	}
	s := &Store{Descriptor: d, blob: b, opt: opt, cache: newFrameCache(opt.CacheBytes), heads: map[string]head{}}
	if s.parityData, s.parityMore, err = parseParity(d.Parity); err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	if c, ok := b.(blob.Claimer); ok && d.Claims {
		c.UseClaims()
	}
	if a, ok := b.(blob.Anchored); ok {
		if err := a.Anchor(ctx, descriptorName, parityPrefix+descriptorName, mendedPrefix+descriptorName); err != nil {
			return nil, fmt.Errorf("%s: %w", b, err)
		}
	}
	if l, ok := b.(interface{ UseLocks() }); ok && d.KeepLocked > 0 {
		l.UseLocks()
	}
	switch d.Protection {
	case "":
	case "aes-256-gcm":
		if s.keys, err = unlock(ctx, b, d.ID, opt.Unlock); err != nil {
			return nil, fmt.Errorf("%s: %w", b, err)
		}
	default:
		return nil, fmt.Errorf("%s: %w: its protection is %q; use a newer dexamen", b, ErrTooNew, d.Protection)
	}
	if s.index, err = s.loadIndex(ctx); err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	if err := s.resumeMending(ctx); err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	return s, nil
}

// Refresh takes notice of what other processes have written since.
func (s *Store) Refresh(ctx context.Context) error {
	x, err := s.loadIndex(ctx)
	if err != nil {
		return err
	}
	s.index.replace(x)
	return nil
}

// stale reports whether it may be worth to look again for what is not found: not
// just after that was in vain, or every node of a damaged store would cost a
// look.
func (s *Store) stale() bool {
	return time.Since(time.Unix(0, s.futile.Load())) > time.Second
}

// Place returns where the store lies.
func (s *Store) Place() blob.Backend { return s.blob }

// Location returns where the store lies, without secrets.
func (s *Store) Location() string { return s.blob.String() }

func readDescriptor(ctx context.Context, b blob.Backend) (d Descriptor, err error) {
	err = getTwice(ctx, b, descriptorName, &d)
	return d, err
}

// create makes an object, its parity before it.
func (s *Store) create(ctx context.Context, name string, data []byte) error {
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
func (s *Store) put(ctx context.Context, k *frame.Key, name string, v any) error {
	data, err := encodeManifest(k, v)
	if err != nil {
		return err
	}
	return s.create(ctx, name, data)
}

// get reads what put wrote under the list key.
func (s *Store) get(ctx context.Context, name string, v any) error {
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
