package run_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/run"
)

// TestPieces holds that parts are all there once and in order, in pieces of which none is more than a quarter of what
// one hand has to do, few are made of many parts, and the last ones are small.
func TestPieces(t *testing.T) {
	type piece struct{ first, last int }
	for _, hands := range []int{1, 2, 3, 16, 64} {
		for _, n := range []int{1, 2, 5, 40, run.PartsPerHand * hands} {
			parts := make([]piece, n)
			for i := range parts {
				parts[i] = piece{i, i}
			}
			pieces := run.Pieces(parts, hands, func(a, b piece) piece { return piece{a.first, b.last} })
			next := 0
			for _, p := range pieces {
				require.Equal(t, next, p.first)
				size := p.last - p.first + 1
				require.Positive(t, size)
				require.LessOrEqual(t, size, max(1, n/(4*hands)))
				next = p.last + 1
			}
			require.Equal(t, n, next)
			require.LessOrEqual(t, len(pieces), 16*hands+40, "%d hands", hands)
			last := pieces[len(pieces)-1]
			require.Equal(t, last.first, last.last)
		}
	}
}
