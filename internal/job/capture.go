package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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
	// Sealed, where not nil, hears up to where the log of a shard is in the store.
	Sealed func(shard string, to record.Mark)
	// SegmentBytes seals a segment at about this size (default 16 MiB).
	SegmentBytes int
}

// Captured says what a capture did.
type Captured struct {
	Cluster  string        `json:"cluster"`
	From     record.Mark   `json:"from"` // the earliest of all shards
	To       record.Mark   `json:"to"`   // up to where all shards are captured
	Changes  int64         `json:"changes"`
	Segments int           `json:"segments"`
	Stored   int64         `json:"stored"` // bytes
	Gaps     []journal.Gap `json:"gaps,omitempty"`
	// Mended: all gaps end at points that are there; no new one is needed.
	Mended bool            `json:"mended,omitempty"`
	Doubts []string        `json:"doubts,omitempty"`
	Shards []CapturedShard `json:"shards"`
	// Missing names shards whose log cannot be taken up before the next
	// snapshot, as the last point does not know them.
	Missing []string `json:"missing,omitempty"`
	// Lacking names what was renamed to a protected name and that no moment holds
	// before the next point.
	Lacking []string `json:"lacking,omitempty"`
}

// CapturedShard is what was captured of one shard.
type CapturedShard struct {
	Shard    string      `json:"shard"`
	From     record.Mark `json:"from"`
	To       record.Mark `json:"to"`
	Changes  int64       `json:"changes"`
	Segments int         `json:"segments"`
	Stored   int64       `json:"stored"`
	Member   string      `json:"member"`
}

// Capture adds the log since the last capture, or since the first point, to
// the store: of each shard by itself, all at the same time.
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
	if err := e.inherit(ctx, name, c, topo); err != nil {
		return nil, err
	}
	if err := e.resumeBalancer(ctx, name, c); err != nil {
		return nil, err
	}
	drv, err := engine.ForName(topo.Engine)
	if err != nil {
		return nil, err
	}
	all := &captures{Env: e, l: l, opt: opt, own: ownClocks(last), out: &Captured{Cluster: name}, model: drv.Model(), last: last}
	for _, sh := range topo.Shards {
		if _, known := last.Shard(sh.Name); !known {
			all.out.Missing = append(all.out.Missing, sh.Name)
			e.emit(Warning, "shard %s has joined since the last point; its log is not captured before the next snapshot", sh.Name)
			continue
		}
		cp := &capture{all: all, Env: e, name: name, shard: sh, l: l, opt: opt}
		if err := cp.begin(ctx, last); err != nil {
			return nil, err
		}
		points, _, err := e.Store.Points(ctx, name)
		if err != nil {
			return nil, err
		}
		cp.callNames(points)
		choice, err := c.Choose(ctx, sh.Name)
		if err != nil {
			return nil, err
		}
		which := ""
		if len(topo.Shards) > 1 {
			which = "shard " + sh.Name + ": "
		}
		e.emit(Step, "%sreading the log of %s (%s, %s) from %s on", which, choice.Member.Address, choice.Member.Role, choice.Why, at(cp.from.Wall))
		all.list = append(all.list, cp)
	}
	for _, s := range last.Shards {
		if !slices.ContainsFunc(topo.Shards, func(t engine.Shard) bool { return t.Name == s.Name }) {
			all.out.Missing = append(all.out.Missing, s.Name)
			e.emit(Warning, "shard %s has left since the last point; take a new one", s.Name)
		}
	}
	if len(all.out.Missing) > 0 && opt.Follow {
		// Going on would hide that part of the cluster is not protected.
		all.opt.Follow = false
		for _, cp := range all.list {
			cp.opt.Follow = false
		}
	}
	if topo.HidesDrops {
		if err := all.list[0].watch(ctx, c); err != nil {
			return nil, err
		}
	}
	err = all.run(ctx)
	all.sum()
	if err != nil {
		return all.out, err
	}
	if len(all.out.Gaps) > 0 && !slices.ContainsFunc(all.list, func(cp *capture) bool { return len(cp.gaps) > cp.mended }) {
		all.out.Mended = true
		return all.out, fmt.Errorf("%w: part of the log is lost; it goes on at a point taken since", ErrIncomplete)
	}
	if len(all.out.Gaps) > 0 {
		return all.out, fmt.Errorf("%w: part of the log is lost; take a new point now with: dexamen snapshot %s", ErrIncomplete, name)
	}
	if len(all.out.Missing) > 0 {
		return all.out, fmt.Errorf("%w: the cluster has other shards than its last point (%s); take a new point now with: dexamen snapshot %s", ErrIncomplete, strings.Join(all.out.Missing, ", "), name)
	}
	return all.out, e.continues(ctx, name)
}

