package catalog

import (
	"sync"

	"dexamen/internal/core/content"
)

// Catalog knows what a store holds: points, logs, runs, holds, proofs. Its methods
// may be called from many goroutines.
type Catalog struct {
	*content.Content

	headMu sync.Mutex
	heads  map[string]Head // by cluster, as this process last wrote them
}

func New(c *content.Content) *Catalog { return &Catalog{Content: c, heads: map[string]Head{}} }
