package restore

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/condition"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Records chooses records of what is restored; the zero value all of them.
type Records struct {
	// Where chooses those that fit.
	Where *condition.Condition
	// Keys names them, each by a text.
	Keys []string
}

func (r *Records) all() bool { return r.Where == nil && len(r.Keys) == 0 }

// chooseRecords returns a namespace with the records that were asked for.
func (p *Plan) chooseRecords(ctx context.Context, s moment.NamespaceState) (moment.NamespaceState, error) {
	if p.opt.Records.all() || !s.Kind.HasRecords() {
		return s, nil
	}
	ins, ok := p.Moment.Model.(engine.Inspector)
	if !ok {
		return s, fmt.Errorf("%w: records of clusters of this kind cannot be chosen", run.ErrRefused)
	}
	var err error
	if len(p.opt.Records.Keys) > 0 {
		s.Root, err = p.byKeys(ctx, s, ins)
	} else {
		s.Root, err = p.byCondition(ctx, s, ins)
	}
	return s, err
}

// byKeys builds the tree of the records that are named.
func (p *Plan) byKeys(ctx context.Context, s moment.NamespaceState, ins engine.Inspector) (tree.Root, error) {
	var found [][]byte
	for _, text := range p.opt.Records.Keys {
		hit := false
		for _, k := range ins.KeysNamed(s.Name, text) {
			for r, err := range tree.RecordsFrom(ctx, p.scratch, s.Root, k) {
				if err != nil {
					return s.Root, err
				}
				if engine.Named(ins, r.Key, k) {
					found, hit = append(found, k), true
				}
				break
			}
			if hit {
				break
			}
		}
		if hit {
			p.keysFound[text] = true
		}
	}
	slices.SortFunc(found, bytes.Compare)
	found = slices.CompactFunc(found, bytes.Equal)
	b := tree.NewBuilder(p.scratch)
	for _, k := range found {
		for r, err := range tree.RecordsFrom(ctx, p.scratch, s.Root, k) {
			if err != nil {
				return s.Root, err
			}
			if !engine.Named(ins, r.Key, k) {
				break
			}
			if err := b.Add(ctx, r); err != nil {
				return s.Root, err
			}
		}
	}
	return b.Finish(ctx)
}

// byCondition builds the tree of the records that fit. A part of something goes with the
// record that the condition was asked of.
func (p *Plan) byCondition(ctx context.Context, s moment.NamespaceState, ins engine.Inspector) (tree.Root, error) {
	group, grouped := p.Moment.Model.(engine.Grouper)
	var prefix []byte
	fits := false
	b := tree.NewBuilder(p.scratch)
	err := tree.Walk(ctx, p.scratch, s.Root, func(r record.Record) error {
		part := grouped && prefix != nil && bytes.Equal(group.GroupPrefix(r.Key), prefix)
		if !part {
			fields, ok, err := ins.Fields(r.Value)
			if err != nil {
				return err
			}
			fits = ok && p.opt.Records.Where.Fits(fields)
			if grouped {
				prefix = bytes.Clone(group.GroupPrefix(r.Key))
			}
		}
		if !fits {
			return ctx.Err()
		}
		return b.Add(ctx, r)
	})
	if err != nil {
		return s.Root, err
	}
	return b.Finish(ctx)
}

// checkRecords returns an error where nothing was there of what was asked for, and says
// which keys were in no namespace.
func (p *Plan) checkRecords() error {
	r := &p.opt.Records
	if r.all() {
		return nil
	}
	if r.Where != nil {
		if err := r.Where.Check(); err != nil {
			return err
		}
	}
	n := int64(0)
	for _, it := range p.Items {
		n += it.Records
	}
	for _, k := range r.Keys {
		if !p.keysFound[k] {
			p.KeysMissing = append(p.KeysMissing, k)
		}
	}
	if n == 0 {
		what := "no record fits the condition"
		if r.Where == nil {
			what = "none of the keys is there"
		}
		return fmt.Errorf("%s: %s in %s; nothing was changed", p.Moment, what, strings.Join(p.names(), ", "))
	}
	if m := p.KeysMissing; len(m) > 0 {
		p.runner.Emit(run.Warning, "%s not there then: %s", run.Count(int64(len(m)), "key"),
			joinSome(m[:min(len(m), 5)], len(m)))
	}
	return nil
}

// names returns the names of what is restored.
func (p *Plan) names() (out []string) {
	for _, it := range p.Items {
		out = append(out, it.From)
	}
	return out
}
