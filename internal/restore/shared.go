package restore

import (
	"bytes"
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// PieceWrite is the kind of a piece that writes a stretch of a namespace to a target.
const PieceWrite = "write"

// writePiece is such a piece.
type writePiece struct {
	Ticket    []byte           `json:"ticket"` // as [engine.SharedWriter] has it
	Namespace record.Namespace `json:"namespace"`
	Root      tree.Root        `json:"root"`
	Stretch   tree.Stretch     `json:"stretch"`
}

// written is the outcome.
type written struct {
	Records int64 `json:"records"`
	Bytes   int64 `json:"bytes"` // values
}

// Pieces are what does each kind of piece.
var Pieces = map[string]run.Piece{PieceWrite: run.PieceOf(writeStretch)}

// fewestShared is how much must be written that others are asked for help, in bytes.
const fewestShared = 1 << 20

// Of a batch that is written at once.
const batchBytes, batchRecords = 4 << 20, 4000

// writeByOthers has other processes write a namespace, or a stage, in which nothing is yet. False where nobody is
// there for it, or it is too little, and nothing was written.
func (p *Plan) writeByOthers(ctx context.Context, w engine.Writer, ns record.Namespace, it Item) (bool, error) {
	e := p.runner
	s, ok := w.(engine.SharedWriter)
	if !ok || e.Crew == nil || e.Store.WriteOnly() || len(it.Lost) > 0 || it.space.Root.Bytes < fewestShared {
		return false, nil
	}
	hands := e.Crew.Hands(ctx)
	if hands == 0 {
		return false, nil
	}
	list, err := tree.Stretches(ctx, p.scratch, it.space.Root, run.PartsPerHand*hands, p.cutAt())
	if err != nil || len(list) < 2 {
		return false, err
	}
	list = run.Pieces(list, hands, tree.Stretch.Through)
	ticket, err := s.ShareWrites(ctx, ns)
	if err != nil || ticket == nil {
		return false, err
	}
	end, err := moment.Give(ctx, e, p.scratch, it.space.Root)
	if err != nil {
		e.Emit(run.Warning, "%s is written by this process alone: %v", it.To, err)
		return false, ctx.Err()
	}
	defer end()
	pieces := make([]writePiece, len(list))
	for i, l := range list {
		pieces[i] = writePiece{Ticket: ticket, Namespace: ns, Root: it.space.Root, Stretch: l}
	}
	var sum written
	by, err := run.Shared(ctx, e, PieceWrite, "writing "+it.To, pieces, func(_ int, _ string, r *written) error {
		sum.Records, sum.Bytes = sum.Records+r.Records, sum.Bytes+r.Bytes
		e.ReportProgress(it.To, sum.Records, it.Records, sum.Bytes)
		return p.claims.Check()
	})
	if err != nil {
		return true, err
	}
	e.Emit(run.Note, "%s: %s written by %s", it.To, run.Count(int64(len(list)), "piece"), by)
	return true, nil
}

// cutAt says where a namespace may be cut: what belongs together is written in order, by one.
func (p *Plan) cutAt() func(key []byte) []byte {
	if g, ok := p.Moment.Model.(engine.Grouper); ok {
		return g.GroupPrefix
	}
	return nil
}

// writeStretch does a piece of kind [PieceWrite].
func writeStretch(ctx context.Context, e *run.Runner, c engine.Cluster, x *writePiece) (*written, error) {
	const atOnce = 2 // batches of one piece
	w, err := engine.ApplicationView(c).Writer(ctx)
	if err != nil {
		return nil, err
	}
	s, ok := w.(engine.SharedWriter)
	if !ok {
		return nil, fmt.Errorf("a cluster of %s is not written in pieces", c.Engine())
	}
	out := &written{}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	var batch []record.Record
	size := 0
	send := func() {
		recs := batch
		batch, size = nil, 0
		g.Go(func() error { return s.WriteShared(gctx, x.Ticket, x.Namespace, recs) })
	}
	err = tree.WalkStretch(gctx, e.Store, x.Root, x.Stretch, func(r record.Record) error {
		if err := e.WaitForRate(gctx, len(r.Key)+len(r.Value)); err != nil {
			return err
		}
		batch = append(batch, record.Record{Key: bytes.Clone(r.Key), Value: bytes.Clone(r.Value)})
		out.Records++
		size += len(r.Key) + len(r.Value)
		out.Bytes += int64(len(r.Value))
		if size >= batchBytes || len(batch) >= batchRecords {
			send()
		}
		return gctx.Err()
	})
	if err == nil && len(batch) > 0 {
		send()
	}
	if werr := g.Wait(); werr != nil {
		return nil, werr
	}
	return out, err
}
