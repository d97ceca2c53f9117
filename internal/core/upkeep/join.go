package upkeep

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// JoinOptions say which log segments are put together.
type JoinOptions struct {
	// Settled is how long segments lie before they are put together, and after
	// that before they go, so that nobody is still reading them by their old
	// names (default 1 h).
	Settled time.Duration
	// Least segments at least are put together (default 16), of at most Bytes
	// (default 8 MiB) and Span of time (default 24 h).
	Least int
	Bytes int64
	Span  time.Duration
}

// Joined describes what Join did.
type Joined struct {
	From    int `json:"from"` // segments put together
	To      int `json:"to"`   // into so many
	Removed int `json:"removed"`
}

// Join puts small log segments together, and removes those that were. At no
// time is a moment without its log. One does it at a time, as two could make segments that overlap: where
// another is at it, nothing is done.
func (s *Upkeep) Join(ctx context.Context, cluster string, o JoinOptions) (*Joined, error) {
	if o.Settled <= 0 {
		o.Settled = time.Hour
	}
	if o.Least <= 0 {
		o.Least = 16
	}
	if o.Bytes <= 0 {
		o.Bytes = 8 << 20
	}
	if o.Span <= 0 {
		o.Span = 24 * time.Hour
	}
	out := &Joined{}
	if s.WriteOnly() {
		return out, nil // the changes cannot be read
	}
	claim, err := s.AcquireFor(ctx, "join", cluster)
	if errors.Is(err, sealed.ErrHeld) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	defer claim.Release(context.WithoutCancel(ctx))
	chains, _, err := s.SettledChains(ctx, cluster)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	for _, c := range chains {
		n, err := s.removeJoined(ctx, claim, c, now.Add(-o.Settled))
		if out.Removed += n; err != nil {
			return out, err
		}
		var group []journal.Header
		end := func() error {
			defer func() { group = nil }()
			if len(group) < o.Least {
				return nil
			}
			if err := s.join(ctx, claim, group); err != nil {
				return err
			}
			out.From, out.To = out.From+len(group), out.To+1
			return nil
		}
		var size int64
		joined := journal.Covering(c.Joins)
		for i := range c.Segments {
			h := c.Segments[i]
			fits := h.Gap == "" && now.Sub(h.Made) >= o.Settled && i < len(c.Segments)-1 && !joined(&h)
			if len(group) > 0 {
				last := group[len(group)-1]
				if !fits || size+h.Size > o.Bytes || h.Last.Wall.Sub(group[0].After.Wall) > o.Span ||
					!last.Precedes(&h) {
					if err := end(); err != nil {
						return out, err
					}
				}
			}
			if !fits || h.Size > o.Bytes/2 {
				continue
			}
			if len(group) == 0 {
				size = 0
			}
			group, size = append(group, h), size+h.Size
		}
		if err := end(); err != nil {
			return out, err
		}
	}
	return out, nil
}

func (s *Upkeep) join(ctx context.Context, claim *sealed.Claim, group []journal.Header) error {
	keys, err := s.SegmentKeys(ctx)
	if err != nil {
		return err
	}
	b := journal.NewBuilder(keys, group[0].Cluster, group[0].Shard, group[0].After)
	for _, h := range group {
		err := s.ReadSegment(ctx, h, func(c *record.Change) error { return b.Add(c) })
		if errors.Is(err, journal.ErrDamaged) || errors.Is(err, blob.ErrNotFound) {
			return nil // it stays as it is; the scrub tells, and coverage
		}
		if err != nil {
			return err
		}
		b.CoverTo(h.Last)
	}
	h, data, err := b.Join(group)
	if err != nil {
		return err
	}
	if err := claim.Confirm(ctx); err != nil {
		return err
	}
	if err := s.PutSegment(ctx, h, data); err != nil && !errors.Is(err, blob.ErrExists) {
		return err
	}
	// Where this process stood still just now, another may have put the same together otherwise. Both stay:
	// somebody may rely on either by now, and chains find their way over them.
	// What takes the place of others must be readable before they go.
	return s.ReadSegment(ctx, h, func(*record.Change) error { return nil })
}

