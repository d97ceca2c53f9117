package content

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// Node implements [tree.Source]. What it returns has been checked twice: the
// frame against its checksum, and the node against its name.
func (s *Content) Node(ctx context.Context, h tree.Hash) ([]byte, error) {
	return s.node(ctx, h, 0)
}

func (s *Content) node(ctx context.Context, h tree.Hash, depth int) ([]byte, error) {
	c, file, ok := s.Index.best(h)
	if !ok && s.stale() {
		// Perhaps another process has written it since.
		if err := s.Refresh(ctx); err != nil {
			return nil, err
		}
		if c, file, ok = s.Index.best(h); !ok {
			s.lastMiss.Store(time.Now().UnixNano())
		}
	}
	if !ok {
		return nil, fmt.Errorf("node %s: %w", h.Short(), sealed.ErrMissing)
	}
	node, err := s.nodeAt(ctx, h, c.Place, file, c.Base, depth)
	if errors.Is(err, sealed.ErrDamaged) || errors.Is(err, sealed.ErrMissing) {
		list, files := s.Index.Spares(h, c.Place)
		for i, sp := range list {
			if node, serr := s.nodeAt(ctx, h, sp.Place, files[i], sp.Base, depth); serr == nil {
				return node, nil
			}
		}
		var base baseError
		if !errors.As(err, &base) { // else the other one was found to be damaged
			s.distrust(file)
		}
	}
	return node, err
}

// baseError is returned when what a patch is of cannot be read.
type baseError struct{ error }

func (e baseError) Unwrap() error { return e.error }

// Keeps reports whether a node is in the store to stay, so that new content can rely on it.
// One of which nobody vouches that it is there is read first, once.
func (s *Content) Keeps(ctx context.Context, h tree.Hash) bool {
	is, doubted := s.Index.keeps(h)
	if !is || !doubted {
		return is
	}
	c, file, ok := s.Index.best(h)
	if _, read := s.proven.Load(provenCopy{h, c.File}); ok && read {
		return true
	}
	if !ok {
		return false
	}
	if _, err := s.nodeAt(ctx, h, c.Place, file, c.Base, 0); err != nil {
		if errors.Is(err, sealed.ErrDamaged) {
			s.distrust(file)
		}
		return false
	}
	s.proven.Store(provenCopy{h, c.File}, true)
	return true
}

// provenCopy is a copy of a node that was read.
type provenCopy struct {
	node tree.Hash
	file uint32
}

// NodeIn reads a node from one content file alone, by that file's entry; what it is a patch
// of is read from wherever it is found. The node is what its name says.
func (s *Content) NodeIn(ctx context.Context, file string, o Entry) ([]byte, error) {
	s.Index.Mu.RLock()
	number, ok := s.Index.number[file]
	var f *File
	if ok && !s.Index.Files[number].Gone {
		f = s.Index.Files[number]
	}
	s.Index.Mu.RUnlock()
	if f == nil {
		return nil, fmt.Errorf("node %s in %s: %w", o.Name.Short(), file, sealed.ErrMissing)
	}
	return s.nodeAt(ctx, o.Name, o.in(number), f, o.Base, 0)
}

// distrust has nothing new rely on a content file in which reading found damage.
func (s *Content) distrust(file *File) {
	s.Index.Mu.Lock()
	defer s.Index.Mu.Unlock()
	if file.mem == nil && file.Lasting() {
		file.Suspect = true
		s.distrusted.Store(file.Name, true)
	}
}

// Distrust records in which content files reading has found damage since the
// last call, and tells whether there were any. What lies in them is stored anew
// when it comes again.
func (s *Content) Distrust(ctx context.Context) (bool, error) {
	var names []string
	s.distrusted.Range(func(name, _ any) bool { names = append(names, name.(string)); return true })
	for _, n := range names {
		s.distrusted.Delete(n)
	}
	if len(names) == 0 {
		return false, nil
	}
	return true, s.Suspect(ctx, names)
}

