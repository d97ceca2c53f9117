package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// runInPlace restores in place: what is there is read, what differs is changed,
// and all is read back. Whatever it is cut short at, doing it again completes
// it; until then the target carries a mark.
func (p *Plan) runInPlace(ctx context.Context, w engine.InPlaceWriter) ([]Restored, error) {
	support := func(name string, fn func(record.Record) error) error {
		for _, s := range p.support {
			if s.Name == name {
				return tree.Walk(ctx, p.scratch, s.Root, fn)
			}
		}
		return nil
	}
	names := p.targets()
	if many, ok := w.(engine.ManyWriter); ok && len(names) > 1 {
		if err := many.BeginMany(ctx, names); err != nil {
			return nil, err
		}
	} else {
		for _, ns := range names {
			if err := w.Begin(ctx, ns, support); err != nil {
				return nil, err
			}
		}
	}
	one := func(it Item) (Restored, error) { return p.restoreInPlace(ctx, w, it) }
	if p.together() {
		var err error
		if one, err = p.inPlaceTogether(ctx, w); err != nil {
			return nil, err
		}
	}
	out, err := p.each(ctx, func(it Item) (Restored, error) {
		r, err := one(it)
		if err == nil && !p.Replays {
			p.ready(it.To)
		}
		return r, err
	})
	if err == nil && p.Replays {
		if err = p.replay(ctx, w, out); err == nil {
			for _, r := range out {
				p.ready(r.To)
			}
		}
	}
	if err != nil && p.Replays {
		return out, err
	}
	complete := map[string]bool{}
	for _, r := range out {
		complete[r.To] = r.Failed == "" && !r.Left
	}
	for _, ns := range names {
		if !complete[ns.Name] {
			continue // its mark stays: it is neither old nor new
		}
		if eerr := errors.Join(w.End(ctx, ns), p.claims.End(ctx, ns.Name)); eerr != nil {
			return out, errors.Join(err, eerr)
		}
	}
	return out, err
}

// namespace returns the namespace that an item becomes.
func (it *Item) namespace() record.Namespace {
	ns := it.space.Namespace
	ns.Name, ns.Ident = it.To, nil
	return ns
}

func (p *Plan) restoreInPlace(ctx context.Context, w engine.InPlaceWriter, it Item) (r Restored, err error) {
	if p.merges(it) {
		return p.mergeInPlace(ctx, w, it)
	}
	if it.Born {
		return p.restoreBorn(ctx, it)
	}
	st := p.overwriting(ctx, it)
	var was tree.Root
	if st.err == nil && it.There {
		p.runner.Emit(run.Step, "reading what is there of %s", it.To)
		was, st.err = moment.ReadBack(ctx, p.runner, p.scratch, p.target, st.live, st.it.space.Root)
	}
	p.overwrite(ctx, w, st, was)
	if st.err != nil {
		return st.r, st.err
	}
	p.runner.Emit(run.Step, "reading %s back", it.To)
	got, err := moment.ReadEqual(ctx, p.runner, p.scratch, p.target, st.live, st.it.space.Root, true)
	if err != nil {
		return st.r, err
	}
	return p.proveOverwritten(ctx, st, got)
}

// overwriting is an item on its way to be written in place.
type overwriting struct {
	it    Item
	r     Restored
	live  engine.Namespace
	start time.Time
	err   error
}

func (p *Plan) overwriting(ctx context.Context, it Item) *overwriting {
	st := &overwriting{it: it, start: time.Now(),
		r: Restored{From: it.From, To: it.To, Records: it.Records, Bytes: it.Bytes, Replaced: it.There}}
	more, err := p.dropExpired(ctx, &st.it)
	if err != nil {
		st.err = err
		return st
	}
	st.r.Root, st.r.Expired = st.it.space.Root.Hash, it.Expired+more
	st.live = engine.Namespace{Namespace: it.namespace(), Records: max(it.ThereRecords, it.Records)}
	return st
}

// overwrite writes what differs from what was there.
func (p *Plan) overwrite(ctx context.Context, w engine.InPlaceWriter, st *overwriting, was tree.Root) {
	if st.err != nil {
		return
	}
	p.runner.Emit(run.Step, "restoring %s, %s", st.it.To, run.Count(st.it.Records, "record"))
	st.err = p.writeChanges(ctx, w, st.it, st.live.Namespace, was)
}

