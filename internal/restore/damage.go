package restore

import (
	"context"
	"fmt"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// readable builds the namespaces that can be read, one by one, where something of a
// moment is damaged. The others are items that cannot be restored, with the
// nearest moment that has them, or, where asked for, what can be read of them.
func (p *Plan) readable(ctx context.Context, m *moment.Moment) (out []moment.NamespaceState, changes int64, err error) {
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
		if moment.IsDamage(err) && p.opt.Salvage {
			var lost []string
			cause := err
			if spaces, n, lost, err = m.Salvage(ctx, p.scratch, name); err == nil {
				p.lost[name] = lost
				p.runner.Emit(run.Warning, "%s is damaged in the store (%v); left out: %s", name, cause,
					strings.Join(lost, "; "))
			}
		}
		if moment.IsDamage(err) && ctx.Err() == nil {
			why := p.runner.Text(m.WithAlternatives(ctx, name, fmt.Errorf("it is damaged in the store: %w", err)))
			p.cause = err
			p.Items = append(p.Items, Item{From: name, To: name, Cannot: why})
			p.runner.Emit(run.Warning, "%s cannot be restored: %s", name, why)
			continue
		}
		if err != nil {
			return nil, 0, err
		}
		out, changes = append(out, spaces...), changes+n
	}
	return out, changes, nil
}

// salvageAll reads namespaces whole, and takes what can be read of those that are
// damaged.
func (p *Plan) salvageAll(ctx context.Context, m *moment.Moment, spaces []moment.NamespaceState) error {
	p.lost = map[string][]string{}
	for i := range spaces {
		name := spaces[i].Name
		err := tree.Walk(ctx, p.scratch, spaces[i].Root, func(record.Record) error { return nil })
		if err == nil || !spaces[i].Kind.HasRecords() {
			continue
		}
		if !moment.IsDamage(err) {
			return err
		}
		cause := err
		out, _, lost, err := m.Salvage(ctx, p.scratch, name)
		if err != nil {
			return err
		}
		if len(out) == 1 {
			spaces[i] = out[0]
		}
		p.lost[name] = lost
		p.runner.Emit(run.Warning, "%s is damaged in the store (%v); left out: %s", name, cause,
			strings.Join(lost, "; "))
	}
	return nil
}
