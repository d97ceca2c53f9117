package tree_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/tree"
)

// TestJoin holds that trees of stretches of records, made by whoever read them, join to the tree
// that all records have: in place, overlapping, empty, of one record, with leaves that end at their
// greatest size only.
func TestJoin(t *testing.T) {
	for seed := range uint64(60) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			rng := rand.New(rand.NewPCG(seed, 25))
			ns := newNodes()
			if seed%2 == 1 {
				ns.cuts = tree.KeyedCuts(rng.Uint64(), rng.Uint64())
			}
			c := random(rng, []int{0, 1, 50, 3000, 12_000}[seed%5])
			keys := slices.Sorted(maps.Keys(c))
			parts := make([]content, 1+rng.IntN(7))
			for i := range parts {
				parts[i] = content{}
			}
			overlap := seed%3 == 2
			for i, k := range keys {
				p := i * len(parts) / len(keys)
				if overlap && rng.IntN(500) == 0 {
					p = rng.IntN(len(parts))
					if p+1 < len(parts) { // the one that comes later counts
						parts[p][k] = "older"
						p = p + 1 + rng.IntN(len(parts)-p-1)
					}
				}
				parts[p][k] = c[k]
			}
			var roots []tree.Root
			for _, p := range parts {
				roots = append(roots, p.build(t, ns))
			}
			near := tree.Root{}
			if rng.IntN(2) == 0 {
				near = c.changed(rng, 0.1).build(t, ns)
			}
			got, err := tree.Join(ctx, ns, roots, near, ns)
			require.NoError(t, err)
			require.Equal(t, c.build(t, ns), got)
			require.Equal(t, c, read(t, ns, got))
		})
	}
}

// TestJoinReadsSeams holds that of trees that follow one another only what lies at the seams is
// read, beside inner nodes.
func TestJoinReadsSeams(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 26))
	ns := newNodes()
	c := random(rng, 60_000)
	keys := slices.Sorted(maps.Keys(c))
	const n = 8
	var roots []tree.Root
	for p := range n {
		part := content{}
		for _, k := range keys[len(keys)*p/n : len(keys)*(p+1)/n] {
			part[k] = c[k]
		}
		roots = append(roots, part.build(t, ns))
	}
	whole := c.build(t, ns)
	ns.reads = 0
	got, err := tree.Join(ctx, ns, roots, tree.Root{}, ns)
	require.NoError(t, err)
	require.Equal(t, whole, got)
	t.Logf("%d reads for %d nodes", ns.reads, len(ns.m))
	require.Greater(t, len(ns.m), 300)
	require.Less(t, ns.reads, 10*n, "two leaves a seam, and inner nodes")
}
