package prepare

import (
	"context"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Source is a cluster that is ready to be read.
type Source struct {
	Name     string // as the configuration calls it
	Cluster  engine.Cluster
	Topology *engine.Topology
	Model    engine.Model
	// Last is the newest point of it in the store; nil where there is none.
	Last *store.Point
	// Log is the cluster where it keeps a log; nil where it does not.
	Log engine.Logged
	// Resumed is, by shard, the last place that the store knows, where positions go on from it
	// ([engine.HistoryResumer]).
	Resumed map[string]record.Mark
}

// Open does what comes before a cluster is read: it refuses another cluster than
// the one its points are of, has the engine resume each shard's history where the
// store left it, and lets go on what a killed run has left held still.
func Open(ctx context.Context, r *run.Runner, name string, c engine.Cluster) (*Source, error) {
	topo, err := c.Topology(ctx)
	if err != nil {
		return nil, err
	}
	drv, err := engine.ForName(topo.Engine)
	if err != nil {
		return nil, err
	}
	s := &Source{Name: name, Cluster: c, Topology: topo, Model: drv.Model()}
	if s.Last, err = checkIdentity(ctx, r, name, topo); err != nil {
		return nil, err
	}
	if l, ok := c.(engine.Logged); ok && topo.Shards[0].Log != nil {
		s.Log = l
	}
	if s.Resumed, err = resumeHistory(ctx, r, name, c, topo); err != nil {
		return nil, err
	}
	return s, resumeQuiesced(ctx, r, name, c)
}
