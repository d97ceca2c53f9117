package catalog

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// ErrCondemned is returned when a point would rely on content that is about to be removed.
var ErrCondemned = errors.New("part of what the point relies on was retired meanwhile and is about to be removed; " +
	"run it again, what is stored already will be used")

// relies returns an error where a point relies on content that reclaim will remove without
// waiting for this process, or that is not there. A fold takes over whole parts of a tree that
// it never looks at: the point it began with may have been retired before anybody knew that
// somebody relies on it.
func (s *Catalog) relies(ctx context.Context, p *Point) error {
	if s.WriteOnly() {
		return nil // inner nodes cannot be read; such a key folds nothing
	}
	condemned, err := s.CondemnedFor(ctx, s.Session.What)
	if err != nil || len(condemned) == 0 {
		return err
	}
	if err := s.Refresh(ctx); err != nil {
		return err
	}
	lasts := func(h tree.Hash) (patch, pieces bool, err error) {
		pl, file, ok := s.Index.Find(h)
		switch {
		case !ok:
			err = fmt.Errorf("node %s: %w", h.Short(), sealed.ErrMissing)
		case condemned[file.Name]:
			err = fmt.Errorf("node %s in %s: %w", h.Short(), file.Name, ErrCondemned)
		}
		return pl.Patch, pl.Pieces, err
	}
	for ns, root := range p.Trees() {
		err := tree.Nodes(ctx, s, root, func(n tree.NodeInfo) (bool, error) {
			patch, pieces, err := lasts(n.Hash)
			if err == nil && patch {
				_, _, err = lasts(s.Index.BaseOf(n.Hash))
			}
			return n.Level > 0 || n.Level == 0 && pieces, errors.Join(err, ctx.Err())
		})
		if err != nil {
			return fmt.Errorf("%s: %w", ns.Name, err)
		}
	}
	return nil
}
