package content

import (
	"context"
	"errors"
	"slices"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// Refresh takes notice of what other processes have written or removed since: it reads the
// lists of content files that it does not know, from index objects where they cover a content
// file, from the content file itself where not. A damaged index object costs time, nothing
// else. A content file whose own list is damaged is left out: reading a node that lies in it says so.
func (s *Content) Refresh(ctx context.Context) error {
	s.loading.Lock()
	defer s.loading.Unlock()
	return s.refresh(ctx)
}

func (s *Content) refresh(ctx context.Context) error {
	x := s.Index
	if x.broken.Swap(false) {
		x.keep.discard()
		x.keep, x.aside = nil, nil
		x.forget()
	}
	x.source(s.OwnLists.Load())
	x.Mu.Lock()
	x.generation++
	began, known := x.generation, len(x.Files)
	x.Mu.Unlock()
	// What is marked for deletion is listed first: a content file that is listed after was not
	// there, or not marked for deletion, or is known to be.
	var flags flags
	var err error
	if flags.pending, err = s.PendingDeletes(ctx); err != nil {
		return err
	}
	if flags.suspect, err = s.Suspects(ctx); err != nil {
		return err
	}
	seen, missing := make([]bool, known), map[string]blob.Info{}
	err = s.Blob.List(ctx, sealed.ContentPrefix, func(i blob.Info) error {
		x.Mu.RLock()
		defer x.Mu.RUnlock()
		if n, ok := x.number[i.Name]; ok && int(n) < known && x.Files[n].mem == nil && x.Files[n].Size == i.Size {
			seen[n] = true
		} else if !ok || x.Files[n].mem == nil && x.Files[n].Size != i.Size {
			missing[i.Name] = i
		}
		return nil
	})
	if err != nil {
		return err
	}
	l := &loading{s: s, flags: flags, missing: missing}
	from := []func(context.Context) error{l.listings, l.footers}
	if x.own {
		slices.Reverse(from)
	}
	for _, read := range from {
		if len(missing) == 0 {
			break
		}
		if err := read(ctx); err != nil {
			return err
		}
	}
	x.Mu.Lock()
	left := map[uint32]bool{} // of which nothing lies in tables
	for n, f := range x.Files[:known] {
		if f.mem != nil || f.stored >= began {
			continue
		}
		if !seen[n] && !f.Gone && !f.tabled {
			left[uint32(n)] = true
			delete(x.number, f.Name)
		}
		f.Gone = !seen[n]
		flags.set(f)
	}
	if len(left) > 0 {
		x.drop(func(_ tree.Hash, file uint32) bool { return left[file] })
	}
	x.Mu.Unlock()
	return x.settle(l.read)
}

// flags are the names of content files that are marked for deletion, or damaged.
type flags struct{ pending, suspect map[string]bool }

func (o flags) set(f *File) {
	f.PendingDelete = o.pending[f.Name]
	// One that is shorter than its list says has lost something.
	f.Suspect = o.suspect[f.Name] || f.Size < f.end
}

// source has the index be made from what content files say themselves, or as it was before.
// Writers' content files stay.
func (x *Index) source(own bool) {
	if own == x.own {
		return
	}
	x.own = own
	was := x.aside
	if own {
		x.aside = &aside{tables: x.tables, read: x.read}
		for _, f := range x.Files {
			x.aside.tabled = append(x.aside.tabled, f.tabled)
		}
	}
	x.forget()
	if own || was == nil {
		return
	}
	x.Mu.Lock()
	defer x.Mu.Unlock()
	x.tables, x.read, x.aside = was.tables, was.read, nil
	for n, tabled := range was.tabled {
		if f := x.Files[n]; tabled {
			f.tabled = true
			x.number[f.Name] = uint32(n)
		}
	}
}

// aside is what an index was made from before content files' own lists were read.
type aside struct {
	tables []*table
	tabled []bool // by the number of the file
	read   map[string]int
}

// forget has the index know nothing but what writers here hold. Content files keep their
// numbers, which the cache knows them by.
func (x *Index) forget() {
	x.Mu.Lock()
	defer x.Mu.Unlock()
	x.tables, x.read = nil, map[string]int{}
	x.drop(func(_ tree.Hash, file uint32) bool { return x.Files[file].mem == nil })
	for _, f := range x.Files {
		if f.mem == nil {
			f.Gone, f.tabled = true, false
			delete(x.number, f.Name)
		}
	}
}

// loading reads the lists of content files that are not known yet.
type loading struct {
	s *Content
	flags
	missing map[string]blob.Info
	read    int // listings
}

// enter takes the list of a content file where it is missing.
func (l *loading) enter(name string, footer []byte) error {
	i, ok := l.missing[name]
	if !ok {
		return nil
	}
	f, err := DecodeFooter(name, footer)
	if err != nil {
		return nil
	}
	delete(l.missing, name)
	x := l.s.Index
	x.Mu.Lock()
	if old, ok := x.number[name]; ok {
		x.Files[old].Gone = true // another file of this name was there
	}
	file := &File{Name: name, Size: i.Size, Made: i.Made, Doubted: !l.s.Believed(name, f)}
	id := x.file(file)
	for k := range f.Entries {
		x.enter(id, &f.Entries[k])
	}
	l.set(file)
	full := x.full()
	x.Mu.Unlock()
	if full {
		return x.changeOften(x.spill)
	}
	return nil
}

// listings takes what index objects say that were not read before. Those that say something of
// content files which are not there are read once more: these may have been on their way.
func (l *loading) listings(ctx context.Context) error {
	x := l.s.Index
	var names []string
	err := l.s.Blob.List(ctx, sealed.ListingsPrefix, func(i blob.Info) error {
		if x.read[i.Name] < 2 {
			names = append(names, i.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range names {
		data, err := l.s.Blob.Read(ctx, n)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			continue
		}
		if err != nil {
			return err
		}
		l.read++
		lists, err := DecodeIndex(l.s.Ring(ctx), data)
		if err != nil {
			x.read[n] = 2
			continue
		}
		x.read[n]++
		all := true
		for _, f := range lists {
			if err := l.enter(f.Name, f.Footer); err != nil {
				return err
			}
			x.Mu.RLock()
			_, known := x.number[f.Name]
			x.Mu.RUnlock()
			all = all && known
		}
		if all {
			x.read[n] = 2
		}
		if len(l.missing) == 0 {
			break
		}
	}
	return nil
}

// footers takes what content files say themselves.
func (l *loading) footers(ctx context.Context) error {
	for name := range l.missing {
		footer, err := l.s.ReadFooter(ctx, name)
		if errors.Is(err, sealed.ErrDamaged) || errors.Is(err, blob.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if err := l.enter(name, footer); err != nil {
			return err
		}
	}
	return nil
}

// listingBytes is about how much one listing says that is made anew; more is written as several.
const listingBytes = 8 << 20

// RebuildListings removes all index objects and writes them anew from the content files'
// own lists. It gives the number of content files and nodes found, and the content files whose
// list cannot be read.
func (s *Content) RebuildListings(ctx context.Context) (files, nodes int, unreadable []string, err error) {
	var old []string
	err = s.Blob.List(ctx, sealed.ListingsPrefix, func(i blob.Info) error { old = append(old, i.Name); return nil })
	if err != nil {
		return 0, 0, nil, err
	}
	var lists []fileListing
	size := 0
	put := func() error {
		name := sealed.ListingsPrefix + sealed.NewID(16)
		err := s.Blob.Create(ctx, name, encodeIndex(s.ListKey(), lists))
		lists, size = nil, 0
		return err
	}
	err = s.Blob.List(ctx, sealed.ContentPrefix, func(i blob.Info) error {
		footer, err := s.ReadFooter(ctx, i.Name)
		if err == nil {
			_, err = DecodeFooter(i.Name, footer)
		}
		if errors.Is(err, sealed.ErrDamaged) {
			unreadable = append(unreadable, i.Name)
			return nil
		}
		if err != nil {
			return err
		}
		files++
		lists = append(lists, fileListing{i.Name, footer})
		if size += len(footer); size < listingBytes {
			return nil
		}
		return put()
	})
	if err == nil {
		err = put()
	}
	if err != nil {
		return 0, 0, nil, err
	}
	for _, n := range old {
		if err := s.Blob.Remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return 0, 0, nil, err
		}
	}
	s.loading.Lock()
	defer s.loading.Unlock()
	s.Index.broken.Store(true) // whatever it was made from, it is made anew
	if err := s.refresh(ctx); err != nil {
		return 0, 0, nil, err
	}
	err = s.Index.Each(func(tree.Hash, Place) error { nodes++; return nil })
	return files, nodes, unreadable, err
}
