package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/blob"
)

// lockable reports which objects are locked: those that restoring needs.
func lockable(name string) bool {
	return kindOf(strings.TrimPrefix(name, parityPrefix)).lockable
}

// lock keeps an object, and its parity, from being removed for the time the
// store says, from now on.
func (s *Objects) lock(ctx context.Context, name string) error {
	if s.KeepLocked == 0 || !lockable(name) {
		return nil
	}
	l, ok := s.blob.(blob.Locker)
	if !ok {
		return fmt.Errorf("%s: objects are to be locked here, and this place cannot", s.blob)
	}
	until := time.Now().Add(time.Duration(s.KeepLocked) * time.Second)
	if err := l.Lock(ctx, name, until); err != nil {
		return err
	}
	if _, more := s.parityOf(name); more == 0 {
		return nil
	}
	err := l.Lock(ctx, parityPrefix+name, until)
	if errors.Is(err, blob.ErrNotFound) {
		return nil // the audit misses it
	}
	return err
}
