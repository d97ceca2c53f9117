package journal_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

var ctx = context.Background()

func mark(n int) record.Mark {
	return record.Mark{Position: record.Position(fmt.Sprintf("%04d", n)), Wall: time.UnixMilli(int64(n) * 1000)}
}

func put(n int) *record.Change {
	m := mark(n)
	return &record.Change{Op: record.Put, Namespace: "apiary.colonies", Key: []byte{byte(n)}, Value: []byte("v"),
		At: m.Position, Wall: m.Wall.UnixMilli()}
}

// chain seals segments that end at the given places, each with its changes.
func chain(t *testing.T, start int, ends ...int) (headers []journal.Header, data [][]byte) {
	var prev tree.Hash
	for _, end := range ends {
		b := journal.NewBuilder(journal.Keys{}, "meadow", "yard", mark(start))
		for n := start + 1; n <= end; n++ {
			require.NoError(t, b.Add(put(n)))
		}
		h, d, err := b.Seal(prev, "meadow-2")
		require.NoError(t, err)
		headers, data = append(headers, h), append(data, d)
		prev, start = h.ID, end
	}
	return headers, data
}

func TestASegmentGivesBackItsChanges(t *testing.T) {
	headers, data := chain(t, 10, 5000)
	var got []record.Change
	h, err := journal.Read(ctx, nil, data[0], func(c *record.Change) error { got = append(got, *c); return nil })
	require.NoError(t, err)
	require.Equal(t, headers[0].ID, h.ID)
	require.Len(t, got, 4990)
	require.Equal(t, *put(11), got[0])
	require.Equal(t, mark(11).Position, h.First.Position)
	require.True(t, mark(5000).Wall.Equal(h.Last.Wall))
	for _, cut := range []int{0, 5, 20, 100, len(data[0]) - 1} {
		_, err := journal.Read(ctx, nil, data[0][:cut], func(*record.Change) error { return nil })
		require.ErrorIs(t, err, journal.ErrDamaged, "cut at %d", cut)
	}
	b := journal.NewBuilder(journal.Keys{}, "meadow", "yard", mark(10))
	require.Error(t, b.Add(put(10)), "a change at the place the segment begins after")
	require.NoError(t, b.Add(put(12)))
	require.Error(t, b.Add(put(11)), "a change out of order")
}

func TestChainsTellWhatTheyCover(t *testing.T) {
	h, _ := chain(t, 10, 20, 30, 40, 50)
	whole := journal.NewChain("yard", h)
	require.Empty(t, whole.Gaps())
	require.Equal(t, mark(50).Position, whole.Reach(mark(10)).Position)
	require.Equal(t, mark(50).Position, whole.Reach(mark(33)).Position, "from within a segment")
	require.Equal(t, mark(5), whole.Reach(mark(5)), "from before it")
	segs, err := whole.Between(mark(15).Position, mark(35).Position)
	require.NoError(t, err)
	require.Len(t, segs, 3)

	missing := journal.NewChain("yard", []journal.Header{h[0], h[1], h[3]})
	require.Len(t, missing.Gaps(), 1)
	require.Equal(t, mark(30).Position, missing.Gaps()[0].From.Position)
	require.Equal(t, mark(30).Position, missing.Reach(mark(10)).Position)
	_, err = missing.Between(mark(15).Position, mark(45).Position)
	var m *journal.MissingError
	require.ErrorAs(t, err, &m)
	_, err = missing.Between(mark(41).Position, mark(45).Position)
	require.NoError(t, err, "after the gap all is well")

	forged := append([]journal.Header{}, h...)
	forged[1].ID = tree.Hash{1}
	require.Len(t, journal.NewChain("yard", forged).Gaps(), 1,
		"a segment that is not the one its successor was sealed upon")
	require.Equal(t, mark(30).Position, journal.NewChain("yard", forged).Reach(mark(10)).Position)

	late := journal.NewChain("yard", h[2:])
	require.Len(t, late.Gaps(), 1, "the beginning is gone")

	g, _, err := journal.SealGap(journal.Keys{}, "meadow", "yard", mark(50), mark(60), "the log had rolled over",
		h[3].ID)
	require.NoError(t, err)
	gapped := journal.NewChain("yard", append(append([]journal.Header{}, h...), g))
	require.Equal(t, "the log had rolled over", gapped.Gaps()[0].Reason)
	require.Equal(t, mark(50).Position, gapped.Reach(mark(10)).Position)
	_, err = gapped.Between(mark(45).Position, mark(55).Position)
	require.ErrorContains(t, err, "rolled over")
}

