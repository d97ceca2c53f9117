package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// unbound applies what was chosen for records that are bound to clients'
// sessions, and puts expiries off where a log is to be carried out.
func (p *RestorePlan) unbound(ctx context.Context, s Space) (Space, error) {
	if d, ok := p.Moment.Model.(engine.Deferring); ok && p.Replays {
		b := tree.NewBuilder(p.scratch)
		err := tree.Walk(ctx, p.scratch, s.Root, func(r record.Record) error {
			return b.Add(ctx, record.Record{Key: r.Key, Value: d.Defer(r.Value)})
		})
		if err == nil {
			s.Root, err = b.Finish(ctx)
		}
		return s, err
	}
	m, ok := p.Moment.Model.(engine.Bound)
	if !ok || p.opt.Leases == "" || p.opt.Leases == "recreate" {
		return s, nil
	}
	b := tree.NewBuilder(p.scratch)
	n := int64(0)
	err := tree.Walk(ctx, p.scratch, s.Root, func(r record.Record) error {
		free, bound := m.Unbind(r.Value)
		if bound {
			n++
			if p.opt.Leases == "skip" {
				return nil
			}
		}
		return b.Add(ctx, record.Record{Key: r.Key, Value: free})
	})
	if err != nil || n == 0 {
		return s, err
	}
	p.env.emit(Note, "%s: %s of a session (%s)", s.Name, count(n, "record"), map[string]string{"drop": "restored without it", "skip": "left out"}[p.opt.Leases])
	s.Root, err = b.Finish(ctx)
	return s, err
}

