// Package verify proves what the store holds: that a point and the log after it
// can be read and carried out (Point, Moment), that log and points agree
// ([ProveLog]), and that a live cluster is what a moment says (Live).
package verify

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

// Proof is what verifying a point found.
type Proof struct {
	Point      *store.Point `json:"-"`
	ID         string       `json:"point"`
	Namespaces int          `json:"namespaces"`
	Records    int64        `json:"records"`
	Bytes      int64        `json:"bytes"`
	// Shared: other processes have read some of it, of which the trees were gone through, and not built anew.
	Shared bool `json:"shared,omitempty"`
	// Log says how far the log after the point was read and found whole.
	Segments int         `json:"segments"`
	Changes  int64       `json:"changes"`
	Reach    record.Mark `json:"reach"`
	// Folded: the log after the point up to a moment was folded, not only read;
	// Unfolded says why not.
	Folded   bool   `json:"folded,omitempty"`
	Unfolded string `json:"unfolded,omitempty"`
	// From is the earlier point from which the log leads here; the fold of
	// it has this point's roots when Equal.
	From         string `json:"from,omitempty"`
	FoldedFrom   int64  `json:"folded_changes,omitempty"`
	Equal        bool   `json:"equal,omitempty"`
	NotFolded    string `json:"not_folded,omitempty"` // why there is no such proof
	Disagreement string `json:"disagreement,omitempty"`
	// Doubts says in which namespaces the fold and the point differ.
	Doubts []store.ProofDoubt `json:"doubts,omitempty"`

	before *store.Point
	// failed says why the log before could not be carried out, where there was a server for it.
	failed error
	// contentRead and logRead say how far it came: all of the content, all of the log after it.
	contentRead, logRead bool
}

// Point reads everything a point is made of and the log after it, and
// folds the point before it with the log in between to see that the roots are
// the same.
func Point(ctx context.Context, e *run.Runner, p *store.Point) (*Proof, error) {
	out := &Proof{Point: p, ID: p.ID, Namespaces: len(p.Namespaces), Records: p.Stats.Records, Bytes: p.Stats.Bytes}
	e.Emit(run.Step, "reading all of point %s: %s", p.ID, run.Count(p.Stats.Records, "record"))
	var err error
	if out.Shared, err = checkPoint(ctx, e, p); err != nil {
		return out, fmt.Errorf("point %s: %w", p.ID, err)
	}
	out.contentRead = true
	chains, bad, err := e.Store.Chains(ctx, p.Cluster)
	if err != nil {
		return out, err
	}
	if len(bad) > 0 {
		return out, errors.Join(bad...)
	}
	for _, s := range p.Shards {
		out.Reach = s.Mark
		c := chains[s.Name]
		if c == nil || s.Mark.Position == "" {
			continue
		}
		end := c.Reach(s.Mark)
		segs, err := c.Between(s.Mark.Position, end.Position)
		if err != nil {
			return out, err
		}
		e.Emit(run.Step, "reading %s of the log after it", run.Count(int64(len(segs)), "segment"))
		for _, h := range segs {
			if err := e.Store.ReadSegment(ctx, h,
				func(*record.Change) error { out.Changes++; return nil }); err != nil {
				return out, fmt.Errorf("point %s is whole, but the log after it is not: %w", p.ID, err)
			}
		}
		out.Segments, out.Reach = out.Segments+len(segs), end
	}
	out.logRead = true
	if err := proveLog(ctx, e, p, chains, out); err != nil {
		return out, err
	}
	return out, out.failed
}

// Moment does what VerifyPoint does, and folds the log after the point up
// to the moment: that it can be read does not say that it can be carried out.
func Moment(ctx context.Context, e *run.Runner, m *moment.Moment) (*Proof, error) {
	out, err := Point(ctx, e, m.Point)
	if err != nil || m.Exact() {
		return out, err
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return out, err
	}
	defer x.Close()
	e.Emit(run.Step, "folding the log after point %s up to %s", m.Point.ID, run.FormatTime(m.Time))
	if m.NeedsServer() {
		_, _, err = restore.OnScratch{}.Materialize(ctx, m, x, func(string) bool { return true })
		if errors.Is(err, fold.ErrCommand) || errors.Is(err, engine.ErrNotExclusive) {
			out.Unfolded = err.Error()
			return out, nil
		}
	} else {
		_, _, err = m.Held(ctx, x, x)
	}
	if err != nil {
		out.logRead = false
		return out, fmt.Errorf("point %s is whole, but the log after it cannot be carried out up to %s: %w",
			m.Point.ID, run.FormatTime(m.Time), err)
	}
	out.Folded = true
	lacks, err := m.NotUnderstood(ctx)
	if len(lacks) > 0 {
		err = fmt.Errorf("%w: what the moment has is whole, but it lacks some: %s", run.ErrIncomplete,
			moment.WhyUntracked(lacks, ""))
	}
	return out, err
}

