package upkeep

import (
	"context"

	"dexamen/internal/core/catalog"
)

// Upkeep keeps a store in order: scrubs, repairs, retention, reclaim, mirrors. Its
// methods may be called from many goroutines.
type Upkeep struct{ *catalog.Catalog }

// Open ends a repair that was interrupted.
func Open(ctx context.Context, c *catalog.Catalog) (*Upkeep, error) {
	u := &Upkeep{c}
	return u, u.resumeRepair(ctx)
}
