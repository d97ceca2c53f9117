package store

import (
	"context"
	"fmt"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/content"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/upkeep"
)

// Store is an open store. Its methods may be called from many goroutines.
type Store struct{ *upkeep.Upkeep }

// Open opens the store at a location.
func Open(ctx context.Context, b blob.Backend, opt sealed.Options) (*Store, error) {
	o, err := sealed.Open(ctx, b, opt)
	if err != nil {
		return nil, err
	}
	c, err := content.Open(ctx, o)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	u, err := upkeep.Open(ctx, catalog.New(c))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b, err)
	}
	return &Store{u}, nil
}
