package undo

import (
	"context"
	"fmt"
	"slices"

	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// Temporary returns the restores of a cluster's moments that are to be undone at a time and
// have not been, the first to go first.
func Temporary(ctx context.Context, e *run.Runner, cluster string) ([]*store.Run, error) {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{
		Cluster: cluster, Kinds: []string{store.RunRestore, store.RunUndo}})
	if err != nil {
		return nil, err
	}
	over := map[string]bool{}
	for _, r := range runs {
		if r.Kind == store.RunUndo && r.Good() {
			over[r.Undoes] = true
		}
	}
	var out []*store.Run
	for _, r := range runs {
		if r.Kind == store.RunRestore && !r.Until.IsZero() && !over[r.ID] && len(r.Restored) > 0 {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *store.Run) int { return a.Until.Compare(b.Until) })
	return out, nil
}

// Do undoes a run within another one, which notes what it does.
func Do(ctx context.Context, e *run.Runner, of *store.Run, open Open, r *store.Run) error {
	c, err := open(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	p, err := New(ctx, e, of, c)
	if err != nil {
		return err
	}
	defer p.Close()
	p.Note(r)
	if names := p.Names(); len(names) > 0 {
		if r.Kept, err = Keep(ctx, e, of.Target, open, names); err != nil {
			return fmt.Errorf("nothing was changed: %w", err)
		}
	}
	done, err := p.Run(ctx)
	Did(r, done)
	return err
}

// Note notes in a run what undoing another one is about to do.
func (p *Plan) Note(r *store.Run) {
	r.Target, r.Undoes = p.Of.Target, p.Of.ID
	for _, it := range p.Items {
		r.Restored = append(r.Restored, store.RunRestored{To: it.Name, There: !it.Absent})
	}
}

// Did notes in a run what became of what it was about to do.
func Did(r *store.Run, done []store.RunRestored) {
	for i := range r.Restored {
		for _, d := range done {
			if d.To == r.Restored[i].To {
				r.Restored[i].Root, r.Restored[i].Replayed = d.Root, d.Replayed
			}
		}
	}
}
