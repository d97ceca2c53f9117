package restore

import (
	"context"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// withoutSessions applies what was chosen for records that are bound to clients'
// sessions, and puts expiries off where a log is to be carried out.
func (p *Plan) withoutSessions(ctx context.Context, s moment.NamespaceState) (moment.NamespaceState, error) {
	if d, ok := p.Moment.Model.(engine.Deferring); ok && p.Replays {
		b := tree.NewBuilder(p.scratch)
		err := tree.Walk(ctx, p.scratch, s.Root, func(r record.Record) error {
			return b.Add(ctx, record.Record{Key: r.Key, Value: d.Defer(r.Value)})
		})
		if err == nil {
			s.Root, err = b.Finish(ctx)
		}
		return s, err
	}
	m, ok := p.Moment.Model.(engine.Bound)
	if !ok || p.opt.Leases == "" || p.opt.Leases == "recreate" {
		return s, nil
	}
	b := tree.NewBuilder(p.scratch)
	n := int64(0)
	err := tree.Walk(ctx, p.scratch, s.Root, func(r record.Record) error {
		free, bound := m.Unbind(r.Value)
		if bound {
			n++
			if p.opt.Leases == "skip" {
				return nil
			}
		}
		return b.Add(ctx, record.Record{Key: r.Key, Value: free})
	})
	if err != nil || n == 0 {
		return s, err
	}
	p.runner.Emit(run.Note, "%s: %s of a session (%s)", s.Name, run.Count(n, "record"), map[string]string{"drop": "restored without it", "skip": "left out"}[p.opt.Leases])
	s.Root, err = b.Finish(ctx)
	return s, err
}
