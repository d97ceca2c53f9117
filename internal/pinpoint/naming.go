package pinpoint

import (
	"context"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
)

// name names some of the records of a burst: what of each changed, where what it was
// before is known without reading more of the log.
func (r *reader) name(b *burst) {
	base := r.baseOf(b)
	for i := range b.some {
		c := &b.some[i]
		label, changed := "", []string(nil)
		var old []byte
		if base != nil {
			if v, ok, err := tree.Get(context.Background(), r.Store, base.Root, c.Key); err == nil && ok {
				old = v
			}
		}
		switch {
		case c.Op == record.Command:
			label = r.model.Render(c.Value)
		case c.Op == record.Delete && len(c.Value) > 0, c.Op == record.Put:
			label = r.model.Label(c.Value)
		case old != nil:
			label = r.model.Label(old)
		}
		if old != nil && b.fresh[i] && r.quietSince(b) {
			switch c.Op {
			case record.Put:
				changed = r.model.Changes(old, c.Value)
			case record.Patch:
				if made, err := r.model.Apply(old, c, true); err == nil {
					changed = r.model.Changes(old, made)
				}
			}
		}
		if len(changed) > 0 {
			label += " (" + strings.Join(changed[:min(len(changed), 3)], "; ") + ")"
		}
		if label != "" {
			b.Keys = append(b.Keys, label)
		}
	}
}

// pointBefore returns the newest point that is not after where a burst began.
func (r *reader) pointBefore(b *burst) *store.Point {
	for i := len(r.cov.Points) - 1; i >= 0; i-- {
		p := r.cov.Points[i]
		if s, ok := p.Shard(r.shard); ok && s.Mark.Position != "" && s.Mark.Position < b.position {
			return p
		}
	}
	return nil
}

// baseOf returns a burst's namespace in the point before it; nil where it is not there.
func (r *reader) baseOf(b *burst) *store.PointNamespace {
	p := r.pointBefore(b)
	if p == nil {
		return nil
	}
	for i := range p.Namespaces {
		ns := &p.Namespaces[i]
		if ns.Name == b.Namespace && (len(p.Shards) == 1 || ns.Shard == r.shard) {
			return ns
		}
	}
	return nil
}

// quietSince reports whether the segments between a burst's point and the one it began in
// changed nothing of its namespace.
func (r *reader) quietSince(b *burst) bool {
	s, _ := r.pointBefore(b).Shard(r.shard)
	for i := range r.cov.Chains[r.shard].Segments {
		h := &r.cov.Chains[r.shard].Segments[i]
		if h.Last.Position <= s.Mark.Position || h.Last.Position >= b.position {
			continue
		}
		if by, known := h.Tally(b.Namespace); !known || len(by) > 0 {
			return false
		}
	}
	return true
}

// definitionChange says what one definition has and the other has not.
func definitionChange(m engine.Model, a, b []byte) (out []string) {
	without, with := moment.DiffDefinitions(m, a, b)
	for _, l := range without {
		out = append(out, "without "+l)
	}
	for _, l := range with {
		out = append(out, "with "+l)
	}
	return out
}
