package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// CaptureOptions say how to capture.
type CaptureOptions struct {
	// Follow goes on until the context ends, sealing a segment at each
	// Interval (default 10 s) in which something happened.
	Follow   bool
	Interval time.Duration
	// SegmentBytes seals a segment at about this size (default 16 MiB).
	SegmentBytes int
}

// Captured says what a capture did.
type Captured struct {
	Cluster  string        `json:"cluster"`
	Shard    string        `json:"shard"`
	From     record.Mark   `json:"from"`
	To       record.Mark   `json:"to"`
	Changes  int64         `json:"changes"`
	Segments int           `json:"segments"`
	Stored   int64         `json:"stored"` // bytes
	Gaps     []journal.Gap `json:"gaps,omitempty"`
	Doubts   []string      `json:"doubts,omitempty"`
	Member   string        `json:"member"`
}

// Capture adds the log since the last capture, or since the first point, to
// the store.
func (e *Env) Capture(ctx context.Context, name string, c engine.Cluster, opt CaptureOptions) (*Captured, error) {
	if opt.Interval <= 0 {
		opt.Interval = 10 * time.Second
	}
	if opt.SegmentBytes <= 0 {
		opt.SegmentBytes = 16 << 20
	}
	topo, err := c.Topology(ctx)
	if err != nil {
		return nil, err
	}
	l, ok := c.(engine.Logged)
	if !ok || topo.Shards[0].Log == nil {
		why := "its engine has none"
		if len(topo.Lacks) > 0 {
			why = topo.Lacks[0].What
		}
		return nil, fmt.Errorf("cluster %s: %w: %s; it can be protected by snapshots only", name, engine.ErrNoLog, why)
	}
	last, err := e.checkIdentity(ctx, name, topo)
	if err != nil {
		return nil, err
	}
	if last == nil {
		return nil, fmt.Errorf("%w: cluster %s has no point in the store yet, and a log without one restores nothing; begin with: dexamen snapshot %s", ErrRefused, name, name)
	}
	cp := &capture{Env: e, name: name, l: l, opt: opt, out: &Captured{Cluster: name, Shard: topo.Shards[0].Name}}
	if err := cp.begin(ctx, last); err != nil {
		return nil, err
	}
	choice, err := c.Choose(ctx, cp.out.Shard)
	if err != nil {
		return nil, err
	}
	e.emit(Step, "reading the log of %s (%s, %s) from %s on", choice.Member.Address, choice.Member.Role, choice.Why, at(cp.from.Wall))
	if topo.HidesDrops {
		if err := cp.watch(ctx, c); err != nil {
			return nil, err
		}
	}
	err = cp.run(ctx)
	cp.out.Member = l.LogMember(cp.out.Shard)
	if err != nil {
		return cp.out, err
	}
	if len(cp.out.Gaps) > 0 {
		return cp.out, fmt.Errorf("%w: part of the log is lost; take a new point now with: dexamen snapshot %s", ErrIncomplete, name)
	}
	return cp.out, nil
}

type capture struct {
	*Env
	name   string
	l      engine.Logged
	opt    CaptureOptions
	out    *Captured
	from   record.Mark // where the next segment begins
	prev   tree.Hash
	b      *journal.Builder
	sealed time.Time
	doubts []string
}

// begin finds where the log in the store ends.
func (cp *capture) begin(ctx context.Context, last *store.Point) error {
	chains, bad, err := cp.Store.Chains(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, b := range bad {
		cp.emit(Warning, "a log segment cannot be read: %v", b)
	}
	if c := chains[cp.out.Shard]; c != nil {
		cp.from, cp.prev, _ = c.End()
		cp.out.From = cp.from
		return nil
	}
	// The first segment follows the earliest point that the log may continue.
	points, _, err := cp.Store.Points(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position != "" {
			if w := cp.window(ctx); w == nil || w.First.Position <= s.Mark.Position {
				cp.from = s.Mark
				cp.out.From = cp.from
				return nil
			}
		}
	}
	if s, ok := last.Shard(cp.out.Shard); ok && s.Mark.Position != "" {
		cp.from = s.Mark // which will be found lost, and said
		cp.out.From = cp.from
		return nil
	}
	return fmt.Errorf("%w: the points of cluster %s carry no log position; take one now with: dexamen snapshot %s", ErrRefused, cp.name, cp.name)
}

func (cp *capture) window(ctx context.Context) *engine.LogWindow {
	if t, err := cp.l.Topology(ctx); err == nil {
		return t.Shards[0].Log
	}
	return nil
}

// watch compares the namespaces with those of the log's end, where the server
// does not log that they change.
func (cp *capture) watch(ctx context.Context, c engine.Cluster) error {
	m, err := cp.Resolve(ctx, cp.name, latest)
	if err != nil {
		return err
	}
	plan, err := m.Plan(ctx)
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
		cp.emit(Warning, "%s, between %s and now", d, at(cp.from.Wall))
	}
	cp.out.Doubts = cp.doubts
	return nil
}

