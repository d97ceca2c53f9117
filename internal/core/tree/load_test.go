package tree

import (
	"bytes"
	"context"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
)

// TestKeysThatAreChosen: who chooses keys can leave out those after which leaves end. What is
// held of such a part in memory is bounded, and the tree is the same.
func TestKeysThatAreChosen(t *testing.T) {
	ctx := context.Background()
	c := &leafCounter{nodes: map[Hash][]byte{}}
	l := NewLoader(c, c, Root{}, t.TempDir(), 1<<20)
	want := NewBuilder(Nowhere{})
	value := bytes.Repeat([]byte("weight "), 140)
	first, part := l.Part(), (*Part)(nil)
	n := 0
	for i := uint64(0); n < 12_000; i++ {
		key := binary.BigEndian.AppendUint64(nil, i)
		cuts := c.Cuts()
		if cuts.afterRecord(key, len(key)+len(value)+2) || cuts.afterRecord(key, len(key)+len(value)) {
			continue
		}
		n++
		r := record.Record{Key: key, Value: value}
		require.NoError(t, want.Add(ctx, r))
		to := first
		if n > 1000 {
			if part == nil {
				part = l.Part()
			}
			to = part
		}
		require.NoError(t, to.Add(ctx, r))
		require.LessOrEqual(t, len(to.head.buf), maxLeaf+len(value)+64)
	}
	got, err := l.Finish(ctx)
	require.NoError(t, err)
	root, err := want.Finish(ctx)
	require.NoError(t, err)
	require.Equal(t, root, got)
}

// TestChosenKeysMeetKeyedCuts: keys that would all end a leaf, or none, where anybody can reckon
// it, make as many leaves as any others where a key says it.
func TestChosenKeysMeetKeyedCuts(t *testing.T) {
	ctx := context.Background()
	value := bytes.Repeat([]byte("w"), 200)
	leaves := func(cuts Cuts, takes func(key []byte) bool) int {
		c := &leafCounter{nodes: map[Hash][]byte{}, cuts: cuts}
		b := NewBuilder(c)
		n := 0
		for i := uint64(0); n < 6000; i++ {
			key := binary.BigEndian.AppendUint64(nil, i)
			if takes(key) {
				n++
				require.NoError(t, b.Add(ctx, record.Record{Key: key, Value: value}))
			}
		}
		_, err := b.Finish(ctx)
		require.NoError(t, err)
		count := 0
		for _, node := range c.nodes {
			if node[0] == leafNode {
				count++
			}
		}
		return count
	}
	ends := func(key []byte) bool { return Cuts{}.afterRecord(key, len(key)+len(value)) }
	never := func(key []byte) bool { return !ends(key) }
	any := func([]byte) bool { return true }
	require.Equal(t, 6000, leaves(Cuts{}, ends), "as many as there are records")
	require.Equal(t, 2, leaves(Cuts{}, never), "as few as there can be")
	keyed := KeyedCuts(7, 11)
	usual := leaves(keyed, any)
	require.InDelta(t, 10, usual, 6)
	for _, chosen := range []func([]byte) bool{ends, never} {
		require.InDelta(t, usual, leaves(keyed, chosen), float64(usual)*0.8)
	}
}

// TestLongListsOfLeaves go to a file, and the tree is the same.
func TestLongListsOfLeaves(t *testing.T) {
	defer func(was int) { spillAt = was }(spillAt)
	ctx := context.Background()
	value := bytes.Repeat([]byte("weight "), 3000)
	var roots []Root
	for _, at := range []int{1 << 30, 500, 1} {
		spillAt = at
		c := &leafCounter{nodes: map[Hash][]byte{}, cuts: KeyedCuts(1, 2)}
		l := NewLoader(c, c, Root{}, t.TempDir(), 1<<20)
		for part := range 3 {
			p := l.Part()
			for i := range 200 {
				at := part*200 + i
				if part == 2 {
					at -= 50 // it overlaps with the part before, and is sorted in
				}
				key := binary.BigEndian.AppendUint64(nil, uint64(at))
				require.NoError(t, p.Add(ctx, record.Record{Key: key, Value: append(key, value...)}))
			}
			require.Equal(t, at < 1<<30, p.leaves.file != nil)
		}
		root, err := l.Finish(ctx)
		require.NoError(t, err)
		require.EqualValues(t, 550, root.Records)
		roots = append(roots, root)
	}
	require.Equal(t, roots[0], roots[1])
	require.Equal(t, roots[0], roots[2])
}
