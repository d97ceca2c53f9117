package upkeep

import (
	"context"
	"encoding/hex"
	"errors"
	"slices"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
)

// trimmed is the record of a position in a shard's log. As a needless mark it says that nothing needs
// what comes before, which goes when the mark is old enough, and may be taken back until then; as a
// trim mark that this is going or gone, so that the log begins there for a reason.
type trimmed struct {
	Shard   string          `json:"shard"`
	After   record.Position `json:"after"` // where what is needed begins
	Created time.Time       `json:"created"`
}

const (
	trimPrefix     = "trim-"
	needlessPrefix = "needless-"
)

// trimStep is how far apart in time two records of one log are: what is not needed goes
// so much later at most, and the records stay few.
const trimStep = DroppedFor / 7

// trimMark names a mark of a position, or without one what all of a shard's begin with.
func (s *Upkeep) trimMark(prefix, shard string, after record.Position) string {
	if s.Keyring == nil {
		shard = catalog.ShardFolder(shard)
	}
	name := prefix + s.NamePart("shard", shard) + "-"
	if after != "" {
		name += s.NamePart("position", hex.EncodeToString([]byte(after)))
	}
	return name
}

// trimPoint is a mark that was read.
type trimPoint struct {
	trimmed
	name string
	made time.Time // by the backend's clock where that tells
}

// trims returns the marks of a kind of a shard's log, in order of position. What cannot be read is left
// out: a scrub tells of it, and the log then stays.
func (s *Upkeep) trims(ctx context.Context, prefix, cluster, shard string) (out []trimPoint, err error) {
	var infos []blob.Info
	err = s.Blob.List(ctx, s.MarkName(cluster, s.trimMark(prefix, shard, "")), func(i blob.Info) error {
		infos = append(infos, i)
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, i := range infos {
		t := trimPoint{name: i.Name, made: i.Made}
		err := s.GetObject(ctx, i.Name, &t.trimmed)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) || err == nil && t.Shard != shard {
			continue
		}
		if err != nil {
			return nil, err
		}
		if t.made.IsZero() {
			t.made = t.Created
		}
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b trimPoint) int { return slices.Compare([]byte(a.After), []byte(b.After)) })
	return out, nil
}

// needless returns how many of the first segments of a log end at or before a position. The last
// one never counts: the next segment is sealed upon it.
func needless(c *journal.Chain, before record.Position) (n int) {
	for n < len(c.Segments)-1 && c.Segments[n].Last.Position <= before {
		n++
	}
	return n
}

// apart returns how many of the first n segments of a log can go, so that nothing else that is there has
// a part among them and another among those that stay. What was put together must not go while its
// parts are needed: who put it together may be removing them, as it was there to take their place.
func apart(c *journal.Chain, n int) int {
	for again := true; again; {
		again = false
		for _, h := range slices.Concat(c.Joins, c.Superseded) {
			for n > 0 && h.After.Position < c.Segments[n].After.Position &&
				c.Segments[n].After.Position < h.Last.Position {
				n--
				again = true
			}
		}
	}
	return n
}

// markTrim records that nothing needs a log before a position, and forgets records by which more
// would go.
func (s *Upkeep) markTrim(ctx context.Context, cluster string, c *journal.Chain, before record.Position) error {
	if len(c.Segments) == 0 {
		return nil
	}
	marks, err := s.trims(ctx, needlessPrefix, cluster, c.Shard)
	if err != nil {
		return err
	}
	n := needless(c, before)
	after := c.Segments[n].After.Position
	var newest time.Time
	for _, m := range marks {
		if m.After > after {
			if err := s.removeTrim(ctx, m); err != nil {
				return err
			}
		} else if m.made.After(newest) {
			newest = m.made
		}
	}
	if n == 0 || s.Now().Sub(newest) < trimStep {
		return nil
	}
	return s.putTrim(ctx, needlessPrefix, cluster, c.Shard, after)
}

