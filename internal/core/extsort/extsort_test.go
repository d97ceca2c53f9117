package extsort_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/extsort"
)

func TestSorterIsStableAndSpills(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for _, bound := range []int{1 << 10, 20_000, 1 << 20} {
		s := extsort.New(t.TempDir(), bound)
		type item struct{ k, v string }
		var want []item
		for i := range 8000 {
			it := item{fmt.Sprint(rng.IntN(700)), fmt.Sprint(i)}
			want = append(want, it)
			require.NoError(t, s.Add([]byte(it.k), []byte(it.v)))
		}
		slices.SortStableFunc(want, func(a, b item) int { return bytes.Compare([]byte(a.k), []byte(b.k)) })
		for range 2 { // it can be read more than once
			items, err := s.Sorted()
			require.NoError(t, err)
			for _, w := range want {
				k, v, ok, err := items.Next()
				require.NoError(t, err)
				require.True(t, ok)
				require.Equal(t, w, item{string(k), string(v)})
			}
			_, _, ok, err := items.Next()
			require.NoError(t, err)
			require.False(t, ok)
			items.Close()
		}
		s.Close()
	}
}
