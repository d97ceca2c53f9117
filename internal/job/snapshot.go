package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/address"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// checkIdentity refuses to go on with a cluster that is another one than the
// points of this name are of.
func (e *Env) checkIdentity(ctx context.Context, cluster string, topo *engine.Topology) (*store.Point, error) {
	points, unreadable, err := e.Store.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, u := range unreadable {
		e.emit(Warning, "a point cannot be read: %v", u)
	}
	if len(points) == 0 {
		return nil, nil
	}
	last := points[len(points)-1]
	if last.Engine != topo.Engine || last.Identity != topo.Identity {
		return nil, fmt.Errorf("%w: the cluster at the address of %s calls itself %q (%s), but the points of %s in this store are of %q (%s); give the other cluster a name of its own in the configuration",
			ErrRefused, cluster, topo.Identity, topo.Engine, cluster, last.Identity, last.Engine)
	}
	if last.ClusterID != "" && topo.ID != "" && last.ClusterID != topo.ID {
		return nil, fmt.Errorf("%w: the cluster at the address of %s calls itself %q as before, but it was made anew: its own id is %s, and the points of %s in this store are of %s; restore onto it, or give it a name of its own in the configuration",
			ErrRefused, cluster, topo.Identity, topo.ID, cluster, last.ClusterID)
	}
	return last, nil
}

// Snapshot reads a cluster and makes a point of it: the exact state at one
// moment where the cluster keeps a log. Content that the store has and that
// proves to be damaged is read from the cluster anew.
func (e *Env) Snapshot(ctx context.Context, name string, c engine.Cluster) (*store.Point, error) {
	for try := 1; ; try++ {
		p, err := e.readPoint(ctx, name, c)
		var late *strangerError
		if errors.As(err, &late) && try < 4 {
			e.emit(Note, "%v; reading the cluster anew", err)
			continue
		}
		if err == nil || try == 8 || ctx.Err() != nil || !errors.Is(err, store.ErrDamaged) && !errors.Is(err, store.ErrMissing) {
			return p, err
		}
		found, derr := e.Store.Distrust(ctx)
		if derr != nil || !found {
			return nil, errors.Join(err, derr)
		}
		e.emit(Warning, "the store is damaged where this cluster's content lies: %v; what cannot be read is stored anew. An audit of the store tells what else it costs", err)
	}
}

