package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/address"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// damage reports whether an error is of what is stored.
func damage(err error) bool {
	return errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrMissing) || errors.Is(err, journal.ErrDamaged)
}

// sound builds the namespaces that can be read, one by one, where something of a
// moment is damaged. The others are items that cannot be restored, with the
// nearest moment that has them, or, where asked for, what can be read of them.
func (p *RestorePlan) sound(ctx context.Context, m *Moment) (out []Space, changes int64, err error) {
	names, err := m.Names(ctx)
	if err != nil {
		return nil, 0, err
	}
	p.lost = map[string][]string{}
	for _, name := range names {
		if !p.chosen(name) {
			continue
		}
		only := func(n string) bool { return n == name }
		spaces, n, err := m.Trees(ctx, p.scratch, p.scratch, only)
		if damage(err) && p.opt.Salvage {
			var lost []string
			cause := err
			if spaces, n, lost, err = m.salvage(ctx, p.scratch, name); err == nil {
				p.lost[name] = lost
				p.env.emit(Warning, "%s is damaged in the store (%v); left out: %s", name, cause, strings.Join(lost, "; "))
			}
		}
		if damage(err) && ctx.Err() == nil {
			why := fmt.Sprintf("it is damaged in the store: %v%s", err, m.insteadOf(ctx, name))
			p.cause = err
			p.Items = append(p.Items, RestoreItem{From: name, To: name, Cannot: why})
			p.env.emit(Warning, "%s cannot be restored: %s", name, why)
			continue
		}
		if err != nil {
			return nil, 0, err
		}
		out, changes = append(out, spaces...), changes+n
	}
	return out, changes, nil
}

// insteadOf reports what can be done about a namespace that is damaged in the store.
func (m *Moment) insteadOf(ctx context.Context, name string) string {
	text := ""
	if near := m.nearestSound(ctx, name); near != "" {
		text = "; the nearest moment that has it whole is " + near
	}
	return text + "; --salvage restores the records that can be read"
}

// salvageAll reads namespaces whole, and takes what can be read of those that are
// damaged.
func (p *RestorePlan) salvageAll(ctx context.Context, m *Moment, spaces []Space) error {
	p.lost = map[string][]string{}
	for i := range spaces {
		name := spaces[i].Name
		err := tree.Walk(ctx, p.scratch, spaces[i].Root, func(record.Record) error { return nil })
		if err == nil || spaces[i].Kind == "view" {
			continue
		}
		if !damage(err) {
			return err
		}
		cause := err
		out, _, lost, err := m.salvage(ctx, p.scratch, name)
		if err != nil {
			return err
		}
		if len(out) == 1 {
			spaces[i] = out[0]
		}
		p.lost[name] = lost
		p.env.emit(Warning, "%s is damaged in the store (%v); left out: %s", name, cause, strings.Join(lost, "; "))
	}
	return nil
}

// salvage builds what can be read of a damaged namespace, and says which records
// cannot.
func (m *Moment) salvage(ctx context.Context, x *store.Scratch, name string) (out []Space, changes int64, lost []string, err error) {
	part := *m
	point := *m.Point
	point.Namespaces = slices.Clone(point.Namespaces)
	part.Point, part.loose = &point, true
	label := func(r *record.Record) string { return m.Model.Label(r.Value) }
	found := false
	for i := range point.Namespaces {
		ns := &point.Namespaces[i]
		if ns.Name != name || ns.Kind == "view" {
			continue
		}
		found = true
		ns.Root, err = tree.Salvage(ctx, m.env.Store, ns.Root, x, damage, func(l tree.LostRange) error {
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
			lost = append(lost, fmt.Sprintf("%s %s", count(l.Records, "record"), where))
			return nil
		})
		if err != nil {
			return nil, 0, nil, err
		}
	}
	if !found {
		return nil, 0, nil, fmt.Errorf("%s: %w: it had another name in point %s; take that point", name, store.ErrDamaged, m.Point.ID)
	}
	out, changes, err = part.Trees(ctx, x, x, func(n string) bool { return n == name })
	return out, changes, lost, err
}

// nearestSound returns the address of the point nearest to the moment of which a
// namespace can be read; empty where none of the nearest few can.
func (m *Moment) nearestSound(ctx context.Context, name string) string {
	points, _, err := m.env.Store.Points(ctx, m.Point.Cluster)
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
			if sound = m.env.Store.CheckNamespace(ctx, &p.Namespaces[i], func(string, int64, int64) {}) == nil; !sound {
				break
			}
		}
		if sound {
			return fmt.Sprintf("%s@%s/%s (%s)", p.Cluster, p.ID, name, at(p.Time))
		}
	}
	return ""
}

// KnownDamage reports what the last audit found of the moment's point; empty where
// that is nothing.
func (m *Moment) KnownDamage() string {
	a, err := m.env.Store.LastAudit(context.Background())
	if err != nil || a == nil {
		return ""
	}
	for _, h := range a.Points {
		if h.ID != m.Point.ID || h.Cluster != m.Point.Cluster {
			continue
		}
		var what []string
		for _, ns := range h.Namespaces {
			what = append(what, fmt.Sprintf("%d of %s of %s", ns.Lost, count(ns.Of, "record"), ns.Name))
		}
		return fmt.Sprintf("%s, as of %s", strings.Join(what, ", "), at(a.When))
	}
	return ""
}

// Unknown is the error for a namespace that a moment does not have. Where a point
// before has it, it says until when it can be had, and why no longer.
func (m *Moment) Unknown(ctx context.Context, pattern string, names []string) error {
	base := UnknownName(pattern, m.String(), names)
	cov, err := m.env.Coverage(ctx, m.Point.Cluster)
	if err != nil || len(cov) == 0 {
		return base
	}
	c := cov[0]
	for i := len(c.Narrowed) - 1; i >= 0; i-- {
		n := c.Narrowed[i]
		for _, name := range n.Names {
			if address.Match(pattern, name) && !n.Until.After(m.Time) {
				return fmt.Errorf("%w; %s is left out from point %s on, as its policy no longer chooses it; until %s it can be had: %s@%s/%s", base, name, n.Point,
					at(n.Until), m.Point.Cluster, n.Until.Local().Format("2006-01-02T15:04:05.000Z07:00"), name)
			}
		}
	}
	for i := len(c.Points) - 1; i >= 0; i-- {
		p := c.Points[i]
		if p.Time.After(m.Time) {
			continue
		}
		for _, ns := range p.Parts() {
			if address.Match(pattern, ns.Name) && content(&ns.Namespace) {
				return fmt.Errorf("%w; point %s of %s has %s: %s@%s/%s", base, p.ID, at(p.Time), ns.Name, p.Cluster, p.ID, ns.Name)
			}
		}
	}
	return base
}
