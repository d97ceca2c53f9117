package snapshot

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// notedBasis returns the newest point that has notes of all that is in a namespace.
func (s *snapshot) notedBasis(ns engine.Namespace) (*store.Point, *store.PointNamespace) {
	for i := len(s.points) - 1; i >= 0; i-- {
		for j := range s.points[i].Namespaces {
			b := &s.points[i].Namespaces[j]
			if b.Name == ns.Name && b.Kind == ns.Kind && b.Notes != nil && b.NotesOfAll {
				return s.points[i], b
			}
		}
	}
	return nil, nil
}

// readAhead reads a cluster that is going to be held still while nothing is: then only what
// has changed meanwhile is left to be read.
func (s *snapshot) readAhead(ctx context.Context, c engine.Cluster) error {
	rv, ok := c.(engine.Revisited)
	q, holds := c.(engine.Quiescer)
	if !ok || !holds || s.Store.WriteOnly() {
		return nil
	}
	if h, err := q.Quiescible(ctx, s.chosen); err != nil || h.What == "" {
		return err
	}
	s.Emit(run.Step, "reading ahead, before anything is stopped")
	spaces, err := s.list(ctx)
	if err != nil {
		return err
	}
	ahead := map[string]*store.PointNamespace{}
	s.readingAhead = true
	defer func() { s.readingAhead = false }()
	for _, ns := range spaces {
		root, notes, err := s.revisitFrom(ctx, rv, ns)
		if errors.Is(err, engine.ErrMoved) {
			continue
		}
		if err != nil {
			return err
		}
		ahead[ns.Name] = &store.PointNamespace{Namespace: ns.Namespace, Root: root, Notes: &notes}
	}
	s.ahead, s.skipped = ahead, nil
	s.total.Store(0)
	s.done.Store(0)
	return nil
}

