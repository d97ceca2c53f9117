package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/extsort"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Conflict is what is done where a namespace is there already.
type Conflict string

// What can be done.
const (
	// Refuse changes nothing.
	Refuse Conflict = "refuse"
	// Replace puts what was there then in the place of what is there.
	Replace Conflict = "replace"
	// Merge puts back records that are missing or differ, and leaves all others.
	Merge Conflict = "merge"
	// Fill puts back records that are missing, and leaves all others.
	Fill Conflict = "fill"
)

// keepsOthers reports whether records stay that are there and were not then.
func (c Conflict) keepsOthers() bool { return c == Merge || c == Fill }

// Effect counts what a restore does to the records of a namespace that is there.
type Effect struct {
	Added   int64 `json:"added"`
	Changed int64 `json:"changed"`
	Removed int64 `json:"removed"`
	// Left counts the records that stay as they are.
	Left int64 `json:"left"`
}

// effectOn works out what the restore will do to what is there: was is its tree.
func (p *Plan) effectOn(ctx context.Context, it *Item, was tree.Root) (e Effect, err error) {
	e.Left = was.Records
	err = tree.Diff(ctx, tree.Side{Source: p.scratch, Root: was}, tree.Side{Source: p.scratch, Root: it.space.Root},
		func(d tree.Difference) error {
			switch {
			case d.A == nil:
				e.Added++
			case d.B == nil && p.opt.Conflict == Replace:
				e.Removed++
				e.Left--
			case d.B != nil && p.opt.Conflict != Fill:
				e.Changed++
				e.Left--
			}
			return ctx.Err()
		})
	return e, err
}

// readTarget reads the namespace that is there. Where another one takes its place meanwhile,
// that one is read.
func (p *Plan) readTarget(ctx context.Context, it *Item) (root tree.Root, err error) {
	const tries = 5
	for range tries {
		live := engine.Namespace{Namespace: it.space.Namespace, Records: max(it.ThereRecords, 1)}
		live.Name = it.To
		if w, ok := p.writer.(engine.StagingWriter); ok {
			if live.Namespace, err = w.CurrentNamespace(ctx, it.To); err != nil {
				return root, err
			}
		}
		root, err = moment.ReadBack(ctx, p.runner, p.scratch, p.target, live, it.space.Root)
		if !errors.Is(err, engine.ErrMoved) {
			return root, err
		}
	}
	return root, err
}

// touched returns the tree of the records that a merge writes onto what is there. Of things
// that are groups of records it has them whole.
func (p *Plan) touched(ctx context.Context, it *Item, was tree.Root) (tree.Root, error) {
	b := tree.NewBuilder(p.scratch)
	group, grouped := p.Moment.Model.(engine.Grouper)
	var last []byte
	err := tree.Diff(ctx, tree.Side{Source: p.scratch, Root: was}, tree.Side{Source: p.scratch, Root: it.space.Root},
		func(d tree.Difference) error {
			if !grouped {
				if d.B == nil || d.A != nil && p.opt.Conflict == Fill {
					return ctx.Err()
				}
				return b.Add(ctx, record.Record{Key: d.Key, Value: d.B})
			}
			u := group.GroupPrefix(d.Key)
			if last != nil && bytes.Equal(u, last) {
				return nil
			}
			last = bytes.Clone(u)
			there, err := p.holds(ctx, was, u, group)
			if err != nil || there && p.opt.Conflict == Fill {
				return err
			}
			for r, err := range tree.RecordsFrom(ctx, p.scratch, it.space.Root, u) {
				if err != nil {
					return err
				}
				if !bytes.Equal(group.GroupPrefix(r.Key), u) {
					break
				}
				if err := b.Add(ctx, r); err != nil {
					return err
				}
			}
			return nil
		})
	if err != nil {
		return tree.Root{}, err
	}
	return b.Finish(ctx)
}

// holds reports whether a tree has records of a group.
func (p *Plan) holds(ctx context.Context, root tree.Root, prefix []byte, g engine.Grouper) (bool, error) {
	for r, err := range tree.RecordsFrom(ctx, p.scratch, root, prefix) {
		return err == nil && bytes.Equal(g.GroupPrefix(r.Key), prefix), err
	}
	return false, nil
}

