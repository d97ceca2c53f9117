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
	want := NewBuilder(nil)
	value := bytes.Repeat([]byte("weight "), 140)
	first, part := l.Part(), (*Part)(nil)
	n := 0
	for i := uint64(0); n < 12_000; i++ {
		key := binary.BigEndian.AppendUint64(nil, i)
		if cutsAfter(key, len(key)+len(value)+2) || cutsAfter(key, len(key)+len(value)) {
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
