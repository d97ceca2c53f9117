package moment

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Side is one side of a comparison: a moment, or a live cluster.
type Side struct {
	Moment *Moment        // nil for a live cluster
	Live   engine.Cluster // nil for a moment
	Name   string         // as the administrator wrote it
	Model  engine.Model
}

// CompareOptions say what to compare.
type CompareOptions struct {
	PatternA, PatternB string
	Keys               int // how many keys to name for each namespace
}

// Compare finds what differs from a to b. The scratch holds what is read.
func Compare(ctx context.Context, e *run.Runner, a, b Side, opt CompareOptions) ([]NamespaceDiff, error) {
	if ea, eb := a.engine(), b.engine(); ea != eb {
		return nil, fmt.Errorf("%w: %s is of a %s cluster and %s of a %s cluster", run.ErrRefused, a.Name, ea, b.Name,
			eb)
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	// What a side was never asked to hold is no difference.
	within := func(name string) bool { return a.holds(name) && b.holds(name) }
	as, err := states(ctx, e, x, a, opt.PatternA, within, nil)
	one := opt.PatternA == opt.PatternB // what one side alone has is missing in the other
	missing := err
	if err != nil && (!one || !isUnknown(err)) {
		return nil, err
	}
	bs, err := states(ctx, e, x, b, opt.PatternB, within, as)
	if err != nil && (!one || !isUnknown(err) || missing != nil) {
		return nil, cmp.Or(missing, err)
	}
	type pair struct{ a, b *NamespaceState }
	var pairs []pair
	if address.Literal(opt.PatternA) && address.Literal(opt.PatternB) && opt.PatternA != "" && opt.PatternB != "" &&
		!one {
		pairs = []pair{{&as[0], &bs[0]}} // two names, perhaps different ones
	} else {
		find := func(list []NamespaceState, name string) *NamespaceState {
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
	var out []NamespaceDiff
	for _, p := range pairs {
		d, err := DiffStates(ctx, x, p.a, p.b, a.Model, opt.Keys)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(p, q NamespaceDiff) int {
		return strings.Compare(cmp.Or(p.A, p.B), cmp.Or(q.A, q.B))
	})
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

// states builds the trees of one side. Near are trees that are likely alike.
func states(ctx context.Context, e *run.Runner, x *store.Scratch, s Side, pattern string, within func(string) bool,
	near []NamespaceState) ([]NamespaceState, error) {
	choose := func(name string) bool {
		return address.Match(pattern, name) && (within(name) || address.Literal(pattern) && pattern != "")
	}
	var out []NamespaceState
	var names []string
	var err error
	if s.Moment != nil {
		if out, _, err = s.Moment.Trees(ctx, x, x, choose); err != nil {
			return nil, err
		}
		WarnUntracked(ctx, e, s.Moment)
		if len(out) == 0 && pattern != "" {
			if names, err = s.Moment.Names(ctx); err != nil {
				return nil, err
			}
		}
	} else {
		live := engine.ApplicationView(s.Live)
		list, err := live.Namespaces(ctx)
		if err != nil {
			return nil, err
		}
		var read []engine.Namespace
		var alike []tree.Root
		var of []int // in out
		alikeOf := rootsOf(near)
		for _, ns := range list {
			if s.Model.Staged(ns.Name) {
				continue
			}
			names = append(names, ns.Name)
			if ns.Skip != "" || !ns.Kind.IsContent() || !choose(ns.Name) {
				continue
			}
			if ns.Kind.HasRecords() {
				of, read, alike = append(of, len(out)), append(read, ns), append(alike, alikeOf[ns.Name])
			}
			out = append(out, NamespaceState{Namespace: ns.Namespace})
		}
		roots, err := ReadBackAll(ctx, e, x, live, read, alike, nil)
		if err != nil {
			return nil, err
		}
		for i, root := range roots {
			out[of[i]].Root = root
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

func rootsOf(list []NamespaceState) map[string]tree.Root {
	out := map[string]tree.Root{}
	for _, s := range list {
		out[s.Name] = s.Root
	}
	return out
}
