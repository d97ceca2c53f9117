package snapshot

import (
	"context"
	"fmt"
	"time"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Fold makes a point from the last one and the log after it, without
// touching the cluster.
func Fold(ctx context.Context, e *run.Runner, m *moment.Moment) (*store.Point, error) {
	last := m.Point
	if m.Model.Traits().Commands {
		return nil, fmt.Errorf("%w: a point of %s cannot be folded: %w", run.ErrRefused, last.Cluster, fold.ErrCommand)
	}
	if len(m.Segments) == 0 {
		return nil, fmt.Errorf("nothing to fold: no log is captured after the last point of %s, %s", last.Cluster,
			last.ID)
	}
	strange, err := m.Untracked(ctx)
	if err != nil {
		return nil, err
	}
	if len(strange) > 0 {
		return nil, fmt.Errorf("%w: the log after point %s cannot be folded: %w; read the cluster", run.ErrRefused,
			last.ID, &untrackedError{strange})
	}
	p := &store.Point{Cluster: last.Cluster, Engine: last.Engine, Identity: last.Identity, ClusterID: last.ClusterID,
		Version: last.Version, Started: time.Now(),
		Time: m.Time, Made: "fold", From: last.ID, Tool: e.Tool, Exact: last.Exact, Settings: last.Settings,
		Skipped: last.Skipped, Caveats: last.Caveats, Scope: last.Scope, Unlogged: last.Unlogged}
	for _, s := range last.Shards {
		p.Shards = append(p.Shards, store.PointShard{Name: s.Name, Mark: m.Upto[s.Name]})
	}
	w := e.Store.NewWriter(ctx)
	e.Emit(run.Step, "folding the log after point %s up to %s", last.ID, run.FormatTime(m.Time))
	spaces, n, err := m.Held(ctx, w, w)
	if err != nil {
		w.Abandon()
		return nil, err
	}
	for _, s := range spaces {
		ns := store.PointNamespace{Namespace: s.Namespace, Root: s.Root}
		if m.Sharded() {
			ns.Shard = s.Shard
		}
		p.Namespaces = append(p.Namespaces, ns)
	}
	stats, err := w.Flush(ctx)
	if err != nil {
		return nil, err
	}
	return p, finishPoint(ctx, e, p, stats, n)
}
