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
	known, err := m.known(ctx)
	if err != nil {
		return nil, err
	}
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
			if !ok || !n.Kind.IsContent() || m.Model.Staged(name) || !known(name) || !known(n.Name) {
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
	concerned, err := m.Concerned(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]bool{}
	for _, n := range out {
		found[n] = true
	}
	for _, s := range m.Point.Shards {
		for c, err := range m.Log(ctx, s.Name) {
			if err != nil {
				return nil, err
			}
			for _, n := range concerned(c) {
				if kind, _ := m.Model.Implied(n); kind.IsContent() {
					found[n] = true
				}
			}
		}
	}
	return slices.Sorted(maps.Keys(found)), nil
}

// Concerned returns a function that tells which namespaces a change of the log concerns,
// whatever it is logged for; none where it names no record.
func (m *Moment) Concerned(ctx context.Context) (func(*record.Change) []string, error) {
	wide, _ := m.Model.(engine.CrossNamespace)
	crosses := func(n string) bool { return wide != nil && wide.CrossesNamespaces(n) }
	var known []string
	for _, n := range m.Point.Namespaces {
		if n.Kind.IsContent() {
			known = append(known, n.Name)
		}
	}
	if wide != nil && len(known) == 0 {
		for _, s := range m.Point.Shards {
			for c, err := range m.Log(ctx, s.Name) {
				if err != nil {
					return nil, err
				}
				if kind, _ := m.Model.Implied(c.Namespace); kind.IsContent() && !crosses(c.Namespace) &&
					(len(known) == 0 || known[len(known)-1] != c.Namespace) && len(known) < 10_000 {
					known = append(known, c.Namespace)
				}
			}
		}
	}
	return func(c *record.Change) []string {
		if crosses(c.Namespace) {
			return wide.Concerned(c, known)
		}
		return []string{c.Namespace}
	}, nil
}
