package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
)

// Retired describes what Retire removed.
type Retired struct {
	Points int `json:"points"`
	// Dropped are their ids.
	Dropped  []string `json:"dropped,omitempty"`
	Segments int      `json:"segments"`
	Bytes    int64    `json:"bytes"` // of segments
	// Going are segments that nothing needs and that stay until DroppedFor is over, with
	// their bytes.
	Going      int   `json:"going,omitempty"`
	GoingBytes int64 `json:"going_bytes,omitempty"`
	// Locked are points that should go and that the place does not let go yet.
	Locked []string `json:"locked,omitempty"`
	// Held are points that somebody has held since it was decided that they go.
	Held []string `json:"held,omitempty"`
}

// Retire takes points away, and says that the log before the point logFrom (before the
// oldest that stays, where logFrom is empty) is needed no longer: that goes when it has not been
// needed for DroppedFor, so that points come back with the log that led on from them. The room
// of what only they held is given back by Reclaim. It may end anywhere and be begun again.
func (s *Upkeep) Retire(ctx context.Context, cluster string, drop []string, logFrom string) (*Retired, error) {
	points, unreadable, err := s.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	if len(unreadable) > 0 {
		return nil, fmt.Errorf("%w: as long as a point cannot be read none is retired", errors.Join(unreadable...))
	}
	out := &Retired{}
	for _, id := range append(slices.Clone(drop), logFrom) {
		if id != "" && !slices.ContainsFunc(points, func(p *catalog.Point) bool { return p.ID == id }) {
			return nil, fmt.Errorf("cluster %s: %w: %s", cluster, catalog.ErrNoPoint, id)
		}
	}
	// Somebody may have held one since this was decided. Who holds one from here on finds it
	// gone, and brings it back.
	for _, id := range drop {
		held, err := s.HeldNow(ctx, cluster, id)
		if err != nil {
			return nil, err
		}
		if held {
			out.Held = append(out.Held, id)
		}
	}
	drop = slices.DeleteFunc(slices.Clone(drop), func(id string) bool { return slices.Contains(out.Held, id) })
	if err := s.PutRemoved(ctx, catalog.Removed{Cluster: cluster, Points: drop}); err != nil {
		return nil, err
	}
	for _, id := range drop {
		if err := s.PutDropped(ctx, points[slices.IndexFunc(points,
			func(p *catalog.Point) bool { return p.ID == id })]); err != nil {
			return out, err
		}
		err := s.RemoveObject(ctx, s.PointName(cluster, id))
		if errors.Is(err, blob.ErrLocked) {
			out.Locked = append(out.Locked, id)
			continue
		}
		if err != nil && !errors.Is(err, blob.ErrNotFound) {
			return out, err
		}
		out.Points++
		out.Dropped = append(out.Dropped, id)
		if err := s.RemoveObject(ctx, s.ProofFolder(cluster)+id); err != nil && !errors.Is(err, blob.ErrNotFound) &&
			!errors.Is(err, blob.ErrLocked) {
			return out, err
		}
	}
	var first *catalog.Point
	for _, p := range points {
		if logFrom == p.ID || logFrom == "" && (!slices.Contains(drop, p.ID) || slices.Contains(out.Locked, p.ID)) {
			first = p
			break
		}
	}
	if first == nil {
		return out, nil // what log there is may still be looked into
	}
	chains, _, err := s.SettledChains(ctx, cluster)
	if err != nil {
		return out, err
	}
	for shard, c := range chains {
		from, ok := first.Shard(shard)
		if !ok || from.Mark.Position == "" {
			continue
		}
		if err := s.markTrim(ctx, cluster, c, from.Mark.Position); err != nil {
			return out, err
		}
		if err := s.trim(ctx, cluster, c, DroppedFor, out); err != nil {
			return out, err
		}
	}
	return out, nil
}
