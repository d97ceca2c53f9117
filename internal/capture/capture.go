// Package capture adds a cluster's log to the store.
//
//	capture.go   Run, and one shard's capture from begin to end
//	shards.go    all shards at the same time
//	shared.go    other processes capture a shard each
//	changes.go   what is checked of each change
//	segments.go  what is gathered becomes segments; gaps
//	ask.go       another asks for what was read to be stored now
package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"dexamen/internal/core/wait"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/prepare"
	"dexamen/internal/run"
)

// Options say how to capture.
type Options struct {
	// Follow goes on until the context ends, writing a segment at each
	// FlushEvery (default 10 s) in which something happened.
	Follow     bool
	FlushEvery time.Duration
	// OnStored, where not nil, hears of each segment that is in the store.
	OnStored func(h journal.Header)
	// Urgent, where not nil, is asked of each change of a namespace as a whole, and of records
	// with how many such there were within [journal.Window] at most; where it returns true
	// what was gathered is stored within seconds.
	Urgent func(namespace string, op record.Op, busiest int64, at time.Time) bool
	// Alive, where not nil, is called whenever a shard's log says something, if only that nothing
	// happened.
	Alive func(shard string)
	// Now, where not nil, has what was read stored at once whenever something comes from it.
	Now <-chan struct{}
	// SegmentBytes seals a segment at about this size (default 16 MiB).
	SegmentBytes int
}

// Result describes what a capture did.
type Result struct {
	Cluster  string        `json:"cluster"`
	From     record.Mark   `json:"from"` // the earliest of all shards
	To       record.Mark   `json:"to"`   // up to where all shards are captured
	Changes  int64         `json:"changes"`
	Segments int           `json:"segments"`
	Stored   int64         `json:"stored"` // bytes
	Gaps     []journal.Gap `json:"gaps,omitempty"`
	// ResumedAtPoint: all gaps end at points that are there; no new one is needed.
	ResumedAtPoint bool          `json:"resumed_at_point,omitempty"`
	Doubts         []string      `json:"doubts,omitempty"`
	Shards         []ShardResult `json:"shards"`
	// Missing names shards whose log cannot be taken up before the next
	// snapshot, as the last point does not know them.
	Missing []string `json:"missing,omitempty"`
	// Untracked names what no moment holds before the next point: it was renamed to a protected
	// name, or changed in a way that is not understood.
	Untracked []string `json:"untracked,omitempty"`
}

// ShardResult is what was captured of one shard.
type ShardResult struct {
	Shard    string      `json:"shard"`
	From     record.Mark `json:"from"`
	To       record.Mark `json:"to"`
	Changes  int64       `json:"changes"`
	Segments int         `json:"segments"`
	Stored   int64       `json:"stored"`
	Member   string      `json:"member"`
}

// Run adds the log since the last capture, or since the first point, to the
// store: of each shard by itself, all at the same time. ErrIncomplete is returned,
// beside the result, when part of the log is lost or not every shard is captured.
func Run(ctx context.Context, e *run.Runner, name string, c engine.Cluster, opt Options) (*Result, error) {
	all, src, err := newCapture(ctx, e, name, c, opt)
	if err != nil {
		return nil, err
	}
	if err := all.begin(ctx, src); err != nil {
		return nil, err
	}
	if src.Topology.HidesDrops {
		if err := all.list[0].watch(ctx, c); err != nil {
			return nil, err
		}
	}
	err = all.run(ctx)
	all.sum()
	if err != nil {
		return all.out, err
	}
	return all.out, all.judge(ctx)
}

// newCapture opens what is to be captured.
func newCapture(ctx context.Context, e *run.Runner, name string, c engine.Cluster, opt Options) (*allShards,
	*prepare.Source, error) {
	if opt.FlushEvery <= 0 {
		opt.FlushEvery = 10 * time.Second
	}
	if opt.SegmentBytes <= 0 {
		opt.SegmentBytes = 16 << 20
	}
	src, err := prepare.Open(ctx, e, name, c)
	if err != nil {
		return nil, nil, err
	}
	topo := src.Topology
	if src.Log == nil {
		why := ""
		if _, could := c.(engine.Logged); could && len(topo.Limitations) > 0 {
			why = ": " + topo.Limitations[0].What
		}
		return nil, nil, fmt.Errorf("cluster %s: %w%s; it can be protected by snapshots only", name, engine.ErrNoLog,
			why)
	}
	if src.Last == nil {
		return nil, nil, remedy.With(fmt.Errorf(
			"%w: cluster %s has no point in the store yet, and a log without one restores nothing",
			run.ErrRefused, name), remedy.FirstSnapshot, name)
	}
	all := &allShards{Runner: e, l: src.Log, opt: opt, own: moment.HasShardClocks(src.Last),
		out: &Result{Cluster: name}, model: src.Model, last: src.Last, settings: topo.Settings,
		several: len(topo.Shards) > 1}
	return all, src, nil
}

