package job

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// Side is one side of a comparison: a moment, or a live cluster.
type Side struct {
	Moment *Moment        // nil for a live cluster
	Live   engine.Cluster // nil for a moment
	Name   string         // as the administrator wrote it
	Model  engine.Model
}

// KeyDiff is one record at which two namespaces differ.
type KeyDiff struct {
	Kind  string `json:"kind"` // "missing" on the right, "extra" there, or "changed"
	Label string `json:"key"`
	// Fields says of a changed record what changed.
	Fields []string `json:"fields,omitempty"`
}

// SpaceDiff is what a comparison finds of one namespace, or of a pair.
type SpaceDiff struct {
	A        string    `json:"a,omitempty"` // name on the left; empty when it is not there
	B        string    `json:"b,omitempty"`
	RecordsA int64     `json:"records_a"`
	RecordsB int64     `json:"records_b"`
	Missing  int64     `json:"missing"` // on the left only
	Extra    int64     `json:"extra"`   // on the right only
	Changed  int64     `json:"changed"`
	Keys     []KeyDiff `json:"keys,omitempty"`
	// DefinitionA and DefinitionB list what only one definition says.
	DefinitionA []string  `json:"definition_a,omitempty"`
	DefinitionB []string  `json:"definition_b,omitempty"`
	RootA       tree.Hash `json:"root_a"`
	RootB       tree.Hash `json:"root_b"`
}

// Same reports that nothing differs.
func (d *SpaceDiff) Same() bool {
	return d.A != "" && d.B != "" && d.RootA == d.RootB && len(d.DefinitionA) == 0 && len(d.DefinitionB) == 0
}

// CompareOptions say what to compare.
type CompareOptions struct {
	PatternA, PatternB string
	Keys               int // how many keys to name for each namespace
}

