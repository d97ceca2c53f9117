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

// lockable reports which objects are locked: those that restoring needs.
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
// there: packs that older points brought are needed for longer now. So is the
// point before it, which the moments in between rest on.
func (s *Store) lockPoint(ctx context.Context, p *Point) error {
	if s.KeepLocked == 0 {
		return nil
	}
	need := map[string]bool{}
	points, _, err := s.Points(ctx, p.Cluster)
	if err != nil {
		return err
	}
	var before *Point
	for _, q := range points {
		if !q.Time.After(p.Time) {
			before = q
		}
	}
	if before != nil {
		need[s.pointName(before.Cluster, before.ID)] = true
	}
	if s.WriteOnly() {
		// Which packs they need cannot be read; all are locked.
		err = s.blob.List(ctx, "packs/", func(i blob.Info) error { need[i.Name] = true; return nil })
	} else {
		seen := map[tree.Hash]bool{}
		if err = s.packsOf(ctx, p, seen, need); err == nil && before != nil {
			err = s.packsOf(ctx, before, seen, need)
			if errors.Is(err, ErrMissing) || errors.Is(err, ErrDamaged) {
				err = nil // the audit tells; the new point is none the worse
			}
		}
	}
	if err != nil {
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
	return nil
}
