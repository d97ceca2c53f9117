package store

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/tree"
)

// index says where each node lies. It is made from the packs' footers, or from
// the copies of them under index/, and can always be made anew.
type index struct {
	mu     sync.RWMutex
	packs  []*packInfo
	places map[tree.Hash]place
	bases  map[tree.Hash]tree.Hash
	// more are further copies of nodes that lie in several packs.
	more map[tree.Hash][]spare
}

// spare is a further copy of a node.
type spare struct {
	place
	base tree.Hash
}

type packInfo struct {
	name string
	size int64
	made time.Time // by the backend's clock
	// condemned: reclaim will remove it; nothing new may rely on it.
	condemned bool
	// suspect: an audit found damage in it; nothing new may rely on it, so that
	// what is lost is written anew when it comes by again.
	suspect bool
	// mem holds the pack's bytes so far while it is not yet in the backend.
	mem []byte
}

// lasts reports whether something new may rely on the pack.
func (p *packInfo) lasts() bool { return !p.condemned && !p.suspect }

type place struct {
	pack               uint32
	frameOff, frameLen uint32
	off, len           uint32
	patch, pieces      bool
}

const indexMagic = "DXIX\x01\x00\x00\x00"

func newIndex() *index {
	return &index{places: map[tree.Hash]place{}, bases: map[tree.Hash]tree.Hash{}, more: map[tree.Hash][]spare{}}
}

// add enters a pack's objects; the caller holds the lock or is alone.
func (x *index) add(pack *packInfo, objects []object) {
	id := uint32(len(x.packs))
	x.packs = append(x.packs, pack)
	for i := range objects {
		x.enter(id, &objects[i])
	}
}

func (x *index) enter(pack uint32, o *object) {
	now := place{pack, o.frameOff, o.frameLen, o.off, o.len, !o.base.IsZero(), o.pieces}
	if old, ok := x.places[o.name]; ok {
		// The same content twice: one that stays is better, then one that needs
		// no base.
		was, is := x.packs[old.pack].lasts(), x.packs[pack].lasts()
		if was && !is || was == is && (!old.patch || now.patch) {
			x.more[o.name] = append(x.more[o.name], spare{now, o.base})
			return
		}
		x.more[o.name] = append(x.more[o.name], spare{old, x.bases[o.name]})
	}
	x.places[o.name] = now
	delete(x.bases, o.name)
	if !o.base.IsZero() {
		x.bases[o.name] = o.base
	}
}

// replace has the index say what another one says; what is open in a writer
// stays. Packs keep their numbers, which the cache knows them by.
func (x *index) replace(y *index) {
	x.mu.Lock()
	defer x.mu.Unlock()
	number := map[string]uint32{}
	for i, p := range x.packs {
		number[p.name] = uint32(i)
	}
	places, bases := map[tree.Hash]place{}, map[tree.Hash]tree.Hash{}
	for h, p := range x.places {
		if x.packs[p.pack].mem != nil {
			places[h] = p
			if p.patch {
				bases[h] = x.bases[h]
			}
		}
	}
	moved := make([]uint32, len(y.packs))
	for i, p := range y.packs {
		n, ok := number[p.name]
		if !ok {
			n = uint32(len(x.packs))
			x.packs = append(x.packs, p)
		} else {
			x.packs[n].condemned, x.packs[n].suspect = p.condemned, p.suspect
		}
		moved[i] = n
	}
	for h, p := range y.places {
		if _, open := places[h]; open {
			continue
		}
		p.pack = moved[p.pack]
		places[h] = p
		if p.patch {
			bases[h] = y.bases[h]
		}
	}
	more := map[tree.Hash][]spare{}
	for h, list := range y.more {
		for _, sp := range list {
			sp.pack = moved[sp.pack]
			more[h] = append(more[h], sp)
		}
	}
	x.places, x.bases, x.more = places, bases, more
}

// spares returns the further copies of a node, with their packs.
func (x *index) spares(h tree.Hash) (list []spare, packs []*packInfo) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, sp := range x.more[h] {
		list, packs = append(list, sp), append(packs, x.packs[sp.pack])
	}
	return list, packs
}

func (x *index) find(h tree.Hash) (p place, pack *packInfo, ok bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if p, ok = x.places[h]; ok {
		pack = x.packs[p.pack]
	}
	return p, pack, ok
}

// keeps reports whether a node is in the store to stay: a patch only with its base,
// which may have gone when no point needed either.
func (x *index) keeps(h tree.Hash) bool {
	x.mu.RLock()
	defer x.mu.RUnlock()
	p, ok := x.places[h]
	if !ok || !x.packs[p.pack].lasts() {
		return false
	}
	if !p.patch {
		return true
	}
	base, ok := x.places[x.bases[h]]
	return ok && !base.patch && x.packs[base.pack].lasts()
}

func (x *index) baseOf(h tree.Hash) tree.Hash {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.bases[h]
}

func packName(id string) string { return contentPrefix + id[:2] + "/" + id }

type packList struct {
	name   string
	footer []byte
}

func encodeIndex(k *frame.Key, packs []packList) []byte {
	var raw []byte
	for _, p := range packs {
		raw = binary.AppendUvarint(raw, uint64(len(p.name)))
		raw = append(raw, p.name...)
		raw = binary.AppendUvarint(raw, uint64(len(p.footer)))
		raw = append(raw, p.footer...)
	}
	return k.Append([]byte(indexMagic), frame.Index, raw)
}