// proveLog folds the log between the point before and this one.
func proveLog(ctx context.Context, e *run.Runner, p *store.Point, chains map[string]*journal.Chain, out *Proof) error {
	points, _, err := e.Store.Points(ctx, p.Cluster)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(points, func(q *store.Point) bool { return q.ID == p.ID })
	if i <= 0 {
		out.NotFolded = "it is the first point"
		return nil
	}
	before := points[i-1]
	out.before = before
	upto := map[string]record.Mark{}
	if out.NotFolded = notFoldable(before, p, chains, upto); out.NotFolded != "" {
		return nil
	}
	if out.NotFolded = Unprovable(ctx, e, p); out.NotFolded != "" {
		return nil
	}
	m, err := moment.At(e, before, chains, upto)
	var missing *journal.MissingError
	if errors.As(err, &missing) {
		out.NotFolded = missing.Error()
		return nil
	}
	if err != nil {
		return err
	}
	// Where the log cannot be followed, folding it shows that.
	if lacks, err := m.NotUnderstood(ctx); err == nil && len(lacks) > 0 {
		out.NotFolded = "the log does not tell of " + moment.WhyUntracked(lacks, "")
		return nil
	}
	return foldAndCompare(ctx, e, m, p, out)
}

// notFoldable returns why the log between two points does not lead from one to the
// other; empty where it may. It enters how far each shard's log leads.
func notFoldable(before, p *store.Point, chains map[string]*journal.Chain, upto map[string]record.Mark) string {
	if !p.Exact || !before.Exact {
		return "the server keeps no log"
	}
	for _, s := range before.Shards {
		to, ok := p.Shard(s.Name)
		if !ok || len(p.Shards) != len(before.Shards) {
			return "the cluster had other shards then"
		}
		if chains[s.Name] == nil {
			return "the log in between is not captured"
		}
		upto[s.Name] = to.Mark
	}
	if !slices.Equal(before.Scope, p.Scope) {
		return "the two points hold other namespaces"
	}
	if before.Settings != p.Settings {
		return "cluster-wide settings are in one of the two points only"
	}
	return ""
}

// foldAndCompare builds a moment and compares it with the point that was taken then.
func foldAndCompare(ctx context.Context, e *run.Runner, m *moment.Moment, p *store.Point, out *Proof) error {
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	before := m.Point
	out.From = before.ID
	var states, want []moment.NamespaceState
	var n int64
	if m.NeedsServer() {
		states, want, n, err = proveOnScratch(ctx, e, m, p, x)
		if err != nil && ctx.Err() == nil { // of the scratch server, not of the log
			out.From, out.NotFolded = "", "the log could not be carried out: "+err.Error()
			out.failed = fmt.Errorf("%w: point %s is whole, but the log before it could not be carried out: %w",
				run.ErrIncomplete, p.ID, err)
			return nil
		}
	} else {
		e.Emit(run.Step, "folding the log from point %s to this one", before.ID)
		want = moment.StatesOf(p)
		states, n, err = m.Held(ctx, x, x)
	}
	out.FoldedFrom = n
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		out.Disagreement = err.Error()
		return fmt.Errorf("point %s and the log before it %w: %w", p.ID, run.ErrDiffers, err)
	}
	unlogged := m.Model.Traits().Unlogged
	logged := func(list []moment.NamespaceState) []moment.NamespaceState {
		return slices.DeleteFunc(list, func(s moment.NamespaceState) bool { return slices.Contains(unlogged, s.Kind) })
	}
	out.Doubts = differences(ctx, x, m.Model, logged(states), logged(want))
	if len(out.Doubts) == 0 {
		out.Equal = true
		return nil
	}
	what := out.Doubts[0].Namespace + ": " + out.Doubts[0].What
	if n := len(out.Doubts) - 1; n > 0 {
		what += fmt.Sprintf("; and in %s more", run.Count(int64(n), "namespace"))
	}
	out.Disagreement = what
	return fmt.Errorf("the fold of point %s and %d changes %w from point %s: %s", before.ID, n, run.ErrDiffers, p.ID,
		what)
}

// on reports whether both are of the same shard, as far as that is known.
func on(s moment.NamespaceState, t moment.NamespaceState) bool {
	return s.Shard == t.Shard || s.Shard == "" || t.Shard == ""
}

