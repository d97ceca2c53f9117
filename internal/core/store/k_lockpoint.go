package store

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/tree"
)

// lockPoint prolongs the lock of all that a new point needs, before it is
// there: packs that older points brought are needed for longer now. So is the
// point before it, which the moments in between rest on.
func (s *Catalog) lockPoint(ctx context.Context, p *Point) error {
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
		err = s.blob.List(ctx, contentPrefix, func(i blob.Info) error { need[i.Name] = true; return nil })
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
	for _, prefix := range []string{holdersPrefix, dataKeysPrefix, descriptorName} {
		err := s.blob.List(ctx, prefix, func(i blob.Info) error { return s.lock(ctx, i.Name) })
		if err != nil {
			return err
		}
	}
	return nil
}

// packsOf adds the names of the packs that a point needs.
func (s *Catalog) packsOf(ctx context.Context, p *Point, seen map[tree.Hash]bool, need map[string]bool) error {
	for i := range p.Namespaces {
		err := tree.Nodes(ctx, s, p.Namespaces[i].Root, func(n tree.NodeInfo) (bool, error) {
			if seen[n.Hash] {
				return false, nil
			}
			seen[n.Hash] = true
			pl, pack, ok := s.index.find(n.Hash)
			if !ok {
				return false, fmt.Errorf("node %s: %w", n.Hash.Short(), ErrMissing)
			}
			need[pack.name] = true
			if pl.patch {
				_, base, ok := s.index.find(s.index.baseOf(n.Hash))
				if !ok {
					return false, fmt.Errorf("node %s: its base: %w", n.Hash.Short(), ErrMissing)
				}
				need[base.name] = true
			}
			return n.Level > 0 || n.Level == 0 && pl.pieces, ctx.Err()
		})
		if err != nil {
			return err
		}
	}
	return nil
}
