package journal_test

import (
	"cmp"
	"math/rand/v2"
	"slices"
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

// TestCoveredSegments: which segments lie within others, asked in order, is what asking each of each says.
func TestCoveredSegments(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	inside := 0
	for range 2000 {
		segment := func() journal.Header {
			from := rng.IntN(30)
			return journal.Header{After: mark(from), Last: mark(from + 1 + rng.IntN(8))}
		}
		var list, asked []journal.Header
		for range rng.IntN(20) {
			list, asked = append(list, segment()), append(asked, segment())
		}
		byBeginning := func(a, b journal.Header) int { return cmp.Compare(a.After.Position, b.After.Position) }
		slices.SortStableFunc(list, byBeginning)
		slices.SortStableFunc(asked, byBeginning)
		covered := journal.Covering(list)
		for i := range asked {
			within := func(j journal.Header) bool { return asked[i].Within(&j) }
			require.Equal(t, slices.ContainsFunc(list, within), covered(&asked[i]), "%v of %v", asked[i], list)
			var want, got []journal.Header
			for _, h := range list {
				if h.Within(&asked[i]) {
					want = append(want, h)
				}
			}
			for _, h := range asked[i].Inside(list) {
				if h.Within(&asked[i]) {
					got = append(got, h)
				}
			}
			require.Equal(t, want, got)
			inside += len(got)
		}
	}
	require.Positive(t, inside)
}