func (e *Env) readPoint(ctx context.Context, name string, c engine.Cluster) (_ *store.Point, err error) {
	started := time.Now()
	topo, err := c.Topology(ctx)
	if err != nil {
		return nil, err
	}
	last, err := e.checkIdentity(ctx, name, topo)
	if err != nil {
		return nil, err
	}
	if err := e.inherit(ctx, name, c, topo); err != nil {
		return nil, err
	}
	if err := e.resumeBalancer(ctx, name, c); err != nil {
		return nil, err
	}
	resume, err := e.pauseBalancer(ctx, name, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, resume()) }()
	drv, err := engine.ForName(topo.Engine)
	if err != nil {
		return nil, err
	}
	s := &snapshot{Env: e, name: name, c: c, last: last, model: drv.Model(), settings: topo.Settings}
	if l, ok := c.(engine.Logged); ok && topo.Shards[0].Log != nil {
		s.logged = l
	} else if len(topo.Shards) > 1 {
		return nil, fmt.Errorf("cluster %s: %w: a cluster of several shards has no moment of its own without one", name, engine.ErrNoLog)
	} else {
		for _, l := range topo.Lacks {
			e.emit(Warning, "%s: %s", l.What, l.Consequence)
		}
	}
	chosen := chooser(e.Scope, s.model)
	if chosen != nil && s.model.Traits().Commands {
		return nil, fmt.Errorf("%w: cluster %s is protected whole: its log holds commands, which cannot be told apart by namespace; leave namespaces out of its policy", ErrRefused, name)
	}
	s.chosen = chosen
	defer func() {
		for _, p := range s.parts {
			p.fold.Close()
		}
	}()
	for _, sh := range topo.Shards {
		choice, err := c.Choose(ctx, sh.Name)
		if err != nil {
			return nil, err
		}
		p := &part{shard: sh.Name, choice: choice, fold: fold.New(drv.Model(), true, e.temp(), e.memory()/len(topo.Shards))}
		if len(topo.Shards) > 1 {
			p.label = sh.Name
		}
		p.fold.Unlogged(topo.HidesDrops)
		if chosen != nil {
			p.fold.Choose(chosen)
		}
		s.parts = append(s.parts, p)
		e.emit(Step, "reading %s%s (%s, %s)", p.of(), choice.Member.Address, choice.Member.Role, choice.Why)
	}
	s.w = e.Store.NewWriter(ctx)
	flushed := false
	defer func() {
		if !flushed {
			s.w.Abandon()
		}
	}()
	p := &store.Point{Cluster: name, Engine: topo.Engine, Identity: topo.Identity, ClusterID: topo.ID, Version: topo.Version, Started: started, Made: "scan", Tool: e.Tool,
		Scope: e.Scope, Settings: topo.Settings, Exact: s.logged != nil}
	mark, err := s.read(ctx)
	if err != nil {
		return nil, err
	}
	if s.logged == nil {
		mark = record.Mark{Wall: started}
		p.Caveats = append(p.Caveats, "the server keeps no log: writes that went on during the scan ("+started.Format(time.RFC3339)+" to "+time.Now().Format(time.RFC3339)+") may be in it in part")
	}
	if topo.HidesDrops {
		p.Unlogged = true
		p.Caveats = append(p.Caveats, "the server does not log drops, renames and index changes, or it is not known whether it does")
	}
	p.Time, p.Skipped = mark.Wall, s.skipped
	var changes int64
	for _, part := range s.parts {
		m := mark
		if s.model.Traits().OwnClocks {
			m = part.reached
		}
		p.Shards = append(p.Shards, store.PointShard{Name: part.shard, Mark: m, Member: part.choice.Member.Address, Why: part.choice.Why})
		changes += part.fold.Count
	}
	p.Caveats = append(p.Caveats, s.caveats...)
	if !topo.Exact {
		e.emit(Step, "folding %s made meanwhile into the scan", count(changes, "change"))
	}
	for _, part := range s.parts {
		if late := part.fold.Strangers(); len(late) > 0 {
			return nil, &strangerError{late}
		}
		err = part.fold.Merge(ctx, s.w, s.w, nil, func(n *fold.Namespace, root tree.Root) error {
			if root.Records == 0 && s.model.Traits().Vanish {
				return nil
			}
			p.Namespaces = append(p.Namespaces, store.PointNamespace{Namespace: n.Namespace, Shard: part.label, Root: root})
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	flushed = true
	stats, err := s.w.Flush(ctx)
	if err != nil {
		return nil, err
	}
	return p, e.finishPoint(ctx, p, stats, changes)
}

// strangerError says what came to have a chosen name while it was not read.
type strangerError struct{ names []string }

func (e *strangerError) Error() string {
	return strings.Join(e.names, ", ") + " was renamed to a protected name meanwhile, and what it held before is not known"
}

// finishPoint completes a point whose nodes are all durable and makes it exist.
func (e *Env) finishPoint(ctx context.Context, p *store.Point, stats store.WriteStats, changes int64) error {
	slices.SortStableFunc(p.Namespaces, func(a, b store.PointNamespace) int { return strings.Compare(a.Name, b.Name) })
	for _, ns := range p.Namespaces {
		p.Stats.Records += ns.Root.Records
		p.Stats.Bytes += ns.Root.Bytes
	}
	p.Stats.Stored, p.Stats.New, p.Stats.Known, p.Stats.Patched, p.Stats.Changes = stats.Stored, stats.New, stats.Known, stats.Patched, changes
	p.Finished = time.Now()
	p.ID = store.NewPointID(p.Time)
	before, err := e.compareSizes(ctx, p)
	if err != nil {
		return err
	}
	if err := e.Store.PutPoint(ctx, p); err != nil || len(p.Shrunk) == 0 {
		return err
	}
	for _, s := range p.Shrunk {
		if s.Is == 0 {
			e.emit(Warning, "%s is gone or empty; it held %s in point %s, which is kept for 30 days", s.Name, count(s.Was, "record"), s.Since)
			continue
		}
		e.emit(Warning, "%s holds %s, and %s in point %s, which is kept for 30 days", s.Name, count(s.Is, "record"), count(s.Was, "record"), s.Since)
	}
	// No later point is to be the reason that this one goes.
	return e.Store.PutHold(ctx, &store.Hold{Cluster: p.Cluster, Point: before.ID, Until: time.Now().Add(holdBeforeLoss).UTC().Truncate(time.Second),
		Why: fmt.Sprintf("point %s after it has lost most of %s", p.ID, p.Shrunk[0].Name)})
}

// A namespace that had at least mostRecords has lost most of it when less than a
// third is left. The point before it is then held for a while.
const (
	mostRecords    = 100
	holdBeforeLoss = 30 * 24 * time.Hour
)

// compareSizes notes in a new point which namespaces have lost most of what they
// held in the point before it, and gives that one.
func (e *Env) compareSizes(ctx context.Context, p *store.Point) (*store.Point, error) {
	points, _, err := e.Store.Points(ctx, p.Cluster)
	if err != nil {
		return nil, err
	}
	var before *store.Point
	for _, q := range points {
		if !q.Time.After(p.Time) {
			before = q
		}
	}
	if before == nil {
		return nil, nil
	}
	is := map[string]int64{}
	for _, ns := range p.Parts() {
		is[ns.Name] = ns.Root.Records
	}
	for _, ns := range before.Parts() {
		if !content(&ns.Namespace) || !address.Scope(p.Scope).Match(ns.Name) {
			continue
		}
		if was := ns.Root.Records; was >= mostRecords && is[ns.Name] < was/3 {
			p.Shrunk = append(p.Shrunk, store.Shrunk{Name: ns.Name, Was: was, Is: is[ns.Name], Since: before.ID})
		}
	}
	return before, nil
}

type snapshot struct {
	*Env
	name     string
	c        engine.Cluster
	logged   engine.Logged // nil without a log
	model    engine.Model
	settings bool
	chosen   func(string) bool // nil: all
	last     *store.Point
	w        *store.Writer
	parts    []*part

	mu      sync.Mutex
	skipped []store.Skipped
	caveats []string
	total   atomic.Int64
	done    atomic.Int64
	bytes   atomic.Int64

	// cut is the moment the snapshot will be of. While it is nil the logs'
	// changes are folded as they come; it is set with all of them held still.
	cutting sync.RWMutex
	cut     *record.Mark
}

// part is one shard on the way to a point.
type part struct {
	shard   string
	label   string // the shard's name where there are several
	choice  engine.Choice
	fold    *fold.Fold
	start   record.Mark
	reached record.Mark
}

// of begins a message about the part.
func (p *part) of() string {
	if p.label == "" {
		return ""
	}
	return "shard " + p.label + ": "
}

// read scans all namespaces while the logs are followed, until every log has
// passed the end of the scan. It gives the mark of the state reached.
func (s *snapshot) read(ctx context.Context) (record.Mark, error) {
	switch c := s.c.(type) {
	case engine.Streamed:
		return s.stream(ctx, c)
	case engine.Pinned:
		return s.pinned(ctx, c)
	}
	if s.logged == nil {
		return record.Mark{}, s.scanAll(ctx)
	}
	g, gctx := errgroup.WithContext(ctx)
	for _, p := range s.parts {
		g.Go(func() (err error) {
			p.start, err = s.logged.LogStart(gctx, p.shard)
			p.reached = p.start
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return record.Mark{}, err
	}
	spaces, err := s.list(ctx)
	if err != nil {
		return record.Mark{}, err
	}
	// From here on each fold belongs to its follower until both have ended.
	bases := s.bases(spaces)
	g, gctx = errgroup.WithContext(ctx)
	for _, p := range s.parts {
		g.Go(func() error { return s.follow(gctx, p) })
	}
	g.Go(func() error {
		if err := s.scanBases(gctx, bases); err != nil {
			return err
		}
		s.emit(Step, "waiting for the log to pass the end of the scan")
		if err := s.decide(gctx); err != nil {
			return err
		}
		return s.hurry(gctx)
	})
	if err := g.Wait(); err != nil {
		return record.Mark{}, err
	}
	mark := *s.cut
	for _, p := range s.parts {
		if len(s.parts) == 1 {
			mark = p.reached
		} else if p.reached.Position == mark.Position && p.reached.Wall.After(mark.Wall) {
			mark.Wall = p.reached.Wall
		}
	}
	return mark, nil
}

// follow folds a shard's log until it has passed the cut.
func (s *snapshot) follow(ctx context.Context, p *part) error {
	return s.logged.Follow(ctx, p.shard, p.start.Position, func(changes []record.Change, prog engine.Progress) error {
		s.cutting.RLock()
		defer s.cutting.RUnlock()
		for i := range changes {
			c := &changes[i]
			if s.cut != nil && len(s.parts) > 1 && c.At > s.cut.Position {
				break
			}
			if !s.settings && s.model.Kind(c.Namespace) == settingsKind {
				continue
			}
			if err := p.fold.Change(c); err != nil {
				return p.fail(err)
			}
		}
		if prog.Mark.Position >= p.reached.Position {
			p.reached = prog.Mark
		}
		if s.cut != nil && prog.Mark.Position >= s.cut.Position {
			return engine.ErrEnough
		}
		return nil
	})
}

func (p *part) fail(err error) error {
	if err == nil || p.label == "" {
		return err
	}
	return fmt.Errorf("shard %s: %w", p.label, err)
}

// decide sets the cut: the newest position of any shard, so that nothing the
// scan has shown is newer. Clusters of several shards share one clock.
func (s *snapshot) decide(ctx context.Context) error {
	var cut record.Mark
	for _, p := range s.parts {
		m, err := s.logged.LogEnd(ctx, p.shard)
		if err != nil {
			return err
		}
		if m.Position > cut.Position {
			cut = m
		}
	}
	s.cutting.Lock()
	defer s.cutting.Unlock()
	for _, p := range s.parts {
		if p.reached.Position > cut.Position {
			cut = p.reached
		}
	}
	s.cut = &cut
	return nil
}

// hurry waits until all shards have passed the cut; those that are idle are made
// to write to their logs.
func (s *snapshot) hurry(ctx context.Context) error {
	behind := func() map[string]record.Position {
		s.cutting.Lock()
		defer s.cutting.Unlock()
		out := map[string]record.Position{}
		for _, p := range s.parts {
			if p.reached.Position < s.cut.Position {
				out[p.shard] = p.reached.Position
			}
		}
		return out
	}
	return s.reachEnd(ctx, s.logged, len(s.parts) > 1, "past the end of the scan", behind)
}

// StandsStill is how long a log that is waited for may stand still.
var StandsStill = 5 * time.Minute

// reachEnd waits until behind names no shard, of which it gives how far each has
// come. It nudges shards that are idle, says what is waited for when that takes
// a while, and gives up when nothing has moved for StandsStill.
func (e *Env) reachEnd(ctx context.Context, l engine.Logged, several bool, until string, behind func() map[string]record.Position) error {
	n, nudges := l.(engine.Nudger)
	wait, refused, told := 20*time.Millisecond, false, false
	moved, was := time.Now(), map[string]record.Position{}
	for {
		late := behind()
		if len(late) == 0 {
			return nil
		}
		if !maps.Equal(late, was) {
			moved, was = time.Now(), late
		}
		names := strings.Join(slices.Sorted(maps.Keys(late)), ", ")
		if !told && time.Since(moved) > 5*time.Second {
			told = true
			e.emit(Note, "waiting for the log of %s to be %s; it has stood still for 5s", names, until)
		}
		if time.Since(moved) > StandsStill {
			return fmt.Errorf("the log of %s has stood still for %s and is not %s: is a majority of its members up, and do they agree on the time? Any write to it lets this go on; run it again after that", names, StandsStill, until)
		}
		if several && nudges {
			for shard := range late {
				if err := n.Nudge(ctx, shard); err != nil && !refused && ctx.Err() == nil {
					refused = true
					e.emit(Note, "shard %s is idle and could not be made to write to its log; waiting until it does by itself: %v", shard, err)
				}
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		wait = min(2*wait, time.Second)
	}
}

func (s *snapshot) list(ctx context.Context) ([]engine.Namespace, error) {
	spaces, err := s.c.Namespaces(ctx)
	if err != nil {
		return nil, err
	}
	var keep []engine.Namespace
	names := map[string]bool{}
	for _, ns := range spaces {
		if s.chosen != nil && content(&ns.Namespace) && !s.chosen(ns.Name) {
			continue
		}
		if ns.Skip != "" {
			s.skipped = append(s.skipped, store.Skipped{Name: ns.Name, Why: ns.Skip})
			s.emit(Warning, "%s is left out: %s", ns.Name, ns.Skip)
			continue
		}
		keep = append(keep, ns)
		s.total.Add(ns.Records)
		if content(&ns.Namespace) {
			names[ns.Name] = true
		}
	}
	s.emit(Step, "scanning %s, about %s", count(int64(len(names)), "namespace"), count(s.total.Load(), "record"))
	return keep, nil
}

type base struct {
	ns   engine.Namespace
	fold *fold.Namespace
}

// part returns the shard that holds a namespace.
func (s *snapshot) part(shard string) *part {
	for _, p := range s.parts {
		if p.shard == shard {
			return p
		}
	}
	return s.parts[0]
}

func (s *snapshot) bases(spaces []engine.Namespace) []base {
	var out []base
	for _, ns := range spaces {
		out = append(out, base{ns, s.part(ns.Shard).fold.Base(ns.Namespace, tree.Root{})})
	}
	return out
}

func (s *snapshot) scanAll(ctx context.Context) error {
	spaces, err := s.list(ctx)
	if err != nil {
		return err
	}
	return s.scanBases(ctx, s.bases(spaces))
}

// scanBases scans namespaces. One that is renamed while it is read is read
// again under its new name; one that is dropped has ended, as the log says.
func (s *snapshot) scanBases(ctx context.Context, bases []base) error {
	for round := 0; len(bases) > 0; round++ {
		var moved []base
		g, gctx := errgroup.WithContext(ctx)
		slots := make(chan struct{}, s.parallel())
		for _, b := range bases {
			if b.ns.Kind == "view" {
				continue
			}
			g.Go(func() error {
				root, err := s.scan(gctx, b.ns, slots)
				if errors.Is(err, engine.ErrMoved) {
					s.mu.Lock()
					defer s.mu.Unlock()
					moved = append(moved, b)
					return nil
				}
				b.fold.Root = root
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return err
		}
		if len(moved) == 0 {
			return nil
		}
		if round == 5 {
			return fmt.Errorf("cluster %s: %s was renamed or dropped %d times while it was read; try again when that has ended", s.name, moved[0].ns.Name, round+1)
		}
		now, err := s.c.Namespaces(ctx)
		if err != nil {
			return err
		}
		bases = nil
		for _, m := range moved {
			for _, ns := range now {
				if ns.Shard == m.ns.Shard && len(ns.Ident) > 0 && bytes.Equal(ns.Ident, m.ns.Ident) {
					s.emit(Note, "%s was renamed to %s while it was read; reading it again", m.ns.Name, ns.Name)
					bases = append(bases, base{ns, m.fold})
				}
			}
		}
	}
	return nil
}

// scan reads one namespace into a tree, its partitions in parallel.
func (s *snapshot) scan(ctx context.Context, ns engine.Namespace, slots chan struct{}) (tree.Root, error) {
	parts, err := s.c.Partitions(ctx, ns, 2*s.parallel())
	if err != nil {
		return tree.Root{}, err
	}
	l := tree.NewLoader(s.w, s.w, s.near(ns), s.temp(), s.memory()/s.parallel())
	g, gctx := errgroup.WithContext(ctx)
	for _, p := range parts {
		part := l.Part()
		g.Go(func() error {
			select {
			case slots <- struct{}{}:
			case <-gctx.Done():
				return gctx.Err()
			}
			defer func() { <-slots }()
			n := int64(0)
			return s.c.Scan(gctx, ns, p, func(r record.Record) error {
				if n++; n%1024 == 0 {
					s.progress(ns.Name, s.done.Add(1024), s.total.Load(), s.bytes.Load())
				}
				s.bytes.Add(int64(len(r.Value)))
				if err := s.slow(gctx, len(r.Key)+len(r.Value)); err != nil {
					return err
				}
				return part.Add(gctx, r)
			})
		})
	}
	if err := g.Wait(); err != nil {
		return tree.Root{}, err
	}
	root, err := l.Finish(ctx)
	if err == nil && ns.Kind != layoutKind {
		s.emit(Note, "%s%s: %s", s.part(ns.Shard).of(), ns.Name, count(root.Records, "record"))
	}
	return root, err
}

// slow waits until so many bytes may be read.
func (e *Env) slow(ctx context.Context, n int) error {
	if e.Rate == nil {
		return nil
	}
	for n > 0 {
		part := min(n, e.Rate.Burst())
		if err := e.Rate.WaitN(ctx, part); err != nil {
			return err
		}
		n -= part
	}
	return nil
}

// near returns the tree of the last point that is most likely alike.
func (s *snapshot) near(ns engine.Namespace) tree.Root {
	var byName tree.Root
	if s.last == nil || s.Store.WriteOnly() {
		return byName
	}
	best := 0
	for _, p := range s.last.Namespaces {
		like := 0
		if p.Name == ns.Name {
			like = 1
		}
		if len(ns.Ident) > 0 && bytes.Equal(p.Ident, ns.Ident) {
			like = 2
		}
		if like > 0 && p.Shard == s.part(ns.Shard).label {
			like += 2
		}
		if like > best {
			best, byName = like, p.Root
		}
	}
	return byName
}

// FoldPoint makes a point from the last one and the log after it, without
// touching the cluster.
func (e *Env) FoldPoint(ctx context.Context, m *Moment) (*store.Point, error) {
	last := m.Point
	if m.Model.Traits().Commands {
		return nil, fmt.Errorf("%w: a point of %s cannot be folded: %w", ErrRefused, last.Cluster, fold.ErrCommand)
	}
	if len(m.segments) == 0 {
		return nil, fmt.Errorf("nothing to fold: no log is captured after the last point of %s, %s", last.Cluster, last.ID)
	}
	strange, err := m.Strangers(ctx)
	if err != nil {
		return nil, err
	}
	if len(strange) > 0 {
		return nil, fmt.Errorf("%w: the log after point %s cannot be folded: %w; read the cluster", ErrRefused, last.ID, &strangerError{strange})
	}
	p := &store.Point{Cluster: last.Cluster, Engine: last.Engine, Identity: last.Identity, ClusterID: last.ClusterID, Version: last.Version, Started: time.Now(),
		Time: m.Time, Made: "fold", From: last.ID, Tool: e.Tool, Exact: last.Exact, Settings: last.Settings, Skipped: last.Skipped, Caveats: last.Caveats, Scope: last.Scope, Unlogged: last.Unlogged}
	for _, s := range last.Shards {
		p.Shards = append(p.Shards, store.PointShard{Name: s.Name, Mark: m.Upto[s.Name]})
	}
	w := e.Store.NewWriter(ctx)
	e.emit(Step, "folding the log after point %s up to %s", last.ID, at(m.Time))
	spaces, n, err := m.Held(ctx, w, w)
	if err != nil {
		w.Abandon()
		return nil, err
	}
	for _, s := range spaces {
		ns := store.PointNamespace{Namespace: s.Namespace, Root: s.Root}
		if m.Spread() {
			ns.Shard = s.Shard
		}
		p.Namespaces = append(p.Namespaces, ns)
	}
	stats, err := w.Flush(ctx)
	if err != nil {
		return nil, err
	}
	return p, e.finishPoint(ctx, p, stats, n)
}
