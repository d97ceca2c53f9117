package moment

import (
	"bytes"
	"context"
	"fmt"
	"iter"
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
		if list[i].Root, err = rewriteTree(ctx, x, list[i].Root, model, expiredBy(model, by), value); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(list, func(s NamespaceState) bool { return s.Root.Records == 0 }), nil
}

// Unexpired returns a tree without the units that have expired by a time.
func Unexpired(ctx context.Context, x *store.Scratch, root tree.Root, model engine.Model, by time.Time) (tree.Root,
	error) {
	return rewriteTree(ctx, x, root, model, expiredBy(model, by), Unchanged)
}

// Lasting returns a tree without the units that may be gone by a time: those that have
// expired, and those that end with something else, of which the time is not known.
func Lasting(ctx context.Context, x *store.Scratch, root tree.Root, model engine.Model, by time.Time) (tree.Root,
	error) {
	exp, ok := model.(engine.Expiring)
	return rewriteTree(ctx, x, root, model, func(v []byte) bool {
		if !ok {
			return false
		}
		at, does := exp.Expires(v)
		return does && !at.After(by)
	}, Unchanged)
}

// expiredBy returns a function that tells of a value whether it has expired by a time.
func expiredBy(model engine.Model, by time.Time) func(value []byte) bool {
	exp, ok := model.(engine.Expiring)
	return func(v []byte) bool {
		if !ok {
			return false
		}
		at, does := exp.Expires(v)
		return does && !at.IsZero() && !at.After(by)
	}
}

// rewriteTree returns a tree with other values, without the units that have expired.
func rewriteTree(ctx context.Context, x *store.Scratch, root tree.Root, model engine.Model,
	expired func([]byte) bool, value func([]byte) []byte) (tree.Root, error) {
	same := true
	for r, err := range tree.Records(ctx, x, root) {
		if err != nil {
			return root, err
		}
		v := value(r.Value)
		if same = same && bytes.Equal(v, r.Value) && !expired(v); !same {
			break
		}
	}
	if same {
		return root, nil
	}
	compound, _ := model.(engine.Grouper)
	unit := func(key []byte) []byte {
		if compound == nil {
			return key
		}
		return compound.GroupPrefix(key)
	}
	// Of a unit any record may have the expiry, and it may be larger than memory: one
	// reader goes ahead to its end, and the other follows with what it found.
	next, stop := iter.Pull2(tree.Records(ctx, x, root))
	defer stop()
	ahead, err, more := next()
	b := tree.NewBuilder(x)
	var of []byte
	gone, begun := false, false
	for r, rerr := range tree.Records(ctx, x, root) {
		if rerr != nil {
			return root, rerr
		}
		if u := unit(r.Key); !begun || !bytes.Equal(u, of) {
			of, gone, begun = bytes.Clone(u), false, true
			for more && err == nil && bytes.Equal(unit(ahead.Key), of) {
				gone = gone || expired(value(ahead.Value))
				ahead, err, more = next()
			}
			if more && err != nil {
				return root, err
			}
		}
		if gone {
			continue
		}
		if err := b.Add(ctx, record.Record{Key: r.Key, Value: value(r.Value)}); err != nil {
			return root, err
		}
	}
	return b.Finish(ctx)
}
