// Package content keeps the nodes of trees in content files, and knows where each
// lies.
//
//	file.go       the form of a content file
//	index.go      where nodes are; listing.go the form of what says so in the store
//	load.go       that is read, from the listings or the files themselves
//	table.go      what is too much for memory; kept.go the folder where it stays
//	write.go      Writer: nodes become content files
//	read.go       a node by its name; readahead.go frames fetched together
//	scratch.go    nodes that are needed for a while
//	pending.go    files that are marked for deletion; suspect.go damaged ones
package content

import (
	"context"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"dexamen/internal/core/sealed"
)

// Content reads and writes the nodes of trees. Its methods may be called from many
// goroutines.
type Content struct {
	*sealed.Objects
	Index *Index
	Cache *frameCache
	Ahead ahead

	loading  sync.Mutex   // held by who changes what the index is made from
	lastMiss atomic.Int64 // of the last refresh that found nothing, in Unix nanoseconds

	// OwnLists has where nodes lie be read from the content files themselves, not
	// from the copies of their lists.
	OwnLists atomic.Bool

	proven     sync.Map // copies of nodes that were read before something new relied on them
	distrusted sync.Map // names of content files in which reading found damage, not recorded yet
}

// Open reads where nodes lie.
func Open(ctx context.Context, o *sealed.Objects) (*Content, error) {
	c := &Content{Objects: o, Cache: newFrameCache(o.Limits.CacheBytes)}
	x := newIndex(o.Limits.IndexBytes/nodeBytes, o.Limits.Temp)
	c.Index = x
	x.rebuild = func() {
		c.loading.Lock()
		defer c.loading.Unlock()
		if x.broken.Load() {
			_ = c.refresh(context.Background()) // else nodes are missing, and who misses one looks again
		}
	}
	if o.Limits.Keep != "" {
		x.keep = &keeping{dir: filepath.Join(o.Limits.Keep, o.ID+"-"+o.Sees())}
		x.keep.load(x)
	}
	return c, c.Refresh(ctx)
}

// nodeBytes is about what the index takes for a node in memory.
const nodeBytes = 192

// stale reports whether it may be worth to look again for what is not found: not
// just after that was in vain, or every node of a damaged store would cost a
// look.
func (s *Content) stale() bool {
	return time.Since(time.Unix(0, s.lastMiss.Load())) > time.Second
}
