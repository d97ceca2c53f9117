package restore

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Remove takes away a namespace that a restore made: as a whole, or key by key where
// servers know no namespaces.
func Remove(ctx context.Context, e *run.Runner, w engine.Writer, c engine.Cluster, ns engine.Namespace) error {
	claims, err := w.Reserve(ctx, []string{ns.Name})
	if errors.Is(err, engine.ErrClaimed) {
		return fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if err != nil {
		return err
	}
	end := context.WithoutCancel(ctx)
	switch w := w.(type) {
	case engine.NamespaceRemover:
		err = w.RemoveNamespace(ctx, ns.Namespace)
	case engine.InPlaceWriter:
		err = removeKeys(ctx, e, w, c, ns)
	default:
		err = fmt.Errorf("%w: namespaces of this cluster cannot be removed", run.ErrRefused)
	}
	if err == nil {
		err = claims.End(end, ns.Name)
	}
	return errors.Join(err, claims.Release(end, err != nil))
}

// removeKeys removes all records of a namespace.
func removeKeys(ctx context.Context, e *run.Runner, w engine.InPlaceWriter, c engine.Cluster,
	ns engine.Namespace) error {
	model, err := engine.ForName(c.Engine())
	if err != nil {
		return err
	}
	if err := w.Begin(ctx, ns.Namespace, func(string, func(record.Record) error) error { return nil }); err != nil {
		return err
	}
	parts, err := c.Partitions(ctx, ns, e.Readers())
	if err != nil {
		return err
	}
	group, grouped := model.Model().(engine.Grouper)
	var gone [][]byte
	for _, p := range parts {
		err := c.Scan(ctx, ns, p, func(r record.Record) error {
			key := append([]byte{}, r.Key...)
			if grouped {
				key = append([]byte{}, group.GroupPrefix(r.Key)...)
			}
			if n := len(gone); n > 0 && string(gone[n-1]) == string(key) {
				return nil
			}
			gone = append(gone, key)
			return nil
		})
		if err != nil {
			return err
		}
	}
	const batch = 1000
	for len(gone) > 0 {
		n := min(batch, len(gone))
		if err := w.Remove(ctx, ns.Namespace, gone[:n]); err != nil {
			return err
		}
		gone = gone[n:]
	}
	return w.End(ctx, ns.Namespace)
}

// Sweep removes the stages that restores left on a cluster which were cut short.
func Sweep(ctx context.Context, e *run.Runner, w engine.StagingWriter) error {
	left, err := w.Stages(ctx)
	if err != nil {
		return err
	}
	for _, s := range left {
		e.Emit(run.Note, "removing %s, left behind by a restore that was cut short", s)
		if err := w.Discard(ctx, s); err != nil {
			return err
		}
	}
	return nil
}
