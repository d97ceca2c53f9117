package content

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// Index describes where each node lies. It is made from the content files' footers, or from
// the copies of them under index/, and can always be made anew.
type Index struct {
	Mu     sync.RWMutex
	Files  []*File
	Places map[tree.Hash]Place
	Bases  map[tree.Hash]tree.Hash
	// more are further copies of nodes that lie in several content files.
	more map[tree.Hash][]spare
}

// spare is a further copy of a node.
type spare struct {
	Place
	Base tree.Hash
}

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
	// mem holds the content file's bytes so far while it is not yet in the backend.
	mem []byte
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

type Place struct {
	File               uint32
	FrameOff, FrameLen uint32
	off, Len           uint32
	Patch, Pieces      bool
}

// in returns where an entry's node lies, by the number of the content file.
func (o *Entry) in(file uint32) Place {
	return Place{file, o.FrameOff, o.FrameLen, o.Off, o.Len, !o.Base.IsZero(), o.NamesPieces}
}

const indexMagic = "DXIX\x01\x00\x00\x00"

func newIndex() *Index {
	return &Index{Places: map[tree.Hash]Place{}, Bases: map[tree.Hash]tree.Hash{}, more: map[tree.Hash][]spare{}}
}

// add enters a content file's objects; the caller holds the lock or is alone.
func (x *Index) add(file *File, objects []Entry) {
	id := uint32(len(x.Files))
	x.Files = append(x.Files, file)
	for i := range objects {
		x.enter(id, &objects[i])
	}
}

func (x *Index) enter(file uint32, o *Entry) {
	now := o.in(file)
	if old, ok := x.Places[o.Name]; ok {
		// The same content twice: one that stays is better, then one that somebody made
		// who can read, then one that needs no base.
		was, is := x.Files[old.File].Worth(), x.Files[file].Worth()
		if was > is || was == is && (!old.Patch || now.Patch) {
			x.more[o.Name] = append(x.more[o.Name], spare{now, o.Base})
			return
		}
		x.more[o.Name] = append(x.more[o.Name], spare{old, x.Bases[o.Name]})
	}
	x.Places[o.Name] = now
	delete(x.Bases, o.Name)
	if !o.Base.IsZero() {
		x.Bases[o.Name] = o.Base
	}
}

// replace has the index say what another one says; what is open in a writer
// stays. Content files keep their numbers, which the cache knows them by.
func (x *Index) replace(y *Index) {
	x.Mu.Lock()
	defer x.Mu.Unlock()
	number := map[string]uint32{}
	for i, p := range x.Files {
		number[p.Name] = uint32(i)
	}
	places, bases := map[tree.Hash]Place{}, map[tree.Hash]tree.Hash{}
	for h, p := range x.Places {
		if x.Files[p.File].mem != nil {
			places[h] = p
			if p.Patch {
				bases[h] = x.Bases[h]
			}
		}
	}
	moved := make([]uint32, len(y.Files))
	for i, p := range y.Files {
		n, ok := number[p.Name]
		if !ok {
			n = uint32(len(x.Files))
			x.Files = append(x.Files, p)
		} else {
			x.Files[n].PendingDelete, x.Files[n].Suspect, x.Files[n].Doubted = p.PendingDelete, p.Suspect, p.Doubted
		}
		moved[i] = n
	}
	for h, p := range y.Places {
		if _, open := places[h]; open {
			continue
		}
		p.File = moved[p.File]
		places[h] = p
		if p.Patch {
			bases[h] = y.Bases[h]
		}
	}
	more := map[tree.Hash][]spare{}
	for h, list := range y.more {
		for _, sp := range list {
			sp.File = moved[sp.File]
			more[h] = append(more[h], sp)
		}
	}
	x.Places, x.Bases, x.more = places, bases, more
}

// Spares returns the further copies of a node, with their content files.
func (x *Index) Spares(h tree.Hash) (list []spare, files []*File) {
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	for _, sp := range x.more[h] {
		list, files = append(list, sp), append(files, x.Files[sp.File])
	}
	return list, files
}

func (x *Index) Find(h tree.Hash) (p Place, file *File, ok bool) {
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	if p, ok = x.Places[h]; ok {
		file = x.Files[p.File]
	}
	return p, file, ok
}

// keeps reports whether a node is in the store to stay: a patch only with its base,
// which may have gone when no point needed either. Doubted says that it is to be read
// first.
func (x *Index) keeps(h tree.Hash) (is, doubted bool) {
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	p, ok := x.Places[h]
	if !ok || !x.Files[p.File].Lasting() {
		return false, false
	}
	doubted = x.Files[p.File].Doubted
	if !p.Patch {
		return true, doubted
	}
	base, ok := x.Places[x.Bases[h]]
	return ok && !base.Patch && x.Files[base.File].Lasting(), doubted || ok && x.Files[base.File].Doubted
}

func (x *Index) BaseOf(h tree.Hash) tree.Hash {
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	return x.Bases[h]
}

func FileName(id string) string { return sealed.ContentPrefix + id[:2] + "/" + id }

type fileListing struct {
	Name   string
	Footer []byte
}

func encodeIndex(k *frame.Key, files []fileListing) []byte {
	var raw []byte
	for _, p := range files {
		raw = binary.AppendUvarint(raw, uint64(len(p.Name)))
		raw = append(raw, p.Name...)
		raw = binary.AppendUvarint(raw, uint64(len(p.Footer)))
		raw = append(raw, p.Footer...)
	}
	return k.Append([]byte(indexMagic), frame.Index, raw)
}

