package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// needsBench reports whether the moment is to be had on a server only: it lies
// after its point, and the log in between holds commands.
func (m *Moment) needsBench() bool { return !m.Exact() && m.Model.Traits().Commands }

// noBench reports what to do about a moment that there is no server for.
func (m *Moment) noBench() error {
	return fmt.Errorf("%w: %s is to be had on a server only: %w; name an empty server to carry the log out on, as scratch: of the cluster or with --scratch, or take the point itself: %s@%s",
		ErrRefused, m, fold.ErrCommand, m.Point.Cluster, m.Point.ID)
}

// made builds the trees of the namespaces of a moment that needs a bench: it
// restores the moment there, with expiries put off, reads it, and empties the
// bench again. Keys whose time had come at the moment are not in it.
func (m *Moment) made(ctx context.Context, x *store.Scratch, choose func(name string) bool) (out []Space, changes int64, err error) {
	e := m.env
	quiet, err := m.quiet(ctx)
	if err != nil {
		return nil, 0, err
	}
	if quiet {
		out, err = m.unchanged(ctx, x, choose)
		return out, 0, err
	}
	if e.Bench == nil {
		return nil, 0, m.noBench()
	}
	if names, err := m.Names(ctx); err != nil || len(names) == 0 {
		return nil, 0, err
	}
	bench, err := e.Bench(ctx, m.Point.Cluster)
	if err != nil {
		return nil, 0, err
	}
	if bench == nil {
		return nil, 0, m.noBench()
	}
	defer bench.Close()
	if err := sameEngine(m.Point, bench, "the scratch server"); err != nil {
		return nil, 0, err
	}
	w, err := bench.Writer(ctx)
	if err != nil {
		return nil, 0, err
	}
	b, ok := w.(engine.Bench)
	if !ok {
		return nil, 0, fmt.Errorf("%w: the scratch server cannot carry out the log of %s", ErrRefused, m.Point.Cluster)
	}
	e.emit(Step, "making %s on the scratch server", m)
	release, err := e.claim(ctx, b)
	if errors.Is(err, engine.ErrBench) {
		return nil, 0, fmt.Errorf("%w: %w", ErrRefused, err)
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
	if out, changes, err = m.makeOn(ctx, bench, x, choose); err != nil {
		return nil, 0, err
	}
	sortSpaces(out)
	return out, changes, nil
}

// quiet reports whether nothing was done between the point and the moment.
func (m *Moment) quiet(ctx context.Context) (bool, error) {
	for _, s := range m.Point.Shards {
		err := m.changes(ctx, s.Name, func(*record.Change) error { return engine.ErrEnough })
		if errors.Is(err, engine.ErrEnough) {
			return false, nil
		}
		if err != nil {
			return false, m.onShard(s.Name, err)
		}
	}
	return true, nil
}

// unchanged returns the trees of a quiet moment: the point's, without what has
// expired since.
func (m *Moment) unchanged(ctx context.Context, x *store.Scratch, choose func(name string) bool) ([]Space, error) {
	spaces, _, err := m.AtPoint().Trees(ctx, x, x, choose)
	if err != nil {
		return nil, err
	}
	return living(ctx, x, spaces, m.Model, m.Time, asIs)
}

// patience is how long a scratch server is waited for that somebody else has.
const patience = 5 * time.Minute

// claim takes a scratch server, as soon as it is free.
func (e *Env) claim(ctx context.Context, b engine.Bench) (func(context.Context) error, error) {
	for began := time.Now(); ; {
		release, err := b.TakeOver(ctx)
		if !errors.Is(err, engine.ErrInUse) || time.Since(began) > patience {
			return release, err
		}
		e.emit(Step, "waiting: %v", err)
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(time.Second):
		}
	}
}

