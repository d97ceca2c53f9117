package moment

import (
	"context"
	"time"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
)

// Since is what the store knows of the time after a moment.
type Since struct {
	// Changes counts the changes of each namespace that were captured after it.
	Changes map[string]int64 `json:"changes"`
	// Until is the newest moment that can be restored: what was written later is
	// in no backup.
	Until time.Time `json:"until"`
}

// Since counts what was captured after the moment.
func (m *Moment) Since(ctx context.Context) (*Since, error) {
	out := &Since{Changes: map[string]int64{}}
	cov, err := Cover(ctx, m.Runner, m.Point.Cluster)
	if err != nil {
		return nil, err
	}
	for _, c := range cov {
		out.Until = c.Latest
		for shard, chain := range c.Chains {
			after := m.Upto[shard].Position
			for _, h := range chain.Segments {
				if h.Last.Position <= after || h.Gap != "" {
					continue
				}
				if h.First.Position > after && h.Summarized() {
					for _, t := range h.Summary {
						out.count(m, t)
					}
					continue
				}
				err := m.Runner.Store.ReadSegment(ctx, h, func(c *record.Change) error {
					if kind, _ := m.Model.Implied(c.Namespace); c.At > after && kind.IsContent() {
						out.Changes[c.Namespace]++
					}
					return nil
				})
				if err != nil && ctx.Err() != nil {
					return nil, err
				} // what cannot be read is not counted; coverage tells of it
			}
		}
	}
	return out, nil
}

// count adds what a segment's header says of a namespace. What went from one shard to another is
// no change.
func (s *Since) count(m *Moment, t journal.Tally) {
	if kind, _ := m.Model.Implied(t.Namespace); !kind.IsContent() {
		return
	}
	for _, n := range t.By {
		if n.Op != journal.MovedName {
			s.Changes[t.Namespace] += n.Changes
		}
	}
}

// MayChange reports whether the log between the moment's point and the moment may have changes of
// a namespace, as far as its headers tell.
func (m *Moment) MayChange(namespace string) bool {
	for _, list := range m.Segments {
		for i := range list {
			if by, known := list[i].Tally(namespace); !known || len(by) > 0 {
				return true
			}
		}
	}
	return false
}
