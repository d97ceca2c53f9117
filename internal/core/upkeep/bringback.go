package upkeep

import (
	"context"
	"fmt"
	"slices"

	"dexamen/internal/core/catalog"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// Returned is a point that was retired and is there again.
type Returned struct {
	*catalog.Point
	// Log reports whether log leads on from it, and LogWhole whether none of that is missing at
	// its beginning.
	Log, LogWhole bool
}

// BringBack makes a point exist again that was retired, as long as that can be told from what
// the store has, and has the log stay that leads on from it.
func (s *Upkeep) BringBack(ctx context.Context, cluster, id string) (*Returned, error) {
	if s.WriteOnly() {
		return nil, fmt.Errorf("bringing back a point: %w, so it cannot see whether all of it is there",
			sealed.ErrWriteOnly)
	}
	list, _, err := s.Dropped(ctx, cluster)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(d catalog.Dropped) bool { return d.ID == id })
	if i < 0 {
		return nil, fmt.Errorf("cluster %s: %w among those that can be brought back: %s", cluster,
			catalog.ErrNoPoint, id)
	}
	d := list[i]
	out := &Returned{Point: d.Point}
	if err := s.bringLogBack(ctx, d.Point); err != nil {
		return nil, err
	}
	// From here on nothing is removed that was not marked before; what was is stored again.
	w := s.NewWriter(ctx)
	if err := s.Enlist(ctx, s.Refresh); err != nil {
		w.Abandon()
		return nil, err
	}
	seen := s.Index.NewNodeSet()
	for ns, root := range d.Trees() {
		err := tree.Nodes(ctx, s, root, func(n tree.NodeInfo) (bool, error) {
			if added, err := seen.Add(n.Hash); err != nil || !added {
				return false, err
			}
			if !s.Keeps(ctx, n.Hash) {
				node, err := s.Node(ctx, n.Hash)
				if err == nil {
					err = w.Rewrite(n.Hash, node)
				}
				if err != nil {
					return false, fmt.Errorf("point %s of %s cannot be brought back: %s: %w", id, cluster, ns.Name, err)
				}
			}
			pl, _, _ := s.Index.Find(n.Hash)
			return n.Level > 0 || n.Level == 0 && pl.Pieces, ctx.Err()
		})
		if err != nil {
			w.Abandon()
			return nil, err
		}
	}
	if _, err := w.Flush(ctx); err != nil {
		return nil, err
	}
	if err := s.Return(ctx, d); err != nil {
		return out, err
	}
	return out, s.logAfter(ctx, out) // only now nothing of it goes any more
}

// bringLogBack has the log after a point stay.
func (s *Upkeep) bringLogBack(ctx context.Context, p *catalog.Point) error {
	chains, _, err := s.SettledChains(ctx, p.Cluster)
	if err != nil {
		return err
	}
	for _, shard := range p.Shards {
		if c := chains[shard.Name]; c != nil && shard.Mark.Position != "" {
			if err := s.needLog(ctx, p.Cluster, c, shard.Mark.Position); err != nil {
				return err
			}
		}
	}
	return nil
}

// logAfter sees what log leads on from a point.
func (s *Upkeep) logAfter(ctx context.Context, p *Returned) error {
	chains, _, err := s.SettledChains(ctx, p.Cluster)
	if err != nil {
		return err
	}
	p.Log, p.LogWhole = false, true
	for _, shard := range p.Shards {
		if c := chains[shard.Name]; c != nil && len(c.Segments) > 0 && shard.Mark.Position != "" {
			p.Log = true
			p.LogWhole = p.LogWhole && c.Segments[0].After.Position <= shard.Mark.Position
		}
	}
	return nil
}