func (m *Moment) makeOn(ctx context.Context, bench engine.Cluster, x *store.Scratch, choose func(name string) bool) ([]Space, int64, error) {
	// All of the moment is made: a command may take from what is not asked for.
	p, err := m.env.PlanRestore(ctx, m, bench, RestoreOptions{held: true})
	if err != nil {
		return nil, 0, err
	}
	defer p.Close()
	if _, err := p.Run(ctx); err != nil {
		return nil, 0, err
	}
	bench = engine.Whole(bench)
	now, err := bench.Namespaces(ctx)
	if err != nil {
		return nil, 0, err
	}
	var out []Space
	for _, ns := range now {
		if !content(&ns.Namespace) || !choose(ns.Name) {
			continue
		}
		m.env.emit(Step, "reading %s", ns.Name)
		near := tree.Root{}
		for _, was := range m.Point.Namespaces {
			if was.Name == ns.Name {
				near = was.Root
			}
		}
		root, err := m.env.readBack(ctx, x, bench, ns, near)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, Space{Namespace: ns.Namespace, Root: root})
	}
	// Expiries that were put off are set right, and what had expired goes.
	resume := asIs
	if d, ok := m.Model.(engine.Deferring); ok {
		resume = d.Resume
	}
	out, err = living(ctx, x, out, m.Model, m.Time, resume)
	return out, p.Changes, err
}

// asIs leaves a value as it is.
func asIs(value []byte) []byte { return value }

// living returns namespaces with other values, without what has expired by a time,
// and without those that held nothing else.
func living(ctx context.Context, x *store.Scratch, list []Space, model engine.Model, by time.Time, value func([]byte) []byte) ([]Space, error) {
	var err error
	for i := range list {
		if list[i].Root, err = rewritten(ctx, x, list[i].Root, model, by, value); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(list, func(s Space) bool { return s.Root.Records == 0 }), nil
}

// rewritten returns a tree with other values, without the units that have expired
// by a time.
func rewritten(ctx context.Context, x *store.Scratch, root tree.Root, model engine.Model, by time.Time, value func([]byte) []byte) (tree.Root, error) {
	exp, _ := model.(engine.Expiring)
	compound, _ := model.(engine.Compound)
	unit := func(key []byte) string {
		if compound == nil {
			return string(key)
		}
		return string(compound.Unit(key))
	}
	gone := map[string]bool{} // servers take them away soon: there are never many
	same := true
	err := tree.Walk(ctx, x, root, func(r record.Record) error {
		v := value(r.Value)
		same = same && bytes.Equal(v, r.Value)
		if exp == nil {
			return nil
		}
		if at, does := exp.Expires(v); does && !at.After(by) {
			gone[unit(r.Key)] = true
		}
		return nil
	})
	if err != nil || same && len(gone) == 0 {
		return root, err
	}
	b := tree.NewBuilder(x)
	err = tree.Walk(ctx, x, root, func(r record.Record) error {
		if len(gone) > 0 && gone[unit(r.Key)] {
			return nil
		}
		return b.Add(ctx, record.Record{Key: r.Key, Value: value(r.Value)})
	})
	if err != nil {
		return root, err
	}
	return b.Finish(ctx)
}

// Unproven reports why the log before a point cannot be proven; empty where it can,
// as far as can be told beforehand.
func (e *Env) Unproven(ctx context.Context, p *store.Point) string {
	drv, err := engine.ForName(p.Engine)
	if err != nil {
		return err.Error()
	}
	if !drv.Model().Traits().Commands {
		return ""
	}
	if d, ok := drv.Model().(engine.Deferring); ok && d.Vague(p.Version) != "" {
		return d.Vague(p.Version)
	}
	if e.Bench != nil {
		bench, err := e.Bench(ctx, p.Cluster)
		if err != nil {
			return "its scratch server: " + err.Error()
		}
		if bench != nil {
			_ = bench.Close()
			return ""
		}
	}
	return "its log holds commands, which only a server can carry out, and the cluster has none for that (scratch:)"
}

// proveMade carries out the log between two points on the scratch server, and
// compares what is there then with the later point.
func (e *Env) proveMade(ctx context.Context, m *Moment, p *store.Point, x *store.Scratch) (made, want []Space, n int64, err error) {
	all := func(string) bool { return true }
	if made, n, err = m.made(ctx, x, all); err != nil {
		return nil, nil, n, err
	}
	at, err := e.momentAt(p, nil, nil)
	if err != nil {
		return nil, nil, n, err
	}
	if want, _, err = at.Trees(ctx, x, x, all); err != nil {
		return nil, nil, n, err
	}
	sure := asIs
	if d, ok := m.Model.(engine.Deferring); ok {
		sure = d.Sure
	}
	// A key's time may come while the shards are read one after the other.
	if made, err = living(ctx, x, made, m.Model, p.Finished, sure); err != nil {
		return nil, nil, n, err
	}
	want, err = living(ctx, x, want, m.Model, p.Finished, sure)
	return made, want, n, err
}
