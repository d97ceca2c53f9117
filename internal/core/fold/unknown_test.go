package fold_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// misunderstood does something to the model that the change which tells of it does not say: to the content of one
// namespace, or to the name of one with a prefix.
func (m model) misunderstood(rng *rand.Rand, serial int) (record.Change, bool) {
	names := slices.Sorted(maps.Keys(m))
	if len(names) == 0 {
		return record.Change{}, false
	}
	n := names[rng.IntN(len(names))]
	s := m[n]
	c := record.Change{Op: record.Unknown, Namespace: n, Ident: []byte(s.ident), Value: []byte("of a newer server"),
		At: record.Position(fmt.Sprintf("%08d", serial))}
	s.recs["k00"] = fmt.Sprint("unseen", serial)
	if rng.IntN(2) == 0 && m[n+"x"] == nil {
		delete(m, n)
		m[n+"x"] = s
		c.Namespace, c.Key, c.Ident = n+"*", []byte(n), nil
	}
	return c, true
}

// TestWhatIsNotUnderstood folds random logs with changes that are not understood: all else is what it was, what such
// a change may have touched is left out and named, and what is created afterwards is known again.
func TestWhatIsNotUnderstood(t *testing.T) {
	s := newStore(t)
	lost, again := 0, 0
	for seed := range uint64(400) {
		rng := rand.New(rand.NewPCG(seed, 5))
		m, serial := grown(rng, 200)
		w := s.NewWriter(ctx)
		roots := m.point(t, w)
		f := fold.New(plainModel{}, false, t.TempDir(), 2048)
		for _, n := range slices.Sorted(maps.Keys(m)) {
			f.Base(record.Namespace{Name: n, Ident: []byte(m[n].ident), Kind: "collection",
				Definition: []byte(m[n].def)}, roots[n])
		}
		unknown, touched := map[string]bool{}, []string{} // by identity; prefixes
		for range rng.IntN(600) {
			serial++
			c, ok := m.step(rng, serial)
			if rng.IntN(80) == 0 {
				if c.Op != 0 && ok {
					require.NoError(t, f.Change(&c), "seed %d", seed)
				}
				serial++
				if c, ok = m.misunderstood(rng, serial); ok {
					for n, sp := range m {
						if n == c.Namespace || len(c.Key) > 0 && strings.HasPrefix(n, string(c.Key)) {
							unknown[sp.ident] = true
						}
					}
					if len(c.Key) > 0 {
						touched = append(touched, string(c.Key))
					}
				}
			}
			if ok {
				if c.Op == record.Create && len(unknown) > 0 {
					again++
				}
				require.NoError(t, f.Change(&c), "seed %d", seed)
			}
		}
		want := m.point(t, w)
		doubtful := func(name string) bool {
			return slices.ContainsFunc(touched, func(p string) bool { return strings.HasPrefix(name, p) })
		}
		var expect, got []string
		untracked := map[string]bool{}
		for _, u := range f.Untracked() {
			require.Contains(t, u.Why, "of a newer server")
			untracked[u.Name] = true
		}
		for n, sp := range m {
			if !unknown[sp.ident] {
				expect = append(expect, n)
				require.False(t, untracked[n], "seed %d: %s is known", seed, n)
			} else if lost++; !doubtful(n) {
				require.True(t, untracked[n], "seed %d: %s is named", seed, n)
			}
		}
		for n := range untracked {
			require.True(t, doubtful(n) || m[n] != nil, "seed %d: %s is not there", seed, n)
		}
		require.NoError(t, f.Merge(ctx, w, w, nil, func(ns *fold.Namespace, root tree.Root) error {
			got = append(got, ns.Name)
			require.Equal(t, want[ns.Name], root, "seed %d: %s", seed, ns.Name)
			return nil
		}))
		require.ElementsMatch(t, expect, got, "seed %d", seed)
		f.Close()
		w.Abandon()
	}
	require.Positive(t, lost)
	require.Positive(t, again)
}

// TestAnIdentityUsedAgain is of what was made last: what was dropped before does not come back, and what is still
// there is not made twice.
func TestAnIdentityUsedAgain(t *testing.T) {
	s := newStore(t)
	w := s.NewWriter(ctx)
	defer w.Abandon()
	before := model{"s1": &space{"one", "def", map[string]string{"old": "1"}}}
	f := fold.New(plainModel{}, false, t.TempDir(), 2048)
	defer f.Close()
	f.Base(record.Namespace{Name: "s1", Ident: []byte("one"), Kind: "collection"}, before.point(t, w)["s1"])
	serial := 0
	change := func(op record.Op, ns, key, value string) error {
		serial++
		c := record.Change{Op: op, Namespace: ns, Ident: []byte("one"), Value: []byte(value),
			At: record.Position(fmt.Sprintf("%08d", serial))}
		if key != "" {
			c.Key = []byte(key)
		}
		return f.Change(&c)
	}
	create := string(fold.JoinCreate("collection", []byte("def")))
	require.NoError(t, change(record.Put, "s1", "also old", "2"))
	require.NoError(t, change(record.Drop, "s1", "", ""))
	require.NoError(t, change(record.Create, "s2", "", create))
	require.NoError(t, change(record.Put, "s2", "new", "3"))
	got := map[string]tree.Root{}
	require.ErrorIs(t, change(record.Create, "s3", "", create), fold.ErrDiverged)
	require.NoError(t, f.Merge(ctx, w, w, nil, func(ns *fold.Namespace, root tree.Root) error {
		got[ns.Name] = root
		return nil
	}))
	want := model{"s2": &space{"one", "def", map[string]string{"new": "3"}}}
	require.Equal(t, want.point(t, w), got)
}
