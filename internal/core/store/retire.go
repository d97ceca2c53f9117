package store

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"dexamen/internal/core/blob"
)

// Retired says what Retire removed.
type Retired struct {
	Points   int   `json:"points"`
	Segments int   `json:"segments"`
	Bytes    int64 `json:"bytes"` // of segments
}

// Retire takes points away, and the log that no point is left to begin with. The
// room of what only they held is given back by Reclaim.
func (s *Store) Retire(ctx context.Context, cluster string, drop []string) (*Retired, error) {
	points, unreadable, err := s.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	if len(unreadable) > 0 {
		return nil, fmt.Errorf("%w: as long as a point cannot be read none is retired", errors.Join(unreadable...))
	}
	out := &Retired{}
	var keep []*Point
	for _, p := range points {
		if !slices.Contains(drop, p.ID) {
			keep = append(keep, p)
		}
	}
	for _, id := range drop {
		if !slices.ContainsFunc(points, func(p *Point) bool { return p.ID == id }) {
			return nil, fmt.Errorf("cluster %s: %w: %s", cluster, ErrNoPoint, id)
		}
	}
	for _, id := range drop {
		if err := s.remove(ctx, s.pointName(cluster, id)); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return out, err
		}
		out.Points++
	}
	if len(keep) == 0 {
		return out, nil // what log there is may still be looked into
	}
	chains, _, err := s.Chains(ctx, cluster)
	if err != nil {
		return out, err
	}
	for shard, c := range chains {
		first, ok := keep[0].Shard(shard)
		if !ok || first.Mark.Position == "" {
			continue
		}
		for _, seg := range c.Segments {
			if seg.Last.Position > first.Mark.Position {
				break
			}
			if len(c.Segments) > 0 && seg.ID == c.Segments[len(c.Segments)-1].ID {
				break // the next segment is sealed upon it
			}
			if err := s.remove(ctx, s.segmentName(cluster, shard, seg.After.Position)); err != nil && !errors.Is(err, blob.ErrNotFound) {
				return out, err
			}
			out.Segments++
			out.Bytes += seg.Size
		}
	}
	return out, nil
}
