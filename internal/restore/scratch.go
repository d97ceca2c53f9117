package restore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/wait"

	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// OnScratch is the Materializer that restores moments onto the cluster's scratch
// server, which Runner.ScratchServer opens.
type OnScratch struct{}

// Materialize restores a moment onto the scratch server with expiries deferred,
// reads the chosen namespaces into x, and empties the server again. Keys that
// had expired by the moment are left out. It returns the namespaces in order of
// their names and how many log changes were carried out.
func (OnScratch) Materialize(ctx context.Context, m *moment.Moment, x *store.Scratch,
	choose func(name string) bool) (out []moment.NamespaceState, changes int64, err error) {
	if m.Runner.Crew != nil { // others reach the cluster, not the scratch server
		own := *m
		own.Runner = m.Runner.Alone()
		m = &own
	}
	e := m.Runner
	quiet, err := m.HasNoChanges(ctx)
	if err != nil {
		return nil, 0, err
	}
	if quiet {
		out, err = m.StatesOfPoint(ctx, x, choose)
		return out, 0, err
	}
	if e.ScratchServer == nil {
		return nil, 0, m.ErrNeedsServer()
	}
	if names, err := m.Names(ctx); err != nil || len(names) == 0 {
		return nil, 0, err
	}
	bench, err := e.ScratchServer(ctx, m.Point.Cluster)
	if err != nil {
		return nil, 0, err
	}
	if bench == nil {
		return nil, 0, m.ErrNeedsServer()
	}
	defer bench.Close()
	if err := moment.SameEngine(m.Point, bench, "the scratch server"); err != nil {
		return nil, 0, err
	}
	w, err := bench.Writer(ctx)
	if err != nil {
		return nil, 0, err
	}
	b, ok := w.(engine.ScratchServer)
	if !ok {
		return nil, 0, fmt.Errorf("%w: the scratch server cannot carry out the log of %s", run.ErrRefused,
			m.Point.Cluster)
	}
	e.Emit(run.Step, "making %s on the scratch server", m)
	release, err := claimServer(ctx, e, b)
	if errors.Is(err, engine.ErrNotExclusive) {
		return nil, 0, fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if err != nil {
		return nil, 0, err
	}
	defer func() {
		// What could not be emptied is when the server is used next.
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		err = errors.Join(err, release(end))
	}()
	if out, changes, err = restoreAndRead(ctx, m, bench, x, choose); err != nil {
		return nil, 0, err
	}
	moment.SortStates(out)
	return out, changes, nil
}

// scratchWait is how long a scratch server is waited for that somebody else has.
const scratchWait = 5 * time.Minute

// claimServer takes a scratch server, as soon as it is free.
func claimServer(ctx context.Context, e *run.Runner, b engine.ScratchServer) (func(context.Context) error, error) {
	for began := time.Now(); ; {
		release, err := b.ClaimServer(ctx)
		if !errors.Is(err, engine.ErrInUse) || time.Since(began) > scratchWait {
			return release, err
		}
		e.Emit(run.Step, "waiting: %v", err)
		if wait.For(ctx, time.Second) != nil {
			return nil, err
		}
	}
}

// restoreAndRead restores all of a moment onto a scratch server and reads the
// chosen namespaces.
func restoreAndRead(ctx context.Context, m *moment.Moment, bench engine.Cluster, x *store.Scratch,
	choose func(name string) bool) ([]moment.NamespaceState, int64, error) {
	// All of the moment is made: a command may take from what is not asked for.
	p, err := NewPlan(ctx, m.Runner, m, bench, Options{keepDeferred: true})
	if err != nil {
		return nil, 0, err
	}
	defer p.Close()
	if _, err := p.Run(ctx); err != nil {
		return nil, 0, err
	}
	bench = engine.ApplicationView(bench)
	now, err := bench.Namespaces(ctx)
	if err != nil {
		return nil, 0, err
	}
	var out []moment.NamespaceState
	for _, ns := range now {
		if !ns.Kind.IsContent() || !choose(ns.Name) {
			continue
		}
		m.Runner.Emit(run.Step, "reading %s", ns.Name)
		near := tree.Root{}
		for _, was := range m.Point.Namespaces {
			if was.Name == ns.Name {
				near = was.Root
			}
		}
		root, err := moment.ReadBack(ctx, m.Runner, x, bench, ns, near)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, moment.NamespaceState{Namespace: ns.Namespace, Root: root})
	}
	// Expiries that were put off are set right, and what had expired goes.
	resume := moment.Unchanged
	if d, ok := m.Model.(engine.Deferring); ok {
		resume = d.Resume
	}
	out, err = moment.WithoutExpired(ctx, x, out, m.Model, m.Time, resume)
	return out, p.Changes, err
}
