package tree_test

import (
	"context"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// memory keeps a tree's nodes in memory.
type memory map[tree.Hash][]byte

func (memory) Cuts() tree.Cuts { return tree.Cuts{} }

func (n memory) PutNode(_ context.Context, h tree.Hash, node []byte, _ tree.Hash) error {
	n[h] = append([]byte{}, node...)
	return nil
}

func (n memory) Node(_ context.Context, h tree.Hash) ([]byte, error) { return n[h], nil }

// What two trees have in common is not read to find where they differ, and a tree
// is named by its content alone.
func ExampleDiff() {
	ctx, n := context.Background(), memory{}
	build := func(values ...string) tree.Root {
		b := tree.NewBuilder(n)
		for i, v := range values {
			if err := b.Add(ctx, record.Record{Key: []byte{byte(i)}, Value: []byte(v)}); err != nil {
				panic(err)
			}
		}
		root, err := b.Finish(ctx)
		if err != nil {
			panic(err)
		}
		return root
	}
	was, is := build("heather", "linden", "clover"), build("heather", "lime", "clover")
	fmt.Println(was.Hash == build("heather", "linden", "clover").Hash, was.Hash == is.Hash)
	err := tree.Diff(ctx, tree.Side{Source: n, Root: was}, tree.Side{Source: n, Root: is},
		func(d tree.Difference) error {
			fmt.Printf("key %d: %s, then %s\n", d.Key, d.A, d.B)
			return nil
		})
	if err != nil {
		panic(err)
	}
	// Output:
	// true false
	// key [1]: linden, then lime
}
