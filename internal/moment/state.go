package moment

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"dexamen/internal/core/address"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/remedy"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// NamespaceState is a namespace at a moment, with its content.
type NamespaceState struct {
	record.Namespace
	Root tree.Root
	// Shard is set where it is what one shard holds, remainders of migrations
	// included.
	Shard string
}

// Sharded reports whether the cluster has several shards.
func (m *Moment) Sharded() bool { return len(m.Point.Shards) > 1 }

// Changes calls fn with every change of a shard that belongs to the moment, in
// order.
func (m *Moment) Changes(ctx context.Context, shard string, fn func(*record.Change) error) error {
	return m.changesOf(ctx, shard, nil, fn)
}

// changesOf is Changes of the segments for which read, where it is set, returns true.
func (m *Moment) changesOf(ctx context.Context, shard string, read func(*journal.Header) bool,
	fn func(*record.Change) error) error {
	mark, _ := m.Point.Shard(shard)
	upto := m.Upto[shard].Position
	for _, h := range m.Segments[shard] {
		if read != nil && !read(&h) {
			continue
		}
		err := m.Runner.Store.ReadSegment(ctx, h, func(c *record.Change) error {
			if c.At <= mark.Mark.Position || c.At > upto {
				return nil
			}
			if !m.Point.Settings && m.Model.Kind(c.Namespace) == record.KindSettings {
				return nil // the point does not hold what these continue
			}
			return fn(c)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Log returns every change of a shard that belongs to the moment, in order. A change's
// bytes are valid until the next one. An error ends the sequence.
func (m *Moment) Log(ctx context.Context, shard string) iter.Seq2[*record.Change, error] {
	return func(yield func(*record.Change, error) bool) {
		err := m.Changes(ctx, shard, func(c *record.Change) error {
			if !yield(c, nil) {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(nil, m.OnShard(shard, err))
		}
	}
}

// errEnough ends the reading of a log of which no more is wanted.
var errEnough = errors.New("enough")

func (m *Moment) bases(f *fold.Fold, shard string) {
	f.Unlogged(m.Point.Unlogged)
	for _, ns := range m.Point.Namespaces {
		if ns.Shard == shard || !m.Sharded() {
			f.Base(ns.Namespace, ns.Root)
		}
	}
}

// Chooser returns what a scope chooses by name; nil where it is all. What is no
// content is always part of it.
func Chooser(scope address.Scope, model engine.Model) func(string) bool {
	if len(scope) == 0 {
		return nil
	}
	return func(name string) bool {
		ns := record.Namespace{Name: name, Kind: model.Kind(name)}
		return !ns.Kind.IsContent() || scope.Match(name) || model.Staged(name)
	}
}

// limit has a fold follow only what the point was asked to hold, and nothing of what it had to leave out.
func (m *Moment) limit(f *fold.Fold) {
	if chosen := Chooser(m.Point.Scope, m.Model); chosen != nil {
		f.Choose(chosen)
	}
	for _, s := range m.Point.Skipped {
		f.LeaveOut(s.Name)
	}
}

// Plan follows one shard's namespaces through the log and says which there are
// at the moment; it reads no records.
func (m *Moment) Plan(ctx context.Context, shard string) (*fold.Fold, error) {
	f := fold.NewPlan(m.Model)
	m.bases(f, shard)
	m.limit(f)
	return f, m.Changes(ctx, shard, f.Change)
}

// shardTrees builds the trees of what one shard holds at the moment.
func (m *Moment) shardTrees(ctx context.Context, shard string, src tree.Source, sink tree.Sink,
	choose func(*record.Namespace) bool) ([]NamespaceState, int64, error) {
	var out []NamespaceState
	if len(m.Segments[shard]) == 0 {
		for _, ns := range m.Point.Namespaces {
			if (ns.Shard == shard || !m.Sharded()) && choose(&ns.Namespace) {
				out = append(out, NamespaceState{ns.Namespace, ns.Root, shard})
			}
		}
		return out, 0, nil
	}
	if m.NeedsServer() {
		return nil, 0, m.ErrNeedsServer()
	}
	plan, err := m.Plan(ctx, shard)
	if err != nil {
		return nil, 0, err
	}
	f := fold.New(m.Model, m.incomplete, m.Runner.TempDir(), m.Runner.SortMemory())
	defer f.Close()
	m.bases(f, shard)
	m.limit(f)
	chosen := func(n *fold.Namespace) bool { return choose(&n.Namespace) }
	f.Want(plan, chosen)
	if err := m.Changes(ctx, shard, f.Change); err != nil {
		return nil, 0, err
	}
	err = f.Merge(ctx, src, sink, chosen, func(n *fold.Namespace, root tree.Root) error {
		if root.Records > 0 || !m.Model.Traits().DropsEmpty {
			out = append(out, NamespaceState{n.Namespace, root, shard})
		}
		return nil
	})
	return out, f.Count, err
}

// Held builds the trees of all that each shard holds at the moment, settings,
// layout and remainders included, in order of names and shards, and gives them
// with the number of changes folded in.
func (m *Moment) Held(ctx context.Context, src tree.Source, sink tree.Sink) ([]NamespaceState, int64, error) {
	var out []NamespaceState
	var n int64
	for _, s := range m.Point.Shards {
		spaces, folded, err := m.shardTrees(ctx, s.Name, src, sink, func(*record.Namespace) bool { return true })
		if err != nil {
			return nil, n, m.OnShard(s.Name, err)
		}
		out, n = append(out, spaces...), n+folded
	}
	SortStates(out)
	return out, n, nil
}

func SortStates(list []NamespaceState) {
	slices.SortStableFunc(list, func(a, b NamespaceState) int {
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return strings.Compare(a.Shard, b.Shard)
	})
}

// OnShard returns an error with the shard it is of, where there are several, and with what helps
// where a log is not what it should be.
func (m *Moment) OnShard(shard string, err error) error {
	var missing *journal.MissingError
	if errors.Is(err, fold.ErrDiverged) || errors.As(err, &missing) {
		err = remedy.With(err, remedy.Points, m.Point.Cluster)
	}
	if err == nil || !m.Sharded() {
		return err
	}
	return fmt.Errorf("shard %s: %w", shard, err)
}

// Trees builds the trees of the namespaces that choose accepts (nil: all) as
// they are at the moment, into sink, and gives them in order of names, with
// the number of changes folded in. A namespace that is spread over shards is
// one: what counts of each shard's part is put together.
func (m *Moment) Trees(ctx context.Context, src tree.Source, sink tree.Sink,
	choose func(name string) bool) ([]NamespaceState, int64, error) {
	choose = m.visible(choose)
	if x, ok := sink.(*store.Scratch); ok && m.NeedsServer() {
		if m.Materializer == nil {
			return nil, 0, m.ErrNeedsServer()
		}
		return m.Materializer.Materialize(ctx, m, x, choose)
	}
	if !m.Sharded() {
		spaces, n, err := m.shardTrees(ctx, m.Point.Shards[0].Name, src, sink,
			func(ns *record.Namespace) bool { return ns.Kind.IsContent() && choose(ns.Name) })
		for i := range spaces {
			spaces[i].Shard = ""
		}
		SortStates(spaces)
		return spaces, n, err
	}
	lay, err := m.layout(ctx, src, sink)
	if err != nil {
		return nil, 0, err
	}
	known, err := m.known(ctx)
	if err != nil {
		return nil, 0, err
	}
	var count int64
	a := assembly{lay: lay}
	for _, s := range m.Point.Shards {
		spaces, n, err := m.shardTrees(ctx, s.Name, src, sink, func(ns *record.Namespace) bool {
			p := lay.Part(s.Name, *ns)
			return !p.None && ns.Kind.IsContent() && choose(p.Name) && known(p.Name) && known(ns.Name)
		})
		if err != nil {
			return nil, count, m.OnShard(s.Name, err)
		}
		count += n
		for _, sp := range spaces {
			a.add(sp)
		}
	}
	out, err := a.union(ctx, src, sink)
	return out, count, err
}

// visible leaves out of a choice what only restores use while they go on.
func (m *Moment) visible(choose func(name string) bool) func(string) bool {
	return func(name string) bool { return (choose == nil || choose(name)) && !m.Model.Staged(name) }
}

// OfKind builds the trees of users and roles at the moment, or of what else is
// no content.
func (m *Moment) OfKind(ctx context.Context, kind record.Kind, src tree.Source,
	sink tree.Sink) ([]NamespaceState, error) {
	var out []NamespaceState
	for _, s := range m.Point.Shards {
		spaces, _, err := m.shardTrees(ctx, s.Name, src, sink,
			func(ns *record.Namespace) bool { return ns.Kind == kind })
		if err != nil {
			return nil, m.OnShard(s.Name, err)
		}
		out = append(out, spaces...)
	}
	SortStates(out)
	return out, nil
}

// StatesOf returns what a point holds, by shard.
func StatesOf(p *store.Point) []NamespaceState {
	var out []NamespaceState
	for _, ns := range p.Namespaces {
		out = append(out, NamespaceState{ns.Namespace, ns.Root, ns.Shard})
	}
	SortStates(out)
	return out
}
