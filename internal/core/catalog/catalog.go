// Package catalog knows what a store holds: points, segments of logs, runs, holds and
// proofs.
//
//	point.go      restore points and segments
//	runs.go       what was done, by whom, with which outcome
//	holds.go      points that are kept whatever the rules say; proofs
//	missing.go    what is named and is not there
//	lockpoint.go  locks of what a point needs
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
