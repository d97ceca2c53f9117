package snapshot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"dexamen/internal/core/extsort"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// made returns how the point was made: "changes" where reading went on from a point,
// and from which.
func (s *snapshot) made() (made, from string) {
	if len(s.from) == 0 || s.FullRead {
		return "scan", ""
	}
	return "changes", slices.Max(slices.Collect(maps.Keys(s.from))) // ids order by time
}

// basis returns the newest point from which the reading of a namespace can go on, and
// what it has of it.
func (s *snapshot) basis(ns engine.Namespace) (*store.Point, *store.PointNamespace) {
	for _, p := range slices.Backward(s.points) {
		for i := range p.Namespaces {
			b := &p.Namespaces[i]
			if b.Name == ns.Name && b.Kind == ns.Kind && len(b.Cursor) > 0 && bytes.Equal(b.Ident, ns.Ident) {
				return p, b
			}
		}
	}
	return nil, nil
}

// scanIncremental reads what has changed in a namespace since a point; all of it where
// that cannot be told, or where all is to be read, which then proves the points that
// were made of changes.
func (s *snapshot) scanIncremental(ctx context.Context, inc engine.Incremental, ns engine.Namespace,
	readers chan struct{}) (tree.Root, error) {
	p, b := s.basis(ns)
	var changed tree.Root
	err := fmt.Errorf("%w: no point has it", engine.ErrNotContinued)
	if b != nil {
		if changed, err = s.changed(ctx, inc, ns, b, readers); err == nil && !s.FullRead {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.from[p.ID] = true
			return changed, nil
		}
	}
	told := errors.Is(err, engine.ErrNotContinued)
	if err != nil && !told && !moment.IsDamage(err) || ctx.Err() != nil {
		return tree.Root{}, err
	}
	if b != nil && err != nil {
		s.Emit(run.Note, "%s is read whole: %v", ns.Name, err)
	}
	root, werr := s.scanWhole(ctx, ns, readers)
	if werr != nil {
		return tree.Root{}, werr
	}
	n, werr := inc.Count(ctx, ns)
	if werr != nil {
		return tree.Root{}, werr
	}
	if n >= 0 && n != root.Records {
		return tree.Root{}, fmt.Errorf("%w: %s were read, and the servers count %d", engine.ErrReadAgain,
			run.Count(root.Records, "record"), n)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if b != nil && err == nil {
		s.compare(ctx, ns, p, changed, root)
	}
	return root, nil
}

// compare says whether a namespace that was read whole is what the point of changes
// would have been; the lock must be held.
func (s *snapshot) compare(ctx context.Context, ns engine.Namespace, p *store.Point, changed, root tree.Root) {
	if changed.Hash == root.Hash {
		s.Emit(run.Note, "%s: read whole, and equal to point %s with what has changed since", ns.Name, p.ID)
		return
	}
	text := fmt.Sprintf("%s was read whole and differs from point %s with what has changed since: points made of "+
		"changes before this one are not to be relied on for it", ns.Name, p.ID)
	d, err := moment.DiffStates(ctx, s.w, &moment.NamespaceState{Namespace: ns.Namespace, Root: root},
		&moment.NamespaceState{Namespace: ns.Namespace, Root: changed}, s.model, 5)
	if err == nil {
		text += fmt.Sprintf(" (%d missing there, %d too many, %d otherwise", d.Missing, d.Extra, d.Changed)
		for _, k := range d.Keys {
			text += "; " + k.Kind + " " + k.Label
		}
		text += ")"
	}
	s.caveats = append(s.caveats, text)
	s.Emit(run.Warning, "%s", text)
}

// changed builds a namespace's tree of what a point has of it and what was written
// since. Records that are gone do not show there: when there are fewer than the tree
// would have, all keys are read, and those that are not among them are taken away.
func (s *snapshot) changed(ctx context.Context, inc engine.Incremental, ns engine.Namespace,
	b *store.PointNamespace, readers chan struct{}) (tree.Root, error) {
	parts, err := inc.Since(ctx, ns, b.Cursor, 2*s.Readers())
	if err != nil || len(parts) == 0 {
		return b.Root, err
	}
	edits := extsort.New(s.TempDir(), s.SortMemory()/s.Readers())
	defer edits.Close()
	var mu sync.Mutex
	err = s.eachPartition(ctx, ns, parts, readers, func() func(context.Context, record.Record) error {
		return func(_ context.Context, r record.Record) error {
			mu.Lock()
			defer mu.Unlock()
			return edits.Add(r.Key, r.Value)
		}
	})
	if err != nil {
		return tree.Root{}, err
	}
	// How many there would be is found out first: of what is made for nothing, nothing
	// is stored.
	would, err := merged(ctx, s.w, b.Root, edits, nil, tree.Nowhere(s.w.Cuts()))
	if err != nil {
		return tree.Root{}, err
	}
	n, err := inc.Count(ctx, ns)
	switch {
	case err != nil:
		return tree.Root{}, err
	case n < 0 || n > would.Records:
		return tree.Root{}, fmt.Errorf("%w: the servers count %d records, and the point with what was written since "+
			"has %d", engine.ErrNotContinued, n, would.Records)
	case n == would.Records:
		return merged(ctx, s.w, b.Root, edits, nil, s.w)
	}
	gone, err := s.goneSince(ctx, inc, ns, b.Root, readers)
	if err != nil {
		return tree.Root{}, err
	}
	defer gone.Close()
	root, err := merged(ctx, s.w, b.Root, edits, gone, s.w)
	if err == nil && root.Records != n {
		err = fmt.Errorf("%w: the servers count %d records, and give the keys of %d", engine.ErrNotContinued, n,
			root.Records)
	}
	return root, err
}

// merged returns a tree with records put and, where gone is given, those of its keys
// removed; the two have no key in common.
func merged(ctx context.Context, src tree.Source, root tree.Root, puts, gone *extsort.Sorter, to tree.Sink) (
	tree.Root, error) {
	all := &bothEdits{}
	for i, s := range []*extsort.Sorter{puts, gone} {
		if s == nil {
			continue
		}
		items, err := s.Sorted()
		if err != nil {
			return root, err
		}
		defer items.Close()
		all.side[i] = &extsort.PutEdits{Items: items, Remove: i == 1}
	}
	return tree.Merge(ctx, src, root, all, to)
}

// bothEdits are edits of two kinds, in order of their keys.
type bothEdits struct {
	side  [2]*extsort.PutEdits
	key   [2][]byte
	more  [2]bool
	begun bool
	last  int
}

func (b *bothEdits) pull(ctx context.Context, i int) (err error) {
	if b.side[i] != nil {
		b.key[i], b.more[i], err = b.side[i].NextKey(ctx)
	}
	return err
}

// NextKey implements [tree.Edits].
func (b *bothEdits) NextKey(ctx context.Context) ([]byte, bool, error) {
	for i := range b.side {
		if b.begun && i != b.last {
			continue
		}
		if err := b.pull(ctx, i); err != nil {
			return nil, false, err
		}
	}
	b.begun, b.last = true, 0
	if !b.more[0] || b.more[1] && bytes.Compare(b.key[1], b.key[0]) < 0 {
		b.last = 1
	}
	return b.key[b.last], b.more[b.last], nil
}

// Edit implements [tree.Edits].
func (b *bothEdits) Edit(ctx context.Context, old []byte, present bool) ([]byte, bool, error) {
	return b.side[b.last].Edit(ctx, old, present)
}

// goneSince reads the keys of a namespace and returns those of a tree that are not
// among them.
func (s *snapshot) goneSince(ctx context.Context, inc engine.Incremental, ns engine.Namespace, root tree.Root,
	readers chan struct{}) (gone *extsort.Sorter, err error) {
	parts, err := inc.Partitions(ctx, ns, 2*s.Readers())
	if err != nil {
		return nil, err
	}
	keys := extsort.New(s.TempDir(), s.SortMemory()/s.Readers())
	defer keys.Close()
	var mu sync.Mutex
	g := newGroup(ctx, readers)
	for _, p := range parts {
		g.read(func(ctx context.Context) error {
			return inc.ScanKeys(ctx, ns, p, func(key []byte) error {
				mu.Lock()
				defer mu.Unlock()
				return keys.Add(key, nil)
			})
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	items, err := keys.Sorted()
	if err != nil {
		return nil, err
	}
	defer items.Close()
	gone = extsort.New(s.TempDir(), s.SortMemory()/s.Readers())
	there, _, more, err := items.Next()
	if err == nil {
		err = tree.Keys(ctx, s.w, root, func(key []byte) error {
			for more && bytes.Compare(there, key) < 0 { // a new one
				if there, _, more, err = items.Next(); err != nil {
					return err
				}
			}
			if !more || !bytes.Equal(there, key) {
				return gone.Add(key, nil)
			}
			return nil
		})
	}
	if err != nil {
		gone.Close()
		return nil, err
	}
	return gone, nil
}
