package upkeep

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
)

// Retired describes what Retire removed.
type Retired struct {
	Points int `json:"points"`
	// Dropped are their ids.
	Dropped  []string `json:"dropped,omitempty"`
	Segments int      `json:"segments"`
	Bytes    int64    `json:"bytes"` // of segments
	// Locked are points that should go and that the place does not let go yet.
	Locked []string `json:"locked,omitempty"`
	// Held are points that somebody has held since it was decided that they go.
	Held []string `json:"held,omitempty"`
}

// Retire takes points away, and the log before the point logFrom (before the
// oldest that stays, where logFrom is empty). The room of what only they held is
// given back by Reclaim, when they can no longer be brought back. It may end anywhere and be
// begun again.
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
	chains, _, err := s.Chains(ctx, cluster)
	if err != nil {
		return out, err
	}
	for shard, c := range chains {
		from, ok := first.Shard(shard)
		if !ok || from.Mark.Position == "" {
			continue
		}
		if err := s.trim(ctx, cluster, c, from.Mark.Position, out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// trimmed is the record that a shard's log begins where it does because what was before
// is not needed any more.
type trimmed struct {
	Shard   string          `json:"shard"`
	After   record.Position `json:"after"` // where what is left begins
	Created time.Time       `json:"created"`
}

// trimMark names the mark of a beginning, or without a position what all of a
// shard's begin with.
func (s *Upkeep) trimMark(shard string, after record.Position) string {
	if s.Keyring == nil {
		shard = catalog.ShardFolder(shard)
	}
	name := "trim-" + s.NamePart("shard", shard) + "-"
	if after != "" {
		name += s.NamePart("position", hex.EncodeToString([]byte(after)))
	}
	return name
}

// trim removes the segments of a log that end at or before a position. That the
// log begins later from then on is said before they go.
func (s *Upkeep) trim(ctx context.Context, cluster string, c *journal.Chain, before record.Position,
	out *Retired) error {
	n := 0
	// The last one stays: the next segment is sealed upon it.
	for n < len(c.Segments)-1 && c.Segments[n].Last.Position <= before {
		n++
	}
	gone := slices.Clone(c.Segments[:n])
	for _, h := range c.Superseded {
		if n > 0 && h.Last.Position <= c.Segments[n].After.Position {
			gone = append(gone, h)
		}
	}
	// What was put together goes before any of its parts: alone it would take the place of
	// those that stay, and nobody has compared them.
	for _, h := range c.Joins {
		if n > 0 && h.After.Position < c.Segments[n].After.Position {
			gone = append([]journal.Header{h}, gone...)
		}
	}
	if n > 0 {
		after := c.Segments[n].After.Position
		err := s.PutMark(ctx, cluster, s.trimMark(c.Shard, after), trimmed{c.Shard, after, s.Now().UTC()})
		if err != nil && !errors.Is(err, blob.ErrExists) {
			return err
		}
	}
	for _, h := range gone {
		err := s.RemoveObject(ctx, s.SegmentName(h))
		if errors.Is(err, blob.ErrLocked) {
			break // later ones are locked for longer
		}
		if err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
		out.Segments++
		out.Bytes += h.Size
	}
	// Marks of earlier beginnings are not needed once theirs are gone.
	left := map[string]bool{}
	for _, h := range c.Segments[n:] {
		left[s.trimMark(c.Shard, h.After.Position)] = true
	}
	return s.Blob.List(ctx, s.MarkName(cluster, "trim-"), func(i blob.Info) error {
		var t trimmed
		if err := s.GetObject(ctx, i.Name, &t); err != nil || t.Shard != c.Shard ||
			left[s.trimMark(c.Shard, t.After)] || n == 0 {
			return nil
		}
		if err := s.Blob.Remove(ctx, i.Name); err != nil && !errors.Is(err, blob.ErrNotFound) &&
			!errors.Is(err, blob.ErrLocked) {
			return err
		}
		return nil
	})
}

// Begins reports whether a log begins where it does because retention has removed
// what was before.
func (s *Upkeep) Begins(ctx context.Context, cluster string, c *journal.Chain) (bool, error) {
	if len(c.Segments) == 0 || c.Segments[0].Prev.IsZero() {
		return true, nil
	}
	// Who was removing may have been killed in the midst of it.
	begins := false
	err := s.Marks(ctx, cluster, s.trimMark(c.Shard, ""), func(_ string, read func(any) error) error {
		var t trimmed
		err := read(&t)
		begins = begins || err == nil && t.Shard == c.Shard && t.After >= c.Segments[0].After.Position
		if errors.Is(err, sealed.ErrDamaged) || errors.Is(err, blob.ErrNotFound) {
			err = nil
		}
		return err
	})
	return begins, err
}
