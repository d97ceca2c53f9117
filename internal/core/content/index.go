package content

import (
	"sync"
	"sync/atomic"
	"time"

	"dexamen/internal/core/tree"
)

// Index describes where each node lies. It is made from the content files' footers, or from
// the copies of them under index/, and can always be made anew. Nodes beyond a number lie in
// sorted files, which stay on this host where it has a folder for them.
type Index struct {
	Mu    sync.RWMutex
	Files []*File
	// number of each file, by its name; names of those that are gone may be missing.
	number map[string]uint32

	// Nodes in memory: of content files that are being written, and of those that are in no
	// table yet.
	places map[tree.Hash]Place
	bases  map[tree.Hash]tree.Hash
	// more are further copies of nodes that lie in several content files.
	more map[tree.Hash][]Copy
	held int // copies in memory
	open int // of these, in content files that are not stored yet

	bound  int      // copies to be held in memory
	tables []*table // replaced, never changed
	temp   string   // for tables that are not kept
	keep   *keeping // nil where none are

	generation uint64         // of the last refresh
	read       map[string]int // listings that were read: how often
	own        bool           // made from the content files' own lists
	aside      *aside         // what it was made from before
	broken     atomic.Bool    // a table cannot be read
	rebuild    func()         // has the index made anew
}

// Copy is where a node lies, once.
type Copy struct {
	Place
	// Base, where it is a patch, is the leaf it is one of.
	Base tree.Hash
}

// File is a content file that the index knows.
type File struct {
	Name string
	Size int64
	Made time.Time // by the backend's clock
	// PendingDelete: reclaim will remove it; nothing new may rely on it.
	PendingDelete bool
	// Suspect: a scrub found damage in it; nothing new may rely on it, so that
	// what is lost is written anew when it comes by again.
	Suspect bool
	// Doubted: nobody who can read made it. What it says it holds is read before
	// something new relies on it.
	Doubted bool
	// Gone: it is not in the store, or what it lists is not known any more.
	Gone bool
	// mem holds the content file's bytes so far while it is not yet in the backend.
	mem []byte

	end    int64  // where the last of its frames ends
	stored uint64 // the generation in which it was entered or stored
	nodes  int    // that it lists
	tabled bool   // all of them are in tables
}

// Lasting reports whether something new may rely on the content file.
func (p *File) Lasting() bool { return !p.PendingDelete && !p.Suspect }

// Worth orders content files by how well what lies in them is kept.
func (p *File) Worth() int {
	switch {
	case !p.Lasting():
		return 0
	case p.Doubted:
		return 1
	}
	return 2
}

// Place is where a node lies: in a content file, by its number in the index, within what a
// frame holds.
type Place struct {
	File               uint32
	FrameOff, FrameLen uint32
	off, Len           uint32
	Patch, Pieces      bool
}

// MayShare reports whether the frame may hold other nodes too.
func (p Place) MayShare() bool { return p.Patch || p.Len < sharedBytes/8 }

// in returns where an entry's node lies, by the number of the content file.
func (o *Entry) in(file uint32) Place {
	return Place{file, o.FrameOff, o.FrameLen, o.Off, o.Len, !o.Base.IsZero(), o.NamesPieces}
}

func newIndex(bound int, temp string) *Index {
	return &Index{number: map[string]uint32{}, places: map[tree.Hash]Place{}, bases: map[tree.Hash]tree.Hash{},
		more: map[tree.Hash][]Copy{}, bound: bound, temp: temp, read: map[string]int{}, rebuild: func() {}}
}

// file enters a content file and returns its number; the caller holds the lock.
func (x *Index) file(f *File) uint32 {
	id := uint32(len(x.Files))
	x.Files = append(x.Files, f)
	x.number[f.Name] = id
	f.stored = x.generation
	return id
}

// enter enters a copy of a node; the caller holds the lock.
func (x *Index) enter(file uint32, o *Entry) {
	now := Copy{o.in(file), o.Base}
	f := x.Files[file]
	f.nodes++
	f.end = max(f.end, int64(o.FrameOff)+int64(o.FrameLen))
	x.held++
	if f.mem != nil {
		x.open++
	}
	if _, ok := x.places[o.Name]; ok {
		x.more[o.Name] = append(x.more[o.Name], now)
		return
	}
	x.put(o.Name, now)
}

// put has a copy be the one that is looked at first; the caller holds the lock.
func (x *Index) put(h tree.Hash, c Copy) {
	x.places[h] = c.Place
	delete(x.bases, h)
	if c.Patch {
		x.bases[h] = c.Base
	}
}

// drop forgets the copies in memory that are to go; the caller holds the lock.
func (x *Index) drop(gone func(h tree.Hash, file uint32) bool) {
	for h, p := range x.places {
		x.dropOf(h, p, func(file uint32) bool { return gone(h, file) })
	}
}

