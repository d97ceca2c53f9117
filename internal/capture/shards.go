package capture

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/remedy"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/prepare"
	"dexamen/internal/run"
)

// allShards is a capture of all shards.
type allShards struct {
	*run.Runner
	l    engine.Logged
	opt  Options
	out  *Result
	list []*shardCapture
	// model and last are the meaning of changes and the point they follow.
	model engine.Model
	last  *store.Point

	// own: the shards' positions have nothing to do with each other.
	own bool
	// only, where set, is the one shard that is captured, for another process that captures all.
	only string
	// settings: users and roles are among the namespaces.
	settings bool
	// several: the cluster has other shards, too.
	several bool

	// asked is when all ends were known, of logs that tell no times: what is before them was
	// there then. One time for all shards, or moments would lack of one what is captured of it
	// later than of another. Zero where it goes on without an end.
	asked time.Time

	mu      sync.Mutex
	end     record.Position // the position to reach, where it ends by itself
	changes int64
	stored  int64
}

// begin finds, for each shard that the last point knows, where its log is taken up
// and at which member it is read. Shards that have joined or left since are
// reported as missing.
func (a *allShards) begin(ctx context.Context, src *prepare.Source) error {
	shards := src.Topology.Shards
	for _, sh := range shards {
		if a.only != "" && sh.Name != a.only {
			continue
		}
		if _, known := a.last.Shard(sh.Name); !known {
			a.out.Missing = append(a.out.Missing, sh.Name)
			a.Emit(run.Warning,
				"shard %s has joined since the last point; its log is not captured before the next snapshot", sh.Name)
			continue
		}
		cp := &shardCapture{all: a, Runner: a.Runner, name: src.Name, shard: sh, l: a.l, opt: a.opt,
			hurried: make(chan struct{}, 1), now: make(chan struct{}, 1)}
		if err := cp.begin(ctx, a.last); err != nil {
			return err
		}
		points, _, err := a.Store.Points(ctx, src.Name)
		if err != nil {
			return err
		}
		cp.startNames(points)
		choice, err := src.Cluster.Choose(ctx, sh.Name)
		if err != nil {
			return err
		}
		which := ""
		if len(shards) > 1 {
			which = "shard " + sh.Name + ": "
		}
		a.Emit(run.Step, "%sreading the log of %s (%s, %s) from %s on", which, choice.Member.Address,
			choice.Member.Role, choice.Reason,
			run.FormatTime(cp.from.Wall))
		a.list = append(a.list, cp)
	}
	for _, s := range a.last.Shards {
		if a.only != "" {
			break // who captures all looks for others
		}
		if !slices.ContainsFunc(shards, func(t engine.Shard) bool { return t.Name == s.Name }) {
			a.out.Missing = append(a.out.Missing, s.Name)
			a.Emit(run.Warning, "shard %s has left since the last point; take a new one", s.Name)
		}
	}
	if len(a.out.Missing) > 0 {
		// Going on would hide that part of the cluster is not protected.
		a.opt.Follow = false
		for _, cp := range a.list {
			cp.opt.Follow = false
		}
	}
	return nil
}

// judge returns ErrIncomplete where part of the log is lost, or not every shard was
// captured, or what was stored cannot be restored.
func (a *allShards) judge(ctx context.Context) error {
	out := a.out
	switch {
	case len(out.Gaps) > 0 && !slices.ContainsFunc(a.list,
		func(cp *shardCapture) bool { return len(cp.gaps) > cp.resumedAtPoint }):
		out.ResumedAtPoint = true
		return fmt.Errorf("%w: part of the log is lost; it goes on at a point taken since", run.ErrIncomplete)
	case len(out.Gaps) > 0:
		return remedy.With(fmt.Errorf("%w: part of the log is lost", run.ErrIncomplete), remedy.Snapshot, out.Cluster)
	case len(out.Missing) > 0:
		return remedy.With(fmt.Errorf("%w: the cluster has other shards than its last point (%s)",
			run.ErrIncomplete, strings.Join(out.Missing, ", ")), remedy.Snapshot, out.Cluster)
	}
	return checkContinuity(ctx, a.Runner, out.Cluster)
}

// run finds the end of each shard's log and captures up to there.
func (a *allShards) run(ctx context.Context) error {
	for _, cp := range a.list {
		end, err := a.l.LogEnd(ctx, cp.shard.Name)
		if err != nil {
			return err
		}
		a.end, cp.end = max(a.end, end.Position), end.Position
	}
	if a.asked = time.Now(); a.opt.Follow {
		a.asked = time.Time{}
	}
	for _, cp := range a.list {
		if !a.own {
			cp.end = a.end
		}
	}
	if len(a.list) == 0 {
		return nil
	}
	if a.shareable(ctx) {
		return a.captureByOthers(ctx)
	}
	return a.captureAll(ctx)
}

// captureAll captures the shards in this process.
func (a *allShards) captureAll(ctx context.Context) error {
	g, gctx := errgroup.WithContext(ctx)
	if a.opt.Follow {
		heard := make(chan struct{})
		lctx, stop := context.WithCancel(gctx)
		go func() { defer close(heard); a.listen(lctx) }()
		defer func() { stop(); <-heard }()
	}
	for _, cp := range a.list {
		g.Go(func() error { return cp.run(gctx) })
	}
	if !a.opt.Follow {
		g.Go(func() error {
			return prepare.WaitForEnd(gctx, a.Runner, a.l, a.several,
				"captured up to where it ended when this began", a.behind)
		})
	}
	return g.Wait()
}

// behind names the shards that have not reached the end.
func (a *allShards) behind() map[string]record.Position {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := map[string]record.Position{}
	for _, cp := range a.list {
		if !cp.done {
			out[cp.shard.Name] = cp.read
		}
	}
	return out
}

func (a *allShards) sum() {
	for i, cp := range a.list {
		if cp.out.Member == "" { // else another process has read it
			cp.out.Member = a.l.LogMember(cp.shard.Name)
		}
		o, s := a.out, cp.out
		o.Changes, o.Segments, o.Stored = o.Changes+s.Changes, o.Segments+s.Segments, o.Stored+s.Stored
		o.Gaps, o.Doubts = append(o.Gaps, cp.gaps...), append(o.Doubts, cp.seen...)
		if i == 0 || s.From.Position < o.From.Position {
			o.From = s.From
		}
		if i == 0 || s.To.Position < o.To.Position {
			o.To = s.To
		}
		o.Shards = append(o.Shards, s)
	}
}

// progressed adds to what all shards' captures have done.
func (a *allShards) progressed(changes, stored int64) {
	a.mu.Lock()
	a.changes, a.stored = a.changes+changes, a.stored+stored
	n, size := a.changes, a.stored
	a.mu.Unlock()
	a.ReportProgress("", n, 0, size)
}
