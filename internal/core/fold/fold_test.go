package fold_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// plainModel is an engine of the simplest kind: a patch appends to a value, an
// alteration replaces a definition.
type plainModel struct{}

func (plainModel) Apply(old []byte, c *record.Change, _ bool) ([]byte, error) {
	return append(slices.Clone(old), c.Value...), nil
}
func (plainModel) Alter(_ []byte, c *record.Change) ([]byte, error) { return c.Value, nil }
func (plainModel) Implied(string) (record.Kind, []byte)             { return "collection", []byte("implied") }

var ctx = context.Background()

// newStore makes a store in memory.
func newStore(t *testing.T) *store.Store {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	return s
}

// model is what a cluster holds, kept the obvious way.
type model map[string]*space

type space struct {
	ident string
	def   string
	recs  map[string]string
}

// grown returns a model after up to so many steps, and their number.
func grown(rng *rand.Rand, most int) (m model, serial int) {
	m = model{}
	for range rng.IntN(most) {
		serial++
		m.step(rng, serial)
	}
	return m, serial
}

func (m model) clone() model {
	out := model{}
	for n, s := range m {
		out[n] = &space{s.ident, s.def, maps.Clone(s.recs)}
	}
	return out
}

// step changes the model at random and tells the change a log would hold.
func (m model) step(rng *rand.Rand, serial int) (record.Change, bool) {
	at := record.Position(fmt.Sprintf("%08d", serial))
	names := slices.Sorted(maps.Keys(m))
	free := fmt.Sprintf("s%d", rng.IntN(6))
	if len(names) == 0 || rng.IntN(40) == 0 && m[free] == nil {
		if m[free] != nil {
			return record.Change{}, false
		}
		id := fmt.Sprint("id", serial)
		m[free] = &space{id, "def", map[string]string{}}
		return record.Change{Op: record.Create, Namespace: free, Ident: []byte(id),
			Value: fold.JoinCreate("collection", []byte("def")), At: at}, true
	}
	n := names[rng.IntN(len(names))]
	s := m[n]
	c := record.Change{Namespace: n, Ident: []byte(s.ident), At: at}
	k := fmt.Sprintf("k%02d", rng.IntN(40))
	switch x := rng.IntN(100); {
	case x < 45:
		v := fmt.Sprint("v", serial)
		s.recs[k] = v
		c.Op, c.Key, c.Value = record.Put, []byte(k), []byte(v)
	case x < 65:
		if _, ok := s.recs[k]; !ok {
			return c, false
		}
		s.recs[k] += "+"
		c.Op, c.Key, c.Value = record.Patch, []byte(k), []byte("+")
	case x < 90:
		if _, ok := s.recs[k]; !ok {
			return c, false
		}
		delete(s.recs, k)
		c.Op, c.Key = record.Delete, []byte(k)
	case x < 93:
		s.def = fmt.Sprint("def", serial)
		c.Op, c.Value = record.Alter, []byte(s.def)
	case x < 95:
		delete(m, n)
		c.Op = record.Drop
	case x < 98:
		if m[free] != nil {
			return c, false
		}
		delete(m, n)
		m[free] = s
		c.Op, c.To = record.Rename, free
	default:
		clear(s.recs)
		c.Op = record.Empty
	}
	return c, true
}

func (m model) point(t *testing.T, w *store.Writer) map[string]tree.Root {
	out := map[string]tree.Root{}
	for n, s := range m {
		b := tree.NewBuilder(w)
		for _, k := range slices.Sorted(maps.Keys(s.recs)) {
			require.NoError(t, b.Add(ctx, record.Record{Key: []byte(k), Value: []byte(s.recs[k])}))
		}
		root, err := b.Finish(ctx)
		require.NoError(t, err)
		out[n] = root
	}
	return out
}

// TestFoldIsTheStateThen folds random logs into random states and compares
// with the model at the end; then again choosing single namespaces by plan.
func TestFoldIsTheStateThen(t *testing.T) {
	s := newStore(t)
	for seed := range uint64(150) {
		rng := rand.New(rand.NewPCG(seed, 3))
		m, serial := grown(rng, 300)
		w := s.NewWriter(ctx)
		before, roots := m.clone(), m.point(t, w)
		var log []record.Change
		for range rng.IntN(500) {
			serial++
			if c, ok := m.step(rng, serial); ok {
				log = append(log, c)
			}
		}
		want := m.point(t, w)
		base := func(f *fold.Fold) *fold.Fold {
			for _, n := range slices.Sorted(maps.Keys(before)) {
				sp := before[n]
				f.Base(record.Namespace{
					Name: n, Ident: []byte(sp.ident), Kind: "collection", Definition: []byte(sp.def)}, roots[n])
			}
			for i := range log {
				require.NoError(t, f.Change(&log[i]), "seed %d", seed)
			}
			return f
		}
		check := func(f *fold.Fold, choose func(*fold.Namespace) bool, n int) {
			seen := 0
			require.NoError(t, f.Merge(ctx, w, w, choose, func(ns *fold.Namespace, root tree.Root) error {
				seen++
				require.Equal(t, want[ns.Name], root, "seed %d: %s", seed, ns.Name)
				require.Equal(t, m[ns.Name].def, string(ns.Definition))
				require.Equal(t, m[ns.Name].ident, string(ns.Ident))
				return nil
			}))
			require.Equal(t, n, seen)
			f.Close()
		}
		check(base(fold.New(plainModel{}, false, t.TempDir(), 2048)), nil, len(m))
		plan := base(fold.NewPlan(plainModel{}))
		require.Len(t, plan.Namespaces(), len(m))
		for n := range m {
			f := fold.New(plainModel{}, false, t.TempDir(), 2048)
			one := func(ns *fold.Namespace) bool { return ns.Name == n }
			f.Want(plan, one)
			check(base(f), one, 1)
		}
		_, err := w.Flush(ctx)
		require.NoError(t, err)
	}
}

func TestALogThatDoesNotFitIsSaid(t *testing.T) {
	ns := record.Namespace{Name: "a", Ident: []byte("1"), Kind: "collection"}
	for name, c := range map[string]record.Change{
		"drop of nothing":   {Op: record.Drop, Namespace: "b"},
		"rename of nothing": {Op: record.Rename, Namespace: "b", To: "c"},
		"made twice":        {Op: record.Create, Namespace: "a", Ident: []byte("2")},
		"unknown operation": {Op: 99, Namespace: "a"},
	} {
		f := fold.New(plainModel{}, false, t.TempDir(), 1024)
		f.Base(ns, tree.Root{})
		require.ErrorIs(t, f.Change(&c), fold.ErrDiverged, name)
	}
	f := fold.New(plainModel{}, false, t.TempDir(), 1024)
	f.Base(ns, tree.Root{})
	require.NoError(t, f.Change(&record.Change{Op: record.Patch, Namespace: "a", Key: []byte("k"), Value: []byte("x")}))
	err := f.Merge(ctx, nil, tree.Nowhere{}, nil,
		func(*fold.Namespace, tree.Root) error { return errors.New("not reached") })
	require.ErrorIs(t, err, fold.ErrDiverged)
	require.ErrorContains(t, err, "a record that is not there")
}