func TestAMomentIsTheLastEntryNotLater(t *testing.T) {
	h, data := chain(t, 10, 20, 30, 40)
	c := journal.NewChain("yard", h)
	scan := func(want journal.Header, fn func(*record.Change) error) error {
		for i := range h {
			if h[i].ID == want.ID {
				_, err := journal.Read(ctx, nil, data[i], fn)
				return err
			}
		}
		return fmt.Errorf("no such segment")
	}
	for n := 10; n < 40; n++ {
		for _, after := range []time.Duration{0, 400 * time.Millisecond} {
			got, _, err := c.PositionAt(mark(10), mark(n).Wall.Add(after), scan)
			require.NoError(t, err)
			require.Equal(t, mark(n).Position, got.Position)
		}
	}
}

func FuzzReadSegment(f *testing.F) {
	b := journal.NewBuilder(journal.Keys{}, "meadow", "yard", mark(1))
	_ = b.Add(put(2))
	_, data, _ := b.Seal(tree.Hash{}, "m")
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = journal.HeaderLength(data)
		_, _ = journal.Read(ctx, nil, data, func(*record.Change) error { return nil })
	})
}

// TestChainsOfOverlappingJoins: whatever is left of segments and of what was put together of them, where a
// way leads over it from the beginning to the end the chain is without a gap.
func TestChainsOfOverlappingJoins(t *testing.T) {
	h, data := chain(t, 10, 20, 30, 40, 50, 60)
	join := func(parts ...int) journal.Header {
		b := journal.NewBuilder(journal.Keys{}, "meadow", "yard", h[parts[0]].After)
		var group []journal.Header
		for _, n := range parts {
			_, err := journal.Read(ctx, nil, data[n], func(c *record.Change) error { return b.Add(c) })
			require.NoError(t, err)
			b.CoverTo(h[n].Last)
			group = append(group, h[n])
		}
		j, _, err := b.Join(group)
		require.NoError(t, err)
		return j
	}
	all := append(h, join(0, 1, 2), join(1, 2, 3), join(2, 3, 4), join(3, 4))
	leads := func(set []journal.Header) bool {
		reach := map[record.Position]bool{mark(10).Position: true}
		for range set {
			for _, s := range set {
				if reach[s.After.Position] {
					reach[s.Last.Position] = true
				}
			}
		}
		return reach[mark(60).Position]
	}
	ways := 0
	for bits := range 1 << len(all) {
		var set []journal.Header
		for i, s := range all {
			if bits>>i&1 == 1 {
				set = append(set, s)
			}
		}
		if !leads(set) {
			continue
		}
		ways++
		c := journal.NewChain("yard", set)
		require.Empty(t, c.Gaps(), "%b", bits)
		end, _, _ := c.End()
		require.Equal(t, mark(60).Position, end.Position, "%b", bits)
		require.Equal(t, mark(10).Position, c.Segments[0].After.Position, "%b", bits)
		require.Len(t, set, len(c.Segments)+len(c.Superseded)+len(c.Joins), "%b: none is lost sight of", bits)
	}
	require.Greater(t, ways, 100)

	// One that covers nothing, as nobody makes them but who means to, is there once.
	empty := h[1]
	empty.Last, empty.ID = empty.After, tree.Hash{7}
	c := journal.NewChain("yard", append(slices.Clone(h), empty))
	require.Len(t, c.Segments, len(h)+1-len(c.Superseded))
	end, _, _ := c.End()
	require.Equal(t, mark(60).Position, end.Position)
}