func (s *Upkeep) putTrim(ctx context.Context, prefix, cluster, shard string, after record.Position) error {
	err := s.PutMark(ctx, cluster, s.trimMark(prefix, shard, after), trimmed{shard, after, s.Now().UTC()})
	if errors.Is(err, blob.ErrExists) {
		return nil
	}
	return err
}

func (s *Upkeep) removeTrim(ctx context.Context, m trimPoint) error {
	err := s.Blob.Remove(ctx, m.name)
	if errors.Is(err, blob.ErrNotFound) || errors.Is(err, blob.ErrLocked) {
		return nil
	}
	return err
}

// needLog has a log stay from a position on, as far as it is still there: what was said before
// of its not being needed counts no longer.
func (s *Upkeep) needLog(ctx context.Context, cluster string, c *journal.Chain, from record.Position) error {
	marks, err := s.trims(ctx, needlessPrefix, cluster, c.Shard)
	if err != nil {
		return err
	}
	for _, m := range marks {
		if m.After > from {
			if err := s.removeTrim(ctx, m); err != nil {
				return err
			}
		}
	}
	return nil
}

// trim removes the segments of a log that have not been needed for some time.
func (s *Upkeep) trim(ctx context.Context, cluster string, c *journal.Chain, after time.Duration,
	out *Retired) error {
	if len(c.Segments) == 0 {
		return nil
	}
	marks, err := s.trims(ctx, needlessPrefix, cluster, c.Shard)
	if err != nil {
		return err
	}
	var due, going trimPoint
	for _, m := range marks {
		going = m
		if s.Now().Sub(m.made) >= after {
			due = m
		}
	}
	n := needless(c, due.After)
	for _, h := range c.Segments[n:max(n, needless(c, going.After))] {
		out.Going++
		out.GoingBytes += h.Size
	}
	n = apart(c, n)
	gone := slices.Clone(c.Segments[:n])
	for _, h := range c.Superseded {
		if n > 0 && h.Last.Position <= c.Segments[n].After.Position {
			gone = append(gone, h)
		}
	}
	// What was put together goes before any of its parts: alone it would be a log that nobody has
	// compared with them.
	for _, h := range c.Joins {
		if n > 0 && h.Last.Position <= c.Segments[n].After.Position {
			gone = append([]journal.Header{h}, gone...)
		}
	}
	if n > 0 {
		if err := s.putTrim(ctx, trimPrefix, cluster, c.Shard, c.Segments[n].After.Position); err != nil {
			return err
		}
		// Somebody may have brought a point back just now.
		if _, err := s.Blob.ReadAt(ctx, due.name, 0, 1); errors.Is(err, blob.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
	}
	for _, h := range gone {
		err := s.RemoveObject(ctx, s.SegmentName(h))
		if errors.Is(err, blob.ErrLocked) {
			return nil // later ones are locked for longer; the next time it is tried again
		}
		if err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
		out.Segments++
		out.Bytes += h.Size
	}
	if n == 0 {
		return nil
	}
	// Marks of what is gone, and of earlier beginnings.
	first := c.Segments[n].After.Position
	begins, err := s.trims(ctx, trimPrefix, cluster, c.Shard)
	if err != nil {
		return err
	}
	begins = slices.DeleteFunc(begins, func(m trimPoint) bool { return m.After >= first })
	marks = slices.DeleteFunc(marks, func(m trimPoint) bool { return m.After > first })
	for _, m := range append(begins, marks...) {
		if err := s.removeTrim(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// Begins reports whether a log begins where it does because retention has removed
// what was before.
func (s *Upkeep) Begins(ctx context.Context, cluster string, c *journal.Chain) (bool, error) {
	if len(c.Segments) == 0 || c.Segments[0].Prev.IsZero() {
		return true, nil
	}
	// Who was removing may have been killed in the midst of it.
	marks, err := s.trims(ctx, trimPrefix, cluster, c.Shard)
	return slices.ContainsFunc(marks,
		func(m trimPoint) bool { return m.After >= c.Segments[0].After.Position }), err
}
