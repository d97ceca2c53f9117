package moment_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/moment"
)

// TestTheLongestRenamingCounts: of several that fit a name, whatever order they come in.
func TestTheLongestRenamingCounts(t *testing.T) {
	rename := map[string]string{"apiary.": "archive.", "apiary.har*": "old.har*",
		"apiary.harvests": "apiary.harvests_restored",
		"*":               "all.*"}
	for range 50 { // maps have no order
		for name, want := range map[string]string{"apiary.harvests": "apiary.harvests_restored",
			"apiary.harvests_2025": "old.harvests_2025", "apiary.keepers": "archive.keepers",
			"yard.bees": "all.yard.bees"} {
			_, to, ok := moment.Renamed(rename, name)
			require.True(t, ok)
			require.Equal(t, want, to)
		}
	}
	_, _, ok := moment.Renamed(map[string]string{"apiary.harvests": "x"}, "apiary.harvests_2025")
	require.False(t, ok, "a name is not the beginning of another")
}
