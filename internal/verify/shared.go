package verify

import (
	"bytes"
	"context"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// PieceCheck is the kind of a piece that reads a stretch of a tree in the store.
const PieceCheck = "check"

// checkPiece is such a piece.
type checkPiece struct {
	Root    tree.Root    `json:"root"`
	Stretch tree.Stretch `json:"stretch"`
}

// checked is the outcome: what the stretch holds. That each node is what its name says was seen on the way, and that
// its keys are in order and within the stretch.
type checked struct {
	Records int64 `json:"records"`
	Bytes   int64 `json:"bytes"` // keys and values
}

// Pieces are what does each kind of piece.
var Pieces = map[string]run.Piece{PieceCheck: run.PieceOf(checkStretch)}

// checkPoint reads all that a point is made of. Shared: others have read some of it, of which the trees were gone
// through, and not built anew.
func checkPoint(ctx context.Context, e *run.Runner, p *store.Point) (shared bool, err error) {
	progress := func(ns string, n, size int64) { e.ReportProgress(ns, n, 0, size) }
	if e.Crew == nil || e.Store.WriteOnly() {
		return false, e.Store.CheckPoint(ctx, p, progress)
	}
	for i := range p.Namespaces {
		ns := &p.Namespaces[i]
		done, err := checkByOthers(ctx, e, ns)
		if ctx.Err() != nil {
			return shared, context.Cause(ctx)
		}
		if err != nil {
			// Who reads it may be what is wrong: whether it can be read this process finds out.
			e.Emit(run.Warning, "%s is read by this process alone: %v", ns.Name, err)
		}
		if !done || err != nil {
			if err := e.Store.CheckNamespace(ctx, ns, progress); err != nil {
				return shared, err
			}
		} else {
			shared = true
		}
	}
	return shared, nil
}

// fewestShared is how much must be read that others are asked for help, in bytes.
const fewestShared = 1 << 20

// checkByOthers has other processes read a namespace of a point. False where nobody is there for it, or it is
// too little.
func checkByOthers(ctx context.Context, e *run.Runner, ns *store.PointNamespace) (bool, error) {
	if !ns.Kind.HasRecords() || ns.Root.Bytes < fewestShared {
		return false, nil
	}
	hands := e.Crew.Hands(ctx)
	if hands == 0 {
		return false, nil
	}
	list, err := tree.Stretches(ctx, e.Store, ns.Root, run.PartsPerHand*hands, nil)
	if err != nil || len(list) < 2 {
		return false, err
	}
	list = run.Pieces(list, hands, tree.Stretch.Through)
	pieces := make([]checkPiece, len(list))
	for i, l := range list {
		pieces[i] = checkPiece{ns.Root, l}
	}
	var sum checked
	by, err := run.Shared(ctx, e, PieceCheck, "reading "+ns.Name+" in the store", pieces,
		func(_ int, _ string, r *checked) error {
			sum.Records, sum.Bytes = sum.Records+r.Records, sum.Bytes+r.Bytes
			e.ReportProgress(ns.Name, sum.Records, ns.Root.Records, sum.Bytes)
			return nil
		})
	if err != nil {
		return false, err
	}
	if sum.Records != ns.Root.Records || sum.Bytes != ns.Root.Bytes {
		return false, fmt.Errorf("%s of %d records were read by %s", run.Count(sum.Records, "record"),
			ns.Root.Records, by)
	}
	e.Emit(run.Note, "%s: %s read by %s", ns.Name, run.Count(int64(len(list)), "piece"), by)
	return true, nil
}

// checkStretch does a piece of kind [PieceCheck].
func checkStretch(ctx context.Context, e *run.Runner, _ engine.Cluster, x *checkPiece) (*checked, error) {
	out := &checked{}
	var last []byte
	err := tree.WalkStretch(ctx, e.Store, x.Root, x.Stretch, func(r record.Record) error {
		if out.Records > 0 && bytes.Compare(last, r.Key) >= 0 {
			return fmt.Errorf("%w: key %x comes after %x", store.ErrDamaged, r.Key, last)
		}
		last = append(last[:0], r.Key...)
		out.Records++
		out.Bytes += int64(len(r.Key) + len(r.Value))
		return e.WaitForRate(ctx, len(r.Key)+len(r.Value))
	})
	return out, err
}
