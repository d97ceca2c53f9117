package explain_test

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/remedy"
	"dexamen/internal/explain"
)

// TestEveryRemedyIsWorded reads the kinds of remedies from their source: one that is
// not worded would be lost without a word.
func TestEveryRemedyIsWorded(t *testing.T) {
	src, err := os.ReadFile("../core/remedy/remedy.go")
	require.NoError(t, err)
	kinds := regexp.MustCompile(`(?m)^\t\w+ +Kind = "(.+)"$`).FindAllSubmatch(src, -1)
	require.Greater(t, len(kinds), 10)
	for _, k := range kinds {
		err := remedy.With(errors.New("it is so"), remedy.Kind(k[1]), "meadow")
		require.Equal(t, "it is so", err.Error())
		require.Regexp(t, "^it is so; .{10,}", explain.Error(err), string(k[1]))
	}
}

func TestRemediesOfAllThatIsWrapped(t *testing.T) {
	snapshot := remedy.Plain("no point", remedy.Snapshot, "meadow")
	trust := remedy.Plain("unknown certificate", remedy.Trust, "")
	err := fmt.Errorf("two: %w", errors.Join(snapshot, fmt.Errorf("deeper: %w", trust), snapshot))
	require.Equal(t, []remedy.Remedy{{Kind: remedy.Snapshot, Of: "meadow"}, {Kind: remedy.Trust}}, remedy.All(err))
	text := explain.Error(err)
	require.Contains(t, text,
		"; take a new point now with: dexamen snapshot meadow; look at it with: dexamen cluster trust")
	require.ErrorIs(t, err, trust)
	require.Empty(t, explain.Error(nil))
	require.Equal(t, "plain", explain.Error(errors.New("plain")))
}
