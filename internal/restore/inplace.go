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
	for _, ns := range names {
		if err := w.Begin(ctx, ns, support); err != nil {
			return nil, err
		}
	}
	out, err := p.each(ctx, func(it Item) (Restored, error) {
		r, err := p.restoreInPlace(ctx, w, it)
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
	start := time.Now()
	ns := it.namespace()
	if it.Born {
		return p.restoreBorn(ctx, it)
	}
	r = Restored{From: it.From, To: it.To, Records: it.Records, Bytes: it.Bytes, Replaced: it.There}
	more, err := p.dropExpired(ctx, &it)
	if err != nil {
		return r, err
	}
	r.Root, r.Expired = it.space.Root.Hash, it.Expired+more
	live := engine.Namespace{Namespace: ns, Records: max(it.ThereRecords, it.Records)}
	var was tree.Root
	if it.There {
		p.runner.Emit(run.Step, "reading what is there of %s", it.To)
		if was, err = moment.ReadBack(ctx, p.runner, p.scratch, p.target, live, it.space.Root); err != nil {
			return r, err
		}
	}
	p.runner.Emit(run.Step, "restoring %s, %s", it.To, run.Count(it.Records, "record"))
	if err := p.writeChanges(ctx, w, it, ns, was); err != nil {
		return r, err
	}
	p.runner.Emit(run.Step, "reading %s back", it.To)
	got, err := moment.ReadBack(ctx, p.runner, p.scratch, p.target, live, it.space.Root)
	if err != nil {
		return r, err
	}
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
	r.Verified, r.Took = true, record.Seconds(time.Since(start))
	p.runner.Emit(run.Note, "%s  %s, read back and equal (root %s)", it.To, run.Count(got.Records, "record"),
		got.Hash.Short())
	return r, nil
}

// writeChanges makes the target's content that of the item: where it was nothing by
// writing all of it, else by what differs.
func (p *Plan) writeChanges(ctx context.Context, w engine.InPlaceWriter, it Item, ns record.Namespace,
	was tree.Root) error {
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
