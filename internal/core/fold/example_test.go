package fold_test

import (
	"context"
	"fmt"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// memory keeps nodes of trees.
type memory map[tree.Hash][]byte

func (memory) Cuts() tree.Cuts { return tree.Cuts{} }

func (m memory) PutNode(_ context.Context, h tree.Hash, node []byte, _ tree.Hash) error {
	m[h] = append([]byte{}, node...)
	return nil
}

func (m memory) Node(_ context.Context, h tree.Hash) ([]byte, error) { return m[h], nil }

func ExampleFold() {
	nodes := memory{}
	b := tree.NewBuilder(nodes)
	if err := b.Add(ctx, record.Record{Key: []byte("k1"), Value: []byte("thriving")}); err != nil {
		panic(err)
	}
	root, err := b.Finish(ctx)
	if err != nil {
		panic(err)
	}
	f := fold.New(plainModel{}, false, "", 1<<20)
	defer f.Close()
	f.Base(record.Namespace{Name: "colonies", Ident: []byte("1")}, root)
	for _, c := range []record.Change{
		{Op: record.Put, Namespace: "colonies", Ident: []byte("1"), Key: []byte("k2"), Value: []byte("new"), At: "1"},
		{Op: record.Rename, Namespace: "colonies", Ident: []byte("1"), To: "hives", At: "2"},
		{Op: record.Delete, Namespace: "hives", Ident: []byte("1"), Key: []byte("k1"), At: "3"},
	} {
		if err := f.Change(&c); err != nil {
			panic(err)
		}
	}
	err = f.Merge(ctx, nodes, nodes, nil, func(n *fold.Namespace, root tree.Root) error {
		return tree.Walk(ctx, nodes, root, func(r record.Record) error {
			fmt.Printf("%s: %s %s\n", n.Name, r.Key, r.Value)
			return nil
		})
	})
	if err != nil {
		panic(err)
	}
	// Output:
	// hives: k2 new
}
