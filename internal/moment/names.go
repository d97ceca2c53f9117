package moment

import (
	"context"
	"slices"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Names returns the namespaces at the moment.
func (m *Moment) Names(ctx context.Context) ([]string, error) {
	if m.NeedsServer() {
		return m.namesReplayed(ctx)
	}
	judge := func(_ string, ns record.Namespace) (string, bool) { return ns.Name, true }
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
		judge = func(shard string, ns record.Namespace) (string, bool) {
			p := lay.Part(shard, ns)
			return p.Name, !p.None
		}
	}
	var out []string
	for _, s := range m.Point.Shards {
		plan, err := m.Plan(ctx, s.Name)
		if err != nil {
			return nil, m.OnShard(s.Name, err)
		}
		for _, n := range plan.Namespaces() {
			name, ok := judge(s.Name, n.Namespace)
			if ok && n.Kind.IsContent() && !m.Model.Staged(name) && !slices.Contains(out, name) {
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
