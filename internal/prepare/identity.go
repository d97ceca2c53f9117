// Package prepare is what snapshots and captures do first: Open checks that the
// cluster is the one its points are of, lets the engine resume its history, and
// lets go on what was left held still. [WaitForEnd] waits for a log.
package prepare

import (
	"context"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// checkIdentity refuses to go on with a cluster that is another one than the
// points of this name are of.
func checkIdentity(ctx context.Context, e *run.Runner, cluster string, topo *engine.Topology) (*store.Point, error) {
	points, unreadable, err := e.Store.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, u := range unreadable {
		e.Emit(run.Warning, "a point cannot be read: %v", u)
	}
	if len(points) == 0 {
		return nil, nil
	}
	last := points[len(points)-1]
	if last.Engine != topo.Engine || last.Identity != topo.Identity {
		return nil, fmt.Errorf("%w: the cluster at the address of %s calls itself %q (%s), but the points of %s in "+
			"this store are of %q (%s); give the other cluster a name of its own in the configuration",
			run.ErrRefused, cluster, topo.Identity, topo.Engine, cluster, last.Identity, last.Engine)
	}
	if last.ClusterID != "" && topo.ID != "" && last.ClusterID != topo.ID {
		return nil, fmt.Errorf("%w: the cluster at the address of %s calls itself %q as before, but it was made "+
			"anew: its own id is %s, and the points of %s in this store are of %s; restore onto it, or give it a "+
			"name of its own in the configuration",
			run.ErrRefused, cluster, topo.Identity, topo.ID, cluster, last.ClusterID)
	}
	return last, nil
}

// resumeHistory reports an engine whose servers may begin their histories anew what the
// store knows of each shard.
func resumeHistory(ctx context.Context, e *run.Runner, name string, c engine.Cluster, topo *engine.Topology) (
	map[string]record.Mark, error) {
	h, ok := c.(engine.HistoryResumer)
	if !ok {
		return nil, nil
	}
	points, _, err := e.Store.Points(ctx, name)
	if err != nil {
		return nil, err
	}
	chains, _, err := e.Store.Chains(ctx, name)
	if err != nil {
		return nil, err
	}
	out := map[string]record.Mark{}
	for _, sh := range topo.Shards {
		var last record.Mark
		later := func(m record.Mark) {
			if m.Position > last.Position || m.Position == last.Position && last.Entry == "" {
				last = m
			}
		}
		for _, p := range points {
			if s, ok := p.Shard(sh.Name); ok {
				later(s.Mark)
			}
		}
		if ch := chains[sh.Name]; ch != nil {
			end, _, _ := ch.End()
			later(end)
		}
		if err := h.ResumeFrom(ctx, sh.Name, last); err != nil {
			return nil, err
		}
		out[sh.Name] = last
	}
	return out, nil
}
