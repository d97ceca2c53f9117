package store

import (
	"context"
	"sync"
	"sync/atomic"
	"time"
)

// Content reads and writes the nodes of trees. Its methods may be called from many
// goroutines.
type Content struct {
	*Objects
	index *index
	cache *frameCache
	ahead ahead

	lastMiss atomic.Int64 // of the last refresh that found nothing, in Unix nanoseconds

	// ownLists has where nodes lie be read from the content files themselves, not
	// from the copies of their lists.
	ownLists atomic.Bool

	distrusted sync.Map // names of content files in which reading found damage, not recorded yet
}

// openContent reads where nodes lie.
func openContent(ctx context.Context, o *Objects) (*Content, error) {
	c := &Content{Objects: o, cache: newFrameCache(o.opt.CacheBytes)}
	var err error
	c.index, err = c.loadIndex(ctx)
	return c, err
}

// Refresh takes notice of what other processes have written since.
func (s *Content) Refresh(ctx context.Context) error {
	x, err := s.loadIndex(ctx)
	if err != nil {
		return err
	}
	s.index.replace(x)
	return nil
}

// stale reports whether it may be worth to look again for what is not found: not
// just after that was in vain, or every node of a damaged store would cost a
// look.
func (s *Content) stale() bool {
	return time.Since(time.Unix(0, s.lastMiss.Load())) > time.Second
}