// merged returns the tree of what is there with the touched records put in: where a touched
// thing is a group, what is there of the group goes.
func (p *Plan) merged(ctx context.Context, was, touched tree.Root) (tree.Root, error) {
	s := extsort.New(p.runner.TempDir(), p.runner.SortMemory()/2)
	defer s.Close()
	group, grouped := p.Moment.Model.(engine.Grouper)
	gone, put := []byte{0}, []byte{1}
	var last []byte
	for r, err := range tree.Records(ctx, p.scratch, touched) {
		if err != nil {
			return was, err
		}
		if grouped {
			if u := group.GroupPrefix(r.Key); last == nil || !bytes.Equal(u, last) {
				last = bytes.Clone(u)
				for old, err := range tree.RecordsFrom(ctx, p.scratch, was, u) {
					if err != nil {
						return was, err
					}
					if !bytes.Equal(group.GroupPrefix(old.Key), u) {
						break
					}
					if err := s.Add(old.Key, gone); err != nil {
						return was, err
					}
				}
			}
		}
		if err := s.Add(r.Key, append(put[:1:1], r.Value...)); err != nil {
			return was, err
		}
	}
	items, err := s.Sorted()
	if err != nil {
		return was, err
	}
	defer items.Close()
	e := &lastEdits{items: items}
	if err := e.pull(); err != nil {
		return was, err
	}
	return tree.Merge(ctx, p.scratch, was, e, p.scratch)
}

// lastEdits are edits of which the last of a key counts: the first byte of a value says
// whether there is a record.
type lastEdits struct {
	items      *extsort.Items
	next       []byte
	value      []byte
	more       bool
	key, found []byte
}

func (e *lastEdits) pull() error {
	k, v, ok, err := e.items.Next()
	e.next, e.value, e.more = bytes.Clone(k), bytes.Clone(v), ok
	return err
}

// NextKey implements [tree.Edits].
func (e *lastEdits) NextKey(context.Context) ([]byte, bool, error) {
	if !e.more {
		return nil, false, nil
	}
	e.key = e.next
	for e.more && bytes.Equal(e.next, e.key) {
		e.found = e.value
		if err := e.pull(); err != nil {
			return nil, false, err
		}
	}
	return e.key, true, nil
}

// Blind implements [tree.Blind].
func (e *lastEdits) Blind() {}

// Edit implements [tree.Edits].
func (e *lastEdits) Edit(context.Context, []byte, bool) ([]byte, bool, error) {
	return e.found[1:], e.found[0] == 1, nil
}

// restoreMerged puts records onto a namespace that is there, one by one: what is there is
// read, what is missing (or differs) is written, and that is read back. Others may go on
// writing there; what they change meanwhile is theirs.
func (p *Plan) restoreMerged(ctx context.Context, it Item, write func(was, touched tree.Root) error) (r Restored,
	err error) {
	start := time.Now()
	r = Restored{From: it.From, To: it.To, Merged: true}
	more, err := p.dropExpired(ctx, &it)
	if err != nil {
		return r, err
	}
	it.Expired += more
	p.runner.Emit(run.Step, "reading what is there of %s", it.To)
	was, err := p.readTarget(ctx, &it)
	if err != nil {
		return r, err
	}
	effect, err := p.effectOn(ctx, &it, was)
	if err != nil {
		return r, err
	}
	r.Effect, r.Expired = &effect, it.Expired
	touched, err := p.touched(ctx, &it, was)
	if err != nil {
		return r, err
	}
	r.Records, r.Bytes = touched.Records, touched.Bytes
	if touched.Records > 0 {
		p.runner.Emit(run.Step, "putting %s back into %s", run.Count(touched.Records, "record"), it.To)
		if err := write(was, touched); err != nil {
			return r, err
		}
	}
	if err := p.claims.Check(); err != nil {
		return r, err
	}
	p.runner.Emit(run.Step, "reading %s back", it.To)
	got, err := p.readTarget(ctx, &it)
	if err != nil {
		return r, err
	}
	gone, err := p.checkTouched(ctx, &it, touched, got)
	if err != nil {
		return r, err
	}
	r.Expired += gone
	r.Root, r.Verified, r.Took = got.Hash, true, record.Seconds(time.Since(start))
	p.runner.Emit(run.Note, "%s  %d added, %d changed, %d left as they were; read back", it.To, effect.Added,
		effect.Changed, effect.Left)
	return r, nil
}

