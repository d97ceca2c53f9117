package upkeep

import (
	"context"
	"errors"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/sealed"
)

// ProlongLocks prolongs the locks of all that points of a cluster need, and of its log: what
// retention keeps nobody can remove, however long ago it was stored. It does nothing where the
// store locks nothing, or the last time was less than every ago. It returns how many objects
// are locked from now on.
func (s *Upkeep) ProlongLocks(ctx context.Context, cluster string, keep []*catalog.Point,
	every time.Duration) (locked int, err error) {
	if s.ImmutableFor == 0 || len(keep) == 0 {
		return 0, nil
	}
	claim, err := s.AcquireEvery(ctx, "work-"+s.NamePart("cluster", cluster)+"-"+s.NamePart("run", "locks"), every)
	if err != nil || claim == nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			claim.Fail(context.WithoutCancel(ctx))
			return
		}
		claim.Release(context.WithoutCancel(ctx))
	}()
	need := map[string]bool{}
	seen := s.Index.NewNodeSet()
	for _, p := range keep {
		need[s.PointName(p.Cluster, p.ID)] = true
		if s.WriteOnly() {
			continue
		}
		err := s.FilesOf(ctx, p, seen, need)
		if errors.Is(err, sealed.ErrMissing) || errors.Is(err, sealed.ErrDamaged) {
			err = nil // the scrub tells
		}
		if err != nil {
			return 0, err
		}
	}
	if s.WriteOnly() {
		// Which content files they need cannot be read; all are locked.
		err := s.Blob.List(ctx, sealed.ContentPrefix, func(i blob.Info) error { need[i.Name] = true; return nil })
		if err != nil {
			return 0, err
		}
	}
	chains, _, err := s.Chains(ctx, cluster)
	if err != nil {
		return 0, err
	}
	for _, c := range chains {
		for _, list := range [][]journal.Header{c.Segments, c.Joins} {
			for _, h := range list {
				need[s.SegmentName(h)] = true
			}
		}
	}
	if err := s.LockKeys(ctx); err != nil {
		return 0, err
	}
	for name := range need {
		err := s.LockObject(ctx, name)
		if errors.Is(err, blob.ErrNotFound) {
			continue // removed meanwhile
		}
		if err != nil {
			return locked, err
		}
		locked++
	}
	return locked, nil
}
