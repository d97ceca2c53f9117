package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

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
	return last, nil
}

// Snapshot reads a cluster and makes a point of it: the exact state at one
// moment where the cluster keeps a log.
func (e *Env) Snapshot(ctx context.Context, name string, c engine.Cluster) (*store.Point, error) {
	started := time.Now()
	topo, err := c.Topology(ctx)
	if err != nil {
		return nil, err
	}
	if len(topo.Shards) != 1 {
		return nil, fmt.Errorf("cluster %s has %d shards; this version protects clusters of one", name, len(topo.Shards))
	}
	last, err := e.checkIdentity(ctx, name, topo)
	if err != nil {
		return nil, err
	}
	s := &snapshot{Env: e, name: name, c: c, shard: topo.Shards[0].Name, last: last}
	if l, ok := c.(engine.Logged); ok && topo.Shards[0].Log != nil {
		s.logged = l
	}
	choice, err := c.Choose(ctx, s.shard)
	if err != nil {
		return nil, err
	}
	e.emit(Step, "reading %s (%s, %s)", choice.Member.Address, choice.Member.Role, choice.Why)
	if s.logged == nil {
		for _, l := range topo.Lacks {
			e.emit(Warning, "%s: %s", l.What, l.Consequence)
		}
	}
	drv, err := engine.ForName(topo.Engine)
	if err != nil {
		return nil, err
	}
	s.w = e.Store.NewWriter()
	flushed := false
	defer func() {
		if !flushed {
			s.w.Abandon()
		}
	}()
	s.fold = fold.New(drv.Model(), true, e.temp(), e.memory())
	defer s.fold.Close()
	p := &store.Point{Cluster: name, Engine: topo.Engine, Identity: topo.Identity, Version: topo.Version, Started: started, Made: "scan", Tool: e.Tool, Exact: s.logged != nil}
	mark, err := s.read(ctx)
	if err != nil {
		return nil, err
	}
	if s.logged == nil {
		mark = record.Mark{Wall: started}
		p.Caveats = append(p.Caveats, "the server keeps no log: writes that went on during the scan ("+started.Format(time.RFC3339)+" to "+time.Now().Format(time.RFC3339)+") may be in it in part")
	}
	if topo.HidesDrops {
		p.Caveats = append(p.Caveats, "the server does not log drops, renames and index changes")
	}
	p.Time, p.Skipped = mark.Wall, s.skipped
	p.Shards = []store.PointShard{{Name: s.shard, Mark: mark, Member: choice.Member.Address, Why: choice.Why}}
	e.emit(Step, "folding %s made meanwhile into the scan", count(s.fold.Count, "change"))
	err = s.fold.Merge(ctx, s.w, s.w, nil, func(n *fold.Namespace, root tree.Root) error {
		p.Namespaces = append(p.Namespaces, store.PointNamespace{Namespace: n.Namespace, Root: root})
		return nil
	})
	if err != nil {
		return nil, err
	}
	flushed = true
	stats, err := s.w.Flush(ctx)
	if err != nil {
		return nil, err
	}
	return p, e.finishPoint(ctx, p, stats, s.fold.Count)
}

// finishPoint completes a point whose nodes are all durable and makes it exist.
func (e *Env) finishPoint(ctx context.Context, p *store.Point, stats store.WriteStats, changes int64) error {
	slices.SortFunc(p.Namespaces, func(a, b store.PointNamespace) int { return strings.Compare(a.Name, b.Name) })
	for _, ns := range p.Namespaces {
		p.Stats.Records += ns.Root.Records
		p.Stats.Bytes += ns.Root.Bytes
	}
	p.Stats.Stored, p.Stats.New, p.Stats.Known, p.Stats.Patched, p.Stats.Changes = stats.Stored, stats.New, stats.Known, stats.Patched, changes
	p.Finished = time.Now()
	p.ID = store.NewPointID(p.Time)
	return e.Store.PutPoint(ctx, p)
}

type snapshot struct {
	*Env
	name   string
	c      engine.Cluster
	logged engine.Logged // nil without a log
	shard  string
	last   *store.Point
	w      *store.Writer
	fold   *fold.Fold

	mu      sync.Mutex
	skipped []store.Skipped
	total   atomic.Int64
	done    atomic.Int64
	bytes   atomic.Int64
}

