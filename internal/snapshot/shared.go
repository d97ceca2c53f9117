package snapshot

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// PieceScan is the kind of a piece of a snapshot that reads a partition ([ScanPiece]).
const PieceScan = "scan"

// piece is a partition for another process to read.
type piece struct {
	// Settings says whether users and roles are listed among the namespaces.
	Settings  bool             `json:"settings"`
	Shared    json.RawMessage  `json:"shared"` // as [engine.Shareable] has it
	Namespace engine.Namespace `json:"namespace"`
	Partition []byte           `json:"partition"`
	// Near is the tree of an older state, to store what is new against.
	Near tree.Root `json:"near"`
}

// pieceRead is the outcome. Its nodes are in the store.
type pieceRead struct {
	Root  tree.Root        `json:"root"`
	Stats store.WriteStats `json:"stats"`
	// Seen is what reading has shown of the log.
	Seen json.RawMessage `json:"seen"`
	// Again is what kept it from being read so that it must be begun anew, by its text and what it is.
	Again     string `json:"again,omitempty"`
	AgainText string `json:"again_text,omitempty"`
}

// What is found out by reading is no failure of who reads: it is told, and who has the job decides.
var tellable = map[string]error{"moved": engine.ErrMoved, "read again": engine.ErrReadAgain,
	"state gone": engine.ErrStateGone}

// againError is such an error that another process has told.
type againError struct {
	text string
	is   error
}

func (e *againError) Error() string { return e.text }

func (e *againError) Unwrap() error { return e.is }

// shareable returns the cluster where other processes can read what this one does, and can be
// joined with; nil where one process reads alone.
func (s *snapshot) shareable() engine.Shareable {
	if s.Crew == nil || s.Store.WriteOnly() { // what others have stored must be read to be joined
		return nil
	}
	c, _ := s.c.(engine.Shareable)
	return c
}

// scanShared has other processes read a namespace's partitions. False: there is too little of it, or
// nobody is there, and nothing was read.
func (s *snapshot) scanShared(ctx context.Context, c engine.Shareable, ns engine.Namespace) (
	root tree.Root, ok bool, err error) {
	hands := s.Crew.Hands(ctx)
	if hands == 0 {
		return root, false, nil
	}
	parts, err := c.Partitions(ctx, ns, run.PartsPerHand*hands)
	if err != nil || len(parts) < 2 {
		return root, false, err
	}
	parts = run.Pieces(parts, hands, engine.Partition.Through)
	if err := s.w.Enlist(); err != nil { // before anybody writes for it
		return root, false, err
	}
	shared, err := c.Share()
	if err != nil {
		return root, false, err
	}
	near := s.similarTree(ns)
	var pieces []piece
	for _, p := range parts {
		x := piece{Settings: s.settings, Shared: shared, Namespace: ns, Near: near}
		if x.Partition, err = c.EncodePartition(p); err != nil {
			return root, false, err
		}
		pieces = append(pieces, x)
	}
	roots := make([]tree.Root, len(parts))
	done := func(i int, _ string, r *pieceRead) error {
		if r.Again != "" {
			is, ok := tellable[r.Again]
			if !ok {
				is = engine.ErrReadAgain
			}
			return &againError{r.AgainText, is}
		}
		if _, err := c.Join(r.Seen); err != nil {
			return err
		}
		roots[i] = r.Root
		s.addOthers(&r.Stats)
		s.ReportProgress(ns.Name, s.done.Add(r.Root.Records), s.total.Load(), s.bytes.Add(r.Root.Bytes))
		return nil
	}
	by, err := run.Shared(ctx, s.Runner, PieceScan, "reading "+ns.Name, pieces, done)
	if err != nil {
		return root, false, err
	}
	if err := s.Store.Refresh(ctx); err != nil { // what others have stored
		return root, false, err
	}
	s.Emit(run.Note, "%s%s: %s read by %s", s.part(ns.Shard).of(), ns.Name, run.Count(int64(len(parts)), "piece"), by)
	root, err = tree.Join(ctx, s.w, roots, near, s.w)
	return root, true, err
}

// ScanPiece reads a partition for a snapshot that another process takes, and stores what it holds. The
// cluster is open as the piece's settings say ([PieceSettings]).
func ScanPiece(ctx context.Context, e *run.Runner, c engine.Cluster, x *piece) (*pieceRead, error) {
	sharer, ok := c.(engine.Shareable)
	if !ok {
		return nil, fmt.Errorf("a cluster of %s is not read in pieces", c.Engine())
	}
	p, err := sharer.DecodePartition(x.Partition)
	if err != nil {
		return nil, err
	}
	view, err := sharer.Join(x.Shared)
	if err != nil {
		return nil, err
	}
	r, err := scanPiece(ctx, e, view, x, p)
	for name, is := range tellable {
		if errors.Is(err, is) {
			r, err = &pieceRead{Again: name, AgainText: err.Error()}, nil
		}
	}
	if err != nil {
		return nil, err
	}
	r.Seen, err = view.(engine.Shareable).Share()
	return r, err
}

func scanPiece(ctx context.Context, e *run.Runner, c engine.Cluster, x *piece, p engine.Partition) (
	*pieceRead, error) {
	near := x.Near
	if e.Store.WriteOnly() {
		near = tree.Root{}
	}
	w := e.Store.NewWriter(ctx)
	l := tree.NewLoader(w, w, near, e.TempDir(), e.SortMemory()/e.Readers())
	defer l.Close()
	part := l.Part()
	err := c.Scan(ctx, x.Namespace, p, func(r record.Record) error {
		if err := e.WaitForRate(ctx, len(r.Key)+len(r.Value)); err != nil {
			return err
		}
		return part.Add(ctx, r)
	})
	r := &pieceRead{}
	if err == nil {
		r.Root, err = l.Finish(ctx)
	}
	if err != nil {
		w.Abandon()
		return nil, err
	}
	r.Stats, err = w.Flush(ctx)
	return r, err
}

// Pieces are what does each kind of piece.
var Pieces = map[string]run.Piece{PieceScan: run.PieceOf(ScanPiece), PieceShard: run.PieceOf(ShardPiece)}

// PieceSettings returns whether a piece is of a cluster that is open with users and roles.
func PieceSettings(data json.RawMessage) bool {
	var x piece
	return json.Unmarshal(data, &x) == nil && x.Settings
}
