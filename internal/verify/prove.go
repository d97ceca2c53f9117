package verify

import (
	"context"
	"errors"

	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

// ProveLog folds the point before with the log in between, compares the result
// with a point, and keeps what that proved: on the store alone. ErrDiffers says
// that log and point disagree.
func ProveLog(ctx context.Context, e *run.Runner, p *store.Point) (*store.ProofMark, error) {
	chains, _, err := e.Store.Chains(ctx, p.Cluster)
	if err != nil {
		return nil, err
	}
	found := &Proof{Point: p, ID: p.ID}
	err = proveLog(ctx, e, p, chains, found)
	if err != nil && !errors.Is(err, run.ErrDiffers) {
		return nil, err
	}
	m := &store.ProofMark{Cluster: p.Cluster, Point: p.ID, From: found.From, Until: p.Time, Changes: found.FoldedFrom,
		Equal: found.Equal, NotProven: found.NotFolded, Doubts: found.Doubts}
	if before := found.before; before != nil {
		m.Since = before.Time
	}
	if !m.Equal && len(m.Doubts) == 0 && found.Disagreement != "" {
		m.Doubts = []store.ProofDoubt{{What: found.Disagreement}}
	}
	if perr := e.Store.PutProof(ctx, m); perr != nil {
		return m, perr
	}
	return m, err
}

// Unprovable reports why the log before a point cannot be proven; empty where it can,
// as far as can be told beforehand.
func Unprovable(ctx context.Context, e *run.Runner, p *store.Point) string {
	drv, err := engine.ForName(p.Engine)
	if err != nil {
		return err.Error()
	}
	if !drv.Model().Traits().Commands {
		return ""
	}
	if d, ok := drv.Model().(engine.Deferring); ok && d.NondeterminismReason(p.Version) != "" {
		return d.NondeterminismReason(p.Version)
	}
	if e.ScratchServer != nil {
		bench, err := e.ScratchServer(ctx, p.Cluster)
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

// proveOnScratch carries out the log between two points on the scratch server, and
// compares what is there then with the later point.
func proveOnScratch(ctx context.Context, e *run.Runner, m *moment.Moment, p *store.Point,
	x *store.Scratch) (made, want []moment.NamespaceState, n int64, err error) {
	all := func(string) bool { return true }
	if made, n, err = (restore.OnScratch{}).Materialize(ctx, m, x, all); err != nil {
		return nil, nil, n, err
	}
	at, err := moment.At(e, p, nil, nil)
	if err != nil {
		return nil, nil, n, err
	}
	if want, _, err = at.Trees(ctx, x, x, all); err != nil {
		return nil, nil, n, err
	}
	sure := moment.Unchanged
	if d, ok := m.Model.(engine.Deferring); ok {
		sure = d.StripNondeterministic
	}
	// A key's time may come while the shards are read one after the other.
	if made, err = moment.WithoutExpired(ctx, x, made, m.Model, p.Finished, sure); err != nil {
		return nil, nil, n, err
	}
	want, err = moment.WithoutExpired(ctx, x, want, m.Model, p.Finished, sure)
	return made, want, n, err
}