// joins finds segments that were put together from others that are there, and are not what
// those are. Their parts count; repairing removes them.
func (a *scrubber) joins(ctx context.Context, c *journal.Chain) error {
	for _, j := range c.Joins {
		var parts []journal.Header
		for _, h := range j.Inside(c.Segments) {
			if h.Within(&j) {
				parts = append(parts, h)
			}
		}
		same, err := a.s.sameChanges(ctx, j, parts)
		if err != nil {
			return err
		}
		if same || slices.ContainsFunc(parts, func(h journal.Header) bool {
			return slices.ContainsFunc(a.out.Damaged, func(d Damage) bool { return d.Object == a.s.SegmentName(h) })
		}) {
			continue
		}
		d := Damage{Object: a.s.SegmentName(j), What: "it was put together of others, and is not what they are"}
		if a.o.Repair {
			if err := a.s.RemoveObject(ctx, d.Object); err != nil && !errors.Is(err, blob.ErrLocked) {
				return err
			} else if err == nil {
				d.Repaired = "its parts, which are there: it is removed"
			}
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	return nil
}

// removeJoined removes segments whose changes are all in one that they were put together
// into before a time. Both are read and compared first: what one says of itself is no
// reason to remove another.
func (s *Upkeep) removeJoined(ctx context.Context, claim *sealed.Claim, c *journal.Chain, before time.Time) (
	removed int, err error) {
	var joins, done []journal.Header
	for _, list := range [][]journal.Header{c.Joins, c.Segments} {
		for i := range list {
			if list[i].Joined > 0 {
				joins = append(joins, list[i])
			}
		}
	}
	for _, j := range joins {
		// Of two that overlap the second has not all its parts any more.
		if j.Made.After(before) || slices.ContainsFunc(done, func(d journal.Header) bool {
			return d.After.Position < j.Last.Position && j.After.Position < d.Last.Position
		}) {
			continue
		}
		var parts []journal.Header
		for _, list := range [][]journal.Header{c.Superseded, c.Segments} {
			for _, h := range j.Inside(list) {
				if h.ID != j.ID && h.Within(&j) && h.Joined < j.Joined {
					parts = append(parts, h)
				}
			}
		}
		if len(parts) == 0 {
			continue
		}
		same, err := s.sameChanges(ctx, j, parts)
		if err != nil {
			return removed, err
		}
		if !same {
			continue // the parts count
		}
		done = append(done, j)
		if err := claim.Confirm(ctx); err != nil {
			return removed, err
		}
		for _, h := range parts {
			if err := claim.Check(); err != nil {
				return removed, err
			}
			err := s.RemoveObject(ctx, s.SegmentName(h))
			if err != nil && !errors.Is(err, blob.ErrNotFound) && !errors.Is(err, blob.ErrLocked) {
				return removed, err
			}
			if err == nil {
				removed++
			}
		}
	}
	return removed, nil
}

// sameChanges reports whether a segment has the changes that each of several parts of it
// has, and is sealed as they are. One that cannot be read has not.
func (s *Upkeep) sameChanges(ctx context.Context, j journal.Header, parts []journal.Header) (bool, error) {
	digest := func(h journal.Header, in []journal.Header) ([]tree.Hash, bool, error) {
		sums := make([]*blake3.Hasher, len(in))
		for i := range sums {
			sums[i] = blake3.New()
		}
		var buf []byte
		err := s.ReadSegment(ctx, h, func(c *record.Change) error {
			for i := range in {
				if in[i].After.Position < c.At && c.At <= in[i].Last.Position {
					buf = record.AppendChange(buf[:0], c)
					_, _ = sums[i].Write(buf)
				}
			}
			return nil
		})
		if errors.Is(err, journal.ErrDamaged) || errors.Is(err, sealed.ErrDamaged) || errors.Is(err, blob.ErrNotFound) {
			return nil, false, nil
		}
		var out []tree.Hash
		for _, h := range sums {
			out = append(out, tree.Hash(h.Sum(nil)))
		}
		return out, true, err
	}
	whole, ok, err := digest(j, parts)
	if err != nil || !ok {
		return false, err
	}
	for i, p := range parts {
		if p.After.Position == j.After.Position && p.Prev != j.Prev ||
			p.Last.Position == j.Last.Position && p.TailID() != j.Tail {
			return false, nil
		}
		own, ok, err := digest(p, parts[i:i+1])
		if err != nil || !ok || own[0] != whole[i] {
			return false, err
		}
	}
	return true, nil
}
