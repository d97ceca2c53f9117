package folder

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
)

const (
	// ahead bounds the bytes that are read ahead of what has been taken.
	ahead = 16 << 20
	// smallCost is what a file counts for at least.
	smallCost = 16 << 10
	// unsure is how long before now a file must have been written last for its times to
	// tell of the next time: clocks of file systems are coarse.
	unsure = int64(2 * time.Second)
	// readersPerHost is how many files are read at once.
	readersPerHost = 8
)

// note is what is kept of a file to tell whether it has changed: what its listing says, and
// of which file it is a hard link.
func note(e *files.Entry, linkTo string) []byte {
	var b []byte
	for _, v := range []uint64{uint64(e.Kind), e.Ino, uint64(e.Size), uint64(e.MTime), uint64(e.CTime)} {
		b = binary.AppendUvarint(b, v)
	}
	return append(b, linkTo...)
}

// Revisit implements [engine.Revisited].
func (c *cluster) Revisit(ctx context.Context, ns engine.Namespace,
	before func() (record.Record, bool, error), v engine.Visit) error {
	p, dir := c.find(ns.Name)
	if err := c.finish(ctx, ns.Name); err != nil {
		return err
	}
	now, err := p.host.Stat(ctx, dir, "")
	if errors.Is(err, files.ErrNoFolder) {
		return fmt.Errorf("%w: %w", engine.ErrMoved, err)
	}
	if err != nil {
		return err
	}
	if len(ns.Ident) > 0 && !bytes.Equal(ns.Ident, identOf(&now)) {
		return fmt.Errorf("%s: %w", dir, engine.ErrMoved)
	}
	began, _, err := p.host.Clock(ctx)
	if err != nil {
		return err
	}
	r := &reading{host: p.host, root: dir, visit: v, before: before, began: began, held: c.isHeld(),
		walk: func(ctx context.Context, fn func([]files.Entry) error) error {
			return p.host.Walk(ctx, dir, c.rules, fn)
		}}
	return r.run(ctx)
}

// run goes through the folder.
func (r *reading) run(ctx context.Context) error {
	r.room, r.readers = semaphore.NewWeighted(ahead), make(chan struct{}, readersPerHost)
	r.queue, r.links = make(chan *task, 1024), map[[2]uint64]string{}
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(r.queue)
		return r.list(gctx)
	})
	g.Go(func() error { return r.emit(gctx) })
	if err := g.Wait(); err != nil {
		return err
	}
	r.end()
	return nil
}

func (c *cluster) isHeld() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.held
}

// reading is one pass over a folder. One goroutine lists it and has files read ahead,
// another one hands on in order.
type reading struct {
	host    files.Host
	root    string
	walk    func(ctx context.Context, fn func([]files.Entry) error) error
	visit   engine.Visit
	before  func() (record.Record, bool, error)
	began   int64 // by the host's clock
	held    bool
	cloned  bool // what is read are clones of what was listed
	room    *semaphore.Weighted
	readers chan struct{}
	queue   chan *task
	links   map[[2]uint64]string // path of the first of a file's names

	last    record.Record // of the notes before, not passed yet
	more    bool
	begun   bool
	left    map[files.Kind][]string // what is of a kind that is not kept
	changed []string
	skipped int
}

// task is a step in order: exactly one of its parts is set.
type task struct {
	gone   []byte // prefix of a file that is no more
	same   *record.Record
	failed *files.Entry
	// file is read: result comes when it is, and pieces follow.
	file   *files.Entry
	linkTo string
	cost   int64
	result chan answer
	// piece is the content at an offset.
	piece  *files.Entry
	offset int64
	// end says that all of a large file has been handed on.
	end    *files.Entry
	handle uint64
}

type answer struct {
	content files.Content
	data    []byte
	err     error
}

