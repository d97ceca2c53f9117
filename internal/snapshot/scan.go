package snapshot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

func (s *snapshot) list(ctx context.Context) ([]engine.Namespace, error) {
	spaces, err := s.c.Namespaces(ctx)
	if err != nil {
		return nil, err
	}
	var keep []engine.Namespace
	names := map[string]bool{}
	for _, ns := range spaces {
		if s.chosen != nil && ns.Kind.IsContent() && !s.chosen(ns.Name) {
			continue
		}
		if ns.Skip != "" {
			s.skipped = append(s.skipped, store.Skipped{Name: ns.Name, Reason: ns.Skip})
			s.Emit(run.Warning, "%s is left out: %s", ns.Name, ns.Skip)
			continue
		}
		keep = append(keep, ns)
		s.total.Add(ns.Records)
		if ns.Kind.IsContent() {
			names[ns.Name] = true
		}
	}
	about := ""
	if n := s.total.Load(); n > 0 {
		about = ", about " + run.Count(n, "record")
	}
	s.Emit(run.Step, "scanning %s%s", run.Count(int64(len(names)), "namespace"), about)
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
		g.SetLimit(s.Readers()) // each namespace takes memory, and what the servers hold for it
		readers := make(chan struct{}, s.Readers())
		for _, b := range bases {
			if !b.ns.Kind.HasRecords() {
				continue
			}
			g.Go(func() error {
				root, err := s.scan(gctx, b.ns, readers)
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
		if s.logged == nil {
			s.leaveOut(moved)
			return nil
		}
		if round == 5 {
			return fmt.Errorf(
				"cluster %s: %s was renamed or dropped %d times while it was read; try again when that has ended",
				s.name, moved[0].ns.Name, round+1)
		}
		now, err := s.c.Namespaces(ctx)
		if err != nil {
			return err
		}
		bases = nil
		for _, m := range moved {
			for _, ns := range now {
				if ns.Shard == m.ns.Shard && len(ns.Ident) > 0 && bytes.Equal(ns.Ident, m.ns.Ident) {
					s.Emit(run.Note, "%s was renamed to %s while it was read; reading it again", m.ns.Name, ns.Name)
					bases = append(bases, base{ns, m.fold})
				}
			}
		}
	}
	return nil
}

// leaveOut notes namespaces that went while they were read, where no log tells of it.
func (s *snapshot) leaveOut(bases []base) {
	for _, b := range bases {
		s.gone[b.ns.Name] = true
		s.skipped = append(s.skipped, store.Skipped{Name: b.ns.Name,
			Reason: "it was deleted, made anew or renamed while it was read"})
		s.Emit(run.Warning, "%s is left out: it was deleted, made anew or renamed while it was read", b.ns.Name)
	}
}

// scan reads one namespace into a tree; again, where what was read so far proves not
// to go with the rest.
func (s *snapshot) scan(ctx context.Context, ns engine.Namespace, readers chan struct{}) (tree.Root, error) {
	for try := 1; ; try++ {
		root, err := s.scanOnce(ctx, ns, readers)
		if errors.Is(err, engine.ErrReadAgain) && try < 6 && ctx.Err() == nil {
			s.Emit(run.Warning, "%s: %v; reading it again", ns.Name, err)
			continue
		}
		if err == nil && ns.Kind != record.KindLayout {
			s.Emit(run.Note, "%s%s: %s", s.part(ns.Shard).of(), ns.Name, run.Count(root.Records, "record"))
		}
		return root, err
	}
}

// scanOnce reads one namespace: what has changed since a point where that can be told,
// else all of it.
func (s *snapshot) scanOnce(ctx context.Context, ns engine.Namespace, readers chan struct{}) (tree.Root, error) {
	if rv, ok := s.c.(engine.Revisited); ok {
		readers <- struct{}{}
		defer func() { <-readers }()
		return s.revisit(ctx, rv, ns)
	}
	inc, ok := s.c.(engine.Incremental)
	if !ok || !ns.Kind.IsContent() {
		return s.scanWhole(ctx, ns, readers)
	}
	root, err := s.scanIncremental(ctx, inc, ns, readers)
	if err == nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.cursors[ns.Name] = inc.Cursor(ctx, ns)
	}
	return root, err
}

// scanWhole reads all of a namespace into a tree, its partitions in parallel, in other processes where there are
// some.
func (s *snapshot) scanWhole(ctx context.Context, ns engine.Namespace, readers chan struct{}) (tree.Root, error) {
	if c := s.shareable(); c != nil {
		if root, ok, err := s.scanShared(ctx, c, ns); ok || err != nil {
			return root, err
		}
	}
	parts, err := s.c.Partitions(ctx, ns, 2*s.Readers())
	if err != nil {
		return tree.Root{}, err
	}
	l := tree.NewLoader(s.w, s.w, s.similarTree(ns), s.TempDir(), s.SortMemory()/s.Readers())
	defer l.Close()
	err = s.eachPartition(ctx, ns, parts, readers, func() func(context.Context, record.Record) error {
		return l.Part().Add
	})
	if err != nil {
		return tree.Root{}, err
	}
	return l.Finish(ctx)
}

// eachPartition reads partitions in parallel; begin gives what takes the records of
// the next one.
func (s *snapshot) eachPartition(ctx context.Context, ns engine.Namespace, parts []engine.Partition,
	readers chan struct{}, begin func() func(context.Context, record.Record) error) error {
	g := newGroup(ctx, readers)
	for _, p := range parts {
		take := begin()
		g.read(func(ctx context.Context) error {
			n := int64(0)
			return s.c.Scan(ctx, ns, p, func(r record.Record) error {
				if n++; n%1024 == 0 {
					s.ReportProgress(ns.Name, s.done.Add(1024), s.total.Load(), s.bytes.Load())
				}
				s.bytes.Add(int64(len(r.Value)))
				if err := s.WaitForRate(ctx, len(r.Key)+len(r.Value)); err != nil {
					return err
				}
				return take(ctx, r)
			})
		})
	}
	return g.Wait()
}

// group runs readers, as many at once as there is room for.
type group struct {
	*errgroup.Group
	ctx     context.Context
	readers chan struct{}
}

func newGroup(ctx context.Context, readers chan struct{}) *group {
	g := &group{readers: readers}
	g.Group, g.ctx = errgroup.WithContext(ctx)
	return g
}

func (g *group) read(fn func(ctx context.Context) error) {
	g.Go(func() error {
		select {
		case g.readers <- struct{}{}:
		case <-g.ctx.Done():
			return g.ctx.Err()
		}
		defer func() { <-g.readers }()
		return fn(g.ctx)
	})
}

// similarTree returns the tree of the last point that is most likely alike.
func (s *snapshot) similarTree(ns engine.Namespace) tree.Root {
	var byName tree.Root
	if s.last == nil || s.Store.WriteOnly() {
		return byName
	}
	best := 0
	for _, p := range s.lastAlike(ns) {
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

// lastAlike returns the namespaces of the last point with the name or the identity of one; there may be very many
// others.
func (s *snapshot) lastAlike(ns engine.Namespace) (out []*store.PointNamespace) {
	s.alikeOnce.Do(func() {
		s.alike = map[string][]*store.PointNamespace{}
		for i := range s.last.Namespaces {
			p := &s.last.Namespaces[i]
			s.alike["name "+p.Name] = append(s.alike["name "+p.Name], p)
			if len(p.Ident) > 0 {
				s.alike["ident "+string(p.Ident)] = append(s.alike["ident "+string(p.Ident)], p)
			}
		}
	})
	out = s.alike["name "+ns.Name]
	if len(ns.Ident) > 0 {
		out = slices.Concat(out, s.alike["ident "+string(ns.Ident)])
	}
	return out
}
