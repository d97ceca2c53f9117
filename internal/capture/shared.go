package capture

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/remedy"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// PieceLog is the kind of a piece that captures one shard's log up to an end.
const PieceLog = "log"

// logPiece is such a piece. Where it begins is in the store: at the end of what is stored, so that it goes on
// where another process was cut short.
type logPiece struct {
	Settings bool            `json:"settings"`
	Cluster  string          `json:"cluster"`
	Shard    string          `json:"shard"`
	End      record.Position `json:"end"`
	Asked    time.Time       `json:"asked"` // when the end was asked for
	Segment  int             `json:"segment_bytes"`
}

// logRead is the outcome. Its segments are in the store.
type logRead struct {
	Shard     ShardResult   `json:"shard"`
	Gaps      []journal.Gap `json:"gaps,omitempty"`
	AtPoint   int           `json:"at_point,omitempty"` // gaps that end at a point
	Doubts    []string      `json:"doubts,omitempty"`
	Untracked []string      `json:"untracked,omitempty"`
	// Incomplete says why the log cannot be taken up; who reads it has not failed.
	Incomplete string `json:"incomplete,omitempty"`
}

// Pieces are what does each kind of piece.
var Pieces = map[string]run.Piece{PieceLog: run.PieceOf(captureShard)}

// shareable reports whether other processes capture shards. What goes on without an end is read by one, and
// so is a log that must be compared with the namespaces.
func (a *allShards) shareable(ctx context.Context) bool {
	for _, cp := range a.list {
		if len(cp.doubts) > 0 {
			return false
		}
	}
	return a.Crew != nil && !a.opt.Follow && len(a.list) > 1 && a.Crew.Hands(ctx) > 0
}

// captureByOthers has other processes capture the shards, each to the end that was found.
func (a *allShards) captureByOthers(ctx context.Context) error {
	pieces := make([]logPiece, len(a.list))
	for i, cp := range a.list {
		pieces[i] = logPiece{Settings: a.settings, Cluster: cp.name, Shard: cp.shard.Name, End: cp.end,
			Asked: a.asked, Segment: a.opt.SegmentBytes}
	}
	var bad error
	by, err := run.Shared(ctx, a.Runner, PieceLog, "capturing the log", pieces,
		func(i int, _ string, r *logRead) error {
			cp := a.list[i]
			cp.out, cp.gaps, cp.resumedAtPoint, cp.seen = r.Shard, r.Gaps, r.AtPoint, r.Doubts
			a.out.Untracked = append(a.out.Untracked, r.Untracked...)
			if r.Incomplete != "" && bad == nil {
				bad = remedy.With(fmt.Errorf("%w: %s", run.ErrIncomplete, r.Incomplete), remedy.Snapshot, cp.name)
			}
			a.progressed(r.Shard.Changes, r.Shard.Stored)
			return nil
		})
	if err != nil {
		return err
	}
	a.Emit(run.Note, "%s captured by %s", run.Count(int64(len(pieces)), "shard"), by)
	return bad
}

// captureShard does a piece of kind [PieceLog].
func captureShard(ctx context.Context, e *run.Runner, c engine.Cluster, x *logPiece) (*logRead, error) {
	a, src, err := newCapture(ctx, e, x.Cluster, c, Options{SegmentBytes: x.Segment})
	if err != nil {
		return nil, err
	}
	a.only, a.asked = x.Shard, x.Asked
	if err := a.begin(ctx, src); err != nil {
		return nil, err
	}
	if len(a.list) != 1 {
		return nil, fmt.Errorf("cluster %s: shard %s is not there, or was not at the last point", x.Cluster, x.Shard)
	}
	cp := a.list[0]
	cp.end, a.end = x.End, x.End
	err = a.captureAll(ctx)
	a.sum()
	out := &logRead{Shard: cp.out, Gaps: cp.gaps, AtPoint: cp.resumedAtPoint, Doubts: cp.seen,
		Untracked: a.out.Untracked}
	if errors.Is(err, run.ErrIncomplete) {
		out.Incomplete = strings.TrimPrefix(err.Error(), run.ErrIncomplete.Error()+": ")
		err = nil
	}
	return out, err
}
