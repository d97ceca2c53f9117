package moment

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// PieceEqual is the kind of a piece that reads a partition of a live namespace and compares it with a
// tree in the store.
const PieceEqual = "equal"

// equalPiece is such a piece.
type equalPiece struct {
	// Written: it is read where a restore has written it.
	Written   bool             `json:"written,omitempty"`
	Shared    json.RawMessage  `json:"shared"` // as [engine.Shareable] has it
	Namespace engine.Namespace `json:"namespace"`
	Partition []byte           `json:"partition"`
	Want      tree.Root        `json:"want"`
}

// equalRead is the outcome: which keys the partition has, and whether the tree has from the first to
// the last of them the same.
type equalRead struct {
	First   []byte `json:"first,omitempty"`
	Last    []byte `json:"last,omitempty"`
	Records int64  `json:"records"`
	Bytes   int64  `json:"bytes"`
	Differs bool   `json:"differs,omitempty"`
}

var errFound = errors.New("found")

// Pieces are what does each kind of piece.
var Pieces = map[string]run.Piece{PieceEqual: run.PieceOf(readEqual)}

// fewestShared is how much must be read or written that others are asked for help, in bytes.
const fewestShared = 1 << 20

// ReadEqual is [ReadBack] of a namespace that should hold what a tree does. Where other processes share the work
// they read it; where it holds something else it is read once more by this one, which finds out
// what. Written says that a restore has written it.
func ReadEqual(ctx context.Context, e *run.Runner, x *store.Scratch, c engine.Cluster, ns engine.Namespace,
	want tree.Root, written bool) (tree.Root, error) {
	same, err := equalByOthers(ctx, e, x, c, ns, want, written)
	if ctx.Err() != nil {
		return tree.Root{}, context.Cause(ctx)
	}
	if err != nil {
		e.Emit(run.Warning, "%s is read by this process alone: %v", ns.Name, err)
	}
	if same {
		return want, nil
	}
	return ReadBack(ctx, e, x, c, ns, want)
}

// equalByOthers has other processes read a namespace. False where it holds something else than the tree, or
// nobody has read it.
func equalByOthers(ctx context.Context, e *run.Runner, x *store.Scratch, c engine.Cluster, ns engine.Namespace,
	want tree.Root, written bool) (bool, error) {
	s, ok := c.(engine.Shareable)
	if !ok || e.Crew == nil || e.Store.WriteOnly() || want.Bytes < fewestShared {
		return false, nil
	}
	hands := e.Crew.Hands(ctx)
	if hands == 0 {
		return false, nil
	}
	parts, err := s.Partitions(ctx, ns, run.PartsPerHand*hands)
	if err != nil || len(parts) < 2 {
		return false, err
	}
	parts = run.Pieces(parts, hands, engine.Partition.Through)
	end, err := Give(ctx, e, x, want)
	if err != nil {
		return false, err
	}
	defer end()
	one := equalPiece{Written: written, Namespace: ns, Want: want}
	if one.Shared, err = s.Share(); err != nil {
		return false, err
	}
	pieces := make([]equalPiece, len(parts))
	for i, p := range parts {
		pieces[i] = one
		if pieces[i].Partition, err = s.EncodePartition(p); err != nil {
			return false, err
		}
	}
	found := make([]equalRead, len(parts))
	var records, size int64
	by, err := run.Shared(ctx, e, PieceEqual, "reading "+ns.Name, pieces, func(i int, _ string, r *equalRead) error {
		found[i] = *r
		records, size = records+r.Records, size+r.Bytes
		e.ReportProgress(ns.Name, records, want.Records, size)
		return nil
	})
	if err != nil {
		return false, err
	}
	e.Emit(run.Note, "%s: %s read by %s", ns.Name, run.Count(int64(len(parts)), "piece"), by)
	return covers(found, want.Records), nil
}

// covers reports whether partitions together hold what a tree of so many records does. Each is equal to the tree
// from its first key to its last, so that what none of them has shows in their number.
func covers(found []equalRead, records int64) bool {
	found = slices.DeleteFunc(slices.Clone(found), func(r equalRead) bool { return r.Records == 0 && !r.Differs })
	slices.SortFunc(found, func(a, b equalRead) int { return bytes.Compare(a.First, b.First) })
	var n int64
	for i, r := range found {
		if r.Differs || i > 0 && bytes.Compare(found[i-1].Last, r.First) >= 0 {
			return false
		}
		n += r.Records
	}
	return n == records
}

// readEqual does a piece of kind [PieceEqual].
func readEqual(ctx context.Context, e *run.Runner, c engine.Cluster, p *equalPiece) (*equalRead, error) {
	c = engine.ApplicationView(c)
	s, ok := c.(engine.Shareable)
	if !ok {
		return nil, fmt.Errorf("a cluster of %s is not read in pieces", c.Engine())
	}
	if p.Written {
		if _, err := c.Writer(ctx); err != nil { // reads go where it writes from then on
			return nil, err
		}
	}
	part, err := s.DecodePartition(p.Partition)
	if err != nil {
		return nil, err
	}
	view, err := s.Join(p.Shared)
	if err != nil {
		return nil, err
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	l := tree.NewLoader(x, x, p.Want, e.TempDir(), e.SortMemory()/e.Readers())
	defer l.Close()
	in := l.Part()
	err = view.Scan(ctx, p.Namespace, part, func(r record.Record) error {
		if err := e.WaitForRate(ctx, len(r.Key)+len(r.Value)); err != nil {
			return err
		}
		return in.Add(ctx, r)
	})
	if err != nil {
		return nil, err
	}
	root, err := l.Finish(ctx)
	if err != nil || root.Records == 0 {
		return &equalRead{}, err
	}
	out := &equalRead{Records: root.Records, Bytes: root.Bytes}
	if out.First, out.Last, err = tree.Ends(ctx, x, root); err != nil {
		return nil, err
	}
	err = tree.DiffWithin(ctx, tree.Side{Source: x, Root: root}, tree.Side{Source: x, Root: p.Want}, out.First,
		out.Last, func(tree.Difference) error { out.Differs = true; return errFound })
	if err != nil && !out.Differs {
		return nil, err
	}
	return out, nil
}

// Give stores what a tree has in a scratch alone, where other processes are to read it; nothing of it is taken
// away by a reclaim until end is called. No point holds it: the next reclaim takes it away.
func Give(ctx context.Context, e *run.Runner, x *store.Scratch, root tree.Root) (end func(), err error) {
	guard := e.Store.NewWriter(ctx)
	if err := guard.Enlist(); err != nil {
		guard.Abandon()
		return nil, err
	}
	w := e.Store.NewWriter(ctx)
	if err := x.Give(ctx, root, w); err != nil {
		w.Abandon()
		guard.Abandon()
		return nil, err
	}
	if _, err := w.Flush(ctx); err != nil {
		guard.Abandon()
		return nil, err
	}
	return guard.Abandon, nil
}