// dropOf does so for one node; p is what lies in places.
func (x *Index) dropOf(h tree.Hash, p Place, gone func(file uint32) bool) {
	var kept []Copy
	if !gone(p.File) {
		kept = append(kept, Copy{p, x.bases[h]})
	}
	more := x.more[h]
	for _, c := range more {
		if !gone(c.File) {
			kept = append(kept, c)
		}
	}
	if len(kept) == 1+len(more) {
		return
	}
	x.held -= 1 + len(more) - len(kept)
	delete(x.places, h)
	delete(x.bases, h)
	delete(x.more, h)
	if len(kept) > 0 {
		x.put(h, kept[0])
	}
	if len(kept) > 1 {
		x.more[h] = kept[1:]
	}
}

// isStored notes that a content file is in the backend.
func (x *Index) isStored(f *File) {
	x.Mu.Lock()
	defer x.Mu.Unlock()
	f.mem = nil // from here on it is read from where it lies
	f.stored = x.generation
	x.open -= f.nodes
}

// leave forgets a content file that was never stored.
func (x *Index) leave(f *File) {
	x.Mu.Lock()
	defer x.Mu.Unlock()
	if f.mem == nil {
		return
	}
	number := x.number[f.Name]
	x.drop(func(_ tree.Hash, file uint32) bool { return file == number })
	x.open -= f.nodes
	f.mem, f.Gone = nil, true
	delete(x.number, f.Name)
}

// copies returns all copies of a node in content files that are there, with these, the best
// first.
func (x *Index) copies(h tree.Hash) (list []Copy, files []*File, err error) {
	x.Mu.RLock()
	if p, ok := x.places[h]; ok {
		list = append(append(list, Copy{p, x.bases[h]}), x.more[h]...)
	}
	tables := x.tables
	x.Mu.RUnlock()
	for _, t := range tables {
		if list, err = t.find(h, list); err != nil {
			return nil, nil, err
		}
	}
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	there := list[:0]
	for _, c := range list {
		if !x.Files[c.File].Gone {
			there = append(there, c)
		}
	}
	for i := 1; i < len(there); i++ {
		for k := i; k > 0 && x.better(there[k], there[k-1]); k-- {
			there[k], there[k-1] = there[k-1], there[k]
		}
	}
	for _, c := range there {
		files = append(files, x.Files[c.File])
	}
	return there, files, nil
}

// better reports whether a copy is to be read rather than another: one that stays is better,
// then one that somebody made who can read, then one that needs no base, then the older one.
func (x *Index) better(a, b Copy) bool {
	if is, was := x.Files[a.File].Worth(), x.Files[b.File].Worth(); is != was {
		return is > was
	}
	if a.Patch != b.Patch {
		return b.Patch
	}
	return a.File < b.File
}

// best returns the copy of a node to be read. Where a table cannot be read, the index is made anew.
func (x *Index) best(h tree.Hash) (Copy, *File, bool) {
	x.Mu.RLock()
	if p, ok := x.places[h]; len(x.tables) == 0 && len(x.more[h]) == 0 {
		// Most stores are so small that nothing lies elsewhere.
		defer x.Mu.RUnlock()
		if !ok || x.Files[p.File].Gone {
			return Copy{}, nil, false
		}
		return Copy{p, x.bases[h]}, x.Files[p.File], true
	}
	x.Mu.RUnlock()
	list, files := x.Copies(h)
	if len(list) == 0 {
		return Copy{}, nil, false
	}
	return list[0], files[0], true
}

// Copies returns all copies of a node, the one that is read first, and their content files. Where a table cannot be
// read, the index is made anew.
func (x *Index) Copies(h tree.Hash) ([]Copy, []*File) {
	list, files, err := x.copies(h)
	if err != nil {
		x.broken.Store(true)
		x.rebuild()
		list, files, _ = x.copies(h)
	}
	return list, files
}

// Spares returns the copies of a node but for one, with their content files.
func (x *Index) Spares(h tree.Hash, but Place) ([]Copy, []*File) {
	list, files := x.Copies(h)
	for i, c := range list {
		if c.File == but.File && c.FrameOff == but.FrameOff && c.off == but.off {
			return append(list[:i:i], list[i+1:]...), append(files[:i:i], files[i+1:]...)
		}
	}
	return list, files
}

// Find returns where a node lies, and the content file.
func (x *Index) Find(h tree.Hash) (Place, *File, bool) {
	c, file, ok := x.best(h)
	return c.Place, file, ok
}

// BaseOf returns what a node is stored as a patch of; zero where it is none.
func (x *Index) BaseOf(h tree.Hash) tree.Hash {
	c, _, _ := x.best(h)
	return c.Base
}

// keeps reports whether a node is in the store to stay: a patch only with its base,
// which may have gone when no point needed either. Doubted says that it is to be read
// first.
func (x *Index) keeps(h tree.Hash) (is, doubted bool) {
	c, file, ok := x.best(h)
	if !ok {
		return false, false
	}
	is, doubted = x.lasts(file)
	if !is || !c.Patch {
		return is, doubted
	}
	base, file, ok := x.best(c.Base)
	if !ok || base.Patch {
		return false, doubted
	}
	is, also := x.lasts(file)
	return is, doubted || also
}

func (x *Index) lasts(f *File) (is, doubted bool) {
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	return f.Lasting(), f.Doubted
}
