package store

import "context"

// Upkeep keeps a store in order: scrubs, repairs, retention, reclaim, mirrors. Its
// methods may be called from many goroutines.
type Upkeep struct{ *Catalog }

// openUpkeep ends a repair that was interrupted.
func openUpkeep(ctx context.Context, c *Catalog) (*Upkeep, error) {
	u := &Upkeep{c}
	return u, u.resumeMending(ctx)
}
