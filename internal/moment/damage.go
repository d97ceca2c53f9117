package moment

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/run"
)

// IsDamage reports whether an error is of what is stored.
func IsDamage(err error) bool {
	return errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrMissing) || errors.Is(err, journal.ErrDamaged)
}

// WithAlternatives returns an error about a namespace that is damaged in the store
// with what can be had instead.
func (m *Moment) WithAlternatives(ctx context.Context, name string, err error) error {
	if near := m.nearestIntact(ctx, name); near != "" {
		err = fmt.Errorf("%w; the nearest moment that has it whole is %s", err, near)
	}
	return remedy.With(err, remedy.Salvage, "")
}

// Salvage builds what can be read of a damaged namespace, and says which records
// cannot.
func (m *Moment) Salvage(ctx context.Context, x *store.Scratch,
	name string) (out []NamespaceState, changes int64, lost []string, err error) {
	part := *m
	point := *m.Point
	point.Namespaces = slices.Clone(point.Namespaces)
	part.Point, part.incomplete = &point, true
	label := func(r *record.Record) string { return m.Model.Label(r.Value) }
	found := false
	for i := range point.Namespaces {
		ns := &point.Namespaces[i]
		if ns.Name != name || !ns.Kind.HasRecords() {
			continue
		}
		found = true
		ns.Root, err = tree.Salvage(ctx, m.Runner.Store, ns.Root, x, IsDamage, func(l tree.LostRange) error {
			where := "all"
			switch {
			case l.After != nil && l.Before != nil:
				where = fmt.Sprintf("between %s and %s", label(l.After), label(l.Before))
			case l.After != nil:
				where = "after " + label(l.After)
			case l.Before != nil:
				where = "before " + label(l.Before)
			}
			if ns.Shard != "" {
				where += ", of shard " + ns.Shard
			}
			lost = append(lost, fmt.Sprintf("%s %s", run.Count(l.Records, "record"), where))
			return nil
		})
		if err != nil {
			return nil, 0, nil, err
		}
	}
	if !found {
		return nil, 0, nil, fmt.Errorf("%s: %w: it had another name in point %s; take that point", name,
			store.ErrDamaged, m.Point.ID)
	}
	out, changes, err = part.Trees(ctx, x, x, func(n string) bool { return n == name })
	return out, changes, lost, err
}

// nearestIntact returns the address of the point nearest to the moment of which a
// namespace can be read; empty where none of the nearest few can.
func (m *Moment) nearestIntact(ctx context.Context, name string) string {
	points, _, err := m.Runner.Store.Points(ctx, m.Point.Cluster)
	if err != nil {
		return ""
	}
	slices.SortStableFunc(points, func(a, b *store.Point) int {
		return int(a.Time.Sub(m.Time).Abs() - b.Time.Sub(m.Time).Abs())
	})
	for _, p := range points[:min(len(points), 20)] {
		sound := false
		for i := range p.Namespaces {
			if p.Namespaces[i].Name != name {
				continue
			}
			if sound = m.Runner.Store.CheckNamespace(ctx, &p.Namespaces[i],
				func(string, int64, int64) {}) == nil; !sound {
				break
			}
		}
		if sound {
			return fmt.Sprintf("%s@%s/%s (%s)", p.Cluster, p.ID, name, run.FormatTime(p.Time))
		}
	}
	return ""
}

// KnownDamage reports what the last scrub found of the moment's point; empty where
// that is nothing.
func (m *Moment) KnownDamage() string {
	a, err := m.Runner.Store.LastScrub(context.Background())
	if err != nil || a == nil {
		return ""
	}
	for _, h := range a.Points {
		if h.ID != m.Point.ID || h.Cluster != m.Point.Cluster {
			continue
		}
		var what []string
		for _, ns := range h.Namespaces {
			what = append(what, fmt.Sprintf("%d of %s of %s", ns.Lost, run.Count(ns.Of, "record"), ns.Name))
		}
		return fmt.Sprintf("%s, as of %s", strings.Join(what, ", "), run.FormatTime(a.Created))
	}
	return ""
}