// differences returns, of each namespace in which a fold and a point disagree how.
func differences(ctx context.Context, x *store.Scratch, m engine.Model, a,
	b []moment.NamespaceState) (out []store.ProofDoubt) {
	for i := range a {
		j := slices.IndexFunc(b, func(s moment.NamespaceState) bool { return s.Name == a[i].Name && on(a[i], s) })
		if j < 0 {
			out = append(out, store.ProofDoubt{Namespace: a[i].Name, What: "it is in the fold and not in the point"})
			continue
		}
		d, err := moment.DiffStates(ctx, x, &a[i], &b[j], m, 3)
		if err != nil {
			out = append(out, store.ProofDoubt{Namespace: a[i].Name, What: err.Error()})
			continue
		}
		if !d.Same() {
			s := fmt.Sprintf("%d records missing from the point, %d extra, %d changed", d.Missing, d.Extra, d.Changed)
			for _, k := range d.Keys {
				s += "; " + k.Kind + " " + k.Label
			}
			for _, l := range append(d.DefinitionA, d.DefinitionB...) {
				s += "; " + l
			}
			out = append(out, store.ProofDoubt{Namespace: a[i].Name, What: s})
		}
	}
	for i := range b {
		if !slices.ContainsFunc(a, func(s moment.NamespaceState) bool { return s.Name == b[i].Name && on(b[i], s) }) {
			out = append(out, store.ProofDoubt{Namespace: b[i].Name, What: "it is in the point and not in the fold"})
		}
	}
	return out
}

// Live compares a live cluster with a moment: content by roots,
// definitions, counts. Names in rename are looked for under their new name.
func Live(ctx context.Context, e *run.Runner, m *moment.Moment, live engine.Cluster, pattern string,
	rename map[string]string, keys int) ([]moment.NamespaceDiff, error) {
	if err := moment.SameEngine(m.Point, live, "the live cluster"); err != nil {
		return nil, err
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	names, err := m.Names(ctx)
	if err != nil {
		return nil, err
	}
	want, _, err := m.Trees(ctx, x, x, func(n string) bool { return address.Match(pattern, n) })
	if err != nil {
		return nil, err
	}
	if len(want) == 0 {
		return nil, m.Unknown(ctx, pattern, names)
	}
	live = engine.ApplicationView(live)
	now, err := live.Namespaces(ctx)
	if err != nil {
		return nil, err
	}
	there := map[string]*engine.Namespace{}
	for i := range now {
		there[now[i].Name] = &now[i]
	}
	var out []moment.NamespaceDiff
	used := map[string]bool{}
	found := make([]*moment.NamespaceState, len(want))
	var list []engine.Namespace
	var near []tree.Root
	var of []*moment.NamespaceState
	for i := range want {
		name := want[i].Name
		if _, to, ok := moment.Renamed(rename, name); ok {
			name = to
		}
		used[name] = true
		ns := there[name]
		if ns == nil {
			continue
		}
		found[i] = &moment.NamespaceState{Namespace: ns.Namespace}
		if ns.Kind.HasRecords() {
			list, near, of = append(list, *ns), append(near, want[i].Root), append(of, found[i])
		}
	}
	roots, err := moment.ReadBackAll(ctx, e, x, live, list, near,
		func(name string) { e.Emit(run.Step, "reading %s", name) })
	if err != nil {
		return nil, err
	}
	for i, root := range roots {
		of[i].Root = root
	}
	for i := range want {
		got := found[i]
		// What has expired since the moment, or while it was read, is no difference.
		if want[i].Root, got, err = unexpired(ctx, x, m.Model, want[i].Root, got); err != nil {
			return nil, err
		}
		d, err := moment.DiffStates(ctx, x, &want[i], got, m.Model, keys)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	// Of a whole cluster, also what is there and was not.
	chosen := moment.Chooser(m.Point.Scope, m.Model)
	for _, ns := range now {
		if pattern != "" && pattern != "*" || len(rename) > 0 || used[ns.Name] || !ns.Kind.IsContent() ||
			ns.Skip != "" ||
			chosen != nil && !chosen(ns.Name) {
			continue
		}
		d, err := moment.DiffStates(ctx, x, nil, &moment.NamespaceState{Namespace: ns.Namespace}, m.Model, keys)
		if err != nil {
			return nil, err
		}
		d.RecordsB, d.Extra = ns.Records, max(ns.Records, 1)
		out = append(out, d)
	}
	return out, nil
}

// unexpired returns both sides of a comparison without what has expired by now.
func unexpired(ctx context.Context, x *store.Scratch, model engine.Model, want tree.Root,
	got *moment.NamespaceState) (tree.Root, *moment.NamespaceState, error) {
	if _, ok := model.(engine.Expiring); !ok {
		return want, got, nil
	}
	now := time.Now()
	want, err := moment.Unexpired(ctx, x, want, model, now)
	if err == nil && got != nil {
		got.Root, err = moment.Unexpired(ctx, x, got.Root, model, now)
	}
	return want, got, err
}