// proveOverwritten compares what was read back with what was to be written.
func (p *Plan) proveOverwritten(ctx context.Context, st *overwriting, got tree.Root) (Restored, error) {
	it, r := st.it, st.r
	if got.Hash != it.space.Root.Hash {
		gone, err := p.onlyExpired(ctx, it, got)
		if err != nil {
			return r, err
		}
		r.Expired += gone
	}
	if r.Expired > 0 {
		p.runner.Emit(run.Note, "%s: %s had expired and did not come back", it.To, run.Count(r.Expired, "record"))
	}
	if err := p.claims.Check(); err != nil {
		return r, err
	}
	r.Verified, r.Took = true, record.Seconds(time.Since(st.start))
	p.runner.Emit(run.Note, "%s  %s, read back and equal (root %s)", it.To, run.Count(got.Records, "record"),
		got.Hash.Short())
	return r, nil
}

// together reports whether what is there is read in one pass over all items, and so again when all are written:
// the servers go through everything to find what one has.
func (p *Plan) together() bool {
	many, ok := p.target.(engine.ManyScanner)
	if !ok {
		return false
	}
	var list []engine.Namespace
	for _, it := range p.Items {
		if it.Cannot != "" {
			continue
		}
		if it.Born || p.merges(it) {
			return false
		}
		list = append(list, engine.Namespace{Namespace: it.namespace()})
	}
	return many.Together(list)
}

// inPlaceTogether writes all items, reads all back, and returns what says what became of each.
func (p *Plan) inPlaceTogether(ctx context.Context, w engine.InPlaceWriter) (func(Item) (Restored, error), error) {
	var all, there []*overwriting
	by := map[string]*overwriting{}
	for _, it := range p.Items {
		if it.Cannot != "" {
			continue
		}
		st := p.overwriting(ctx, it)
		by[it.To], all = st, append(all, st)
		if it.There && st.err == nil {
			there = append(there, st)
		}
	}
	p.runner.Emit(run.Step, "reading what is there of %s", run.Count(int64(len(there)), "namespace"))
	was, err := p.readTogether(ctx, there)
	if err != nil {
		return nil, err
	}
	var written []*overwriting
	for _, st := range all {
		if st.err == nil {
			st.err = errors.Join(ctx.Err(), p.claims.Check())
		}
		p.overwrite(ctx, w, st, was[st.it.To])
		if st.err == nil {
			written = append(written, st)
		}
	}
	p.runner.Emit(run.Step, "reading %s back", run.Count(int64(len(written)), "namespace"))
	got, err := p.readTogether(ctx, written)
	for _, st := range written {
		st.err = err
	}
	return func(it Item) (Restored, error) {
		st := by[it.To]
		if st.err != nil {
			return st.r, st.err
		}
		return p.proveOverwritten(ctx, st, got[it.To])
	}, nil
}

// readTogether returns the trees of what is there under the names of items.
func (p *Plan) readTogether(ctx context.Context, list []*overwriting) (map[string]tree.Root, error) {
	spaces, near := make([]engine.Namespace, len(list)), make([]tree.Root, len(list))
	for i, st := range list {
		spaces[i], near[i] = st.live, st.it.space.Root
	}
	roots, err := moment.ReadBackAll(ctx, p.runner, p.scratch, p.target, spaces, near, nil)
	if err != nil {
		return nil, err
	}
	out := map[string]tree.Root{}
	for i, st := range list {
		out[st.it.To] = roots[i]
	}
	return out, nil
}

// writeChanges makes the target's content that of the item: where it was nothing by
// writing all of it, else by what differs.
func (p *Plan) writeChanges(ctx context.Context, w engine.InPlaceWriter, it Item, ns record.Namespace,
	was tree.Root) error {
	if was.Records == 0 {
		if done, err := p.writeByOthers(ctx, w, ns, it); done || err != nil {
			return err
		}
	}
	b := p.newBatches(ctx, w, ns, it)
	var err error
	if was.Records == 0 {
		err = tree.Walk(b.ctx, p.scratch, it.space.Root, b.put)
	} else {
		err = p.writeGroups(b, it.space.Root, was)
	}
	return b.wait(err)
}

