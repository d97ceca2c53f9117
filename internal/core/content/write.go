package content

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"dexamen/internal/core/frame"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// sharedBytes is how much content small nodes and patches share a frame.
const sharedBytes = 128 << 10

// patchLimit: a patch longer than this part of its leaf is not worth it.
const patchLimit = 4

// Writer takes the nodes of one piece of work. It is a [tree.Sink], and a
// [tree.Source] for what is in the store and what it took itself.
type Writer struct {
	s    *Content
	ctx  context.Context // of the whole piece of work, whoever hands nodes in
	jobs chan writeJob
	wg   sync.WaitGroup

	key *frame.Key // for content; nil in a plain store
	// local holds nodes that are in the store and cannot be read with a key
	// that lets write only.
	local   *Scratch
	keyOnce sync.Once

	mu      sync.Mutex
	err     error
	pending map[tree.Hash][]byte // taken, not yet in a frame
	pack    *File                // open content file, in the index with its bytes in mem
	packID  uint32
	away    int // full content files on their way
	// unstored are the open content file and those that are not in the backend yet.
	unstored map[*File]bool
	stored   *sync.Cond // that one has arrived, or failed to
	free     [][]byte   // the room of those that have
	objects  []Entry
	shared   []byte // small nodes and patches, waiting for their frame
	waiting  []Entry
	lists    map[*File][]byte // of full content files that are not in the backend yet
	// stable are those that are, and in no listing yet; listed is how many bytes their lists are.
	stable []fileListing
	listed int
	stats  WriteStats
}

type writeJob struct {
	h    tree.Hash
	node []byte
	near tree.Hash
}

// WriteStats counts what a Writer did.
type WriteStats struct {
	// New nodes were written, Known ones were in the store already; Patched
	// of the new ones were stored as patches.
	New, Known, Patched int64
	// Content is the bytes of new nodes; Stored what they take in the store.
	Content, Stored int64
}

// NewWriter begins a piece of work that ends early when ctx does. Nodes are
// stored after PutNode has returned, so ctx must outlive every context that
// PutNode is called with. Flush or Abandon must be called.
func (s *Content) NewWriter(ctx context.Context) *Writer {
	n := s.Limits.Workers
	if n <= 0 {
		n = min(runtime.GOMAXPROCS(0), 8)
	}
	w := &Writer{s: s, ctx: ctx, jobs: make(chan writeJob, n), pending: map[tree.Hash][]byte{},
		unstored: map[*File]bool{}, lists: map[*File][]byte{}}
	w.stored = sync.NewCond(&w.mu)
	for range n {
		w.wg.Go(func() {
			for j := range w.jobs {
				if err := w.write(j); err != nil {
					w.fail(err)
				}
			}
		})
	}
	return w
}

func (w *Writer) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = err
	}
}

// Cuts implements [tree.Sink].
func (w *Writer) Cuts() tree.Cuts { return w.s.Cuts() }