func (r *reading) send(ctx context.Context, t *task) error {
	select {
	case r.queue <- t:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// read has something read ahead, as far as there is room.
func (r *reading) read(ctx context.Context, t *task, cost int64, fn func() answer) error {
	t.cost, t.result = max(cost, smallCost), make(chan answer, 1)
	if err := r.room.Acquire(ctx, t.cost); err != nil {
		return err
	}
	select {
	case r.readers <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	go func() {
		defer func() { <-r.readers }()
		t.result <- fn()
	}()
	return r.send(ctx, t)
}

func (r *reading) pull() (err error) {
	if r.before == nil {
		return nil
	}
	var n record.Record
	n, r.more, err = r.before()
	if err == nil && r.more {
		r.last = record.Record{Key: bytes.Clone(n.Key), Value: bytes.Clone(n.Value)}
	}
	return err
}

// passGone tells of what was noted before a key and is no more.
func (r *reading) passGone(ctx context.Context, key []byte) error {
	if !r.begun {
		r.begun = true
		if err := r.pull(); err != nil {
			return err
		}
	}
	for r.more && (key == nil || bytes.Compare(r.last.Key, key) < 0) {
		if err := r.send(ctx, &task{gone: r.last.Key}); err != nil {
			return err
		}
		if err := r.pull(); err != nil {
			return err
		}
	}
	return nil
}

func (r *reading) list(ctx context.Context) error {
	err := r.walk(ctx, func(batch []files.Entry) error {
		for i := range batch {
			if batch[i].Path == "" {
				continue
			}
			e := batch[i]
			if err := r.entry(ctx, &e); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.passGone(ctx, nil)
}

func (r *reading) entry(ctx context.Context, e *files.Entry) error {
	if e.Failed != "" {
		// A folder that cannot be listed: its own record stands before.
		return r.send(ctx, &task{failed: e})
	}
	key := files.Prefix(e.Path)
	if err := r.passGone(ctx, key); err != nil {
		return err
	}
	linkTo := ""
	if e.Kind == files.Regular && e.Links > 1 {
		id := [2]uint64{e.Dev, e.Ino}
		if first, ok := r.links[id]; ok {
			linkTo = first
		} else {
			r.links[id] = e.Path
		}
	}
	n := note(e, linkTo)
	if r.more && bytes.Equal(r.last.Key, key) {
		same := bytes.Equal(r.last.Value, n)
		if err := r.pull(); err != nil {
			return err
		}
		if same {
			return r.send(ctx, &task{same: &record.Record{Key: key, Value: n}})
		}
	}
	if e.Kind == files.Socket || e.Kind == files.Device {
		return r.send(ctx, &task{file: e})
	}
	if e.Kind == files.Regular && e.Size > files.Inline && linkTo == "" {
		return r.large(ctx, e)
	}
	cost := int64(0)
	if e.Kind == files.Regular {
		cost = e.Size
	}
	return r.read(ctx, &task{file: e, linkTo: linkTo}, cost, func() answer {
		content, err := r.open(ctx, e)
		if content.Handle != 0 { // it has grown: what there was when it was listed is taken
			data, rerr := r.host.ReadAt(ctx, content.Handle, 0, int(e.Size))
			err = errors.Join(err, rerr, r.host.CloseFile(content.Handle))
			content.Data, content.Entry.Size, content.Handle, content.Changed = data, int64(len(data)), 0, true
		}
		return answer{content: content, err: err}
	})
}

// open reads what belongs to a file's listing. A clone is described by what it is of.
func (r *reading) open(ctx context.Context, e *files.Entry) (files.Content, error) {
	if !r.cloned {
		return r.host.Read(ctx, r.root, *e)
	}
	clone := *e
	clone.Ino, clone.Dev = 0, 0
	content, err := r.host.Read(ctx, r.root, clone)
	content.Entry = *e
	return content, err
}

// large has a file read that is not read at once. It is kept open: one that another file
// takes the place of meanwhile is read as it was.
func (r *reading) large(ctx context.Context, e *files.Entry) error {
	content, err := r.open(ctx, e)
	h := content.Handle
	t := &task{file: e, cost: smallCost, result: make(chan answer, 1)}
	t.result <- answer{content: content, err: err}
	if err := r.room.Acquire(ctx, t.cost); err != nil {
		return err
	}
	if err := r.send(ctx, t); err != nil || h == 0 {
		return err
	}
	now := content.Entry
	for from := int64(0); from >= 0; {
		offsets, next, err := r.host.Pieces(ctx, h, from, 4096)
		if err != nil {
			return fmt.Errorf("%s: %w", quoted(e.Path), err)
		}
		for _, off := range offsets {
			n := min(files.PieceSize, now.Size-off)
			if n <= 0 {
				break
			}
			err := r.read(ctx, &task{piece: &now, offset: off}, n, func() answer {
				data, err := r.host.ReadAt(ctx, h, off, int(n))
				return answer{data: data, err: err}
			})
			if err != nil {
				return err
			}
		}
		from = next
	}
	return r.send(ctx, &task{end: &now, handle: h})
}

// emit hands on what was read.
func (r *reading) emit(ctx context.Context) error {
	o := &output{reading: r}
	for {
		select {
		case t, ok := <-r.queue:
			if !ok {
				return nil
			}
			if err := o.task(ctx, t); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// output is what is handed on.
type output struct {
	*reading
	buf []byte
}

func (o *output) task(ctx context.Context, t *task) error {
	var a answer
	if t.result != nil {
		select {
		case a = <-t.result:
		case <-ctx.Done():
			return ctx.Err()
		}
		defer o.room.Release(t.cost)
	}
	switch {
	case t.gone != nil:
		return o.visit.Replace(t.gone)
	case t.same != nil:
		return o.visit.Note(*t.same)
	case t.failed != nil:
		o.skip(t.failed.Path, t.failed.Failed)
		return nil
	case t.piece != nil:
		return o.piece(t, a)
	case t.end != nil:
		return o.ended(ctx, t)
	}
	return o.file(t, a)
}

func (o *output) put(it *files.Item) error {
	o.buf = it.Append(o.buf[:0])
	return o.visit.Put(record.Record{Key: it.Key(), Value: o.buf})
}

func (o *output) file(t *task, a answer) error {
	e := t.file
	if err := o.visit.Replace(files.Prefix(e.Path)); err != nil {
		return err
	}
	if e.Kind == files.Socket || e.Kind == files.Device {
		if o.left == nil {
			o.left = map[files.Kind][]string{}
		}
		o.left[e.Kind] = append(o.left[e.Kind], e.Path)
		return o.visit.Note(record.Record{Key: files.Prefix(e.Path), Value: note(e, "")})
	}
	if a.err != nil {
		o.unread(e, a.err)
		return nil
	}
	now := a.content.Entry
	it := files.Item{Path: e.Path, Kind: e.Kind, Mode: now.Mode, UID: now.UID, GID: now.GID, Size: now.Size,
		MTime: now.MTime, Target: a.content.Target, Attributes: a.content.Attributes, Sparse: a.content.Sparse,
		LinkTo: t.linkTo, Data: a.content.Data}
	if t.linkTo != "" {
		it.Data = nil
	}
	if err := o.put(&it); err != nil || a.content.Handle != 0 {
		return err
	}
	changed := a.content.Changed || !now.Same(e)
	if changed {
		o.changed = append(o.changed, e.Path)
	}
	return o.noted(e, t.linkTo, changed)
}

// noted keeps the note of a file, an empty one where the file may change without a trace in
// its times: it is read again the next time, and missed where it is gone by then.
func (o *output) noted(e *files.Entry, linkTo string, changed bool) error {
	n := record.Record{Key: files.Prefix(e.Path)}
	if !changed && max(e.CTime, e.MTime) <= o.began-unsure {
		n.Value = note(e, linkTo)
	}
	return o.visit.Note(n)
}

func (o *output) piece(t *task, a answer) error {
	if a.err != nil {
		return fmt.Errorf("%s, at byte %d: %w", quoted(t.piece.Path), t.offset, a.err)
	}
	if zero(a.data) {
		return nil
	}
	return o.put(&files.Item{Path: t.piece.Path, Piece: true, Offset: t.offset, Data: a.data})
}

var zeros [files.PieceSize]byte

func zero(b []byte) bool { return bytes.Equal(b, zeros[:len(b)]) }

// ended looks at a large file once more: what was read is of one state if it is as it was.
func (o *output) ended(ctx context.Context, t *task) error {
	e := t.end
	now, err := o.host.StatFile(ctx, t.handle)
	if err = errors.Join(err, o.host.CloseFile(t.handle)); err != nil {
		return fmt.Errorf("%s: %w", quoted(e.Path), err)
	}
	changed := now.Size != e.Size || now.MTime != e.MTime && !o.cloned
	if changed {
		o.changed = append(o.changed, e.Path)
	}
	return o.noted(e, "", changed)
}

func (o *output) unread(e *files.Entry, err error) {
	if errors.Is(err, files.ErrChanged) {
		err = errors.New("it was replaced while it was read")
	}
	o.skip(e.Path, strings.TrimPrefix(err.Error(), "open "))
}

// mostSkipped bounds how many files are named that could not be read.
const mostSkipped = 50

func (r *reading) skip(path, reason string) {
	if r.skipped++; r.skipped <= mostSkipped {
		r.visit.Skip(quoted(path), reason)
	}
}

// end says what is to be said of the whole.
func (r *reading) end() {
	if r.skipped > mostSkipped {
		r.visit.Skip("…", fmt.Sprintf("%d more files cannot be read", r.skipped-mostSkipped))
	}
	for _, k := range []files.Kind{files.Socket, files.Device} {
		if n := len(r.left[k]); n > 0 {
			r.visit.Say(fmt.Sprintf("%d %s left out, with nothing to copy: %s", n, plural(k.String(), n),
				some(r.left[k])))
		}
	}
	if n := len(r.changed); n > 0 {
		text := "%d %s written to while being read, and may be neither as before nor as after: %s"
		if r.held {
			text = "%d %s written to while all should have been held still: %s"
		}
		word := "files were"
		if n == 1 {
			word = "file was"
		}
		r.visit.Caveat(fmt.Sprintf(text, n, word, some(r.changed)))
	}
}
