package moment

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// NeedsServer reports whether the moment is to be had on a server only: it lies
// after its point, and the log in between holds commands.
func (m *Moment) NeedsServer() bool { return !m.Exact() && m.Model.Traits().Commands }

// ErrNeedsServer reports what to do about a moment that there is no server for.
func (m *Moment) ErrNeedsServer() error {
	return remedy.With(fmt.Errorf("%w: %s is to be had on a server only: %w", run.ErrRefused, m, fold.ErrCommand),
		remedy.ScratchServer, m.Point.Cluster+"@"+m.Point.ID)
}

// HasNoChanges reports whether nothing was done between the point and the moment.
func (m *Moment) HasNoChanges(ctx context.Context) (bool, error) {
	for _, s := range m.Point.Shards {
		for _, err := range m.Log(ctx, s.Name) {
			return false, err // there is one
		}
	}
	return true, nil
}

// StatesOfPoint returns the trees of a quiet moment: the point's, without what has
// expired since.
func (m *Moment) StatesOfPoint(ctx context.Context, x *store.Scratch,
	choose func(name string) bool) ([]NamespaceState, error) {
	spaces, _, err := m.AtPoint().Trees(ctx, x, x, choose)
	if err != nil {
		return nil, err
	}
	return WithoutExpired(ctx, x, spaces, m.Model, m.Time, Unchanged)
}

// Unchanged leaves a value as it is.
func Unchanged(value []byte) []byte { return value }

// WithoutExpired returns namespaces with other values, without what has expired by a time,
// and without those that held nothing else.
func WithoutExpired(ctx context.Context, x *store.Scratch, list []NamespaceState, model engine.Model, by time.Time,
	value func([]byte) []byte) ([]NamespaceState, error) {
	var err error
	for i := range list {
		if list[i].Root, err = rewriteTree(ctx, x, list[i].Root, model, by, value); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(list, func(s NamespaceState) bool { return s.Root.Records == 0 }), nil
}

// rewriteTree returns a tree with other values, without the units that have expired
// by a time.
func rewriteTree(ctx context.Context, x *store.Scratch, root tree.Root, model engine.Model, by time.Time,
	value func([]byte) []byte) (tree.Root, error) {
	exp, _ := model.(engine.Expiring)
	compound, _ := model.(engine.Grouper)
	unit := func(key []byte) string {
		if compound == nil {
			return string(key)
		}
		return string(compound.GroupPrefix(key))
	}
	gone := map[string]bool{} // servers take them away soon: there are never many
	same := true
	for r, err := range tree.Records(ctx, x, root) {
		if err != nil {
			return root, err
		}
		v := value(r.Value)
		same = same && bytes.Equal(v, r.Value)
		if exp == nil {
			continue
		}
		if at, does := exp.Expires(v); does && !at.After(by) {
			gone[unit(r.Key)] = true
		}
	}
	if same && len(gone) == 0 {
		return root, nil
	}
	b := tree.NewBuilder(x)
	for r, err := range tree.Records(ctx, x, root) {
		if err == nil && !gone[unit(r.Key)] {
			err = b.Add(ctx, record.Record{Key: r.Key, Value: value(r.Value)})
		}
		if err != nil {
			return root, err
		}
	}
	return b.Finish(ctx)
}
