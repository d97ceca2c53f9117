package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"

	"dexamen/internal/core/blob"
)

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
		if err := a.Anchor(ctx, descriptorName, parityPrefix+descriptorName, repairedPrefix+descriptorName); err != nil {
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
