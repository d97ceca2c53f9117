package journal_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// TestSummaries: a summary counts what the segment holds, and that of a joined one what those
// before hold together; namespaces that are too many are not counted as none.
func TestSummaries(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 1))
	for _, spaces := range []int{3, 700} {
		want := map[string]map[string]int64{}
		var heads []journal.Header
		prev, from := tree.Hash{}, mark(1)
		n := 2
		all := int64(0)
		for range 4 {
			b := journal.NewBuilder(journal.Keys{}, "meadow", "yard", from)
			for range 400 {
				c := record.Change{Op: record.Op(1 + r.IntN(8)), Namespace: fmt.Sprint("apiary.c", r.IntN(spaces)),
					At: mark(n).Position, Wall: mark(n).Wall.UnixMilli()}
				name := c.Op.String()
				switch {
				case c.Op == record.Rename:
					c.To = "apiary.else"
				case c.Op == record.Put && r.IntN(3) == 0:
					c.To, name = record.Moved, "moved"
				}
				require.NoError(t, b.Add(&c))
				for _, ns := range []string{c.Namespace, c.To} {
					if ns != "" && ns != record.Moved {
						if want[ns] == nil {
							want[ns] = map[string]int64{}
						}
						want[ns][name]++
						all++
					}
				}
				n++
			}
			h, data, err := b.Seal(prev, "m")
			require.NoError(t, err)
			got, err := journal.Read(context.Background(), nil, data, func(*record.Change) error { return nil })
			require.NoError(t, err)
			require.Equal(t, h.Summary, got.Summary)
			heads = append(heads, h)
			prev, from = h.ID, h.Last
		}
		j := journal.NewBuilder(journal.Keys{}, "meadow", "yard", mark(1))
		h, _, err := j.Join(heads)
		require.NoError(t, err)
		counted := h.Unsummarized
		for _, tally := range h.Summary {
			for _, c := range tally.By {
				op := c.Op
				counted += c.Changes
				if spaces == 3 {
					require.Equal(t, want[tally.Namespace][op], c.Changes, "%s of %s", op, tally.Namespace)
				}
				require.LessOrEqual(t, c.Changes, want[tally.Namespace][op])
				require.LessOrEqual(t, c.Busiest, c.Changes)
				require.Positive(t, c.Busiest)
			}
		}
		require.Equal(t, all, counted, "all are in the summary or said to be missing")
		require.Equal(t, spaces == 3, h.Summarized())
		_, known := h.Tally("apiary.nothing")
		require.Equal(t, spaces == 3, known)
	}
}

// TestCountsAsJSON: counts are written as the object that they always were, whose bytes a header's identity hangs on.
func TestCountsAsJSON(t *testing.T) {
	by := map[string]journal.Count{"put": {Changes: 3, Busiest: 2}, "delete": {Changes: 1, Busiest: 1},
		"of a newer version": {Changes: 7}}
	want, err := json.Marshal(by)
	require.NoError(t, err)
	var c journal.Counts
	require.NoError(t, json.Unmarshal(want, &c))
	got, err := json.Marshal(journal.Tally{Namespace: "a", By: c})
	require.NoError(t, err)
	require.Equal(t, `{"namespace":"a","by":`+string(want)+`}`, string(got))
	for op, n := range by {
		require.Equal(t, n, c.Of(op))
	}
	require.Zero(t, c.Of("patch"))
	require.Error(t, json.Unmarshal([]byte(`[1]`), &c))
}