func DecodeIndex(ring frame.Ring, data []byte) ([]fileListing, error) {
	if len(data) < len(indexMagic) || string(data[:len(indexMagic)]) != indexMagic {
		return nil, fmt.Errorf("%w: does not begin as an index", sealed.ErrDamaged)
	}
	raw, _, err := frame.OpenWith(ring, data[len(indexMagic):], frame.Index)
	if err != nil {
		return nil, sealed.AsDamage(err)
	}
	var out []fileListing
	for len(raw) > 0 {
		var f [2][]byte
		for i := range f {
			n, l := binary.Uvarint(raw)
			if l <= 0 || n > uint64(len(raw)-l) {
				return nil, fmt.Errorf("%w: index cut short", sealed.ErrDamaged)
			}
			f[i], raw = raw[l:l+int(n)], raw[l+int(n):]
		}
		out = append(out, fileListing{string(f[0]), f[1]})
	}
	return out, nil
}

// loadIndex reads the lists of all content files: from index objects where they cover
// a content file, from the content file itself where not. A damaged index object costs time,
// nothing else. A content file whose own list is damaged is left out: reading a node
// that lies in it says so.
func (s *Content) loadIndex(ctx context.Context) (*Index, error) {
	b := s.Blob
	// What is marked for deletion is listed first: a content file that is listed after was not
	// there, or not marked for deletion, or is known to be.
	pending, err := s.PendingDeletes(ctx)
	if err != nil {
		return nil, err
	}
	suspect, err := s.Suspects(ctx)
	if err != nil {
		return nil, err
	}
	present := map[string]blob.Info{}
	err = b.List(ctx, sealed.ContentPrefix, func(i blob.Info) error { present[i.Name] = i; return nil })
	if err != nil {
		return nil, err
	}
	x := newIndex()
	var names []string
	err = b.List(ctx, sealed.ListingsPrefix, func(i blob.Info) error { names = append(names, i.Name); return nil })
	if err != nil {
		return nil, err
	}
	enter := func(name string, footer []byte) {
		i, ok := present[name]
		if !ok {
			return
		}
		if f, err := DecodeFooter(name, footer); err == nil {
			delete(present, name)
			objects, end := f.Entries, int64(0)
			for k := range objects {
				end = max(end, int64(objects[k].FrameOff)+int64(objects[k].FrameLen))
			}
			// One that is shorter than its list says has lost something.
			x.add(&File{Name: name, Size: i.Size, Made: i.Made, PendingDelete: pending[name],
				Suspect: suspect[name] || i.Size < end, Doubted: !s.Believed(name, f)}, objects)
		}
	}
	own := func() error {
		for name := range present {
			footer, err := s.ReadFooter(ctx, name)
			if errors.Is(err, sealed.ErrDamaged) || errors.Is(err, blob.ErrNotFound) {
				continue
			}
			if err != nil {
				return err
			}
			enter(name, footer)
		}
		return nil
	}
	if s.OwnLists.Load() {
		if err := own(); err != nil {
			return nil, err
		}
	}
	for _, n := range names {
		data, err := b.Read(ctx, n)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			continue
		}
		if err != nil {
			return nil, err
		}
		lists, err := DecodeIndex(s.Ring(ctx), data)
		if err != nil {
			continue
		}
		for _, l := range lists {
			enter(l.Name, l.Footer)
		}
	}
	if s.OwnLists.Load() {
		return x, nil
	}
	if err := own(); err != nil {
		return nil, err
	}
	return x, nil
}

// RebuildListings removes all index objects and writes one anew from the content files'
// own lists. It gives the number of content files and nodes found, and the content files whose
// list cannot be read.
func (s *Content) RebuildListings(ctx context.Context) (files, nodes int, unreadable []string, err error) {
	var old []string
	err = s.Blob.List(ctx, sealed.ListingsPrefix, func(i blob.Info) error { old = append(old, i.Name); return nil })
	if err != nil {
		return 0, 0, nil, err
	}
	x := newIndex()
	var lists []fileListing
	pending, err := s.PendingDeletes(ctx)
	if err != nil {
		return 0, 0, nil, err
	}
	suspect, err := s.Suspects(ctx)
	if err != nil {
		return 0, 0, nil, err
	}
	err = s.Blob.List(ctx, sealed.ContentPrefix, func(i blob.Info) error {
		footer, err := s.ReadFooter(ctx, i.Name)
		var f *Footer
		if err == nil {
			f, err = DecodeFooter(i.Name, footer)
		}
		if errors.Is(err, sealed.ErrDamaged) {
			unreadable = append(unreadable, i.Name)
			return nil
		}
		if err != nil {
			return err
		}
		x.add(&File{Name: i.Name, Size: i.Size, Made: i.Made, PendingDelete: pending[i.Name],
			Suspect: suspect[i.Name], Doubted: !s.Believed(i.Name, f)}, f.Entries)
		lists = append(lists, fileListing{i.Name, footer})
		return nil
	})
	if err != nil {
		return 0, 0, nil, err
	}
	if err := s.Blob.Create(ctx, sealed.ListingsPrefix+sealed.NewID(16), encodeIndex(s.ListKey(), lists)); err != nil {
		return 0, 0, nil, err
	}
	for _, n := range old {
		if err := s.Blob.Remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return 0, 0, nil, err
		}
	}
	s.Index.replace(x)
	return len(lists), len(x.Places), unreadable, nil
}
