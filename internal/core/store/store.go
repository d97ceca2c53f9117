package store

import (
	"context"
	"fmt"

	"dexamen/internal/core/blob"
)

// Store is an open store. Its methods may be called from many goroutines.
type Store struct{ *Upkeep }

// Open opens the store at a location.
func Open(ctx context.Context, b blob.Backend, opt Options) (*Store, error) {
	o, err := openObjects(ctx, b, opt)
	if err != nil {
		return nil, err
	}
	c, err := openContent(ctx, o)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	u, err := openUpkeep(ctx, newCatalog(c))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	return &Store{u}, nil
}
