package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
)

// FormatVersion is the version of the store's layout that this code writes.
const FormatVersion = 1

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
	// ErrDamaged: what is stored is not what was written.
	ErrDamaged = errors.New("damaged in the store")
)

// Descriptor says what a store is.
type Descriptor struct {
	ID      string    `json:"id"`
	Format  int       `json:"format"`
	Created time.Time `json:"created"`
	Tool    string    `json:"tool"`
}

// Options bound what a store uses of the machine. The zero value is usable.
type Options struct {
	// CacheBytes bounds decompressed frames held for reading (default 32 MiB).
	CacheBytes int
	// Workers compress in parallel (default: one per processor, at most 8).
	Workers int
	// PackBytes is the size at which a pack is closed (default 16 MiB).
	PackBytes int
}

// Store is an open store. Its methods may be called from many goroutines.
type Store struct {
	Descriptor
	blob  blob.Backend
	opt   Options
	index *index
	cache *frameCache
}

// Create makes a new store at an empty location.
func Create(ctx context.Context, b blob.Backend, tool string) (Descriptor, error) {
	d := Descriptor{ID: newID(16), Format: FormatVersion, Created: time.Now().UTC().Truncate(time.Second), Tool: tool}
	if _, err := readDescriptor(ctx, b); err == nil {
		return d, fmt.Errorf("%s: %w: a store", b, ErrStoreExists)
	}
	err := b.List(ctx, "", func(i blob.Info) error {
		return fmt.Errorf("%s: %w: %s", b, ErrStoreExists, i.Name)
	})
	if err != nil {
		return d, err
	}
	return d, putManifest(ctx, b, descriptorName, d)
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
		return nil, fmt.Errorf("%s: the store has format %d, this version reads up to %d; use a newer dexamen", b, d.Format, FormatVersion)
	}
	if opt.CacheBytes <= 0 {
		opt.CacheBytes = 32 << 20
	}
	if opt.PackBytes <= 0 {
		opt.PackBytes = 16 << 20
	}
	s := &Store{Descriptor: d, blob: b, opt: opt, cache: newFrameCache(opt.CacheBytes)}
	if s.index, err = loadIndex(ctx, b); err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	return s, nil
}

// Location gives where the store lies, without secrets.
func (s *Store) Location() string { return s.blob.String() }

func readDescriptor(ctx context.Context, b blob.Backend) (d Descriptor, err error) {
	err = getManifest(ctx, b, descriptorName, &d)
	return d, err
}

// putManifest writes v as JSON in a checked frame.
func putManifest(ctx context.Context, b blob.Backend, name string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return b.Create(ctx, name, frame.Append([]byte(manifestMagic), frame.Manifest, raw))
}

func getManifest(ctx context.Context, b blob.Backend, name string, v any) error {
	data, err := b.Read(ctx, name)
	if err != nil {
		return err
	}
	return decodeManifest(data, name, v)
}

func decodeManifest(data []byte, name string, v any) error {
	if len(data) < len(manifestMagic) || string(data[:len(manifestMagic)]) != manifestMagic {
		return fmt.Errorf("%s: %w: does not begin as it should", name, ErrDamaged)
	}
	raw, rest, err := frame.Open(data[len(manifestMagic):], frame.Manifest)
	if err != nil {
		return fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	if len(rest) > 0 {
		return fmt.Errorf("%s: %w: %d bytes too many", name, ErrDamaged, len(rest))
	}
	if err := json.Unmarshal(raw, v); err != nil {
		return fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	return nil
}

// newID gives n random bytes in hexadecimal.
func newID(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails, by its contract
	return hex.EncodeToString(b)
}