// read scans all namespaces while the log is followed, until the log has
// passed the end of the scan. It gives the mark of the state reached.
func (s *snapshot) read(ctx context.Context) (record.Mark, error) {
	if s.logged == nil {
		return record.Mark{}, s.scanAll(ctx)
	}
	start, err := s.logged.LogEnd(ctx, s.shard)
	if err != nil {
		return start, err
	}
	spaces, err := s.list(ctx)
	if err != nil {
		return start, err
	}
	// From here on the fold belongs to the follower until both have ended.
	bases := s.bases(spaces)
	g, gctx := errgroup.WithContext(ctx)
	end := make(chan record.Mark, 1) // the position to reach, once known
	reached := start
	g.Go(func() error {
		var want *record.Mark
		return s.logged.Follow(gctx, s.shard, start.Position, func(changes []record.Change, p engine.Progress) error {
			for i := range changes {
				if err := s.fold.Change(&changes[i]); err != nil {
					return err
				}
			}
			if p.Mark.Position >= reached.Position {
				reached = p.Mark
			}
			if want == nil {
				select {
				case m := <-end:
					want = &m
				default:
					return nil
				}
			}
			if p.Mark.Position >= want.Position {
				return engine.ErrEnough
			}
			return nil
		})
	})
	g.Go(func() error {
		if err := s.scanBases(gctx, bases); err != nil {
			return err
		}
		m, err := s.logged.LogEnd(gctx, s.shard)
		if err != nil {
			return err
		}
		s.emit(Step, "waiting for the log to pass the end of the scan")
		end <- m
		return nil
	})
	if err := g.Wait(); err != nil {
		return reached, err
	}
	return reached, nil
}

func (s *snapshot) list(ctx context.Context) ([]engine.Namespace, error) {
	spaces, err := s.c.Namespaces(ctx)
	if err != nil {
		return nil, err
	}
	var keep []engine.Namespace
	for _, ns := range spaces {
		if ns.Skip != "" {
			s.skipped = append(s.skipped, store.Skipped{Name: ns.Name, Why: ns.Skip})
			s.emit(Warning, "%s is left out: %s", ns.Name, ns.Skip)
			continue
		}
		keep = append(keep, ns)
		s.total.Add(ns.Records)
	}
	s.emit(Step, "scanning %s, about %s", count(int64(len(keep)), "namespace"), count(s.total.Load(), "record"))
	return keep, nil
}

type base struct {
	ns   engine.Namespace
	fold *fold.Namespace
}

func (s *snapshot) bases(spaces []engine.Namespace) []base {
	var out []base
	for _, ns := range spaces {
		out = append(out, base{ns, s.fold.Base(ns.Namespace, tree.Root{})})
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
				if len(ns.Ident) > 0 && bytes.Equal(ns.Ident, m.ns.Ident) {
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
				return part.Add(gctx, r)
			})
		})
	}
	if err := g.Wait(); err != nil {
		return tree.Root{}, err
	}
	root, err := l.Finish(ctx)
	if err == nil {
		s.emit(Note, "%s: %s", ns.Name, count(root.Records, "record"))
	}
	return root, err
}

// near gives the tree of the last point that is most likely alike.
func (s *snapshot) near(ns engine.Namespace) tree.Root {
	var byName tree.Root
	if s.last == nil {
		return byName
	}
	for _, p := range s.last.Namespaces {
		if len(ns.Ident) > 0 && bytes.Equal(p.Ident, ns.Ident) {
			return p.Root
		}
		if p.Name == ns.Name {
			byName = p.Root
		}
	}
	return byName
}

// FoldPoint makes a point from the last one and the log after it, without
// touching the cluster.
func (e *Env) FoldPoint(ctx context.Context, m *Moment) (*store.Point, error) {
	last := m.Point
	if len(m.segments) == 0 {
		return nil, fmt.Errorf("nothing to fold: no log is captured after the last point of %s, %s", last.Cluster, last.ID)
	}
	p := &store.Point{Cluster: last.Cluster, Engine: last.Engine, Identity: last.Identity, Version: last.Version, Started: time.Now(),
		Time: m.Time, Made: "fold", From: last.ID, Tool: e.Tool, Exact: last.Exact, Skipped: last.Skipped, Caveats: last.Caveats}
	for _, s := range last.Shards {
		p.Shards = append(p.Shards, store.PointShard{Name: s.Name, Mark: m.Upto[s.Name]})
	}
	w := e.Store.NewWriter()
	e.emit(Step, "folding the log after point %s up to %s", last.ID, at(m.Time))
	spaces, n, err := m.Trees(ctx, w, w, nil)
	if err != nil {
		w.Abandon()
		return nil, err
	}
	for _, s := range spaces {
		p.Namespaces = append(p.Namespaces, store.PointNamespace{Namespace: s.Namespace, Root: s.Root})
	}
	stats, err := w.Flush(ctx)
	if err != nil {
		return nil, err
	}
	return p, e.finishPoint(ctx, p, stats, n)
}
