package journal_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// goneOver is how far a chain reaches, by going over all segments.
func goneOver(c *journal.Chain, from record.Mark) record.Mark {
	for i := range c.Segments {
		s := &c.Segments[i]
		if s.Last.Position < from.Position || s.Last.Position == from.Position && !s.Last.Wall.After(from.Wall) {
			continue
		}
		if s.After.Position > from.Position || s.Gap != "" {
			break
		}
		if i > 0 && s.After.Position >= from.Position && c.Segments[i-1].Last.Position == s.After.Position &&
			s.Prev != c.Segments[i-1].TailID() {
			break
		}
		from = s.Last
	}
	return from
}

// TestReach: of chains with breaks, gaps, forged and quiet segments, and some that overlap, from any mark on.
func TestReach(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	further := 0
	for range 3000 {
		var list []journal.Header
		at, prev := mark(rng.IntN(5)), tree.Hash{}
		for n := range 1 + rng.IntN(12) {
			if rng.IntN(9) == 0 {
				at = mark(int(at.Wall.UnixMilli()/1000) + rng.IntN(4)) // one is missing
			}
			h := journal.Header{Shard: "yard", After: at, Prev: prev, ID: tree.Hash{byte(n + 1)}}
			h.Last = mark(int(at.Wall.UnixMilli()/1000) + rng.IntN(4))
			switch rng.IntN(12) {
			case 0:
				h.Gap = "the log had rolled over"
			case 1:
				h.Prev = tree.Hash{99}
			case 2: // nothing was written for a while
				h.Last = record.Mark{Position: at.Position, Wall: at.Wall.Add(time.Duration(rng.IntN(3)) * time.Second)}
			case 3:
				if rng.IntN(3) == 0 {
					h.After = mark(max(0, int(at.Wall.UnixMilli()/1000)-2))
				}
			}
			list = append(list, h)
			at, prev = h.Last, h.ID
		}
		c := journal.NewChain("yard", list)
		for n := range 45 {
			from := mark(n)
			if n%3 == 0 {
				from.Wall = from.Wall.Add(time.Duration(rng.IntN(3)-1) * time.Second)
			}
			want := goneOver(c, from)
			require.Equal(t, want, c.Reach(from), "%+v from %+v", c.Segments, from)
			if want.Position > from.Position {
				further++
			}
		}
	}
	require.Greater(t, further, 1000)
}
