package moment

import (
	"context"
	"maps"
	"slices"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Names returns the namespaces at the moment.
func (m *Moment) Names(ctx context.Context) ([]string, error) {
	if m.NeedsServer() {
		return m.namesReplayed(ctx)
	}
	defs, err := m.Definitions(ctx)
	return slices.Sorted(maps.Keys(defs)), err
}

// Definitions returns the namespaces at the moment, by name, without their content. Of one that
// is spread over shards it is what the shard says that leads.
func (m *Moment) Definitions(ctx context.Context) (map[string]record.Namespace, error) {
	judge := func(_ string, ns record.Namespace) (name string, leads, ok bool) { return ns.Name, true, true }
	if m.Sharded() {
		x, err := m.Runner.Store.NewScratch(m.Runner.Temp)
		if err != nil {
			return nil, err
		}
		defer x.Close()
		lay, err := m.layout(ctx, x, x)
		if err != nil {
			return nil, err
		}
		judge = func(shard string, ns record.Namespace) (string, bool, bool) {
			p := lay.Part(shard, ns)
			return p.Name, p.Leads, !p.None
		}
	}
	out := map[string]record.Namespace{}
	for _, s := range m.Point.Shards {
		plan, err := m.Plan(ctx, s.Name)
		if err != nil {
			return nil, m.OnShard(s.Name, err)
		}
		for _, n := range plan.Namespaces() {
			name, leads, ok := judge(s.Name, n.Namespace)
			if !ok || !n.Kind.IsContent() || m.Model.Staged(name) {
				continue
			}
			if _, there := out[name]; !there || leads {
				ns := n.Namespace
				ns.Name = name
				out[name] = ns
			}
		}
	}
	return out, nil
}

// namesReplayed returns the namespaces of the point, and those that the log after
// it has commands for.
func (m *Moment) namesReplayed(ctx context.Context) ([]string, error) {
	out, err := m.AtPoint().Names(ctx)
	if err != nil {
		return nil, err
	}
	wide, _ := m.Model.(engine.CrossNamespace)
	for _, s := range m.Point.Shards {
		for c, err := range m.Log(ctx, s.Name) {
			if err != nil {
				return nil, err
			}
			kind, _ := m.Model.Implied(c.Namespace)
			if (wide == nil || !wide.CrossesNamespaces(c.Namespace)) && kind.IsContent() &&
				!slices.Contains(out, c.Namespace) {
				out = append(out, c.Namespace)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}
