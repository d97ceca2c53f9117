package memory

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Writer implements [engine.Cluster].
func (c *cluster) Writer(context.Context) (engine.Writer, error) { return &writer{s: c.s}, nil }

// writer implements [engine.StagingWriter] and [engine.ClaimTable].
type writer struct {
	s      *Server
	claims *engine.Claims
}

func (w *writer) Claim(_ context.Context, name string) (string, error) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	return w.s.claims[name], nil
}

func (w *writer) SwapClaim(_ context.Context, name, was, now string) (bool, error) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	if w.s.claims[name] != was {
		return false, nil
	}
	if w.s.claims[name] = now; now == "" {
		delete(w.s.claims, name)
	}
	return true, nil
}

func (w *writer) Reserve(ctx context.Context, names []string) (_ *engine.Claims, err error) {
	w.claims, err = engine.ClaimNames(ctx, w, names)
	return w.claims, err
}

func (w *writer) Stages(context.Context) ([]string, error) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	var out []string
	for _, n := range slices.Sorted(maps.Keys(w.s.claims)) {
		if strings.HasPrefix(n, stagePrefix) && w.s.spaces[n] != nil && engine.CutShort(w.s.claims[n]) {
			out = append(out, n)
		}
	}
	return out, nil
}

func (w *writer) Stage(ctx context.Context, _ record.Namespace) (record.Namespace, error) {
	w.s.mu.Lock()
	name := fmt.Sprint(stagePrefix, w.s.made)
	w.s.mu.Unlock()
	if err := w.claims.Add(ctx, name); err != nil {
		return record.Namespace{}, err
	}
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	return w.s.create(name).Namespace, nil
}

func (w *writer) StageInPlace(_ context.Context, ns record.Namespace, replace bool) (record.Namespace, error) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	if w.s.spaces[ns.Name] != nil && !replace {
		return ns, fmt.Errorf("%s is there already", ns.Name)
	}
	w.s.drop(ns.Name)
	return w.s.create(ns.Name).Namespace, nil
}

// with calls fn with a namespace that is there, under the lock.
func (w *writer) with(name string, fn func(*space)) error {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	sp := w.s.spaces[name]
	if sp == nil {
		return fmt.Errorf("there is no %s", name)
	}
	fn(sp)
	return nil
}

func (w *writer) Write(_ context.Context, stage string, recs []record.Record) error {
	return w.with(stage, func(sp *space) {
		for _, r := range recs {
			w.s.put(sp, string(r.Value))
		}
	})
}

func (w *writer) CurrentNamespace(_ context.Context, name string) (ns record.Namespace, err error) {
	err = w.with(name, func(sp *space) { ns = sp.Namespace })
	return ns, err
}

func (w *writer) Count(_ context.Context, name string) (n int64, err error) {
	err = w.with(name, func(sp *space) { n = int64(len(sp.records)) })
	return n, err
}

func (w *writer) Index(context.Context, string, record.Namespace) error { return nil }
func (w *writer) Replaceable(record.Namespace) error                    { return nil }
func (w *writer) KeepsIdentity(record.Namespace) bool                   { return true }
func (w *writer) Trusted(context.Context) bool                          { return true }

func (w *writer) View(context.Context, record.Namespace, bool) error {
	return errors.New("it has no views")
}

func (w *writer) Publish(ctx context.Context, stage, name string, replace bool) error {
	w.s.mu.Lock()
	sp := w.s.spaces[stage]
	if sp == nil || w.s.spaces[name] != nil && !replace {
		w.s.mu.Unlock()
		return fmt.Errorf("there is no %s, or %s is there already", stage, name)
	}
	w.s.drop(name)
	w.s.add(record.Change{Op: record.Rename, Namespace: stage, Ident: sp.Ident, To: name})
	delete(w.s.spaces, stage)
	sp.Name = name
	w.s.spaces[name] = sp
	w.s.mu.Unlock()
	return w.claims.End(ctx, stage)
}

func (w *writer) Discard(ctx context.Context, stage string) error {
	if !strings.HasPrefix(stage, stagePrefix) {
		return fmt.Errorf("%s is no stage", stage)
	}
	w.s.Drop(stage)
	return w.claims.End(ctx, stage)
}