func decodeIndex(ring frame.Ring, data []byte) ([]packList, error) {
	if len(data) < len(indexMagic) || string(data[:len(indexMagic)]) != indexMagic {
		return nil, fmt.Errorf("%w: does not begin as an index", ErrDamaged)
	}
	raw, _, err := frame.OpenWith(ring, data[len(indexMagic):], frame.Index)
	if err != nil {
		return nil, damaged(err)
	}
	var out []packList
	for len(raw) > 0 {
		var f [2][]byte
		for i := range f {
			n, l := binary.Uvarint(raw)
			if l <= 0 || n > uint64(len(raw)-l) {
				return nil, fmt.Errorf("%w: index cut short", ErrDamaged)
			}
			f[i], raw = raw[l:l+int(n)], raw[l+int(n):]
		}
		out = append(out, packList{string(f[0]), f[1]})
	}
	return out, nil
}

// loadIndex reads the lists of all packs: from index objects where they cover
// a pack, from the pack itself where not. A damaged index object costs time,
// nothing else. A pack whose own list is damaged is left out: reading a node
// that lies in it says so.
func (s *Content) loadIndex(ctx context.Context) (*index, error) {
	b := s.blob
	// What is condemned is listed first: a pack that is listed after was not
	// there, or not condemned, or is known to be.
	condemned, err := s.condemned(ctx)
	if err != nil {
		return nil, err
	}
	suspect, err := s.suspects(ctx)
	if err != nil {
		return nil, err
	}
	present := map[string]blob.Info{}
	err = b.List(ctx, contentPrefix, func(i blob.Info) error { present[i.Name] = i; return nil })
	if err != nil {
		return nil, err
	}
	x := newIndex()
	var names []string
	err = b.List(ctx, listingsPrefix, func(i blob.Info) error { names = append(names, i.Name); return nil })
	if err != nil {
		return nil, err
	}
	enter := func(name string, footer []byte) {
		i, ok := present[name]
		if !ok {
			return
		}
		if objects, err := readFooter(footer); err == nil {
			delete(present, name)
			end := int64(0)
			for k := range objects {
				end = max(end, int64(objects[k].frameOff)+int64(objects[k].frameLen))
			}
			// One that is shorter than its list says has lost something.
			x.add(&packInfo{name: name, size: i.Size, made: i.Made, condemned: condemned[name], suspect: suspect[name] || i.Size < end}, objects)
		}
	}
	own := func() error {
		for name := range present {
			footer, err := s.readPackFooter(ctx, name)
			if errors.Is(err, ErrDamaged) || errors.Is(err, blob.ErrNotFound) {
				continue
			}
			if err != nil {
				return err
			}
			enter(name, footer)
		}
		return nil
	}
	if s.ownLists.Load() {
		if err := own(); err != nil {
			return nil, err
		}
	}
	for _, n := range names {
		data, err := b.Read(ctx, n)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, ErrDamaged) {
			continue
		}
		if err != nil {
			return nil, err
		}
		lists, err := decodeIndex(s.ring(), data)
		if err != nil {
			continue
		}
		for _, l := range lists {
			enter(l.name, l.footer)
		}
	}
	if s.ownLists.Load() {
		return x, nil
	}
	if err := own(); err != nil {
		return nil, err
	}
	return x, nil
}

// RebuildIndex removes all index objects and writes one anew from the packs'
// own lists. It gives the number of packs and nodes found, and the packs whose
// list cannot be read.
func (s *Content) RebuildIndex(ctx context.Context) (packs, nodes int, unreadable []string, err error) {
	var old []string
	err = s.blob.List(ctx, listingsPrefix, func(i blob.Info) error { old = append(old, i.Name); return nil })
	if err != nil {
		return 0, 0, nil, err
	}
	x := newIndex()
	var lists []packList
	condemned, err := s.condemned(ctx)
	if err != nil {
		return 0, 0, nil, err
	}
	suspect, err := s.suspects(ctx)
	if err != nil {
		return 0, 0, nil, err
	}
	err = s.blob.List(ctx, contentPrefix, func(i blob.Info) error {
		footer, err := s.readPackFooter(ctx, i.Name)
		var objects []object
		if err == nil {
			objects, err = readFooter(footer)
		}
		if errors.Is(err, ErrDamaged) {
			unreadable = append(unreadable, i.Name)
			return nil
		}
		if err != nil {
			return err
		}
		x.add(&packInfo{name: i.Name, size: i.Size, made: i.Made, condemned: condemned[i.Name], suspect: suspect[i.Name]}, objects)
		lists = append(lists, packList{i.Name, footer})
		return nil
	})
	if err != nil {
		return 0, 0, nil, err
	}
	if err := s.blob.Create(ctx, listingsPrefix+newID(16), encodeIndex(s.listKey(), lists)); err != nil {
		return 0, 0, nil, err
	}
	for _, n := range old {
		if err := s.blob.Remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return 0, 0, nil, err
		}
	}
	s.index.replace(x)
	return len(lists), len(x.places), unreadable, nil
}