// checkTouched compares the records that were written with what is there now.
func (p *Plan) checkTouched(ctx context.Context, it *Item, touched, got tree.Root) (expired int64, err error) {
	still := touched
	if p.InPlace {
		if still, err = moment.Lasting(ctx, p.scratch, touched, p.Moment.Model, time.Now()); err != nil {
			return 0, err
		}
	}
	var wrong []string
	n := 0
	for r, err := range tree.Records(ctx, p.scratch, still) {
		if err != nil {
			return 0, err
		}
		now, ok, err := tree.Get(ctx, p.scratch, got, r.Key)
		if err != nil {
			return 0, err
		}
		if ok && bytes.Equal(now, r.Value) {
			continue
		}
		if n++; len(wrong) < 5 {
			wrong = append(wrong, p.Moment.Model.Label(r.Value))
		}
	}
	if n == 0 && still != touched {
		// What may be gone, and is.
		for r, err := range tree.Records(ctx, p.scratch, touched) {
			if err != nil {
				return 0, err
			}
			if _, ok, err := tree.Get(ctx, p.scratch, got, r.Key); err != nil {
				return 0, err
			} else if !ok {
				expired++
			}
		}
	}
	if n == 0 {
		return expired, nil
	}
	return expired, fmt.Errorf(
		"%s: %s %w from what was written (%s): something else writes there, or the servers did not "+
			"keep it", it.To, run.Count(int64(n), "record"), run.ErrDiffers, joinSome(wrong, n))
}

func joinSome(list []string, n int) string {
	out := ""
	for i, l := range list {
		if i > 0 {
			out += ", "
		}
		out += l
	}
	if n > len(list) {
		out += ", …"
	}
	return out
}

// mergeInPlace merges on a cluster that is written in place.
func (p *Plan) mergeInPlace(ctx context.Context, w engine.InPlaceWriter, it Item) (Restored, error) {
	return p.restoreMerged(ctx, it, func(_, touched tree.Root) error {
		b := p.newBatches(ctx, w, it.namespace(), it)
		return b.wait(tree.Walk(b.ctx, p.scratch, touched, b.put))
	})
}

// mergeRecords merges on a cluster that takes single records.
func (p *Plan) mergeRecords(ctx context.Context, w engine.RecordWriter, it Item) (Restored, error) {
	return p.restoreMerged(ctx, it, func(was, touched tree.Root) error {
		const batchBytes, batchRecords = 4 << 20, 1000
		g, gctx := errgroup.WithContext(ctx)
		g.SetLimit(p.runner.Readers())
		var recs []record.Record
		var old [][]byte
		size, done := 0, int64(0)
		send := func() {
			r, o := recs, old
			recs, old, size = nil, nil, 0
			g.Go(func() error { return w.PutRecords(gctx, it.To, r, o) })
			p.runner.ReportProgress(it.To, done, touched.Records, 0)
		}
		err := tree.Walk(gctx, p.scratch, touched, func(r record.Record) error {
			now, ok, err := tree.Get(gctx, p.scratch, was, r.Key)
			if err != nil {
				return err
			}
			if !ok {
				now = nil
			}
			recs = append(recs, record.Record{Key: bytes.Clone(r.Key), Value: bytes.Clone(r.Value)})
			old = append(old, bytes.Clone(now))
			done++
			if size += len(r.Value) + len(now); size >= batchBytes || len(recs) >= batchRecords {
				send()
			}
			return gctx.Err()
		})
		if err == nil && len(recs) > 0 {
			send()
		}
		if werr := g.Wait(); werr != nil {
			return werr
		}
		return err
	})
}

// mergeWhole makes of an item that is merged onto what is there one that replaces it, with
// the records that are there and stay: for clusters that do not take single records.
func (p *Plan) mergeWhole(ctx context.Context, it Item) (Item, Effect, error) {
	p.runner.Emit(run.Step, "reading what is there of %s", it.To)
	was, err := p.readTarget(ctx, &it)
	if err != nil {
		return it, Effect{}, err
	}
	effect, err := p.effectOn(ctx, &it, was)
	if err != nil {
		return it, effect, err
	}
	touched, err := p.touched(ctx, &it, was)
	if err != nil {
		return it, effect, err
	}
	if it.space.Root, err = p.merged(ctx, was, touched); err != nil {
		return it, effect, err
	}
	it.Records, it.Bytes = it.space.Root.Records, it.space.Root.Bytes
	now, err := p.writer.(engine.StagingWriter).CurrentNamespace(ctx, it.To)
	if err != nil {
		return it, effect, err
	}
	it.space.Definition = now.Definition
	return it, effect, nil
}
