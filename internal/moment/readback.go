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
