package fold_test

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// TestOnlyWhatIsChosen folds random logs into what was chosen of random states:
// the result is what is chosen by name and was known all the time, and no more.
func TestOnlyWhatIsChosen(t *testing.T) {
	s := newStore(t)
	chosen := func(name string) bool { return name < "s3" }
	strangers := 0
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 4))
		m, serial := grown(rng, 200)
		w := s.NewWriter(ctx)
		roots := m.point(t, w)
		f := fold.New(plainModel{}, false, t.TempDir(), 2048)
		f.Choose(chosen)
		known := map[string]bool{} // by identity
		for _, n := range slices.Sorted(maps.Keys(m)) {
			if chosen(n) {
				known[m[n].ident] = true
				f.Base(record.Namespace{
					Name: n, Ident: []byte(m[n].ident), Kind: "collection", Definition: []byte(m[n].def)}, roots[n])
			}
		}
		for range rng.IntN(600) {
			serial++
			c, ok := m.step(rng, serial)
			if !ok {
				continue
			}
			if c.Op == record.Create {
				known[string(c.Ident)] = true // whatever it is called until it is chosen
			}
			require.NoError(t, f.Change(&c), "seed %d", seed)
		}
		want := m.point(t, w)
		var expect, strange []string
		for n, sp := range m {
			switch {
			case chosen(n) && known[sp.ident]:
				expect = append(expect, n)
			case chosen(n):
				strange = append(strange, n)
			}
		}
		var got []string
		require.NoError(t, f.Merge(ctx, w, w, nil, func(ns *fold.Namespace, root tree.Root) error {
			got = append(got, ns.Name)
			require.Equal(t, want[ns.Name], root, "seed %d: %s", seed, ns.Name)
			return nil
		}))
		require.ElementsMatch(t, expect, got, "seed %d", seed)
		var untracked []string
		for _, u := range f.Untracked() {
			untracked = append(untracked, u.Name)
		}
		require.ElementsMatch(t, strange, untracked, "seed %d", seed)
		strangers += len(strange)
		f.Close()
		w.Abandon()
	}
	require.Positive(t, strangers)
}
