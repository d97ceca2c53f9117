package moment

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// layout reads where content is at the moment.
func (m *Moment) layout(ctx context.Context, src tree.Source, sink tree.Sink) (engine.Layout, error) {
	model, ok := m.Model.(engine.ShardedModel)
	if !ok {
		return nil, errors.New("a point of several shards of an engine that has none")
	}
	spaces := map[string]tree.Root{}
	was := map[string][]tree.Root{}
	put := map[string][][]byte{}
	for _, s := range m.Point.Shards {
		list, _, err := m.shardTrees(ctx, s.Name, src, sink,
			func(ns *record.Namespace) bool { return ns.Kind == record.KindLayout })
		if err != nil {
			return nil, m.OnShard(s.Name, err)
		}
		for _, sp := range list {
			spaces[sp.Name] = sp.Root
		}
		for c, err := range m.Log(ctx, s.Name) {
			if err != nil {
				return nil, err
			}
			if c.Op == record.Put && m.Model.Kind(c.Namespace) == record.KindLayout {
				put[c.Namespace] = append(put[c.Namespace], bytes.Clone(c.Value))
			}
		}
	}
	for _, ns := range m.Point.Namespaces {
		if ns.Kind == record.KindLayout {
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
	parts map[string][]NamespaceState
}

func (a *assembly) add(s NamespaceState) {
	s.Name = a.lay.Part(s.Shard, s.Namespace).Name
	if a.parts == nil {
		a.parts = map[string][]NamespaceState{}
	}
	if a.parts[s.Name] == nil {
		a.names = append(a.names, s.Name)
	}
	a.parts[s.Name] = append(a.parts[s.Name], s)
}

func (a *assembly) union(ctx context.Context, src tree.Source, sink tree.Sink) ([]NamespaceState, error) {
	slices.Sort(a.names)
	var out []NamespaceState
	for _, name := range a.names {
		var whole NamespaceState
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
		if whole.Kind.HasRecords() {
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
