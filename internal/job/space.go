package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/address"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// Kinds of namespaces that are not content: users and roles, and where the
// parts of a cluster are.
const (
	settingsKind = "settings"
	layoutKind   = "layout"
	// supportKind is of what records refer to.
	supportKind = "support"
)

// Space is a namespace at a moment, with its content.
type Space struct {
	record.Namespace
	Root tree.Root
	// Shard is set where it is what one shard holds, remainders of migrations
	// included.
	Shard string
}

// Spread reports whether the cluster has several shards.
func (m *Moment) Spread() bool { return len(m.Point.Shards) > 1 }

// changes calls fn with every change of a shard that belongs to the moment, in
// order.
func (m *Moment) changes(ctx context.Context, shard string, fn func(*record.Change) error) error {
	mark, _ := m.Point.Shard(shard)
	upto := m.Upto[shard].Position
	for _, h := range m.segments[shard] {
		err := m.env.Store.ReadSegment(ctx, h, func(c *record.Change) error {
			if c.At <= mark.Mark.Position || c.At > upto {
				return nil
			}
			if !m.Point.Settings && m.Model.Kind(c.Namespace) == settingsKind {
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

func (m *Moment) bases(f *fold.Fold, shard string) {
	f.Unlogged(m.Point.Unlogged)
	for _, ns := range m.Point.Namespaces {
		if ns.Shard == shard || !m.Spread() {
			f.Base(ns.Namespace, ns.Root)
		}
	}
}

// chooser returns what a scope chooses by name; nil where it is all. What is no
// content is always part of it.
func chooser(scope address.Scope, model engine.Model) func(string) bool {
	if len(scope) == 0 {
		return nil
	}
	return func(name string) bool {
		ns := record.Namespace{Name: name, Kind: model.Kind(name)}
		return !content(&ns) || scope.Match(name) || model.Staged(name)
	}
}

// limit has a fold follow only what the point was asked to hold.
func (m *Moment) limit(f *fold.Fold) {
	if chosen := chooser(m.Point.Scope, m.Model); chosen != nil {
		f.Choose(chosen)
	}
}

// Strangers names what was renamed, after the point, to a name that the point's
// scope chooses: its content before that is not known.
func (m *Moment) Strangers(ctx context.Context) ([]string, error) {
	if len(m.Point.Scope) == 0 || m.Model.Traits().Commands {
		return nil, nil
	}
	var out []string
	for _, s := range m.Point.Shards {
		plan, err := m.plan(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, plan.Strangers()...)
	}
	return out, nil
}

// tellStrangers warns of what a moment lacks because it came by its name late.
func (e *Env) tellStrangers(ctx context.Context, m *Moment) {
	names, err := m.Strangers(ctx)
	if err != nil {
		return // whoever reads the moment meets it
	}
	for _, n := range names {
		e.emit(Warning, "%s is not in it: it was renamed to that name after point %s, and what it held before was not protected", n, m.Point.ID)
	}
}

// plan follows one shard's namespaces through the log and says which there are
// at the moment; it reads no records.
func (m *Moment) plan(ctx context.Context, shard string) (*fold.Fold, error) {
	f := fold.NewPlan(m.Model)
	m.bases(f, shard)
	m.limit(f)
	return f, m.changes(ctx, shard, f.Change)
}

// shardTrees builds the trees of what one shard holds at the moment.
func (m *Moment) shardTrees(ctx context.Context, shard string, src tree.Source, sink tree.Sink, choose func(*record.Namespace) bool) ([]Space, int64, error) {
	var out []Space
	if len(m.segments[shard]) == 0 {
		for _, ns := range m.Point.Namespaces {
			if (ns.Shard == shard || !m.Spread()) && choose(&ns.Namespace) {
				out = append(out, Space{ns.Namespace, ns.Root, shard})
			}
		}
		return out, 0, nil
	}
	if m.needsBench() {
		return nil, 0, m.noBench()
	}
	plan, err := m.plan(ctx, shard)
	if err != nil {
		return nil, 0, err
	}
	f := fold.New(m.Model, m.loose, m.env.temp(), m.env.memory())
	defer f.Close()
	m.bases(f, shard)
	m.limit(f)
	chosen := func(n *fold.Namespace) bool { return choose(&n.Namespace) }
	f.Want(plan, chosen)
	if err := m.changes(ctx, shard, f.Change); err != nil {
		return nil, 0, err
	}
	err = f.Merge(ctx, src, sink, chosen, func(n *fold.Namespace, root tree.Root) error {
		if root.Records > 0 || !m.Model.Traits().Vanish {
			out = append(out, Space{n.Namespace, root, shard})
		}
		return nil
	})
	return out, f.Count, err
}

// Held builds the trees of all that each shard holds at the moment, settings,
// layout and remainders included, in order of names and shards, and gives them
// with the number of changes folded in.
func (m *Moment) Held(ctx context.Context, src tree.Source, sink tree.Sink) ([]Space, int64, error) {
	var out []Space
	var n int64
	for _, s := range m.Point.Shards {
		spaces, folded, err := m.shardTrees(ctx, s.Name, src, sink, func(*record.Namespace) bool { return true })
		if err != nil {
			return nil, n, m.onShard(s.Name, err)
		}
		out, n = append(out, spaces...), n+folded
	}
	sortSpaces(out)
	return out, n, nil
}

func sortSpaces(list []Space) {
	slices.SortStableFunc(list, func(a, b Space) int {
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return strings.Compare(a.Shard, b.Shard)
	})
}

func (m *Moment) onShard(shard string, err error) error {
	if err == nil || !m.Spread() {
		return err
	}
	return fmt.Errorf("shard %s: %w", shard, err)
}

// content reports whether a namespace is content rather than about it.
func content(ns *record.Namespace) bool {
	return ns.Kind != settingsKind && ns.Kind != layoutKind && ns.Kind != supportKind
}

// Trees builds the trees of the namespaces that choose accepts (nil: all) as
// they are at the moment, into sink, and gives them in order of names, with
// the number of changes folded in. A namespace that is spread over shards is
// one: what counts of each shard's part is put together.
func (m *Moment) Trees(ctx context.Context, src tree.Source, sink tree.Sink, choose func(name string) bool) ([]Space, int64, error) {
	choose = m.visible(choose)
	if x, ok := sink.(*store.Scratch); ok && m.needsBench() {
		return m.made(ctx, x, choose)
	}
	if !m.Spread() {
		spaces, n, err := m.shardTrees(ctx, m.Point.Shards[0].Name, src, sink, func(ns *record.Namespace) bool { return content(ns) && choose(ns.Name) })
		for i := range spaces {
			spaces[i].Shard = ""
		}
		sortSpaces(spaces)
		return spaces, n, err
	}
	lay, err := m.layout(ctx, src, sink)
	if err != nil {
		return nil, 0, err
	}
	var count int64
	a := assembly{lay: lay}
	for _, s := range m.Point.Shards {
		spaces, n, err := m.shardTrees(ctx, s.Name, src, sink, func(ns *record.Namespace) bool {
			p := lay.Part(s.Name, *ns)
			return !p.None && content(ns) && choose(p.Name)
		})
		if err != nil {
			return nil, count, m.onShard(s.Name, err)
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

// layout reads where content is at the moment.
func (m *Moment) layout(ctx context.Context, src tree.Source, sink tree.Sink) (engine.Layout, error) {
	model, ok := m.Model.(engine.Spread)
	if !ok {
		return nil, errors.New("a point of several shards of an engine that has none")
	}
	spaces := map[string]tree.Root{}
	was := map[string][]tree.Root{}
	put := map[string][][]byte{}
	for _, s := range m.Point.Shards {
		list, _, err := m.shardTrees(ctx, s.Name, src, sink, func(ns *record.Namespace) bool { return ns.Kind == layoutKind })
		if err != nil {
			return nil, m.onShard(s.Name, err)
		}
		for _, sp := range list {
			spaces[sp.Name] = sp.Root
		}
		err = m.changes(ctx, s.Name, func(c *record.Change) error {
			if c.Op == record.Put && m.Model.Kind(c.Namespace) == layoutKind {
				put[c.Namespace] = append(put[c.Namespace], bytes.Clone(c.Value))
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	for _, ns := range m.Point.Namespaces {
		if ns.Kind == layoutKind {
			was[ns.Name] = append(was[ns.Name], ns.Root)
		}
	}
	walk := func(root tree.Root, fn func([]byte) error) error {
		return tree.Walk(ctx, src, root, func(r record.Record) error { return fn(r.Value) })
	}
	lay, err := model.Layout(
		func(name string, fn func([]byte) error) error { return walk(spaces[name], fn) },
		func(name string, fn func([]byte) error) error {
			for _, root := range was[name] {
				if err := walk(root, fn); err != nil {
					return err
				}
			}
			for _, v := range put[name] {
				if err := fn(v); err != nil {
					return err
				}
			}
			return nil
		})
	if err != nil {
		return nil, fmt.Errorf("%s: where its content was: %w", m, err)
	}
	return lay, nil
}

// assembly puts the parts of namespaces together.
type assembly struct {
	lay   engine.Layout
	names []string
	parts map[string][]Space
}

func (a *assembly) add(s Space) {
	s.Name = a.lay.Part(s.Shard, s.Namespace).Name
	if a.parts == nil {
		a.parts = map[string][]Space{}
	}
	if a.parts[s.Name] == nil {
		a.names = append(a.names, s.Name)
	}
	a.parts[s.Name] = append(a.parts[s.Name], s)
}

func (a *assembly) union(ctx context.Context, src tree.Source, sink tree.Sink) ([]Space, error) {
	slices.Sort(a.names)
	var out []Space
	for _, name := range a.names {
		var whole Space
		var parts []tree.UnionPart
		led := false
		for _, s := range a.parts[name] {
			p := a.lay.Part(s.Shard, s.Namespace)
			if p.Leads && led {
				return nil, fmt.Errorf("%s is on more than one shard without being spread over them", name)
			}
			if p.Leads || whole.Name == "" {
				whole.Namespace = s.Namespace
			}
			led = led || p.Leads
			parts = append(parts, tree.UnionPart{Root: s.Root, Keep: p.Keep})
		}
		var err error
		if whole.Kind != "view" {
			if whole.Root, err = tree.Union(ctx, src, parts, sink); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		if whole.Definition, err = a.lay.Define(whole.Namespace); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, whole)
	}
	return out, nil
}

// Names returns the namespaces at the moment.
func (m *Moment) Names(ctx context.Context) ([]string, error) {
	if m.needsBench() {
		return m.namesReplayed(ctx)
	}
	judge := func(_ string, ns record.Namespace) (string, bool) { return ns.Name, true }
	if m.Spread() {
		x, err := m.env.Store.NewScratch(m.env.Temp)
		if err != nil {
			return nil, err
		}
		defer x.Close()
		lay, err := m.layout(ctx, x, x)
		if err != nil {
			return nil, err
		}
		judge = func(shard string, ns record.Namespace) (string, bool) {
			p := lay.Part(shard, ns)
			return p.Name, !p.None
		}
	}
	var out []string
	for _, s := range m.Point.Shards {
		plan, err := m.plan(ctx, s.Name)
		if err != nil {
			return nil, m.onShard(s.Name, err)
		}
		for _, n := range plan.Namespaces() {
			name, ok := judge(s.Name, n.Namespace)
			if ok && content(&n.Namespace) && !m.Model.Staged(name) && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// namesReplayed returns the namespaces of the point, and those that the log after
// it has commands for.
func (m *Moment) namesReplayed(ctx context.Context) ([]string, error) {
	out, err := m.AtPoint().Names(ctx)
	if err != nil {
		return nil, err
	}
	wide, _ := m.Model.(engine.Wide)
	for _, s := range m.Point.Shards {
		err := m.changes(ctx, s.Name, func(c *record.Change) error {
			kind, _ := m.Model.Implied(c.Namespace)
			if (wide == nil || !wide.Wide(c.Namespace)) && content(&record.Namespace{Kind: kind}) && !slices.Contains(out, c.Namespace) {
				out = append(out, c.Namespace)
			}
			return nil
		})
		if err != nil {
			return nil, m.onShard(s.Name, err)
		}
	}
	slices.Sort(out)
	return out, nil
}

// ofKind builds the trees of users and roles at the moment, or of what else is
// no content.
func (m *Moment) ofKind(ctx context.Context, kind string, src tree.Source, sink tree.Sink) ([]Space, error) {
	var out []Space
	for _, s := range m.Point.Shards {
		spaces, _, err := m.shardTrees(ctx, s.Name, src, sink, func(ns *record.Namespace) bool { return ns.Kind == kind })
		if err != nil {
			return nil, m.onShard(s.Name, err)
		}
		out = append(out, spaces...)
	}
	sortSpaces(out)
	return out, nil
}

// heldOf returns what a point holds, by shard.
func heldOf(p *store.Point) []Space {
	var out []Space
	for _, ns := range p.Namespaces {
		out = append(out, Space{ns.Namespace, ns.Root, ns.Shard})
	}
	sortSpaces(out)
	return out
}
