package moment

import (
	"context"
	"fmt"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// Versions calls fn with the changes of records between the point and the moment on one
// shard: of those namespaces that choose accepts by the name they had then, and of those
// keys that wanted, where it is set, accepts; by namespace, key and order of the log. Segments
// that by their summaries hold nothing of that are not read.
func (m *Moment) Versions(ctx context.Context, shard string, choose func(namespace string) bool,
	wanted func(key []byte) bool, fn func(namespace string, v fold.Version) error) error {
	if m.Model.Traits().Commands {
		return fmt.Errorf("%w: the log holds commands, which do not tell what they made of a record", run.ErrRefused)
	}
	f := fold.New(m.Model, false, m.Runner.TempDir(), m.Runner.SortMemory())
	defer f.Close()
	m.bases(f, shard)
	m.limit(f)
	err := m.changesOf(ctx, shard, func(h *journal.Header) bool { return tellsOf(h, choose) },
		func(c *record.Change) error {
			if c.Op.Record() && (!choose(c.Namespace) || wanted != nil && !wanted(c.Key)) {
				return nil
			}
			return f.Change(c)
		})
	if err != nil {
		return m.OnShard(shard, err)
	}
	for _, u := range f.Untracked() {
		if u.Why != "" && choose(u.Name) {
			m.Runner.Emit(run.Warning, "%s: %s; what was changed after that is not told", u.Name, u.Why)
		}
	}
	return m.OnShard(shard, f.Versions(ctx, m.Runner.Store,
		func(n *fold.Namespace, v fold.Version) error { return fn(n.Name, v) }))
}

// tellsOf reports whether a segment may have changes of records of a namespace, or of any
// namespace as a whole, which decide what names mean.
func tellsOf(h *journal.Header, choose func(string) bool) bool {
	if !h.Summarized() {
		return true
	}
	for _, t := range h.Summary {
		if choose(t.Namespace) {
			return true
		}
		if h.Unknown > 0 {
			return true
		}
		for op := record.Create; op <= record.Empty; op++ {
			if t.By.Of(op.String()).Changes > 0 {
				return true
			}
		}
	}
	return false
}

// Reaching returns the moment that follows the ith point by as much of each shard's log as is
// known without a break.
func (c *Coverage) Reaching(e *run.Runner, i int) (*Moment, error) {
	return Reaching(e, c.Points[i], c.Chains)
}

// Reaching returns the moment that follows a point by as much of each shard's log as is known without a break.
func Reaching(e *run.Runner, p *store.Point, chains map[string]*journal.Chain) (*Moment, error) {
	upto := map[string]record.Mark{}
	for _, s := range p.Shards {
		upto[s.Name] = reach(s, chains)
	}
	return At(e, p, chains, upto)
}