// continues returns ErrIncomplete where the log that is stored does not follow on
// the newest point: nothing of it can be restored then, however well it was
// captured.
func (e *Env) continues(ctx context.Context, cluster string) error {
	points, _, err := e.Store.Points(ctx, cluster)
	if err != nil || len(points) == 0 {
		return err
	}
	chains, _, err := e.Store.Chains(ctx, cluster)
	if err != nil {
		return err
	}
	p := points[len(points)-1]
	if l, err := e.lackingSince(ctx, p, true); err != nil {
		return err
	} else if l != nil {
		return fmt.Errorf("%w: %w", ErrIncomplete, l)
	}
	for _, s := range p.Shards {
		c := chains[s.Name]
		if c == nil || s.Mark.Position == "" {
			continue
		}
		end, _, _ := c.End()
		if reach := c.Reach(s.Mark); reach.Position < end.Position {
			return fmt.Errorf("%w: the log after %s cannot be restored: there is a gap after point %s; take a new point now with: dexamen snapshot %s", ErrIncomplete, at(reach.Wall), p.ID, cluster)
		}
	}
	return nil
}

// captures is a capture of all shards.
type captures struct {
	*Env
	l    engine.Logged
	opt  CaptureOptions
	out  *Captured
	list []*capture
	// model and last are the meaning of changes and the point they follow.
	model engine.Model
	last  *store.Point

	// own: the shards' positions have nothing to do with each other.
	own bool

	mu      sync.Mutex
	end     record.Position // the position to reach, where it ends by itself
	changes int64
	stored  int64
}

func (a *captures) run(ctx context.Context) error {
	for _, cp := range a.list {
		end, err := a.l.LogEnd(ctx, cp.shard.Name)
		if err != nil {
			return err
		}
		a.end, cp.end = max(a.end, end.Position), end.Position
	}
	for _, cp := range a.list {
		if !a.own {
			cp.end = a.end
		}
	}
	if len(a.list) == 0 {
		return nil
	}
	g, gctx := errgroup.WithContext(ctx)
	for _, cp := range a.list {
		g.Go(func() error { return cp.run(gctx) })
	}
	if !a.opt.Follow {
		g.Go(func() error {
			return a.reachEnd(gctx, a.l, len(a.list) > 1, "captured up to where it ended when this began", a.behind)
		})
	}
	return g.Wait()
}

