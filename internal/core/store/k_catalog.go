package store

import "sync"

// Catalog knows what a store holds: points, logs, runs, holds, proofs. Its methods
// may be called from many goroutines.
type Catalog struct {
	*Content

	headMu sync.Mutex
	heads  map[string]head // by cluster, as this process last wrote them
}

func newCatalog(c *Content) *Catalog { return &Catalog{Content: c, heads: map[string]head{}} }
