package content

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/tree"
)

// TestNodeSet: a set holds what was added and nothing else, and names it in order, wherever the index has its nodes,
// while that changes, and for nodes that it does not know.
func TestNodeSet(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	p := newPlace(t, blob.NewMemory())
	put := func(from, n int) {
		var entries []Entry
		for i := range n {
			entries = append(entries, entry(rng, from+i))
		}
		p.list(p.file(entries))
	}
	for i := range 40 {
		put(50*i, 100) // half of the nodes lie twice
	}
	for _, room := range []int{1, 100, 1500, 1 << 20} {
		c := p.open(room, "")
		s, model := c.Index.NewNodeSet(), map[tree.Hash]bool{}
		for i := range 6000 {
			if i == 3000 { // from here on there are other tables
				put(10_000, 500)
				put(10_200, 500)
				require.NoError(t, c.Refresh(ctx))
			}
			h := node(rng.IntN(3000))
			if i%7 == 0 {
				h = node(10_000 + rng.IntN(1000))
			}
			had, err := s.Has(h)
			require.NoError(t, err)
			require.Equal(t, model[h], had)
			if i%2 == 0 {
				added, err := s.Add(h)
				require.NoError(t, err)
				require.Equal(t, !model[h], added)
				model[h] = true
			}
		}
		require.Len(t, model, s.Len())
		require.LessOrEqual(t, len(s.others), room+2000)
		var last []byte
		n := 0
		names := s.Names()
		for {
			r, ok, err := names.Next()
			require.NoError(t, err)
			if !ok {
				break
			}
			require.Len(t, r, hashSize)
			require.Negative(t, bytes.Compare(last, r))
			require.True(t, model[tree.Hash(r)])
			last = slices.Clone(r)
			n++
		}
		require.Len(t, model, n)
	}
}

// TestNodeSetOfDamagedTable: a set says that it cannot tell, and the index is made anew.
func TestNodeSetOfDamagedTable(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	p := newPlace(t, blob.NewMemory())
	var entries []Entry
	for i := range 2000 {
		entries = append(entries, entry(rng, i))
	}
	p.list(p.file(entries))
	keep := t.TempDir()
	p.open(1, keep)
	files, err := filepath.Glob(filepath.Join(keep, "*", "*.nodes"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	data, err := os.ReadFile(files[0])
	require.NoError(t, err)
	data[5000] ^= 1 // in the second block
	require.NoError(t, os.WriteFile(files[0], data, 0o600))
	add := func() error {
		s := p.open(1, keep).Index.NewNodeSet()
		for i := range 2000 {
			if _, err := s.Add(node(i)); err != nil {
				return err
			}
		}
		return nil
	}
	require.ErrorContains(t, add(), "run this again")
	require.NoError(t, add())
}