// Compare finds what differs from a to b. The scratch holds what is read.
func (e *Env) Compare(ctx context.Context, a, b Side, opt CompareOptions) ([]SpaceDiff, error) {
	if ea, eb := a.engine(), b.engine(); ea != eb {
		return nil, fmt.Errorf("%w: %s is of a %s cluster and %s of a %s cluster", ErrRefused, a.Name, ea, b.Name, eb)
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	// What a side was never asked to hold is no difference.
	within := func(name string) bool { return a.holds(name) && b.holds(name) }
	as, err := e.spaces(ctx, x, a, opt.PatternA, within, nil)
	if err != nil {
		return nil, err
	}
	bs, err := e.spaces(ctx, x, b, opt.PatternB, within, as)
	if err != nil {
		return nil, err
	}
	type pair struct{ a, b *Space }
	var pairs []pair
	if address.Literal(opt.PatternA) && address.Literal(opt.PatternB) && opt.PatternA != "" && opt.PatternB != "" {
		pairs = []pair{{&as[0], &bs[0]}} // two names, perhaps different ones
	} else {
		find := func(list []Space, name string) *Space {
			for i := range list {
				if list[i].Name == name {
					return &list[i]
				}
			}
			return nil
		}
		for i := range as {
			pairs = append(pairs, pair{&as[i], find(bs, as[i].Name)})
		}
		for i := range bs {
			if find(as, bs[i].Name) == nil {
				pairs = append(pairs, pair{nil, &bs[i]})
			}
		}
	}
	var out []SpaceDiff
	for _, p := range pairs {
		d, err := diffSpaces(ctx, x, p.a, p.b, a.Model, opt.Keys)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(p, q SpaceDiff) int { return strings.Compare(cmp.Or(p.A, p.B), cmp.Or(q.A, q.B)) })
	return out, nil
}

// engine names the kind of cluster that a side is of.
func (s Side) engine() string {
	if s.Moment != nil {
		return s.Moment.Point.Engine
	}
	return s.Live.Engine()
}

// holds reports whether a side was asked to hold namespaces of a name.
func (s Side) holds(name string) bool {
	return s.Moment == nil || address.Scope(s.Moment.Point.Scope).Match(name)
}

// spaces builds the trees of one side. Near are trees that are likely alike.
func (e *Env) spaces(ctx context.Context, x *store.Scratch, s Side, pattern string, within func(string) bool, near []Space) ([]Space, error) {
	choose := func(name string) bool {
		return address.Match(pattern, name) && (within(name) || address.Literal(pattern) && pattern != "")
	}
	var out []Space
	var names []string
	var err error
	if s.Moment != nil {
		if out, _, err = s.Moment.Trees(ctx, x, x, choose); err != nil {
			return nil, err
		}
		e.tellStrangers(ctx, s.Moment)
		if len(out) == 0 && pattern != "" {
			if names, err = s.Moment.Names(ctx); err != nil {
				return nil, err
			}
		}
	} else {
		live := engine.Whole(s.Live)
		list, err := live.Namespaces(ctx)
		if err != nil {
			return nil, err
		}
		for _, ns := range list {
			if s.Model.Staged(ns.Name) {
				continue
			}
			names = append(names, ns.Name)
			if ns.Skip != "" || !content(&ns.Namespace) || !choose(ns.Name) {
				continue
			}
			sp := Space{Namespace: ns.Namespace}
			if ns.Kind != "view" {
				if sp.Root, err = e.readBack(ctx, x, live, ns, nearOf(near, ns.Name)); err != nil {
					return nil, err
				}
			}
			out = append(out, sp)
		}
	}
	if len(out) == 0 && pattern != "" {
		if s.Moment != nil {
			return nil, s.Moment.Unknown(ctx, pattern, names)
		}
		return nil, UnknownName(pattern, s.Name, names)
	}
	return out, nil
}

func nearOf(list []Space, name string) tree.Root {
	for _, s := range list {
		if s.Name == name {
			return s.Root
		}
	}
	return tree.Root{}
}

// readBack reads a live namespace and builds its tree.
func (e *Env) readBack(ctx context.Context, x *store.Scratch, c engine.Cluster, ns engine.Namespace, near tree.Root) (tree.Root, error) {
	parts, err := c.Partitions(ctx, ns, e.parallel())
	if err != nil {
		return tree.Root{}, err
	}
	l := tree.NewLoader(x, x, near, e.temp(), e.memory()/2)
	g, gctx := errgroup.WithContext(ctx)
	for _, p := range parts {
		part := l.Part()
		g.Go(func() error {
			n, size := int64(0), int64(0)
			return c.Scan(gctx, ns, p, func(r record.Record) error {
				size += int64(len(r.Value))
				if n++; n%4096 == 0 {
					e.progress(ns.Name, n, ns.Records, size)
				}
				return part.Add(gctx, r)
			})
		})
	}
	if err := g.Wait(); err != nil {
		return tree.Root{}, err
	}
	return l.Finish(ctx)
}

// diffSpaces compares two namespaces; either may be nil.
func diffSpaces(ctx context.Context, src tree.Source, a, b *Space, m engine.Model, keys int) (SpaceDiff, error) {
	var d SpaceDiff
	empty := &Space{}
	if a == nil {
		a = empty
	}
	if b == nil {
		b = empty
	}
	d.A, d.RecordsA, d.RootA = a.Name, a.Root.Records, a.Root.Hash
	d.B, d.RecordsB, d.RootB = b.Name, b.Root.Records, b.Root.Hash
	if a.Name != "" && b.Name != "" {
		d.DefinitionA, d.DefinitionB = diffDefinitions(m, a.Definition, b.Definition)
	}
	if a.Root.Hash == b.Root.Hash {
		return d, nil
	}
	err := tree.Diff(ctx, tree.Side{Source: src, Root: a.Root}, tree.Side{Source: src, Root: b.Root}, func(k tree.Difference) error {
		var kd KeyDiff
		switch {
		case k.B == nil:
			kd.Kind = "missing"
			d.Missing++
		case k.A == nil:
			kd.Kind = "extra"
			d.Extra++
		default:
			kd.Kind = "changed"
			d.Changed++
		}
		if len(d.Keys) < keys {
			v := k.A
			if v == nil {
				v = k.B
			}
			kd.Label = m.Label(v)
			if k.A != nil && k.B != nil {
				kd.Fields = m.Changes(k.A, k.B)
			}
			d.Keys = append(d.Keys, kd)
		}
		return ctx.Err()
	})
	return d, err
}

func diffDefinitions(m engine.Model, a, b []byte) (onlyA, onlyB []string) {
	if bytes.Equal(m.Portable(a), m.Portable(b)) {
		return nil, nil
	}
	la, lb := m.Describe(a), m.Describe(b)
	for _, l := range la {
		if !slices.Contains(lb, l) {
			onlyA = append(onlyA, l)
		}
	}
	for _, l := range lb {
		if !slices.Contains(la, l) {
			onlyB = append(onlyB, l)
		}
	}
	return onlyA, onlyB
}

// Different turns the outcome of a comparison into an error, or nil.
func Different(ds []SpaceDiff) error {
	n := 0
	for i := range ds {
		if !ds[i].Same() {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%w: %d of %d namespaces", ErrDiffers, n, len(ds))
}