// writeGroups puts every unit of which any record differs, whole, and removes
// those that are too many.
func (p *Plan) writeGroups(b *batches, want, was tree.Root) error {
	compound, isCompound := p.Moment.Model.(engine.Grouper)
	var last []byte
	return tree.Diff(b.ctx, tree.Side{Source: p.scratch, Root: was}, tree.Side{Source: p.scratch, Root: want},
		func(d tree.Difference) error {
			if !isCompound {
				if d.B == nil {
					return b.remove(d.Key)
				}
				return b.put(record.Record{Key: d.Key, Value: d.B})
			}
			u := compound.GroupPrefix(d.Key)
			if last != nil && bytes.Equal(u, last) {
				return nil // done with the first record that differs
			}
			last = bytes.Clone(u)
			there := false
			for r, err := range tree.RecordsFrom(b.ctx, p.scratch, want, u) {
				if err != nil {
					return err
				}
				if !bytes.Equal(compound.GroupPrefix(r.Key), u) {
					break
				}
				there = true
				if err := b.put(r); err != nil {
					return err
				}
			}
			if !there {
				return b.remove(u)
			}
			return nil
		})
}

// dropExpired leaves out of an item what has expired by now, and returns how many records
// those are: what is restored is what would be there now. Commands that are carried out
// need what there was then.
func (p *Plan) dropExpired(ctx context.Context, it *Item) (int64, error) {
	if !p.InPlace || p.Replays || !it.space.Kind.IsContent() {
		return 0, nil
	}
	was := it.space.Root.Records
	root, err := moment.Unexpired(ctx, p.scratch, it.space.Root, p.Moment.Model, time.Now())
	if err != nil {
		return 0, err
	}
	it.space.Root = root
	return was - root.Records, nil
}

// onlyExpired returns how many records are missing because their time has come, and
// refuses any other difference.
func (p *Plan) onlyExpired(ctx context.Context, it Item, got tree.Root) (int64, error) {
	still, err := moment.Lasting(ctx, p.scratch, it.space.Root, p.Moment.Model, time.Now())
	if err != nil {
		return 0, err
	}
	// All that has not expired is there, and nothing else than what was written.
	ok := true
	for _, d := range []struct {
		want tree.Root
		may  func(tree.Difference) bool
	}{
		{still, func(d tree.Difference) bool { return d.A == nil }},
		{it.space.Root, func(d tree.Difference) bool { return d.B == nil }},
	} {
		err := tree.Diff(ctx, tree.Side{Source: p.scratch, Root: d.want}, tree.Side{Source: p.scratch, Root: got},
			func(x tree.Difference) error { ok = ok && d.may(x); return ctx.Err() })
		if err != nil {
			return 0, err
		}
	}
	if ok {
		return it.space.Root.Records - got.Records, nil
	}
	d, err := moment.DiffStates(ctx, p.scratch, &it.space,
		&moment.NamespaceState{Namespace: it.space.Namespace, Root: got}, p.Moment.Model, 5)
	if err != nil {
		return 0, err
	}
	msg := fmt.Sprintf("%d records missing, %d extra, %d changed", d.Missing, d.Extra, d.Changed)
	for _, k := range d.Keys {
		msg += fmt.Sprintf("; %s %s", k.Kind, k.Label)
	}
	return 0, remedy.With(fmt.Errorf("%s: what was read back %w from what was written: %s; something else writes "+
		"there, or the servers did not keep it",
		it.To, run.ErrDiffers, msg), remedy.Replace, "")
}

// restoreBorn restores a namespace that came to be after the point: nothing is left in it,
// before the log's commands make it what it was.
func (p *Plan) restoreBorn(ctx context.Context, it Item) (r Restored, err error) {
	r = Restored{From: it.From, To: it.To, Replaced: it.There}
	start := time.Now()
	w, ok := p.writer.(engine.Replayer)
	if !ok {
		return r, errors.New("the target cannot carry out a log of commands")
	}
	if _, err := w.Rest(ctx, it.namespace(), p.othersOf(it.From), true); err != nil {
		return r, err
	}
	n, err := w.Rest(ctx, it.namespace(), p.othersOf(it.From), false)
	if err == nil && n > 0 {
		err = remedy.With(fmt.Errorf("%s: %s there after all were removed: something else writes there", it.To,
			run.Count(n, "record")), remedy.Replace, "")
	}
	if err == nil {
		err = p.claims.Check()
	}
	r.Verified, r.Took = err == nil, record.Seconds(time.Since(start))
	return r, err
}

// othersOf returns what the other namespaces of the plan become.
func (p *Plan) othersOf(from string) (out []string) {
	for _, it := range p.Items {
		if it.From != from && !it.Born {
			out = append(out, it.To)
		}
	}
	return out
}
