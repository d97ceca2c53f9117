package content

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"

	"dexamen/internal/core/frame"
	"dexamen/internal/core/tempfile"
	"dexamen/internal/core/tree"
)

// Scratch holds trees that are needed for a while and not kept: a moment
// between two points, or what a cluster holds now. Nodes that the store has
// are taken from there; the others lie in a temporary file that has no name,
// so that nothing is left behind, whatever happens.
type Scratch struct {
	store *Content
	mu    sync.Mutex
	file  *os.File
	end   int64
	at    map[tree.Hash]span
	cache *frameCache
}

type span struct {
	off int64
	n   int
	seq uint32
}

// NewScratch makes an empty scratch whose file is in dir (the system's folder
// when empty).
func (s *Content) NewScratch(dir string) (*Scratch, error) {
	f, err := tempfile.New(dir, "dexamen-scratch-*")
	if err != nil {
		return nil, fmt.Errorf("scratch file: %w", err)
	}
	return &Scratch{store: s, file: f, at: map[tree.Hash]span{}, cache: newFrameCache(8 << 20)}, nil
}

// Close removes the file.
func (x *Scratch) Close() { _ = x.file.Close() }

// Cuts implements [tree.Sink]: those of the store that it is beside.
func (x *Scratch) Cuts() tree.Cuts { return x.store.Cuts() }

// PutNode implements [tree.Sink].
func (x *Scratch) PutNode(ctx context.Context, h tree.Hash, node []byte, _ tree.Hash) error {
	if x.store.Keeps(ctx, h) {
		return nil
	}
	return x.keep(h, node)
}

// keep puts a node into the file, whether or not the store has it.
func (x *Scratch) keep(h tree.Hash, node []byte) error {
	x.mu.Lock()
	_, ok := x.at[h]
	x.mu.Unlock()
	if ok {
		return nil
	}
	f := frame.Append(nil, frame.Leaf, node)
	x.mu.Lock()
	off := x.end
	x.end += int64(len(f))
	x.at[h] = span{off, len(f), uint32(len(x.at))}
	x.mu.Unlock()
	if _, err := x.file.WriteAt(f, off); err != nil {
		return fmt.Errorf("scratch file: %w", err)
	}
	return nil
}

// Node implements [tree.Source].
func (x *Scratch) Node(ctx context.Context, h tree.Hash) ([]byte, error) {
	x.mu.Lock()
	sp, ok := x.at[h]
	x.mu.Unlock()
	if !ok {
		return x.store.Node(ctx, h)
	}
	key := frameKey{0, sp.seq}
	if raw, ok := x.cache.get(key); ok {
		return raw, nil
	}
	b := make([]byte, sp.n)
	if _, err := x.file.ReadAt(b, sp.off); err != nil {
		return nil, fmt.Errorf("scratch file: %w", err)
	}
	raw, _, err := frame.Open(b, frame.Leaf)
	if err == nil && tree.HashOf(raw) != h {
		err = errors.New("content is not what its name says")
	}
	if err != nil {
		return nil, fmt.Errorf("scratch file: %w", err)
	}
	x.cache.put(key, raw)
	return raw, nil
}

// Give stores what a tree has in the scratch alone, so that other processes can read it.
func (x *Scratch) Give(ctx context.Context, root tree.Root, w *Writer) error {
	return tree.Nodes(ctx, x, root, func(n tree.NodeInfo) (bool, error) {
		x.mu.Lock()
		_, mine := x.at[n.Hash]
		x.mu.Unlock()
		if !mine { // the store has it, and what is below it
			return false, nil
		}
		b, err := x.Node(ctx, n.Hash)
		if err == nil {
			err = w.PutNode(ctx, n.Hash, b, tree.Hash{})
		}
		return true, err
	})
}