// behind names the shards that have not reached the end.
func (a *captures) behind() map[string]record.Position {
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

func (a *captures) sum() {
	for i, cp := range a.list {
		cp.out.Member = a.l.LogMember(cp.shard.Name)
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
func (a *captures) progressed(changes, stored int64) {
	a.mu.Lock()
	a.changes, a.stored = a.changes+changes, a.stored+stored
	n, size := a.changes, a.stored
	a.mu.Unlock()
	a.progress("", n, 0, size)
}

// capture is the capture of one shard.
type capture struct {
	*Env
	all    *captures
	name   string
	shard  engine.Shard
	l      engine.Logged
	opt    CaptureOptions
	out    CapturedShard
	gaps   []journal.Gap
	mended int         // gaps that end at a point
	seen   []string    // doubts
	from   record.Mark // where the next segment begins
	prev   tree.Hash
	keys   journal.Keys
	b      *journal.Builder
	sealed time.Time
	doubts []string // to be kept with the next segment
	end    record.Position
	done   bool            // under all.mu
	read   record.Position // under all.mu
	// called is what each identity's namespace is called, as far as is known;
	// ofPoint what it was called in the last point. planned says that the log
	// since was asked, too.
	called, ofPoint map[string]string
	planned         bool
	base            *store.Point // of ofPoint

	bmu sync.Mutex // of what is gathered and sealed
}

// begin finds where the log in the store ends.
func (cp *capture) begin(ctx context.Context, last *store.Point) error {
	cp.out.Shard = cp.shard.Name
	var err error
	if cp.keys, err = cp.Store.SegmentKeys(ctx); err != nil {
		return err
	}
	chains, bad, err := cp.Store.Chains(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, b := range bad {
		cp.emit(Warning, "a log segment cannot be read: %v", b)
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
	return fmt.Errorf("%w: the points of cluster %s carry no log position; take one now with: dexamen snapshot %s", ErrRefused, cp.name, cp.name)
}

// window reads anew how far the shard's log reaches.
func (cp *capture) window(ctx context.Context) *engine.LogWindow {
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
func (cp *capture) watch(ctx context.Context, c engine.Cluster) error {
	m, err := cp.Resolve(ctx, cp.name, latest)
	if err != nil {
		return err
	}
	plan, err := m.plan(ctx, cp.shard.Name)
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
	cp.seen = cp.doubts
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
	cp.bmu.Lock()
	cp.newSegment()
	cp.bmu.Unlock()
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
		cp.bmu.Lock()
		defer cp.bmu.Unlock()
		if err := cp.take(ctx, changes, p); err != nil {
			return err
		}
		cp.all.progressed(int64(len(changes)), 0)
		done := !cp.opt.Follow && p.Mark.Position >= cp.end
		if done || cp.b.Size() >= cp.opt.SegmentBytes || cp.opt.Follow && time.Since(cp.sealed) >= cp.opt.Interval {
			if err := cp.seal(ctx); err != nil {
				return err
			}
		}
		cp.all.mu.Lock()
		cp.read, cp.done = p.Mark.Position, cp.done || done
		cp.all.mu.Unlock()
		if done {
			return engine.ErrEnough
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
func (cp *capture) flush(ctx context.Context, cancel context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(cp.opt.Interval / 2):
		}
		cp.bmu.Lock()
		var err error
		if time.Since(cp.sealed) >= cp.opt.Interval {
			err = cp.seal(ctx)
		}
		cp.bmu.Unlock()
		if err != nil {
			cancel(err)
			return
		}
	}
}

// take adds changes to the segment being gathered. What cannot be carried out
// later ends the log there: that is said now, and not on the day it is needed.
func (cp *capture) take(ctx context.Context, changes []record.Change, p engine.Progress) error {
	bad := len(changes)
	var why error
	for i := range changes {
		if why = cp.fits(ctx, &changes[i]); why != nil {
			bad = i
			break
		}
	}
	for i := range changes[:bad] {
		c := &changes[i]
		if why != nil && c.At >= changes[bad].At {
			break // of the same entry
		}
		if err := cp.b.Add(c); err != nil {
			return err
		}
		cp.out.Changes++
		if why != nil {
			cp.b.CoverTo(record.Mark{Position: c.At, Wall: time.UnixMilli(c.Wall).UTC()})
		}
	}
	if why != nil {
		return fmt.Errorf("%w: %w", engine.ErrLogEnds, why)
	}
	cp.b.CoverTo(p.Mark)
	for i := range changes {
		if c := &changes[i]; c.Op == record.Rename && cp.arrives(c) {
			if err := cp.lacking(ctx); err != nil {
				return err
			}
			break
		}
	}
	return nil
}

// fits returns an error where a change cannot be carried out on anything, or its
// name and identity are not of one namespace.
func (cp *capture) fits(ctx context.Context, c *record.Change) error {
	if err := cp.all.model.CheckChange(c); err != nil {
		return err
	}
	if len(c.Ident) == 0 || cp.all.last.Unlogged {
		return nil
	}
	id := string(c.Ident)
	name, known := cp.called[id]
	if c.Op != record.Create && name != c.Namespace && !cp.planned {
		// The namespaces of the point do not tell: those of the log after it do.
		if err := cp.plan(ctx); err != nil {
			return err
		}
		name, known = cp.called[id]
	}
	if known && name != c.Namespace {
		return fmt.Errorf("log entry at %s, %s of %s, carries the identity of %s: what it changed cannot be told", cp.all.model.FormatPosition(c.At), c.Op, c.Namespace, name)
	}
	if !known && c.Op.Record() {
		for other, n := range cp.called {
			if n == c.Namespace {
				return fmt.Errorf("log entry at %s, %s of %s, carries the identity of another collection (%x, and not %x)", cp.all.model.FormatPosition(c.At), c.Op, c.Namespace, c.Ident, other)
			}
		}
	}
	switch c.Op {
	case record.Drop:
		delete(cp.called, id)
	case record.Rename:
		cp.called[id] = c.To
	default:
		cp.called[id] = c.Namespace
	}
	return nil
}

// mostPlanned is how much log is read at most to know what its namespaces are
// called.
const mostPlanned = 256 << 20

// plan finds out what the namespaces are called where the stored log ends.
func (cp *capture) plan(ctx context.Context) error {
	cp.planned = true
	unknown := func() error {
		clear(cp.called)
		clear(cp.ofPoint)
		return nil
	}
	if cp.base == nil {
		return unknown()
	}
	chains, _, err := cp.Store.Chains(ctx, cp.name)
	if err != nil {
		return err
	}
	if chains[cp.out.Shard] == nil {
		return nil // nothing was stored since the point
	}
	m, err := cp.momentAt(cp.base, chains, map[string]record.Mark{cp.out.Shard: cp.from})
	if err != nil {
		return unknown() // there are gaps, which are told
	}
	size := int64(0)
	for _, h := range m.segments[cp.out.Shard] {
		size += h.Size
	}
	if size > mostPlanned {
		return unknown()
	}
	f, err := m.plan(ctx, cp.out.Shard)
	if err != nil {
		return err
	}
	// What was seen since counts more.
	for id, name := range f.Identities() {
		if was, ok := cp.called[id]; !ok || cp.ofPoint[id] == was {
			cp.called[id] = name
		}
	}
	return nil
}

// callNames begins with what the namespaces were called in the newest point that
// is not after where the log is taken up.
func (cp *capture) callNames(points []*store.Point) {
	cp.called, cp.ofPoint, cp.planned, cp.base = map[string]string{}, map[string]string{}, false, nil
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position != "" && s.Mark.Position <= cp.from.Position {
			cp.base = p
		}
	}
	if cp.base == nil {
		cp.planned = true
		return
	}
	for _, ns := range cp.base.Namespaces {
		if len(ns.Ident) > 0 && (ns.Shard == cp.out.Shard || len(cp.base.Shards) == 1) {
			cp.called[string(ns.Ident)], cp.ofPoint[string(ns.Ident)] = ns.Name, ns.Name
		}
	}
}

// arrives reports whether something is renamed to a protected name from one that
// is not.
func (cp *capture) arrives(c *record.Change) bool {
	chosen := chooser(cp.all.last.Scope, cp.all.model)
	return chosen != nil && chosen(c.To) && !chosen(c.Namespace)
}

// lacking finds out whether what was renamed to a protected name can be followed
// from where it was made. Where it cannot, no moment holds it before the next
// point: the capture ends and says so.
func (cp *capture) lacking(ctx context.Context) error {
	if err := cp.seal(ctx); err != nil {
		return err
	}
	m, err := cp.Resolve(ctx, cp.name, latest)
	if err != nil {
		return nil // there are gaps, which are told
	}
	names, err := m.Strangers(ctx)
	if err != nil || len(names) == 0 {
		return err
	}
	cp.all.mu.Lock()
	cp.all.out.Lacking = names
	cp.all.mu.Unlock()
	l := &lackingError{Names: names, Point: m.Point.ID, Since: cp.from.Wall, cluster: cp.name}
	if err := cp.Store.PutMark(ctx, cp.name, lackingMark+m.Point.ID, l); err != nil && !errors.Is(err, blob.ErrExists) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrIncomplete, l)
}

// lackingMark begins the marks that say what moments after a point lack.
const lackingMark = "lacking-"

// lackingError says what was renamed to a protected name and is in no moment
// before the next point.
type lackingError struct {
	Names []string  `json:"names"`
	Point string    `json:"point"` // the newest point then
	Since time.Time `json:"since"`

	cluster string
}

func (l *lackingError) Error() string {
	return fmt.Sprintf("%s was renamed to a protected name, and what it held before is not in the store: no moment from %s on has it; take a new point now with: dexamen snapshot %s",
		strings.Join(l.Names, ", "), at(l.Since), l.cluster)
}

// lackingSince returns what moments after the newest point lack; nil where that is
// nothing. With forget set what is kept of earlier points is forgotten.
func (e *Env) lackingSince(ctx context.Context, newest *store.Point, forget bool) (found *lackingError, err error) {
	var old []string
	err = e.Store.Marks(ctx, newest.Cluster, lackingMark, func(what string, read func(any) error) error {
		if what != lackingMark+newest.ID && !forget {
			return nil
		}
		if what != lackingMark+newest.ID {
			old = append(old, what)
			return nil
		}
		l := &lackingError{cluster: newest.Cluster}
		if err := read(l); err != nil {
			return nil // the audit tells of it
		}
		found = l
		return nil
	})
	for _, what := range old {
		if rerr := e.Store.RemoveMark(ctx, newest.Cluster, what); rerr != nil && !errors.Is(rerr, blob.ErrNotFound) && err == nil {
			err = rerr
		}
	}
	return found, err
}

func (cp *capture) newSegment() {
	cp.b = journal.NewBuilder(cp.keys, cp.name, cp.out.Shard, cp.from)
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
	h, data, err := cp.b.Seal(cp.prev, cp.l.LogMember(cp.shard.Name))
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
	if cp.opt.Sealed != nil {
		cp.opt.Sealed(cp.out.Shard, h.Last)
	}
	cp.out.Segments++
	cp.out.Stored += h.Size
	cp.all.progressed(0, h.Size)
	return nil
}

// gap keeps the fact that a stretch of the log is lost, and goes on where it
// can: at the newest point that lies within the log, else where the log begins.
func (cp *capture) gap(ctx context.Context, cause error) error {
	cp.bmu.Lock()
	defer cp.bmu.Unlock()
	if err := cp.seal(ctx); err != nil {
		return err
	}
	w := cp.window(ctx)
	ends := errors.Is(cause, engine.ErrLogEnds)
	if w == nil || !ends && w.First.Position <= cp.from.Position {
		return cause
	}
	to, found, mended := w.First, !w.Marked, 0
	if ends {
		to, found = cp.from, false
	}
	points, _, err := cp.Store.Points(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position > to.Position && (ends || s.Mark.Position <= w.Last.Position) {
			to, found, mended = s.Mark, true, 1
			break
		}
	}
	if !found {
		g := journal.Gap{Shard: cp.out.Shard, From: cp.from, To: w.Last, Why: cause.Error()}
		cp.gaps = append(cp.gaps, g)
		return fmt.Errorf("%w: nothing is known of the log from %s on, and it can be taken up only at a new point: %w; take one now with: dexamen snapshot %s",
			ErrIncomplete, at(cp.from.Wall), cause, cp.name)
	}
	why := "the server's log had rolled over: " + cause.Error()
	if ends {
		why = cause.Error()
	}
	h, data, err := journal.SealGap(cp.keys, cp.name, cp.out.Shard, cp.from, to, why, cp.prev)
	if err != nil {
		return err
	}
	g := journal.Gap{Shard: cp.out.Shard, From: cp.from, To: to, Why: why}
	if err := cp.put(ctx, h, data); err != nil {
		return err
	}
	cp.gaps = append(cp.gaps, g)
	cp.mended += mended
	cp.callNames(points)
	cp.emit(Warning, "nothing is known of the log from %s to %s: %s", at(g.From.Wall), at(g.To.Wall), why)
	return nil
}