// checkContinuity returns ErrIncomplete where the log that is stored does not follow on
// the newest point: nothing of it can be restored then, however well it was
// captured.
func checkContinuity(ctx context.Context, e *run.Runner, cluster string) error {
	points, _, err := e.Store.Points(ctx, cluster)
	if err != nil || len(points) == 0 {
		return err
	}
	chains, _, err := e.Store.Chains(ctx, cluster)
	if err != nil {
		return err
	}
	p := points[len(points)-1]
	if l, err := moment.UntrackedSince(ctx, e, p, true); err != nil {
		return err
	} else if l != nil {
		return fmt.Errorf("%w: %w", run.ErrIncomplete, l)
	}
	// Whoever captured it may have ended before it was noted.
	if m, err := moment.Reaching(e, p, chains); err == nil {
		list, err := m.NotUnderstood(ctx)
		if err != nil {
			return err
		}
		if l, err := m.KeepUntracked(ctx, list, m.Time); err != nil {
			return err
		} else if l != nil {
			return fmt.Errorf("%w: %w", run.ErrIncomplete, l)
		}
	}
	for _, s := range p.Shards {
		c := chains[s.Name]
		if c == nil || s.Mark.Position == "" {
			continue
		}
		end, _, _ := c.End()
		if reach := c.Reach(s.Mark); reach.Position < end.Position {
			return remedy.With(fmt.Errorf("%w: the log after %s cannot be restored: there is a gap after point %s",
				run.ErrIncomplete, run.FormatTime(reach.Wall), p.ID), remedy.Snapshot, cluster)
		}
	}
	return nil
}

// shardCapture is the capture of one shard.
type shardCapture struct {
	*run.Runner
	all            *allShards
	name           string
	shard          engine.Shard
	l              engine.Logged
	opt            Options
	out            ShardResult
	gaps           []journal.Gap
	resumedAtPoint int         // gaps that end at a point
	seen           []string    // doubts
	from           record.Mark // where the next segment begins
	prev           tree.Hash
	looked         sealed.Sight // when that was seen
	keys           journal.Keys
	b              *journal.Builder
	sealed         time.Time
	urgent         bool          // something is to be stored soon
	hurried        chan struct{} // says so
	now            chan struct{} // somebody asks for what was read to be stored at once
	doubts         []string      // to be kept with the next segment
	end            record.Position
	done           bool            // under all.mu
	read           record.Position // under all.mu
	// names is what each identity's namespace is called, as far as is known;
	// ofPoint what it was called in the last point. planned says that the log
	// since was asked, too.
	names, pointNames map[string]string
	namesLoaded       bool
	// untracked are names of which it was noted that moments lack them, and when: a newer point has them again.
	untracked   map[string]bool
	untrackedAt time.Time
	base        *store.Point // of ofPoint

	bmu sync.Mutex // of what is gathered and sealed
}