// nodeAt reads a node from one place.
func (s *Content) nodeAt(ctx context.Context, h tree.Hash, p Place, file *File, baseName tree.Hash,
	depth int) ([]byte, error) {
	raw, err := s.frame(ctx, p, file)
	if err != nil {
		return nil, fmt.Errorf("node %s in %s: %w", h.Short(), file.Name, err)
	}
	if uint64(p.off)+uint64(p.Len) > uint64(len(raw)) {
		return nil, fmt.Errorf("node %s in %s: %w: lies outside its frame", h.Short(), file.Name, sealed.ErrDamaged)
	}
	node := raw[p.off : p.off+p.Len : p.off+p.Len]
	if p.Patch {
		if depth > 0 {
			return nil, fmt.Errorf("node %s: %w: a patch of a patch", h.Short(), sealed.ErrDamaged)
		}
		base, err := s.node(ctx, baseName, depth+1)
		if err != nil {
			return nil, fmt.Errorf("node %s: its base: %w", h.Short(), baseError{err})
		}
		if node, err = tree.ApplyPatch(base, node); err != nil {
			return nil, fmt.Errorf("node %s in %s: %w: %w", h.Short(), file.Name, sealed.ErrDamaged, err)
		}
	}
	if tree.HashOf(node) != h {
		return nil, fmt.Errorf("node %s in %s: %w: content is not what its name says", h.Short(), file.Name,
			sealed.ErrDamaged)
	}
	return node, nil
}

// frame returns a frame's content, from the cache where it is there.
func (s *Content) frame(ctx context.Context, p Place, file *File) ([]byte, error) {
	key := frameKey{p.File, p.FrameOff}
	if raw, ok := s.Cache.get(key); ok {
		return raw, nil
	}
	s.Index.Mu.RLock()
	var b []byte
	if end := int(p.FrameOff) + int(p.FrameLen); file.mem != nil && end <= len(file.mem) {
		b = bytes.Clone(file.mem[p.FrameOff:end]) // the writer uses the room again
	}
	s.Index.Mu.RUnlock()
	raw, err := []byte(nil), error(nil)
	if b == nil {
		b, err = s.readAhead(ctx, p, file)
		switch {
		case errors.Is(err, blob.ErrNotFound):
			err = fmt.Errorf("%w: %w", sealed.ErrMissing, err)
		case errors.Is(err, blob.ErrRange):
			err = fmt.Errorf("%w: %w", sealed.ErrDamaged, err)
		}
	}
	if err == nil {
		raw, err = s.OpenNodes(ctx, b)
	}
	if errors.Is(err, sealed.ErrDamaged) {
		// What parity gives back is checked as anything else that is read.
		if whole, rerr := s.RebuildObject(ctx, file.Name); rerr == nil &&
			int(p.FrameOff)+int(p.FrameLen) <= len(whole) {
			raw, err = s.OpenNodes(ctx, whole[p.FrameOff:p.FrameOff+p.FrameLen])
		}
	}
	if err != nil {
		return nil, err
	}
	s.Cache.put(key, raw)
	return raw, nil
}

// OpenNodes opens a frame with nodes.
func (s *Content) OpenNodes(ctx context.Context, b []byte) ([]byte, error) {
	h, err := frame.ReadHeader(b)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", sealed.ErrDamaged, err)
	}
	if h.Kind != frame.Leaf && h.Kind != frame.Shared {
		return nil, fmt.Errorf("%w: frame of kind %d where nodes belong", sealed.ErrDamaged, h.Kind)
	}
	raw, _, err := frame.OpenWith(s.Ring(ctx), b, h.Kind)
	if err != nil {
		return nil, sealed.AsDamage(err)
	}
	return raw, nil
}

type frameKey struct{ pack, off uint32 }

// frameCache keeps the frames used last, up to a bound of bytes.
type frameCache struct {
	mu    sync.Mutex
	bound int
	size  int
	lru   *simplelru.LRU[frameKey, []byte]
}

func newFrameCache(bound int) *frameCache {
	c := &frameCache{bound: bound}
	// The bound is of bytes: that of the number of frames is never met.
	lru, err := simplelru.NewLRU(math.MaxInt32, func(_ frameKey, raw []byte) { c.size -= len(raw) })
	if err != nil {
		panic(err) // of a bound below one
	}
	c.lru = lru
	return c
}

func (c *frameCache) get(k frameKey) ([]byte, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lru.Get(k)
}

func (c *frameCache) put(k frameKey, raw []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lru.Contains(k) || len(raw) > c.bound/4 {
		return
	}
	c.lru.Add(k, raw)
	c.size += len(raw)
	for c.size > c.bound {
		c.lru.RemoveOldest()
	}
}

// Clear forgets all frames.
func (c *frameCache) Clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lru.Purge()
}
