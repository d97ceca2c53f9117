package tree

import (
	"context"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
)

// memory keeps nodes.
type memory map[Hash][]byte

func (m memory) Cuts() Cuts { return Cuts{} }

func (m memory) PutNode(_ context.Context, h Hash, node []byte, _ Hash) error {
	m[h] = node
	return nil
}

func (m memory) Node(_ context.Context, h Hash) ([]byte, error) { return m[h], nil }

// TestTreesAllocateByLeaf: what building, reading and comparing allocate is for leaves and nodes above them, not for
// each record.
func TestTreesAllocateByLeaf(t *testing.T) {
	const n = 50_000
	ctx := context.Background()
	value := make([]byte, 120)
	build := func(m memory, changed int) Root {
		b := NewBuilder(m)
		key := make([]byte, 8)
		for i := range n {
			binary.BigEndian.PutUint64(key, uint64(i))
			copy(value, key)
			value[20] = byte(0)
			if changed > 0 && i%changed == 0 {
				value[20] = 1
			}
			require.NoError(t, b.Add(ctx, record.Record{Key: key, Value: value}))
		}
		root, err := b.Finish(ctx)
		require.NoError(t, err)
		return root
	}
	m := memory{}
	a, b := build(m, 0), build(m, 1000)
	each := func(what string, most float64, do func()) {
		got := testing.AllocsPerRun(3, do) / n
		t.Logf("%s: %.4f allocations a record", what, got)
		require.Less(t, got, most, what)
	}
	each("building", 0.02, func() { build(memory{}, 0) })
	each("reading", 0.02, func() {
		seen := 0
		require.NoError(t, Walk(ctx, m, a, func(record.Record) error { seen++; return nil }))
		require.Equal(t, n, seen)
	})
	each("comparing", 0.02, func() {
		seen := 0
		require.NoError(t, Diff(ctx, Side{m, a}, Side{m, b}, func(Difference) error { seen++; return nil }))
		require.Equal(t, n/1000, seen)
	})
}
