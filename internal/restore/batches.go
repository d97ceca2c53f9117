package restore

import (
	"bytes"
	"context"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// batches sends records to a target, several batches at once; those of one unit
// in order.
type batches struct {
	p      *Plan
	w      engine.InPlaceWriter
	ns     record.Namespace
	it     Item
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

func (p *Plan) newBatches(ctx context.Context, w engine.InPlaceWriter, ns record.Namespace, it Item) *batches {
	b := &batches{p: p, w: w, ns: ns, it: it, g: &errgroup.Group{}}
	b.ctx, b.cancel = context.WithCancelCause(ctx)
	b.g.SetLimit(p.runner.Readers())
	return b
}

func (b *batches) put(r record.Record) error {
	const batchBytes, batchRecords = 1 << 20, 4000
	unit := r.Key
	if m, ok := b.p.Moment.Model.(engine.Grouper); ok {
		unit = m.GroupPrefix(r.Key)
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
	b.p.runner.ReportProgress(b.it.To, b.sent, b.it.Records, b.all)
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
