package search

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// namespaceCursor says up to where each shard of a namespace was read.
type namespaceCursor struct {
	Shards []shardMark `json:"shards"`
}

// Cursor implements [engine.Incremental].
func (p *pinned) Cursor(_ context.Context, ns engine.Namespace) []byte {
	v := p.views[ns.Name]
	if v == nil {
		return nil
	}
	var c namespaceCursor
	for _, r := range v.readers {
		c.Shards = append(c.Shards, r.mark)
	}
	b, err := json.Marshal(c)
	if err != nil {
		return nil
	}
	return b
}

// Since implements [engine.Incremental]. What a shard has taken since is what has a
// higher sequence number than the checkpoint of then: at that time every write up to
// it was in what was read, and none of them can be undone while the shard's primary
// term stays. Indices of a data stream that came since are read whole; what one had
// that is gone shows as records that are not there any more.
func (p *pinned) Since(ctx context.Context, ns engine.Namespace, cursor []byte, n int) ([]engine.Partition, error) {
	var was namespaceCursor
	if err := json.Unmarshal(cursor, &was); err != nil {
		return nil, fmt.Errorf("%w: %w", engine.ErrNotContinued, err)
	}
	v := p.views[ns.Name]
	if v == nil {
		return nil, fmt.Errorf("%w: it has no readers that hold still", engine.ErrNotContinued)
	}
	if err := p.reopen(ctx, v); err != nil {
		return nil, p.fail(err)
	}
	marks := map[string]shardMark{}
	for _, m := range was.Shards {
		marks[fmt.Sprint(m.UUID, "/", m.Shard)] = m
	}
	since := map[*shardReader]int64{}
	for _, r := range v.readers {
		m, ok := marks[fmt.Sprint(r.uuid, "/", r.number)]
		switch {
		case !ok && ns.Kind == streamKind:
			continue // an index that came since
		case !ok:
			return nil, fmt.Errorf("%w: it was made anew", engine.ErrNotContinued)
		case m.Term != r.mark.Term:
			return nil, fmt.Errorf("%w: shard %d of %s has another primary (term %d, then %d)", engine.ErrNotContinued,
				r.number, r.index, r.mark.Term, m.Term)
		case m.History != r.mark.History || m.History == "":
			return nil, fmt.Errorf("%w: shard %d of %s has another history", engine.ErrNotContinued, r.number, r.index)
		case m.Checkpoint < 0 && r.mark.newest >= 0:
			continue // it had nothing then
		case r.mark.newest == m.Checkpoint && r.mark.Checkpoint == m.Checkpoint:
			since[r] = nothingSince // nothing was written, nor deleted
			continue
		case r.mark.Checkpoint < m.Checkpoint:
			return nil, fmt.Errorf("%w: the sequence numbers of shard %d of %s have gone back, from %d to %d",
				engine.ErrNotContinued, r.number, r.index, m.Checkpoint, r.mark.Checkpoint)
		}
		since[r] = m.Checkpoint
	}
	if !slices.ContainsFunc(v.readers, func(r *shardReader) bool {
		seq, ok := since[r]
		return !ok || seq != nothingSince
	}) && len(was.Shards) == len(v.readers) {
		return nil, nil
	}
	return v.cut(n, since), nil
}

// nothingSince stands for a shard that is as it was.
const nothingSince = -2

// Count implements [engine.Incremental].
func (p *pinned) Count(ctx context.Context, ns engine.Namespace) (int64, error) {
	v := p.views[ns.Name]
	if v == nil {
		return -1, nil
	}
	counts := make([]int64, len(v.readers))
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for i, r := range v.readers {
		g.Go(func() (err error) {
			counts[i], err = p.countShard(gctx, v, r)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return 0, p.fail(err)
	}
	sum := int64(0)
	for _, n := range counts {
		sum += n
	}
	return sum, nil
}

func (p *pinned) countShard(ctx context.Context, v *view, r *shardReader) (int64, error) {
	s := stretch{v: v, r: r, id: r.current()}
	var ans struct {
		Shards *shardCounts `json:"_shards"`
		Hits   struct{ Total struct{ Value int64 } }
	}
	err := p.post(ctx, "/_search?allow_partial_search_results=false", map[string]any{"size": 0,
		"track_total_hits": true, "pit": map[string]any{"id": s.id, "keep_alive": keepAlive}}, &ans)
	if err == nil {
		err = ans.Shards.whole("counting documents")
	}
	if err == nil && s.id != "" {
		return ans.Hits.Total.Value, nil
	}
	if err = s.gone(err); s.id == "" || errors.Is(err, errReaderGone) {
		err = v.lost(r, s.id, err)
	}
	return 0, err
}

// ScanKeys implements [engine.Incremental].
func (p *pinned) ScanKeys(ctx context.Context, ns engine.Namespace, part engine.Partition,
	fn func(key []byte) error) error {
	if s, ok := part.From.(stretch); ok && s.r != nil {
		s.keys = true
		s.perPage = s.r.mostHits
		part.From = s
	}
	return p.Scan(ctx, ns, part, func(r record.Record) error { return fn(r.Key) })
}
