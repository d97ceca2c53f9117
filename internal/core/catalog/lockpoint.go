package catalog

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// lockPoint prolongs the lock of all that a new point needs, before it is
// there: content files that older points brought are needed for longer now. So is the
// point before it, which the moments in between rest on.
func (s *Catalog) lockPoint(ctx context.Context, p *Point) error {
	if s.ImmutableFor == 0 {
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
		need[s.PointName(before.Cluster, before.ID)] = true
	}
	if s.WriteOnly() {
		// Which content files they need cannot be read; all are locked.
		err = s.Blob.List(ctx, sealed.ContentPrefix, func(i blob.Info) error { need[i.Name] = true; return nil })
	} else {
		seen := s.Index.NewNodeSet()
		if err = s.FilesOf(ctx, p, seen, need); err == nil && before != nil {
			err = s.FilesOf(ctx, before, seen, need)
			if errors.Is(err, sealed.ErrMissing) || errors.Is(err, sealed.ErrDamaged) {
				err = nil // the scrub tells; the new point is none the worse
			}
		}
	}
	if err != nil {
		return err
	}
	for n := range need {
		if err := s.LockObject(ctx, n); err != nil {
			return err
		}
	}
	return s.LockKeys(ctx)
}

// LockKeys prolongs the locks of what opens the store: without it nothing can be read.
//
// Holders that were dropped are left to their lock by who can read: nobody else can tell them from those
// that somebody only says were.
func (s *Catalog) LockKeys(ctx context.Context) error {
	over := map[string]bool{}
	if s.ImmutableFor > 0 && s.Keyring != nil && !s.WriteOnly() {
		holders, _, err := s.KeyHolders(ctx)
		if err != nil {
			return err
		}
		for _, h := range holders {
			over[sealed.HoldersPrefix+h.ID] = !h.Refused.IsZero()
		}
	}
	for _, prefix := range []string{sealed.HoldersPrefix, sealed.DataKeysPrefix, sealed.RefusedPrefix,
		sealed.DescriptorName} {
		err := s.Blob.List(ctx, prefix, func(i blob.Info) error {
			if over[i.Name] {
				return nil
			}
			return s.LockObject(ctx, i.Name)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// FilesOf adds the names of the content files that a point needs, but for nodes that were seen.
func (s *Catalog) FilesOf(ctx context.Context, p *Point, seen *content.NodeSet, need map[string]bool) error {
	for _, root := range p.Trees() {
		err := tree.Nodes(ctx, s, root, func(n tree.NodeInfo) (bool, error) {
			if added, err := seen.Add(n.Hash); err != nil || !added {
				return false, err
			}
			copies, files := s.Index.Copies(n.Hash)
			if len(copies) == 0 {
				return false, fmt.Errorf("node %s: %w", n.Hash.Short(), sealed.ErrMissing)
			}
			// Which of several copies is read, or stays, is not told by who vouches for it alone.
			for _, f := range files {
				need[f.Name] = true
			}
			if copies[0].Patch {
				_, base, ok := s.Index.Find(copies[0].Base)
				if !ok {
					return false, fmt.Errorf("node %s: its base: %w", n.Hash.Short(), sealed.ErrMissing)
				}
				need[base.Name] = true
			}
			return n.Level > 0 || n.Level == 0 && copies[0].Pieces, ctx.Err()
		})
		if err != nil {
			return err
		}
	}
	return nil
}