// begin finds where the log in the store ends.
func (cp *shardCapture) begin(ctx context.Context, last *store.Point) error {
	cp.out.Shard = cp.shard.Name
	var err error
	if cp.keys, err = cp.Store.SegmentKeys(ctx); err != nil {
		return err
	}
	cp.looked = cp.Store.Look()
	chains, bad, err := cp.Store.Chains(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, b := range bad {
		cp.Emit(run.Warning, "a log segment cannot be read: %v", b)
	}
	defer func() { cp.out.From, cp.out.To = cp.from, cp.from }()
	if c := chains[cp.out.Shard]; c != nil {
		cp.from, cp.prev, _ = c.End()
		return nil
	}
	// The first segment follows the earliest point that the log may continue.
	points, _, err := cp.Store.Points(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position != "" {
			if w := cp.shard.Log; w == nil || w.First.Position <= s.Mark.Position {
				cp.from = s.Mark
				return nil
			}
		}
	}
	if s, ok := last.Shard(cp.out.Shard); ok && s.Mark.Position != "" {
		cp.from = s.Mark // which will be found lost, and said
		return nil
	}
	return remedy.With(fmt.Errorf("%w: the points of cluster %s carry no log position", run.ErrRefused, cp.name),
		remedy.Snapshot, cp.name)
}

// window reads anew how far the shard's log reaches.
func (cp *shardCapture) window(ctx context.Context) *engine.LogWindow {
	if t, err := cp.l.Topology(ctx); err == nil {
		for _, s := range t.Shards {
			if s.Name == cp.shard.Name {
				return s.Log
			}
		}
	}
	return nil
}

// watch compares the namespaces with those of the log's end, where the server
// does not log that they change.
func (cp *shardCapture) watch(ctx context.Context, c engine.Cluster) error {
	m, err := moment.Resolve(ctx, cp.Runner, cp.name, moment.Latest, nil)
	if err != nil {
		return err
	}
	plan, err := m.Plan(ctx, cp.shard.Name)
	if err != nil {
		return err
	}
	now, err := c.Namespaces(ctx)
	if err != nil {
		return err
	}
	for _, n := range plan.Namespaces() {
		i := slices.IndexFunc(now, func(x engine.Namespace) bool { return x.Name == n.Name })
		switch {
		case i < 0:
			cp.doubts = append(cp.doubts, n.Name+" went away without a log entry")
		case len(n.Ident) > 0 && len(now[i].Ident) > 0 && !bytes.Equal(n.Ident, now[i].Ident):
			cp.doubts = append(cp.doubts, n.Name+" was dropped and made again without a log entry")
		}
	}
	for _, d := range cp.doubts {
		cp.Emit(run.Warning, "%s, between %s and now", d, run.FormatTime(cp.from.Wall))
	}
	cp.seen = cp.doubts
	return nil
}

func (cp *shardCapture) run(ctx context.Context) error {
	for {
		err := cp.follow(ctx)
		if !errors.Is(err, engine.ErrLogLost) {
			return err
		}
		if err := cp.recordGap(ctx, err); err != nil {
			return err
		}
	}
}

func (cp *shardCapture) follow(ctx context.Context) error {
	cp.bmu.Lock()
	cp.newSegment()
	cp.bmu.Unlock()
	if c, ok := cp.l.(engine.Continuer); ok {
		if err := c.Continues(ctx, cp.shard.Name, cp.from); err != nil {
			return err
		}
	}
	fctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if cp.opt.Follow {
		// Also while the cluster says nothing, or nothing comes from it.
		ticks := make(chan struct{})
		defer func() { <-ticks }()
		go func() {
			defer close(ticks)
			cp.flush(fctx, cancel)
		}()
	}
	err := cp.l.Follow(fctx, cp.shard.Name, cp.from.Position, func(changes []record.Change, p engine.Progress) error {
		if cp.opt.Alive != nil {
			cp.opt.Alive(cp.shard.Name)
		}
		cp.bmu.Lock()
		defer cp.bmu.Unlock()
		if err := cp.take(ctx, changes, p); err != nil {
			return err
		}
		cp.all.progressed(int64(len(changes)), 0)
		done := !cp.opt.Follow && p.Mark.Position >= cp.end
		if done || cp.b.Size() >= cp.opt.SegmentBytes || cp.opt.Follow && time.Since(cp.sealed) >= cp.opt.FlushEvery {
			if err := cp.seal(ctx); err != nil {
				return err
			}
		}
		cp.all.mu.Lock()
		cp.read, cp.done = p.Mark.Position, cp.done || done
		cp.all.mu.Unlock()
		if done {
			return engine.ErrStopFollowing
		}
		return nil
	})
	if cause := context.Cause(fctx); cause != nil && ctx.Err() == nil && !errors.Is(cause, context.Canceled) {
		err = cause
	}
	cancel(nil)
	if err != nil {
		// Whatever ends it: what was read is kept.
		keep, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer stop()
		cp.bmu.Lock()
		err = errors.Join(cp.seal(keep), err)
		cp.bmu.Unlock()
	}
	return err
}

// flush makes what was read durable every so often, until the context ends.
func (cp *shardCapture) flush(ctx context.Context, cancel context.CancelCauseFunc) {
	const soon = 2 * time.Second // what belongs together is then together
	for {
		pause, now := time.NewTimer(cp.opt.FlushEvery/2), false
		select {
		case <-cp.now:
			pause.Stop()
			now = true
		case <-ctx.Done():
			pause.Stop()
			return
		case <-cp.hurried:
			pause.Stop()
			if err := wait.For(ctx, soon); err != nil {
				return
			}
		case <-pause.C:
		}
		cp.bmu.Lock()
		var err error
		if time.Since(cp.sealed) >= cp.opt.FlushEvery || cp.urgent || now {
			err = cp.seal(ctx)
		}
		cp.bmu.Unlock()
		if err != nil {
			cancel(err)
			return
		}
	}
}
