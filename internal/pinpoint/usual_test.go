package pinpoint

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
)

// What is done every night at the same hour is usual then, and at no other.
func TestUsual(t *testing.T) {
	u := NewUsual()
	day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.Local)
	require.Zero(t, u.Of("apiary.colonies", record.Delete, day), "nothing was learned")
	for d := range 6 {
		for h := range 24 {
			n := int64(5)
			if h == 2 {
				n = 4000
			}
			u.Add(&journal.Header{Last: record.Mark{
				Wall: day.AddDate(0, 0, d).Add(time.Duration(h)*time.Hour + time.Minute)},
				Summary: []journal.Tally{{Namespace: "apiary.colonies",
					By: journal.Counts{{Op: "delete", Count: journal.Count{Changes: 3 * n, Busiest: n}}}}}})
		}
	}
	night, noon := day.AddDate(0, 0, 7).Add(2*time.Hour+30*time.Minute), day.AddDate(0, 0, 7).Add(12*time.Hour)
	require.EqualValues(t, 4000, u.Of("apiary.colonies", record.Delete, night))
	require.EqualValues(t, 5, u.Of("apiary.colonies", record.Delete, noon))
	require.Zero(t, u.Of("apiary.colonies", record.Patch, noon))
	require.Zero(t, u.Of("apiary.harvests", record.Delete, noon))
}