// runGradual restores in place: what is there is read, what differs is changed,
// and all is read back. Whatever it is cut short at, doing it again completes
// it; until then the target carries a mark.
func (p *RestorePlan) runGradual(ctx context.Context, w engine.Gradual) ([]Restored, error) {
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
	out, err := p.each(ctx, func(it RestoreItem) (Restored, error) { return p.oneGradual(ctx, w, it) })
	if err == nil && p.Replays {
		err = p.replay(ctx, w, out)
	}
	if err != nil && p.Replays {
		return out, err
	}
	complete := map[string]bool{}
	for _, ns := range p.unseen() {
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

// as returns the namespace that an item becomes.
func (it *RestoreItem) as() record.Namespace {
	ns := it.space.Namespace
	ns.Name, ns.Ident = it.To, nil
	return ns
}

func (p *RestorePlan) oneGradual(ctx context.Context, w engine.Gradual, it RestoreItem) (r Restored, err error) {
	start := time.Now()
	ns := it.as()
	r = Restored{From: it.From, To: it.To, Records: it.Records, Bytes: it.Bytes, Root: it.space.Root.Hash, Replaced: it.There}
	live := engine.Namespace{Namespace: ns, Records: max(it.ThereRecords, it.Records)}
	var was tree.Root
	if it.There {
		p.env.emit(Step, "reading what is there of %s", it.To)
		if was, err = p.env.readBack(ctx, p.scratch, p.target, live, it.space.Root); err != nil {
			return r, err
		}
	}
	p.env.emit(Step, "restoring %s, %s", it.To, count(it.Records, "record"))
	if err := p.change(ctx, w, it, ns, was); err != nil {
		return r, err
	}
	p.env.emit(Step, "reading %s back", it.To)
	got, err := p.env.readBack(ctx, p.scratch, p.target, live, it.space.Root)
	if err != nil {
		return r, err
	}
	if got.Hash != it.space.Root.Hash {
		gone, err := p.onlyExpired(ctx, it, got)
		if err != nil {
			return r, err
		}
		r.Expired = gone
		p.env.emit(Note, "%s: %s had expired and did not come back", it.To, count(gone, "record"))
	}
	if err := p.claims.Check(); err != nil {
		return r, err
	}
	r.Verified, r.Took = true, time.Since(start)
	p.env.emit(Note, "%s  %s, read back and equal (root %s)", it.To, count(got.Records, "record"), got.Hash.Short())
	return r, nil
}

// change makes the target's content that of the item: where it was nothing by
// writing all of it, else by what differs.
func (p *RestorePlan) change(ctx context.Context, w engine.Gradual, it RestoreItem, ns record.Namespace, was tree.Root) error {
	b := p.newBatches(ctx, w, ns, it)
	var err error
	if was.Records == 0 {
		err = tree.Walk(b.ctx, p.scratch, it.space.Root, b.put)
	} else {
		err = p.changeUnits(b, it.space.Root, was)
	}
	return b.wait(err)
}

// changeUnits puts every unit of which any record differs, whole, and removes
// those that are too many.
func (p *RestorePlan) changeUnits(b *batches, want, was tree.Root) error {
	compound, isCompound := p.Moment.Model.(engine.Compound)
	var last []byte
	return tree.Diff(b.ctx, tree.Side{Source: p.scratch, Root: was}, tree.Side{Source: p.scratch, Root: want}, func(d tree.Difference) error {
		if !isCompound {
			if d.B == nil {
				return b.remove(d.Key)
			}
			return b.put(record.Record{Key: d.Key, Value: d.B})
		}
		u := compound.Unit(d.Key)
		if last != nil && bytes.Equal(u, last) {
			return nil // done with the first record that differs
		}
		last = bytes.Clone(u)
		there := false
		err := tree.WalkFrom(b.ctx, p.scratch, want, u, func(r record.Record) (bool, error) {
			if !bytes.Equal(compound.Unit(r.Key), u) {
				return false, nil
			}
			there = true
			return true, b.put(r)
		})
		if err == nil && !there {
			err = b.remove(u)
		}
		return err
	})
}

// onlyExpired counts the records that are missing because their time had come,
// and refuses any other difference.
func (p *RestorePlan) onlyExpired(ctx context.Context, it RestoreItem, got tree.Root) (int64, error) {
	m, ok := p.Moment.Model.(engine.Expiring)
	n := int64(0)
	if ok {
		now := time.Now()
		err := tree.Diff(ctx, tree.Side{Source: p.scratch, Root: it.space.Root}, tree.Side{Source: p.scratch, Root: got}, func(d tree.Difference) error {
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
	d, err := diffSpaces(ctx, p.scratch, &it.space, &Space{Namespace: it.space.Namespace, Root: got}, p.Moment.Model, 5)
	if err != nil {
		return 0, err
	}
	msg := fmt.Sprintf("%d records missing, %d extra, %d changed", d.Missing, d.Extra, d.Changed)
	for _, k := range d.Keys {
		msg += fmt.Sprintf("; %s %s", k.Kind, k.Label)
	}
	return 0, fmt.Errorf("%s: what was read back %w from what was written: %s; something else writes there, or the servers did not keep it: end that and run it again with --conflict replace", it.To, ErrDiffers, msg)
}

// batches sends records to a target, several batches at once; those of one unit
// in order.
type batches struct {
	p      *RestorePlan
	w      engine.Gradual
	ns     record.Namespace
	it     RestoreItem
	ctx    context.Context
	cancel context.CancelCauseFunc
	g      *errgroup.Group
	recs   []record.Record
	gone   [][]byte
	size   int64
	sent   int64
	all    int64
	unit   []byte
}

func (p *RestorePlan) newBatches(ctx context.Context, w engine.Gradual, ns record.Namespace, it RestoreItem) *batches {
	b := &batches{p: p, w: w, ns: ns, it: it, g: &errgroup.Group{}}
	b.ctx, b.cancel = context.WithCancelCause(ctx)
	b.g.SetLimit(p.env.parallel())
	return b
}

func (b *batches) put(r record.Record) error {
	const batchBytes, batchRecords = 1 << 20, 4000
	if m, ok := b.p.Moment.Model.(engine.Expiring); ok {
		if at, does := m.Expires(r.Value); does && !at.IsZero() && at.Before(time.Now()) {
			return b.ctx.Err()
		}
	}
	unit := r.Key
	if m, ok := b.p.Moment.Model.(engine.Compound); ok {
		unit = m.Unit(r.Key)
	}
	if b.size >= batchBytes || len(b.recs) >= batchRecords {
		b.flush()
		if bytes.Equal(unit, b.unit) {
			// Larger than a batch: what follows comes after what is sent.
			if err := b.g.Wait(); err != nil {
				return err
			}
		}
	}
	b.unit = append(b.unit[:0], unit...)
	b.recs = append(b.recs, record.Record{Key: bytes.Clone(r.Key), Value: bytes.Clone(r.Value)})
	b.size += int64(len(r.Key) + len(r.Value))
	b.sent++
	b.all += int64(len(r.Value))
	return b.ctx.Err()
}

func (b *batches) remove(key []byte) error {
	if b.gone = append(b.gone, bytes.Clone(key)); len(b.gone) >= 1000 {
		b.flush()
	}
	return b.ctx.Err()
}

// flush sends what is gathered.
func (b *batches) flush() {
	recs, gone := b.recs, b.gone
	b.recs, b.gone, b.size = nil, nil, 0
	b.g.Go(func() error {
		err := b.w.Remove(b.ctx, b.ns, gone)
		if err == nil {
			err = b.w.Put(b.ctx, b.ns, recs)
		}
		if err != nil {
			b.cancel(err)
		}
		return err
	})
	b.p.env.progress(b.it.To, b.sent, b.it.Records, b.all)
}

func (b *batches) wait(err error) error {
	if err == nil {
		b.flush()
	}
	werr := b.g.Wait()
	if cause := context.Cause(b.ctx); err != nil && cause != nil {
		err = cause
	}
	b.cancel(nil)
	if werr != nil {
		return werr
	}
	return err
}
