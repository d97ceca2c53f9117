package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/tree"
)

// lockable says which objects are locked: those that restoring needs.
func lockable(name string) bool {
	name = strings.TrimPrefix(name, parityPrefix)
	for _, p := range []string{"packs/", "points/", "journal/", slotPrefix, dataKeyPrefix, descriptorName} {
		if strings.HasPrefix(name, p) {
			return true
		}
	}
	return false
}

// lock keeps an object, and its parity, from being removed for the time the
// store says, from now on.
func (s *Store) lock(ctx context.Context, name string) error {
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

// lockPoint prolongs the lock of all that a new point needs, before it is
// there: packs that older points brought are needed for longer now.
func (s *Store) lockPoint(ctx context.Context, p *Point) error {
	if s.KeepLocked == 0 {
		return nil
	}
	need := map[string]bool{}
	if s.WriteOnly() {
		s.usedMu.Lock()
		for n := range s.used {
			need[n] = true
		}
		s.usedMu.Unlock()
	} else if err := s.packsOf(ctx, p, map[tree.Hash]bool{}, need); err != nil {
		return err
	}
	for n := range need {
		if err := s.lock(ctx, n); err != nil {
			return err
		}
	}
	for _, prefix := range []string{slotPrefix, dataKeyPrefix, descriptorName} {
		err := s.blob.List(ctx, prefix, func(i blob.Info) error { return s.lock(ctx, i.Name) })
		if err != nil {
			return err
		}
	}
	// The log that leads on from the oldest point.
	return s.blob.List(ctx, s.journalFolder(p.Cluster), func(i blob.Info) error { return s.lock(ctx, i.Name) })
}

// use notes the pack of a node that is relied upon.
func (s *Store) use(h tree.Hash) {
	if s.KeepLocked == 0 || !s.WriteOnly() {
		return
	}
	_, pack, ok := s.index.find(h)
	if !ok {
		return
	}
	s.usedMu.Lock()
	defer s.usedMu.Unlock()
	if s.used == nil {
		s.used = map[string]bool{}
	}
	s.used[pack.name] = true
	if base := s.index.baseOf(h); !base.IsZero() {
		if _, bp, ok := s.index.find(base); ok {
			s.used[bp.name] = true
		}
	}
}
