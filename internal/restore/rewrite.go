package restore

import (
	"context"
	"errors"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// notice tells what is to be known of a namespace's records before they are restored. What cannot be read is told of
// when it is restored.
func (p *Plan) notice(ctx context.Context, s moment.NamespaceState, of func(value []byte) string) error {
	noticed := map[string]int64{}
	for r, err := range tree.Records(ctx, p.scratch, s.Root) {
		if errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrMissing) {
			break
		}
		if err != nil {
			return err
		}
		if note := of(r.Value); note != "" {
			noticed[note]++
		}
	}
	for note, n := range noticed {
		p.runner.Emit(run.Note, "%s: %s %s", s.Name, run.Count(n, "record"), note)
	}
	return nil
}

// rewritten applies what was chosen for the engine's records and what the target asks
// for (fit, nil: nothing), and defers expiries where a log is to be carried out.
func (p *Plan) rewritten(ctx context.Context, s moment.NamespaceState, fit func([]byte) ([]byte, string)) (
	moment.NamespaceState, error) {
	if d, ok := p.Moment.Model.(engine.Deferring); ok && p.Replays {
		b := tree.NewBuilder(p.scratch)
		for r, err := range tree.Records(ctx, p.scratch, s.Root) {
			if err == nil {
				err = b.Add(ctx, record.Record{Key: r.Key, Value: d.Defer(r.Value)})
			}
			if err != nil {
				return s, err
			}
		}
		var err error
		s.Root, err = b.Finish(ctx)
		return s, err
	}
	m, ok := p.Moment.Model.(engine.RestoreRewriter)
	ok = ok && len(p.opt.Chosen) > 0
	if !ok && fit == nil {
		return s, nil
	}
	b := tree.NewBuilder(p.scratch)
	noted := map[string]int64{}
	for r, err := range tree.Records(ctx, p.scratch, s.Root) {
		if err != nil {
			return s, err
		}
		value, keep, note := r.Value, true, ""
		if ok {
			value, keep, note = m.RewriteForRestore(p.opt.Chosen, value)
		}
		if fit != nil && keep {
			value, note = fit(value)
		}
		if note != "" {
			noted[note]++
		}
		if !keep {
			continue
		}
		if err := b.Add(ctx, record.Record{Key: r.Key, Value: value}); err != nil {
			return s, err
		}
	}
	if len(noted) == 0 {
		return s, nil
	}
	for note, n := range noted {
		p.runner.Emit(run.Note, "%s: %s %s", s.Name, run.Count(n, "record"), note)
	}
	var err error
	s.Root, err = b.Finish(ctx)
	return s, err
}
