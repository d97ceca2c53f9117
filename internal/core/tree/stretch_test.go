package tree_test

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// TestStretches holds that the stretches of a tree have each of its records once, in order, are about of one size, and
// are cut only where they may be.
func TestStretches(t *testing.T) {
	for seed := range uint64(30) {
		rng := rand.New(rand.NewPCG(seed, 26))
		ns := newNodes()
		c := random(rng, []int{0, 1, 200, 20_000}[seed%4])
		root := c.build(t, ns)
		n := 1 + rng.IntN(20)
		var at func([]byte) []byte
		if seed%2 == 1 { // what has the same first byte belongs together
			at = func(k []byte) []byte { return k[:min(1, len(k))] }
		}
		ns.reads = 0
		list, err := tree.Stretches(ctx, ns, root, n, at)
		require.NoError(t, err)
		require.LessOrEqual(t, len(list), n)
		require.NotEmpty(t, list)
		require.LessOrEqual(t, ns.reads, len(c)/20+2, "leaves are not read")
		require.Empty(t, list[0].From)
		require.Empty(t, list[len(list)-1].To)
		got, sizes := []string{}, []int{}
		for i, s := range list {
			if i > 0 {
				require.Equal(t, list[i-1].To, s.From)
				if at != nil {
					require.Len(t, s.From, 1)
				}
			}
			was := len(got)
			require.NoError(t, tree.WalkStretch(ctx, ns, root, s, func(r record.Record) error {
				got = append(got, string(r.Key))
				require.Equal(t, c[string(r.Key)], string(r.Value))
				return nil
			}))
			sizes = append(sizes, len(got)-was)
		}
		require.Equal(t, len(c), len(got), "seed %d", seed)
		require.True(t, slices.Equal(slices.Sorted(maps.Keys(c)), got))
		if at == nil && len(c) == 20_000 {
			require.Equal(t, n, len(list))
			require.Less(t, slices.Max(sizes), 3*len(c)/n+200, "%v", sizes)
		}
	}
}

// TestDiffWithin holds that a stretch of records and a tree are compared as if the tree had no others, whatever it has,
// and that no more of it is read.
func TestDiffWithin(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 27))
		ns := newNodes()
		c := random(rng, []int{3, 300, 8000}[seed%3])
		keys := slices.Sorted(maps.Keys(c))
		i := rng.IntN(len(keys))
		j := i + 1 + rng.IntN(len(keys)-i)
		part := content{}
		for _, k := range keys[i:j] {
			part[k] = c[k]
		}
		want := map[string]bool{}
		for range rng.IntN(4) { // what differs
			k := keys[i+rng.IntN(j-i)]
			switch rng.IntN(3) {
			case 0:
				part[k], want[k] = c[k]+"!", true
			case 1:
				delete(part, k)
				want[k] = true
			case 2:
				k += "\x00more"
				part[k], want[k] = "new", true
			}
		}
		if len(part) == 0 {
			continue
		}
		sub := slices.Sorted(maps.Keys(part))
		for k := range want { // beyond its ends it says nothing
			if k < sub[0] || k > sub[len(sub)-1] {
				delete(want, k)
			}
		}
		whole, piece := c.build(t, ns), part.build(t, ns)
		first, last, err := tree.Ends(ctx, ns, piece)
		require.NoError(t, err)
		require.Equal(t, []string{sub[0], sub[len(sub)-1]}, []string{string(first), string(last)})
		got := map[string]bool{}
		ns.reads = 0
		require.NoError(t, tree.DiffWithin(ctx, tree.Side{Source: ns, Root: piece}, tree.Side{Source: ns, Root: whole},
			first, last, func(d tree.Difference) error {
				got[string(d.Key)] = true
				require.False(t, bytes.Equal(d.A, d.B) && (d.A == nil) == (d.B == nil))
				return nil
			}))
		require.Equal(t, want, got, "seed %d", seed)
		if len(c) == 8000 {
			require.Less(t, ns.reads, 60+20*len(want), fmt.Sprint("seed ", seed))
		}
	}
}