// PutNode implements [tree.Sink].
func (w *Writer) PutNode(ctx context.Context, h tree.Hash, node []byte, near tree.Hash) error {
	w.begin()
	known := w.s.Keeps(w.ctx, h)
	w.mu.Lock()
	if w.err != nil {
		defer w.mu.Unlock()
		return w.err
	}
	if _, ok := w.pending[h]; ok || known {
		w.stats.Known++
		w.mu.Unlock()
		if known && w.local != nil {
			return w.local.keep(h, node)
		}
		return nil
	}
	w.stats.New++
	w.stats.Content += int64(len(node))
	w.pending[h] = node
	if len(node) < sharedBytes/8 {
		file, err := w.share(Entry{Name: h, NamesPieces: tree.NamesPieces(node)}, node)
		w.mu.Unlock()
		if err = errors.Join(err, w.store(w.ctx, file)); err != nil {
			w.fail(err) // the content file holds what others have handed in
		}
		return err
	}
	w.mu.Unlock()
	select {
	case w.jobs <- writeJob{h, node, near}:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Enlist makes the writer known before it takes anything: what others write for the same piece of work from then
// on is spared until it ends.
func (w *Writer) Enlist() error {
	w.begin()
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// begin makes the writer known before it relies on anything, and gets its key.
func (w *Writer) begin() {
	w.keyOnce.Do(func() {
		err := w.s.Enlist(w.ctx, w.s.Refresh)
		if err == nil {
			w.key, err = w.s.ContentKey(w.ctx)
		}
		if err == nil && w.s.WriteOnly() {
			w.local, err = w.s.NewScratch(w.s.Limits.Temp)
		}
		if err != nil {
			w.fail(err)
		}
	})
}

// Again takes a node that the store has, to store it once more.
func (w *Writer) Rewrite(h tree.Hash, node []byte) error {
	w.begin()
	w.mu.Lock()
	if w.err != nil {
		defer w.mu.Unlock()
		return w.err
	}
	w.pending[h] = node
	w.mu.Unlock()
	w.jobs <- writeJob{h: h, node: node}
	return nil
}

// Node implements [tree.Source].
func (w *Writer) Node(ctx context.Context, h tree.Hash) ([]byte, error) {
	w.mu.Lock()
	node, ok := w.pending[h]
	w.mu.Unlock()
	if ok {
		return node, nil
	}
	if w.local != nil {
		return w.local.Node(ctx, h)
	}
	return w.s.Node(ctx, h)
}

// write stores one leaf or piece, as a patch where that is small.
func (w *Writer) write(j writeJob) error {
	pieces := tree.NamesPieces(j.node)
	if patch, base := w.patch(j); patch != nil {
		w.mu.Lock()
		w.stats.Patched++
		file, err := w.share(Entry{Name: j.h, Base: base, NamesPieces: pieces}, patch)
		w.mu.Unlock()
		return errors.Join(err, w.store(w.ctx, file))
	}
	f := w.key.AppendWith(w.effort(), nil, frame.Leaf, j.node)
	w.mu.Lock()
	file := w.append(f, []Entry{{Name: j.h, Len: uint32(len(j.node)), NamesPieces: pieces}})
	w.mu.Unlock()
	return w.store(w.ctx, file)
}

// effort returns how hard a frame is compressed.
func (w *Writer) effort() frame.Effort {
	switch w.s.Limits.Compress {
	case sealed.CompressSmall:
		return frame.Small
	case sealed.CompressAuto:
		if len(w.jobs) == 0 { // nobody waits
			return frame.Middle
		}
	}
	return frame.Fast
}

// patch tries to express a leaf against a similar one that is stored in full.
// Any trouble with that one is no reason to fail: the leaf is stored in full.
func (w *Writer) patch(j writeJob) ([]byte, tree.Hash) {
	base := j.near
	if base.IsZero() {
		return nil, base
	}
	c, _, ok := w.s.Index.best(base)
	if !ok {
		return nil, base
	}
	if c.Patch {
		base = c.Base
	}
	if !w.s.Keeps(w.ctx, base) {
		return nil, base
	}
	content, err := w.s.Node(w.ctx, base)
	if err != nil {
		return nil, base
	}
	patch, ok := tree.EncodePatch(content, j.node, len(j.node)/patchLimit)
	if !ok {
		return nil, base
	}
	// What will be read back is tried now, while the leaf is at hand.
	if back, err := tree.ApplyPatch(content, patch); err != nil || !bytes.Equal(back, j.node) {
		return nil, base
	}
	return patch, base
}

// share puts small content into the frame being gathered; the lock is held.
func (w *Writer) share(o Entry, content []byte) (*File, error) {
	o.Off, o.Len = uint32(len(w.shared)), uint32(len(content))
	w.shared = append(w.shared, content...)
	w.waiting = append(w.waiting, o)
	if len(w.shared) < sharedBytes {
		return nil, nil
	}
	return w.endShared(), nil
}

func (w *Writer) endShared() *File {
	if len(w.waiting) == 0 {
		return nil
	}
	f, objects := w.key.AppendWith(w.effort(), nil, frame.Shared, w.shared), w.waiting
	w.shared, w.waiting = w.shared[:0], nil // before append, which lets others have the lock
	return w.append(f, objects)
}

// append puts a frame into the open content file and the index; the lock is held, but
// for a while when too many content files are on their way. When the content file is full it is
// handed back, for store.
func (w *Writer) append(f []byte, objects []Entry) (full *File) {
	most := max(2, w.s.Limits.WriteBytes/fileCapacity(w.s.Limits.FileBytes))
	for w.pack == nil && w.away >= most-1 {
		w.stored.Wait()
	}
	x := w.s.Index
	x.Mu.Lock()
	defer x.Mu.Unlock()
	if w.pack == nil {
		w.pack = &File{Name: FileName(sealed.NewID(16)), mem: append(w.buffer(), FileMagic...)}
		w.packID = x.file(w.pack)
		w.unstored[w.pack] = true
	}
	for i := range objects {
		o := &objects[i]
		o.FrameOff, o.FrameLen = uint32(len(w.pack.mem)), uint32(len(f))
		x.enter(w.packID, o)
		delete(w.pending, o.Name)
	}
	w.pack.mem = append(w.pack.mem, f...)
	w.objects = append(w.objects, objects...)
	w.stats.Stored += int64(len(f))
	if len(w.pack.mem) < w.s.Limits.FileBytes {
		return nil
	}
	return w.takeFile()
}

// buffer reuses the buffer of an earlier content file, to bound garbage. The lock is held.
func (w *Writer) buffer() []byte {
	if n := len(w.free); n > 0 {
		room := w.free[n-1]
		w.free = w.free[:n-1]
		return room[:0]
	}
	return make([]byte, 0, fileCapacity(w.s.Limits.FileBytes))
}

// fileCapacity is what a content file takes that is closed at n bytes, with its last frame
// and its footer.
func fileCapacity(n int) int { return n + n/8 }

// takePack ends the open content file; both locks are held.
func (w *Writer) takeFile() *File {
	file := w.pack
	whole, footer := w.s.sealFile(file.Name, file.mem, w.objects)
	file.mem, file.Size = whole, int64(len(whole))
	w.lists[file] = footer
	w.pack, w.objects = nil, nil
	w.away++
	return file
}

// store makes a full content file durable; no lock is held.
func (w *Writer) store(ctx context.Context, file *File) error {
	if file == nil {
		return nil
	}
	err := w.s.CreateObject(ctx, file.Name, file.mem)
	room := file.mem
	if err == nil {
		w.s.Index.isStored(file)
	}
	w.mu.Lock()
	w.away--
	var list []fileListing
	if err == nil { // else somebody may be sending it still
		w.free = append(w.free, room)
		delete(w.unstored, file)
		w.stable = append(w.stable, fileListing{file.Name, w.lists[file]})
		w.listed += len(w.lists[file])
		delete(w.lists, file)
		if w.listed >= listedAtOnce {
			list, w.stable, w.listed = w.stable, nil, 0
		}
	}
	w.mu.Unlock()
	w.stored.Broadcast()
	if err == nil {
		err = w.s.spill()
	}
	if err == nil {
		err = w.list(ctx, list)
	}
	return err
}

// listedAtOnce is about how much a listing says, in bytes, that is written while more is to come: what a writer holds
// does not grow with what it writes.
const listedAtOnce = 2 << 20

// list writes a listing of content files that are in the backend.
func (w *Writer) list(ctx context.Context, files []fileListing) error {
	if len(files) == 0 {
		return nil
	}
	return w.s.Blob.Create(ctx, sealed.ListingsPrefix+sealed.NewID(16), encodeIndex(w.s.ListKey(), files))
}

// Flush makes all that was taken durable and findable. The writer is spent.
func (w *Writer) Flush(ctx context.Context) (WriteStats, error) {
	w.end()
	if err := w.flush(ctx); err != nil {
		return w.Stats(), err
	}
	return w.Stats(), w.list(ctx, w.stable)
}

// flush stores what is left; nobody else is at work any more.
func (w *Writer) flush(ctx context.Context) error {
	w.mu.Lock()
	err := w.err
	var last []*File
	if err == nil {
		last = append(last, w.endShared())
		if w.pack != nil {
			w.s.Index.Mu.Lock()
			last = append(last, w.takeFile())
			w.s.Index.Mu.Unlock()
		}
		if len(w.pending) > 0 {
			err = fmt.Errorf("store: %d nodes were taken and not written", len(w.pending))
		}
	}
	w.mu.Unlock()
	for _, p := range last {
		if err != nil {
			break
		}
		err = w.store(ctx, p)
	}
	return err
}

func (w *Writer) end() {
	close(w.jobs)
	w.wg.Wait()
	if w.local != nil {
		w.local.Close()
	}
}

// Abandon ends the work without keeping what is not yet durable. Content files that
// are durable stay: the next attempt finds and uses what is in them.
func (w *Writer) Abandon() {
	w.end()
	for file := range w.unstored {
		w.s.Index.leave(file)
	}
}

// Stats returns what was done so far.
func (w *Writer) Stats() WriteStats {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.stats
}