func (cp *capture) run(ctx context.Context) error {
	for {
		err := cp.follow(ctx)
		if !errors.Is(err, engine.ErrLogLost) {
			return err
		}
		if err := cp.gap(ctx, err); err != nil {
			return err
		}
	}
}

func (cp *capture) follow(ctx context.Context) error {
	end, err := cp.l.LogEnd(ctx, cp.out.Shard)
	if err != nil {
		return err
	}
	cp.newSegment()
	err = cp.l.Follow(ctx, cp.out.Shard, cp.from.Position, func(changes []record.Change, p engine.Progress) error {
		for i := range changes {
			if err := cp.b.Add(&changes[i]); err != nil {
				return err
			}
		}
		cp.b.CoverTo(p.Mark)
		cp.out.Changes += int64(len(changes))
		cp.progress("", cp.out.Changes, 0, cp.out.Stored+int64(cp.b.Size()))
		done := !cp.opt.Follow && p.Mark.Position >= end.Position
		if done || cp.b.Size() >= cp.opt.SegmentBytes || cp.opt.Follow && time.Since(cp.sealed) >= cp.opt.Interval {
			if err := cp.seal(ctx); err != nil {
				return err
			}
		}
		if done {
			return engine.ErrEnough
		}
		return nil
	})
	if cp.opt.Follow && ctx.Err() != nil {
		// Asked to end: what was read is kept.
		err = errors.Join(cp.seal(context.WithoutCancel(ctx)), ctx.Err())
	}
	return err
}

func (cp *capture) newSegment() {
	cp.b = journal.NewBuilder(cp.name, cp.out.Shard, cp.from)
	cp.sealed = time.Now()
}

// seal writes the segment gathered, when it covers anything.
func (cp *capture) seal(ctx context.Context) error {
	cp.sealed = time.Now()
	if h := cp.b.Header(); h.Last.Position == h.After.Position {
		return nil
	}
	for _, d := range cp.doubts {
		cp.b.Doubt(d)
	}
	h, data, err := cp.b.Seal(cp.prev, cp.l.LogMember(cp.out.Shard))
	if err != nil {
		return err
	}
	if err := cp.put(ctx, h, data); err != nil {
		return err
	}
	cp.doubts = nil
	cp.newSegment()
	return nil
}

func (cp *capture) put(ctx context.Context, h journal.Header, data []byte) error {
	err := cp.Store.PutSegment(ctx, h, data)
	if errors.Is(err, blob.ErrExists) {
		return fmt.Errorf("%w: another capture of cluster %s is writing the same stretch of the log; this one ends, nothing is lost", ErrRefused, cp.name)
	}
	if err != nil {
		return err
	}
	cp.prev, cp.from, cp.out.To = h.ID, h.Last, h.Last
	cp.out.Segments++
	cp.out.Stored += h.Size
	return nil
}

// gap keeps the fact that a stretch of the log is lost, and goes on where it
// can: at the newest point that lies within the log, else where the log begins.
func (cp *capture) gap(ctx context.Context, cause error) error {
	if err := cp.seal(ctx); err != nil {
		return err
	}
	w := cp.window(ctx)
	if w == nil || w.First.Position <= cp.from.Position {
		return cause
	}
	to := w.First
	points, _, err := cp.Store.Points(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position > to.Position && s.Mark.Position <= w.Last.Position {
			to = s.Mark
			break
		}
	}
	why := "the server's log had rolled over: " + cause.Error()
	h, data, err := journal.SealGap(cp.name, cp.out.Shard, cp.from, to, why, cp.prev)
	if err != nil {
		return err
	}
	g := journal.Gap{Shard: cp.out.Shard, From: cp.from, To: to, Why: why}
	if err := cp.put(ctx, h, data); err != nil {
		return err
	}
	cp.out.Gaps = append(cp.out.Gaps, g)
	cp.emit(Warning, "nothing is known of the log from %s to %s: %s", at(g.From.Wall), at(g.To.Wall), why)
	return nil
}
