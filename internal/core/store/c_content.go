package store

import (
	"context"
	"time"
)

// Refresh takes notice of what other processes have written since.
func (s *Store) Refresh(ctx context.Context) error {
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
func (s *Store) stale() bool {
	return time.Since(time.Unix(0, s.futile.Load())) > time.Second
}
