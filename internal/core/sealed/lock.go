package sealed

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/blob"
)

// Lockable reports which objects are locked: those that restoring needs.
func Lockable(name string) bool {
	return KindOf(strings.TrimPrefix(name, ParityPrefix)).lockable
}

// LockObject keeps an object, and its parity, from being removed for the time the
// store says, from now on.
func (s *Objects) LockObject(ctx context.Context, name string) error {
	if s.ImmutableFor == 0 || !Lockable(name) {
		return nil
	}
	l, ok := s.Blob.(blob.Locker)
	if !ok {
		return fmt.Errorf("%s: objects are to be locked here, and this place cannot", s.Blob)
	}
	until := s.Now().Add(time.Duration(s.ImmutableFor) * time.Second)
	if err := l.Lock(ctx, name, until); err != nil {
		return err
	}
	if _, more := s.ParityOf(name); more == 0 {
		return nil
	}
	err := l.Lock(ctx, ParityPrefix+name, until)
	if errors.Is(err, blob.ErrNotFound) {
		return nil // the scrub misses it
	}
	return err
}
