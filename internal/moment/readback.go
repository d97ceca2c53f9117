package moment

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// ReadBack reads a live namespace and builds its tree.
func ReadBack(ctx context.Context, e *run.Runner, x *store.Scratch, c engine.Cluster, ns engine.Namespace,
	near tree.Root) (tree.Root, error) {
	parts, err := c.Partitions(ctx, ns, e.Readers())
	if err != nil {
		return tree.Root{}, err
	}
	scan := c.Scan
	if whole, ok := c.(engine.WholeScanner); ok {
		scan = func(ctx context.Context, ns engine.Namespace, p engine.Partition, fn func(record.Record) error) error {
			err := whole.ScanWhole(ctx, ns, p, fn)
			if errors.Is(err, engine.ErrUnreachable) && ctx.Err() == nil {
				// It broke off. What has come comes again, and what comes last counts.
				err = c.Scan(ctx, ns, p, fn)
			}
			return err
		}
	}
	l := tree.NewLoader(x, x, near, e.TempDir(), e.SortMemory()/2)
	g, gctx := errgroup.WithContext(ctx)
	for _, p := range parts {
		part := l.Part()
		g.Go(func() error {
			n, size := int64(0), int64(0)
			return scan(gctx, ns, p, func(r record.Record) error {
				size += int64(len(r.Value))
				if n++; n%4096 == 0 {
					e.ReportProgress(ns.Name, n, ns.Records, size)
				}
				return part.Add(gctx, r)
			})
		})
	}
	if err := g.Wait(); err != nil {
		return tree.Root{}, err
	}
	return l.Finish(ctx)
}

// ReadBackAll reads several live namespaces and builds their trees; where all is gone through to read one, in one
// pass. Near are trees that are likely the same. Begun, where not nil, is told the name of one that is read by itself.
func ReadBackAll(ctx context.Context, e *run.Runner, x *store.Scratch, c engine.Cluster, list []engine.Namespace,
	near []tree.Root, begun func(name string)) ([]tree.Root, error) {
	out := make([]tree.Root, len(list))
	many, ok := c.(engine.ManyScanner)
	if !ok || !many.Together(list) {
		for i, ns := range list {
			if begun != nil {
				begun(ns.Name)
			}
			var err error
			if out[i], err = ReadEqual(ctx, e, x, c, ns, near[i], false); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	number := map[string]int{}
	for i, ns := range list {
		number[ns.Name] = i
	}
	found := NewContents(e.TempDir(), e.SortMemory()/2)
	defer found.Close()
	n, size := int64(0), int64(0)
	err := many.ScanMany(ctx, list, func(ns *engine.Namespace, r record.Record) error {
		size += int64(len(r.Value))
		if n++; n%4096 == 0 {
			e.ReportProgress("", n, 0, size)
		}
		return found.Add(ns.Namespace, r)
	})
	if err != nil {
		return nil, err
	}
	err = found.Trees(ctx, func(ns record.Namespace) *tree.Builder {
		return tree.NewBuilder(x).Near(x, near[number[ns.Name]])
	}, func(ns record.Namespace, root tree.Root) { out[number[ns.Name]] = root })
	for i := range out {
		if err == nil && out[i].Hash.IsZero() { // nothing is in it
			out[i], err = tree.NewBuilder(x).Finish(ctx)
		}
	}
	return out, err
}