// revisit reads of a namespace what has changed since it was last read.
func (s *snapshot) revisit(ctx context.Context, rv engine.Revisited, ns engine.Namespace) (tree.Root, error) {
	var root, notes tree.Root
	var err error
	if b := s.ahead[ns.Name]; b != nil {
		root, notes, err = s.revisitOnce(ctx, rv, ns, b, true)
	} else {
		root, notes, err = s.revisitFrom(ctx, rv, ns)
	}
	if err != nil {
		return tree.Root{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.notes[ns.Name] = &notes
	if p, b := s.notedBasis(ns); b != nil && s.FullRead {
		return root, s.proveUnchanged(ctx, ns, p, b, root, notes)
	}
	return root, nil
}

// revisitFrom reads of a namespace what has changed since a point, by what was noted then;
// all of it where nothing was, or where all is to be read. A point's notes that are
// damaged are no reason to fail.
func (s *snapshot) revisitFrom(ctx context.Context, rv engine.Revisited, ns engine.Namespace) (root, notes tree.Root,
	err error) {
	p, b := s.notedBasis(ns)
	if b != nil && !s.FullRead {
		root, notes, err = s.revisitOnce(ctx, rv, ns, b, true)
		if err == nil {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.from[p.ID] = true
			return root, notes, nil
		}
		if !moment.IsDamage(err) || ctx.Err() != nil {
			return root, notes, err
		}
		s.Emit(run.Warning, "%s is read whole: what point %s has of it cannot be read: %v", ns.Name, p.ID, err)
	}
	return s.revisitOnce(ctx, rv, ns, b, false)
}

// proveUnchanged compares what was read whole with a point: what was noted the same then
// and now must be the same. The lock must be held.
func (s *snapshot) proveUnchanged(ctx context.Context, ns engine.Namespace, p *store.Point, b *store.PointNamespace,
	root, notes tree.Root) error {
	group := s.model.(engine.Grouper)
	same := 0
	var labels []string
	err := tree.Diff(ctx, tree.Side{Source: s.w, Root: b.Root}, tree.Side{Source: s.w, Root: root},
		func(d tree.Difference) error {
			prefix := bytes.Clone(group.GroupPrefix(d.Key))
			was, had, err := tree.Get(ctx, s.w, *b.Notes, prefix)
			if err != nil || !had || len(was) == 0 {
				return err
			}
			now, has, err := tree.Get(ctx, s.w, notes, prefix)
			if err != nil || !has || !bytes.Equal(was, now) {
				return err
			}
			if same++; len(labels) < 5 {
				v := d.B
				if v == nil {
					v = d.A
				}
				labels = append(labels, s.model.Label(v))
			}
			return nil
		})
	if moment.IsDamage(err) {
		s.Emit(run.Warning, "%s was read whole, and cannot be compared with point %s: %v", ns.Name, p.ID, err)
		return nil
	}
	if err != nil {
		return err
	}
	if same == 0 {
		s.Emit(run.Note, "%s: read whole; all that looked unchanged since point %s is unchanged", ns.Name, p.ID)
		return nil
	}
	text := fmt.Sprintf("%s was read whole, and %s unchanged since point %s and %s not: content was "+
		"altered without a trace in sizes and times, or the disk gives other bytes than it was given (%s)", ns.Name,
		lookCount(same), p.ID, isOrAre(same), list(labels, same))
	s.caveats = append(s.caveats, text)
	s.Emit(run.Warning, "%s", text)
	return nil
}

func lookCount(n int) string {
	if n == 1 {
		return "1 piece looks"
	}
	return run.Count(int64(n), "piece") + " look"
}

func isOrAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// list joins the first few names of n.
func list(names []string, n int) string {
	out := ""
	for i, l := range names {
		if i > 0 {
			out += ", "
		}
		out += l
	}
	if n > len(names) {
		out += ", …"
	}
	return out
}

// revisitOnce goes through a namespace once and builds its tree and that of its notes; of
// what a point has where since is set.
func (s *snapshot) revisitOnce(ctx context.Context, rv engine.Revisited, ns engine.Namespace,
	b *store.PointNamespace, since bool) (root, notes tree.Root, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var was, wasNotes tree.Root
	if b != nil {
		was, wasNotes = b.Root, *b.Notes
	}
	quiet := s.readingAhead // what is left out is found again
	noted := tree.NewBuilder(s.w).Near(s.w, wasNotes)
	v := engine.Visit{
		Note: func(n record.Record) error { return noted.Add(ctx, n) },
		Skip: func(name, reason string) {
			if quiet {
				return
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			s.skipped = append(s.skipped, store.Skipped{Name: ns.Name + "/" + name, Reason: reason})
			s.Emit(run.Warning, "%s/%s is left out: %s", ns.Name, name, reason)
		},
		Caveat: func(text string) {
			if quiet {
				return
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			s.caveats, s.disturbed = append(s.caveats, ns.Name+": "+text), true
			s.Emit(run.Warning, "%s: %s", ns.Name, text)
		},
		Say: func(text string) { s.Emit(run.Note, "%s: %s", ns.Name, text) },
	}
	n := int64(0)
	counted := func(put func(record.Record) error) func(record.Record) error {
		return func(r record.Record) error {
			if n++; n%256 == 0 {
				s.ReportProgress(ns.Name, s.done.Add(256), s.total.Load(), s.bytes.Load())
			}
			s.bytes.Add(int64(len(r.Value)))
			if err := s.WaitForRate(ctx, len(r.Key)+len(r.Value)); err != nil {
				return err
			}
			return put(r)
		}
	}
	if !since {
		all := tree.NewBuilder(s.w).Near(s.w, was)
		v.Replace = func([]byte) error { return nil }
		v.Put = counted(func(r record.Record) error { return all.Add(ctx, r) })
		if err = rv.Revisit(ctx, ns, nil, v); err == nil {
			root, err = all.Finish(ctx)
		}
	} else {
		e := &replacements{ctx: ctx, src: s.w, was: was, edits: make(chan edit, 64)}
		v.Replace, v.Put = e.replace, counted(e.put)
		before := tree.NewIterator(s.w, wasNotes)
		go func() {
			err := rv.Revisit(ctx, ns, func() (record.Record, bool, error) { return before.Next(ctx) }, v)
			e.end(err)
		}()
		if root, err = tree.Merge(ctx, s.w, was, e, s.w); err != nil {
			cancel(err)
		}
		e.drain()
	}
	if err != nil {
		return root, notes, err
	}
	notes, err = noted.Finish(ctx)
	return root, notes, err
}
