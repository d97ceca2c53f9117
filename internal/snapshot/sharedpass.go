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

// PieceShard is the kind of a piece of a snapshot that reads a shard in one pass ([ShardPiece]).
const PieceShard = "shard"

// shardPiece is a shard for another process to read.
type shardPiece struct {
	Settings bool   `json:"settings"`
	Cluster  string `json:"cluster"`
	Shard    string `json:"shard"`
	// Resume is the last place that is known of the shard, as [engine.HistoryResumer] has it.
	Resume record.Mark `json:"resume"`
	// Last is the point against which is stored what is new; empty where there is none.
	Last string `json:"last,omitempty"`
}

// shardRead is the outcome.
type shardRead struct {
	Mark record.Mark `json:"mark"`
	// List is a tree in the store: of each namespace, under its name, what it is and its root. There may be very
	// many.
	List    tree.Root        `json:"list"`
	Records int64            `json:"records"`
	Bytes   int64            `json:"bytes"`
	Choice  engine.Choice    `json:"choice"`
	Stats   store.WriteStats `json:"stats"`
}

// foundTree is a namespace of such a list.
type foundTree struct {
	Namespace record.Namespace `json:"namespace"`
	Root      tree.Root        `json:"root"`
}

// shareStreams reports whether other processes read shards for this one.
func (s *snapshot) shareStreams(ctx context.Context) bool {
	return s.Crew != nil && !s.Store.WriteOnly() && len(s.parts) > 1 && s.Crew.Hands(ctx) > 0
}

// streamShared has another process read a shard.
func (s *snapshot) streamShared(ctx context.Context, part *part) error {
	if err := s.w.Enlist(); err != nil { // before anybody writes for it
		return err
	}
	x := shardPiece{Settings: s.settings, Cluster: s.name, Shard: part.shard, Resume: s.resume[part.shard]}
	if s.last != nil {
		x.Last = s.last.ID
	}
	var r shardRead
	by, err := run.Shared(ctx, s.Runner, PieceShard, "reading shard "+part.shard, []shardPiece{x},
		func(_ int, _ string, of *shardRead) error { r = *of; return nil })
	if err != nil {
		return err
	}
	s.addOthers(&r.Stats)
	s.ReportProgress("", s.done.Add(r.Records), 0, s.bytes.Add(r.Bytes))
	s.Emit(run.Step, "%s%s, read by %s at %s", part.of(), run.Count(r.Records, "record"), by, r.Choice.Member.Address)
	if err := s.Store.Refresh(ctx); err != nil { // what others have stored
		return err
	}
	part.reached, part.choice = r.Mark, r.Choice
	return tree.Walk(ctx, s.w, r.List, func(rec record.Record) error {
		var f foundTree
		if err := json.Unmarshal(rec.Value, &f); err != nil {
			return fmt.Errorf("what worker %s found on shard %s: %w", by, part.shard, err)
		}
		part.fold.Base(f.Namespace, f.Root)
		return nil
	})
}

// addOthers adds what another process has stored for this one.
func (s *snapshot) addOthers(a *store.WriteStats) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := &s.others
	o.New, o.Known, o.Patched = o.New+a.New, o.Known+a.Known, o.Patched+a.Patched
	o.Content, o.Stored = o.Content+a.Content, o.Stored+a.Stored
}

// ShardPiece reads a shard for a snapshot that another process takes, and stores what it holds.
func ShardPiece(ctx context.Context, e *run.Runner, c engine.Cluster, x *shardPiece) (*shardRead, error) {
	st, ok := c.(engine.Streamed)
	if !ok {
		return nil, fmt.Errorf("a cluster of %s is not read by shards", c.Engine())
	}
	if h, ok := c.(engine.HistoryResumer); ok {
		if err := h.ResumeFrom(ctx, x.Shard, x.Resume); err != nil {
			return nil, err
		}
	}
	r := &shardRead{}
	var err error
	if r.Choice, err = c.Choose(ctx, x.Shard); err != nil {
		return nil, err
	}
	near, err := nearOf(ctx, e, x)
	if err != nil {
		return nil, err
	}
	w := e.Store.NewWriter(ctx)
	p := &pass{Runner: e, shard: x.Shard, of: "shard " + x.Shard + ": ", w: w,
		bound: e.SortMemory() / e.Readers(), near: near,
		progress: func(int64) {}, bytes: func(n int) { r.Bytes += int64(n) }}
	list := tree.NewLoader(w, w, tree.Root{}, e.TempDir(), e.SortMemory()/e.Readers())
	defer list.Close()
	names := list.Part()
	var bad error
	r.Mark, err = p.read(ctx, st, func(ns record.Namespace, root tree.Root) {
		r.Records += root.Records
		value, err := json.Marshal(&foundTree{ns, root})
		if err == nil {
			err = names.Add(ctx, record.Record{Key: []byte(ns.Name), Value: value})
		}
		bad = errors.Join(bad, err)
	})
	if err = errors.Join(err, bad); err == nil {
		r.List, err = list.Finish(ctx)
	}
	if err != nil {
		w.Abandon()
		return nil, err
	}
	r.Stats, err = w.Flush(ctx)
	return r, err
}

// nearOf returns the trees against which what is new of a shard is stored.
func nearOf(ctx context.Context, e *run.Runner, x *shardPiece) (func(record.Namespace) tree.Root, error) {
	none := func(record.Namespace) tree.Root { return tree.Root{} }
	if x.Last == "" || e.Store.WriteOnly() {
		return none, nil
	}
	points, _, err := e.Store.Points(ctx, x.Cluster)
	if err != nil {
		return nil, err
	}
	for _, p := range points {
		if p.ID == x.Last {
			roots := map[string]tree.Root{}
			for _, ns := range p.Namespaces {
				if ns.Shard == x.Shard {
					roots[ns.Name] = ns.Root
				}
			}
			return func(ns record.Namespace) tree.Root { return roots[ns.Name] }, nil
		}
	}
	return none, nil
}
