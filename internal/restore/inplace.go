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
	out, err := p.each(ctx, func(it Item) (Restored, error) { return p.restoreInPlace(ctx, w, it) })
	if err == nil && p.Replays {
		err = p.replay(ctx, w, out)
	}
	if err != nil && p.Replays {
		return out, err
	}
	complete := map[string]bool{}
	for _, ns := range p.onlyReplayed() {
		complete[ns.Name] = true
	}
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
	r = Restored{From: it.From, To: it.To, Records: it.Records, Bytes: it.Bytes, Root: it.space.Root.Hash,
		Replaced: it.There}
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
		r.Expired = gone
		p.runner.Emit(run.Note, "%s: %s had expired and did not come back", it.To, run.Count(gone, "record"))
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

// onlyExpired counts the records that are missing because their time had come,
// and refuses any other difference.
func (p *Plan) onlyExpired(ctx context.Context, it Item, got tree.Root) (int64, error) {
	m, ok := p.Moment.Model.(engine.Expiring)
	n := int64(0)
	if ok {
		now := time.Now()
		err := tree.Diff(ctx, tree.Side{Source: p.scratch, Root: it.space.Root},
			tree.Side{Source: p.scratch, Root: got}, func(d tree.Difference) error {
				ok = ok && d.A != nil && d.B == nil
				if ok {
					at, does := m.Expires(d.A)
					ok = does && at.Before(now)
					n++
				}
				return nil
			})
		if err != nil {
			return 0, err
		}
	}
	if ok {
		return n, nil
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
